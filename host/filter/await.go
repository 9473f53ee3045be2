package filter

import (
	"context"
	"fmt"
	"time"

	"northstake/host/system"
)

// How long a firewall program may take until it filters, and for how long the kernel's rules have to
// stay the same for that.
const (
	filterTime  = 30 * time.Second
	filterStill = 500 * time.Millisecond
)

// AwaitFiltering waits until a firewall program that was just started filters. A service manager
// calls it active before its rules are up: it has to say so itself, where it can, and the kernel's
// rules have to have come to rest.
func AwaitFiltering(ctx context.Context, m *system.Machine, program string) error {
	ctx, cancel := context.WithTimeoutCause(ctx, filterTime, fmt.Errorf("%s was started, and does not say within %s that it filters", program, filterTime))
	defer cancel()
	pause := func() error { return system.Pause(ctx, 50*time.Millisecond) }
	for program == "firewalld" {
		state, err := firewalldState(ctx, m)
		if err == nil && state == "RUNNING" {
			break
		}
		if state == "FAILED" {
			return fmt.Errorf("firewalld says of itself that it has failed")
		}
		if err := pause(); err != nil {
			return err
		}
	}
	last, since := uint32(0), time.Now()
	for {
		now, err := Generation()
		if err != nil {
			return err
		}
		if now != last {
			last, since = now, time.Now()
		}
		if time.Since(since) >= filterStill {
			return nil
		}
		if err := pause(); err != nil {
			return err
		}
	}
}

// firewalldState is what firewalld says of itself: INIT, RUNNING, FAILED.
func firewalldState(ctx context.Context, m *system.Machine) (string, error) {
	bus, err := m.Bus()
	if err != nil {
		return "", err
	}
	var state string
	err = bus.Object(firewalldName, firewalldPath).CallWithContext(ctx, "org.freedesktop.DBus.Properties.Get", 0, firewalldName, "state").Store(&state)
	return state, err
}
