package work

import (
	"context"
	"fmt"
	"slices"

	"northstake/core/stake"
	"northstake/host/journal"
	"northstake/host/rod"
)

type acts struct {
	typed[stake.ActWant, stake.ActWork, packageBefore]
}

var _ = register("act", acts{typed[stake.ActWant, stake.ActWork, packageBefore]{
	read: each(readAct), before: beforeAct, do: doAct, back: backAct,
}})

// Confirm stops the timer that would take the restart of a firewall back.
func (acts) Confirm(ctx context.Context, m *Host, j Job) error {
	journal.Disarm(ctx, m.Machine, j)
	return nil
}

func readAct(ctx context.Context, m *Host, w stake.ActWant) (any, error) {
	var f stake.ActFound
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
		f.Known, f.Running = st.Known, st.Active == "active" || st.Active == "reloading"
		if !f.Known {
			f.Near, f.Here = nearUnits(ctx, units, w.Service), m.Called().Services[w.Service]
		}
	case "relist", "upgrade":
		manager, err := m.PackageManager()
		if err != nil {
			return nil, err
		}
		f.Manager = manager.Name()
		if w.Do == "relist" {
			break
		}
		upgrades, err := manager.Upgrades(ctx)
		if err != nil {
			return nil, err
		}
		for _, u := range upgrades {
			f.Upgrades = append(f.Upgrades, stake.PackageGoal{Name: u.Name, Version: u.To, From: u.From})
		}
	}
	return f, nil
}

func beforeAct(ctx context.Context, m *Host, _ Job, w stake.ActWork) (packageBefore, error) {
	if w.Do != "upgrade" {
		return packageBefore{}, nil
	}
	manager, err := m.PackageManager()
	if err != nil {
		return packageBefore{}, err
	}
	installed, err := installedVersions(ctx, manager)
	return packageBefore{installed}, err
}

func doAct(ctx context.Context, m *Host, j Job, w stake.ActWork, _ packageBefore) (rod.StepState, error) {
	switch w.Do {
	case "restart", "reload":
		units, err := m.Services(ctx)
		if err != nil {
			return "", err
		}
		state := rod.Done
		if stake.FiltersItself(w.Service) {
			state = rod.Held
			if err := journal.Arm(ctx, m.Machine, j, stake.RevertAfter); err != nil {
				return "", err
			}
		}
		return state, tell(ctx, m, units, w.Service, w.Do)
	case "relist":
		manager, err := m.PackageManager()
		if err != nil {
			return "", err
		}
		waitForLock(m, manager, j)
		if err := manager.Refresh(ctx); err != nil {
			return "", packageFault(ctx, manager, "read the lists of what the sources offer", err)
		}
		return rod.Done, nil
	case "upgrade":
		manager, err := m.PackageManager()
		if err != nil {
			return "", err
		}
		if err := finishPackages(ctx, m, manager, j); err != nil {
			return "", err
		}
		return rod.Done, install(ctx, manager, w.Upgrades)
	case "reboot":
		// The step is recorded before the host goes down.
		if !m.Exists("/run/systemd/system") {
			if _, err := m.Run(ctx, nil, "shutdown", "-r", "+0"); err != nil {
				return "", fmt.Errorf("restart the host: %w", err)
			}
			return rod.Done, nil
		}
		if _, err := m.Run(ctx, nil, "systemd-run", "--quiet", "--collect", "--unit=northstake-restart", "--timer-property=AccuracySec=100ms", "--on-active=1", "systemctl", "reboot"); err != nil {
			return "", fmt.Errorf("restart the host: %w", err)
		}
		return rod.Done, nil
	}
	return "", fmt.Errorf("nothing is known that is called %q", w.Do)
}

// backAct brings the packages of an upgrade back; what else an act did is over.
func backAct(ctx context.Context, m *Host, j Job, w stake.ActWork, b packageBefore) error {
	switch {
	case w.Do == "upgrade":
		return backPackage(ctx, m, j, stake.PackageWork{Install: w.Upgrades}, b)
	case slices.Contains([]string{"restart", "reload"}, w.Do) && stake.FiltersItself(w.Service):
		journal.DisarmTimer(ctx, m.Machine, j)
	}
	return nil
}
