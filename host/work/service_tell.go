package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/system"
	"northstake/host/webserver"
)

// takesIn is webserver.TakesIn with the servers of the host's family.
func takesIn(m *Host, service string) func(context.Context) error {
	f, err := m.Family()
	if err != nil || f == nil {
		return func(context.Context) error { return nil }
	}
	return webserver.TakesIn(m.Machine, f.Servers, service)
}

// tell makes a service start, stop, reload or restart, waits until it has settled, and brings its
// last log lines into the error when it fails.
func tell(ctx context.Context, m *Host, units family.ServiceManager, name, action string) error {
	if m.Booting {
		return units.Do(ctx, action, name)
	}
	if err := testLive(ctx, m, units, name, action); err != nil {
		return err
	}
	taken := func(context.Context) error { return nil }
	if action == "reload" {
		taken = takesIn(m, name)
	}
	err := units.Do(ctx, action, name)
	if err == nil {
		err = taken(ctx)
	}
	if err == nil && action != "stop" {
		stays := 1
		if action != "reload" {
			stays = staysFor
		}
		err = settle(ctx, units, name, stays)
	}
	if err == nil {
		return nil
	}
	var tested *wire.Fault
	if errors.As(err, &tested) {
		return err
	}
	f := &wire.Fault{What: err.Error(), Fix: "look at the service's own log"}
	if f.Output = units.Log(ctx, name); f.Output != "" {
		f.Fix = "the service's last log lines are below"
	}
	return f
}

// testLive has a web server test the configuration that it is about to take in, before it
// lets go of the one that it runs with.
func testLive(ctx context.Context, m *Host, units family.ServiceManager, name, action string) error {
	if action != "reload" && action != "restart" {
		return nil
	}
	f, err := m.Family()
	if err != nil || f == nil {
		return nil
	}
	for server, l := range f.Servers {
		if l.Service != name || !webserver.Stands(m.Machine, l) {
			continue
		}
		states, err := units.States(ctx, []string{name})
		if err != nil || states[name].Active != "active" {
			return err // nothing is lost by a try
		}
		return webserver.TestLive(ctx, m.Machine, server, l)
	}
	return nil
}

// How often a service that was started is looked at, how long for it to come up, and how
// long it has to stay so.
const (
	settlePause = 50 * time.Millisecond
	settleTries = 50
	staysFor    = 6
)

// settle waits for a service that was started to stay up for a moment.
func settle(ctx context.Context, units family.ServiceManager, name string, stays int) error {
	up := 0
	for range settleTries {
		states, err := units.States(ctx, []string{name})
		if err != nil {
			return err
		}
		switch st := states[name]; {
		case st.Active == "failed":
			return fmt.Errorf("service %s failed after it was started", name)
		case st.Ends:
			return nil
		case st.Active == "active" && !st.Unsteady:
			if up++; up >= stays || units.Name() != "systemd" {
				return nil
			}
		case st.Unsteady || up > 0:
			return fmt.Errorf("service %s does not stay up after it was started", name)
		}
		if err := system.Pause(ctx, settlePause); err != nil {
			return err
		}
	}
	return fmt.Errorf("service %s has not come up in %s after it was started", name, settleTries*settlePause)
}
