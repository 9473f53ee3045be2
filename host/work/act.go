package work

import (
	"context"
	"fmt"
	"slices"

	"northstake/core/wire"
	"northstake/host/engine"
	"northstake/host/filter"
	"northstake/host/journal"
)

// actBefore is what there was of packages before an upgrade, and whether a service ran.
type actBefore struct {
	packageBefore
	Ran   bool   `json:"ran,omitempty"`
	Image string `json:"image,omitempty"` // that had the name which another is kept under
}

type acts struct {
	typed[wire.ActWant, wire.ActWork, actBefore]
}

var _ = register("act", acts{typed[wire.ActWant, wire.ActWork, actBefore]{
	read: each(readAct), before: beforeAct, do: doAct, back: backAct,
}})

// Confirm stops the timer that would take the restart of a firewall back.
func (acts) Confirm(ctx context.Context, m *Host, j Job) error {
	journal.Disarm(ctx, m.Machine, j)
	return nil
}

func readAct(ctx context.Context, m *Host, w wire.ActWant) (any, error) {
	var f wire.ActFound
	switch w.Do {
	case "restart", "reload":
		units, err := m.Services(ctx)
		if err != nil {
			return nil, err
		}
		states, err := units.States(ctx, []string{w.Service})
		if err != nil {
			return nil, err
		}
		st := states[w.Service]
		f.Known, f.Running, f.NoReload = st.Known, st.Active == "active" || st.Active == "reloading", !st.CanReload
		if !f.Known {
			f.Near, f.Here = nearUnits(ctx, units, w.Service), m.Called().Services[w.Service]
		}
	case wire.MakeImage:
		e, trouble := engine.Of(ctx, m.Machine)
		if f.Engine = trouble; trouble != nil {
			break
		}
		is, err := e.Inspect(ctx, w.Container)
		if err != nil {
			return nil, err
		}
		f.Known = is.ID != ""
	case wire.RefreshLists, "upgrade":
		manager, err := m.PackageManager()
		if err != nil {
			return nil, err
		}
		f.Manager = manager.Name()
		if w.Do == wire.RefreshLists {
			break
		}
		upgrades, err := manager.Upgrades(ctx)
		if err != nil {
			return nil, err
		}
		for _, u := range upgrades {
			f.Upgrades = append(f.Upgrades, wire.PackageGoal{Name: u.Name, Version: u.To, From: u.From})
		}
	}
	return f, nil
}

func beforeAct(ctx context.Context, m *Host, _ Job, w wire.ActWork) (b actBefore, err error) {
	switch w.Do {
	case "restart", "reload":
		units, err := m.Services(ctx)
		if err != nil {
			return b, err
		}
		states, err := units.States(ctx, []string{w.Service})
		b.Ran = states[w.Service].Active == "active"
		return b, err
	case wire.MakeImage:
		e, err := engineOf(ctx, m)
		if err != nil {
			return b, err
		}
		b.Image, err = e.ImageID(ctx, w.Image)
		return b, err
	case "upgrade":
		manager, err := m.PackageManager()
		if err != nil {
			return b, err
		}
		b.Installed, err = installedVersions(ctx, manager)
		return b, err
	}
	return b, nil
}

func doAct(ctx context.Context, m *Host, j Job, w wire.ActWork, before actBefore) (wire.StepState, error) {
	switch w.Do {
	case "restart", "reload":
		units, err := m.Services(ctx)
		if err != nil {
			return "", err
		}
		state := wire.Done
		if wire.FiltersItself(w.Service) {
			state = wire.Held
			if err := journal.Arm(ctx, m.Machine, j, wire.RevertAfter); err != nil {
				return "", err
			}
		}
		err = tell(ctx, m, units, w.Service, string(w.Do))
		if err == nil && state == wire.Held {
			err = filter.AwaitFiltering(ctx, m.Machine, w.Service)
		}
		return state, err
	case wire.MakeImage:
		e, err := engineOf(ctx, m)
		if err != nil {
			return "", err
		}
		return wire.Done, e.Keep(ctx, w.ActWant, func(text string) { j.Say("%s", text) })
	case wire.RefreshLists:
		manager, err := m.PackageManager()
		if err != nil {
			return "", err
		}
		waitForLock(m, manager, j)
		if err := manager.Refresh(ctx); err != nil {
			return "", packageFault(ctx, manager, "read the lists of what the sources offer", err)
		}
		return wire.Done, nil
	case "upgrade":
		manager, err := m.PackageManager()
		if err != nil {
			return "", err
		}
		if err := finishPackages(ctx, m, manager, j); err != nil {
			return "", err
		}
		err = tellingAsides(m, j, func() error { return install(ctx, manager, w.Upgrades) })
		if e := recordChanges(context.WithoutCancel(ctx), m, j, before.packageBefore); err == nil {
			err = e
		}
		return wire.Done, err
	case "reboot":
		// The step is recorded before the host goes down.
		if !m.Exists("/run/systemd/system") {
			if _, err := m.Run(ctx, nil, "shutdown", "-r", "+0"); err != nil {
				return "", fmt.Errorf("restart the host: %w", err)
			}
			return wire.Done, nil
		}
		if _, err := m.Run(ctx, nil, "systemd-run", "--quiet", "--collect", "--unit=northstake-restart", "--timer-property=AccuracySec=100ms", "--on-active=1", "systemctl", "reboot"); err != nil {
			return "", fmt.Errorf("restart the host: %w", err)
		}
		return wire.Done, nil
	}
	return "", fmt.Errorf("nothing is known that is called %q", w.Do)
}

// backAct brings the packages of an upgrade back, and a service up that ran; what else an
// act did is over.
func backAct(ctx context.Context, m *Host, j Job, w wire.ActWork, b actBefore) error {
	switch {
	case w.Do == wire.MakeImage:
		return backImage(ctx, m, j, wire.ImageWork{ImageWant: wire.ImageWant{Image: w.Image}}, imageBefore{b.Image})
	case w.Do == "upgrade":
		return backPackage(ctx, m, j, wire.PackageWork{Install: w.Upgrades}, b.packageBefore)
	case !slices.Contains([]wire.Act{"restart", "reload"}, w.Do):
		return nil
	}
	if wire.FiltersItself(w.Service) {
		journal.DisarmTimer(ctx, m.Machine, j)
	}
	units, err := m.Services(ctx)
	if err != nil {
		return err
	}
	states, err := units.States(ctx, []string{w.Service})
	if err != nil || !b.Ran || states[w.Service].Active == "active" {
		return err
	}
	return tell(ctx, m, units, w.Service, "start")
}
