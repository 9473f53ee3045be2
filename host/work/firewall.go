package work

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"northstake/core/stake"
	"northstake/host/platform"
	"northstake/host/rod"
)

const firewallService = "northstake-firewall"

// firewallBefore is the table and the files as they were.
type firewallBefore struct {
	Live string   `json:"live"`
	File keptFile `json:"file"`
	Unit keptFile `json:"unit"`
	Boot string   `json:"boot"`
}

type firewall struct {
	typed[stake.FirewallWant, stake.FirewallWork, firewallBefore]
}

var _ = register("firewall", firewall{typed[stake.FirewallWant, stake.FirewallWork, firewallBefore]{
	read: each(readFirewall), before: beforeFirewall, do: doFirewall, back: backFirewall,
}})

func readFirewall(ctx context.Context, m *platform.Machine, _ stake.FirewallWant) (any, error) {
	rules, err := m.Rules(ctx)
	if err != nil {
		return nil, err
	}
	f := stake.FirewallFound{Live: rules.Own}
	if f.FileMeta, err = m.Entry(stake.FirewallFile); err != nil {
		return nil, err
	}
	if f.FileMeta.Kind == "file" {
		b, err := m.Read(stake.FirewallFile)
		if err != nil {
			return nil, err
		}
		f.File = string(b)
	}
	if !m.HasServices() {
		return f, nil
	}
	units, err := m.Services(ctx)
	if err != nil {
		return nil, err
	}
	loader := stake.LoaderFor(units.Name()).Path
	e, err := m.Entry(loader)
	if err != nil {
		return nil, err
	}
	if e.Kind == "file" {
		b, err := m.Read(loader)
		if err != nil {
			return nil, err
		}
		f.Unit, f.UnitMode = string(b), e.Mode
	}
	states, err := units.States(ctx, []string{firewallService})
	if err != nil {
		return nil, err
	}
	f.Boot = states[firewallService].Boot
	return f, nil
}

func beforeFirewall(ctx context.Context, m *platform.Machine, _ Job, w stake.FirewallWork) (b firewallBefore, err error) {
	rules, err := m.Rules(ctx)
	if err != nil {
		return b, err
	}
	b.Live = rules.Own
	if b.File, err = keepFile(m, stake.FirewallFile); err != nil {
		return b, err
	}
	if b.Unit, err = keepFile(m, w.Loader.Path); err != nil {
		return b, err
	}
	units, err := m.Services(ctx)
	if err != nil {
		return b, err
	}
	states, err := units.States(ctx, []string{firewallService})
	b.Boot = states[firewallService].Boot
	return b, err
}

func doFirewall(ctx context.Context, m *platform.Machine, j Job, w stake.FirewallWork, _ firewallBefore) (rod.StepState, error) {
	units, err := m.Services(ctx)
	if err != nil {
		return "", err
	}
	// The timer stands before the first rule does.
	if err := arm(ctx, m, j, w.Revert); err != nil {
		return "", err
	}
	if err := writeAtomically(m.Path(stake.FirewallFile), []byte(stake.FirewallFileText(w.Table)), 0o644); err != nil {
		return "", err
	}
	if err := chown(m, stake.FirewallFile, "root", "root"); err != nil {
		return "", err
	}
	if _, err := m.Run(ctx, nil, "nft", "-c", "-f", m.Path(stake.FirewallFile)); err != nil {
		return "", &rod.Fault{What: "nft does not accept the rules", Output: err.Error()}
	}
	mode, err := parseMode(w.Loader.Mode)
	if err != nil {
		return "", err
	}
	if err := writeAtomically(m.Path(w.Loader.Path), []byte(w.Loader.Text), mode); err != nil {
		return "", err
	}
	if err := units.Reload(ctx); err != nil {
		return "", err
	}
	if err := units.Boot(ctx, firewallService, true); err != nil {
		return "", err
	}
	if err := act(ctx, m, units, firewallService, "restart"); err != nil {
		return "", err
	}
	j.Say("the rules are up; the host takes them down in %d s unless a new connection confirms them", w.Revert)
	return rod.Held, nil
}

// Confirm stops the timer that would take the step back.
func (firewall) Confirm(ctx context.Context, m *platform.Machine, j Job) error {
	disarm(ctx, m, j)
	return nil
}

func backFirewall(ctx context.Context, m *platform.Machine, j Job, w stake.FirewallWork, b firewallBefore) error {
	units, err := m.Services(ctx)
	if err != nil {
		return err
	}
	if b.Boot != "enabled" && m.Exists(w.Loader.Path) {
		if err := units.Boot(ctx, firewallService, false); err != nil {
			return err
		}
	}
	if b.Unit.Entry.Kind == "" && m.Exists(w.Loader.Path) {
		if err := units.Do(ctx, "stop", firewallService); err != nil {
			return err
		}
		if err := units.Forget(ctx, firewallService); err != nil {
			return err
		}
	}
	for _, f := range []keptFile{b.File, b.Unit} {
		if err := f.putBack(m); err != nil {
			return err
		}
	}
	if b.File.Entry.Kind == "" {
		if err := removeEmpty(m, []string{filepath.Dir(stake.FirewallFile)}); err != nil {
			return err
		}
	}
	script := stake.FirewallTable + "\ndelete " + stake.FirewallTable + "\n" + b.Live
	if _, err := m.Run(ctx, strings.NewReader(script), "nft", "-f", "-"); err != nil {
		return fmt.Errorf("put the former rules back: %w", err)
	}
	if err := units.Reload(ctx); err != nil {
		return err
	}
	if b.Boot == "enabled" {
		if err := units.Boot(ctx, firewallService, true); err != nil {
			return err
		}
	}
	disarmTimerOnly(ctx, m, j)
	return nil
}
