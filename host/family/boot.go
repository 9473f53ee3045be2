package family

import (
	"context"
	"os"
	"strings"
	"time"

	"northstake/host/system"
)

// bootTime is how long a host is waited for that has not booted yet, and bootPause how long it is
// left alone in between.
const (
	bootTime  = 20 * time.Second
	bootPause = 50 * time.Millisecond
)

// AwaitBoot waits until systemd has started all that it starts, where it is the first process: a
// container is reached through its engine before that, and services that are not up by then have
// not shifted. It gives up after bootTime: a host on which something never comes up is one as well.
func AwaitBoot(ctx context.Context, m *system.Machine) {
	if firstProcess(m) != "systemd" {
		return
	}
	for deadline := time.Now().Add(bootTime); time.Now().Before(deadline) && ctx.Err() == nil; _ = system.Pause(ctx, bootPause) {
		conn, err := units(ctx, m)
		if err != nil {
			continue // it does not answer yet
		}
		if state, err := conn.conn.GetManagerProperty("SystemState"); err == nil && !strings.Contains(state, "initializing") && !strings.Contains(state, "starting") {
			return
		}
	}
}

// Booting is the service manager of a host that boots: what is to start does so when its turn comes,
// nothing runs that would have to take notice, and nobody waits for either.
type Booting struct {
	ServiceManager
	Machine *system.Machine
}

// Do has a service start in its turn, or not.
func (b Booting) Do(ctx context.Context, action, service string) error {
	switch action {
	case "restart":
		action = "start"
	case "reload":
		return nil
	}
	_, err := b.Machine.Run(ctx, nil, "systemctl", "--no-block", action, unitName(service))
	return err
}

// NoInit is the name of a host's first process where that is none that is known to start services,
// as it often is in containers; "" where it is one.
func NoInit(m *system.Machine) string {
	switch name := firstProcess(m); name {
	case "systemd", "init":
		return ""
	default:
		return name
	}
}

func firstProcess(m *system.Machine) string {
	name, err := os.ReadFile(m.Path("/proc/1/comm"))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(name))
}
