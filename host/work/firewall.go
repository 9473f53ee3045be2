package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/filter"
	"northstake/host/journal"
	"northstake/host/system"
)

// firewallBefore is the table and the files as they were.
type firewallBefore struct {
	Live string          `json:"live"`
	File system.KeptFile `json:"file"`
	Unit system.KeptFile `json:"unit"`
	Boot string          `json:"boot"`
}

type firewall struct {
	typed[wire.FirewallWant, wire.FirewallWork, firewallBefore]
}

var _ = register("firewall", firewall{typed[wire.FirewallWant, wire.FirewallWork, firewallBefore]{
	read: each(readFirewall), before: beforeFirewall, do: doFirewall, back: backFirewall, early: true,
}})

func readFirewall(ctx context.Context, m *Host, w wire.FirewallWant) (any, error) {
	rules, err := filter.ReadRules(ctx, m.Machine)
	if err != nil {
		return nil, err
	}
	f := wire.FirewallFound{Live: rules.Own, Denied: rules.Denied, Led: rules.Filters.Led()}
	if f.File, err = m.Entry(filter.File); err != nil {
		return nil, err
	}
	if f.File.Kind == wire.EntryFile {
		b, err := m.Read(filter.File)
		if err != nil {
			return nil, err
		}
		f.Kept = filter.KeptIn(string(b))
	}
	if w.Program != "" {
		active, err := filter.Active(ctx, m.Machine)
		if err != nil || active == nil {
			return f, err
		}
		in, err := active.LetsIn(ctx)
		f.Program, f.All, f.NotAtBoot = active.Name(), in.All, !in.AtBoot
		f.Besides = append(w.Besides(in.Ports), in.Others...)
		if err != nil {
			return f, err
		}
	}
	if !family.HasServices(m.Machine) {
		return f, nil
	}
	units, err := m.Services(ctx)
	if err != nil {
		return nil, err
	}
	loader := filter.LoaderFor(units.Name())
	e, err := m.Entry(loader.Path)
	if err != nil {
		return nil, err
	}
	if e.Kind == wire.EntryFile {
		b, err := m.Read(loader.Path)
		if err != nil {
			return nil, err
		}
		f.Loader = &wire.FirewallLoader{Same: string(b) == loader.Text, Mode: e.Mode, Wanted: loader.Mode}
	}
	states, err := units.States(ctx, []string{filter.Service})
	if err != nil {
		return nil, err
	}
	f.Boot = states[filter.Service].Boot
	return f, nil
}

func beforeFirewall(ctx context.Context, m *Host, _ Job, _ wire.FirewallWork) (b firewallBefore, err error) {
	rules, err := filter.ReadRules(ctx, m.Machine)
	if err != nil {
		return b, err
	}
	b.Live = rules.Own
	if b.File, err = m.KeepFile(filter.File); err != nil {
		return b, err
	}
	units, err := m.Services(ctx)
	if err != nil {
		return b, err
	}
	if b.Unit, err = m.KeepFile(filter.LoaderFor(units.Name()).Path); err != nil {
		return b, err
	}
	states, err := units.States(ctx, []string{filter.Service})
	b.Boot = states[filter.Service].Boot
	return b, err
}

func doFirewall(ctx context.Context, m *Host, j Job, w wire.FirewallWork, _ firewallBefore) (wire.StepState, error) {
	units, err := m.Services(ctx)
	if err != nil {
		return "", err
	}
	if w.Table == "" {
		return wire.Done, dropTable(ctx, m, units)
	}
	// The timer stands before the first rule does, and what is there at boot stays as it is until
	// somebody has come in through the rules: a host that goes down meanwhile comes up without them.
	if err := journal.Arm(ctx, m.Machine, j, w.Revert); err != nil {
		return "", err
	}
	text := filter.FileText(w.Table)
	if _, err := m.Run(ctx, strings.NewReader(text), "nft", "-c", "-f", "-"); err != nil {
		return "", &wire.Fault{What: "nft does not accept the rules", Output: err.Error()}
	}
	if _, err := m.Run(ctx, strings.NewReader(text), "nft", "-f", "-"); err != nil {
		return "", &wire.Fault{What: "the rules cannot be put up", Output: err.Error()}
	}
	j.Say("the rules are up; the host takes them down in %d s unless a new connection confirms them", w.Revert)
	return wire.Held, nil
}

// Confirm keeps the rules for the boot, and stops the timer that would take the step back.
func (firewall) Confirm(ctx context.Context, m *Host, j Job) error {
	var w wire.FirewallWork
	if err := json.Unmarshal(j.Work, &w); err != nil {
		return fmt.Errorf("the step cannot be understood: %w", err)
	}
	if err := keepTable(ctx, m, w); err != nil {
		return err
	}
	journal.Disarm(ctx, m.Machine, j)
	return nil
}

// keepTable has the table loaded at boot.
func keepTable(ctx context.Context, m *Host, w wire.FirewallWork) error {
	units, err := m.Services(ctx)
	if err != nil {
		return err
	}
	if err := system.WriteAtomically(m.Path(filter.File), []byte(filter.FileText(w.Table)), 0o644); err != nil {
		return err
	}
	if err := m.Chown(filter.File, wire.Administrators); err != nil {
		return err
	}
	loader := filter.LoaderFor(units.Name())
	mode, err := system.FileMode(loader.Mode)
	if err != nil {
		return err
	}
	if err := system.WriteAtomically(m.Path(loader.Path), []byte(loader.Text), mode); err != nil {
		return err
	}
	if err := units.Reload(ctx); err != nil {
		return err
	}
	if err := units.Boot(ctx, filter.Service, true); err != nil {
		return err
	}
	return tell(ctx, m, units, filter.Service, "restart")
}

// dropTable takes North Stake's table away, with what loads it at boot.
func dropTable(ctx context.Context, m *Host, units family.ServiceManager) error {
	loader := filter.LoaderFor(units.Name())
	if m.Exists(loader.Path) {
		if err := units.Boot(ctx, filter.Service, false); err != nil {
			return err
		}
		if err := units.Do(ctx, "stop", filter.Service); err != nil {
			return err
		}
		if err := units.Forget(ctx, filter.Service); err != nil {
			return err
		}
	}
	for _, p := range []wire.Path{loader.Path, filter.File} {
		if err := os.Remove(m.Path(p)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if err := m.RemoveEmpty([]wire.Path{wire.Path(filter.File).Dir()}); err != nil {
		return err
	}
	if _, err := m.Run(ctx, strings.NewReader(wire.FirewallTable+"\ndelete "+wire.FirewallTable+"\n"), "nft", "-f", "-"); err != nil {
		return fmt.Errorf("take the rules away: %w", err)
	}
	return units.Reload(ctx)
}

func backFirewall(ctx context.Context, m *Host, j Job, w wire.FirewallWork, b firewallBefore) error {
	units, err := m.Services(ctx)
	if err != nil {
		return err
	}
	if b.Boot != "enabled" && m.Exists(b.Unit.Path) {
		if err := units.Boot(ctx, filter.Service, false); err != nil {
			return err
		}
	}
	if b.Unit.Entry.Kind == "" && m.Exists(b.Unit.Path) {
		if err := units.Do(ctx, "stop", filter.Service); err != nil {
			return err
		}
		if err := units.Forget(ctx, filter.Service); err != nil {
			return err
		}
	}
	if _, err := takeBack(m, j, b.File, []byte(filter.FileText(w.Table)), ""); err != nil {
		return err
	}
	if _, err := takeBack(m, j, b.Unit, []byte(filter.LoaderFor(units.Name()).Text), ""); err != nil {
		return err
	}
	if b.File.Entry.Kind == "" {
		if err := m.RemoveEmpty([]wire.Path{wire.Path(filter.File).Dir()}); err != nil {
			return err
		}
	}
	script := wire.FirewallTable + "\ndelete " + wire.FirewallTable + "\n" + b.Live
	if _, err := m.Run(ctx, strings.NewReader(script), "nft", "-f", "-"); err != nil {
		return fmt.Errorf("put the former rules back: %w", err)
	}
	if err := units.Reload(ctx); err != nil {
		return err
	}
	if b.Boot == "enabled" {
		if err := units.Boot(ctx, filter.Service, true); err != nil {
			return err
		}
	}
	journal.DisarmTimer(ctx, m.Machine, j)
	return nil
}
