package work

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/filter"
)

// portBefore is how the ports stood in the firewall program, for each network.
type portBefore struct {
	Filter string                      `json:"filter"`
	States map[string]filter.PortState `json:"states"`
}

var _ = register("port", typed[wire.PortWant, wire.PortWork, portBefore]{
	read: readPorts, before: beforePort, do: openPort, back: closePort,
})

func readPorts(ctx context.Context, m *Host, wants []wire.PortWant) ([]any, error) {
	if len(wants) == 0 {
		return nil, nil
	}
	active, err := filter.Active(ctx, m.Machine)
	if err != nil {
		return nil, err
	}
	rules, err := filter.ReadRules(ctx, m.Machine)
	if err != nil {
		return nil, err
	}
	kept, err := keptTable(m)
	if err != nil {
		return nil, err
	}
	boot, err := filter.RulesAtBoot(ctx, m.Machine)
	if err != nil {
		return nil, err
	}
	now := rules.Filters
	var atBoot bool
	if active != nil { // what the program keeps it knows best
		known := func(family, table string) bool { return active.Keeps(rules.Filters, family, table) }
		now = now.Without(known)
		in, err := active.LetsIn(ctx)
		if err != nil {
			return nil, err
		}
		atBoot = in.AtBoot
	}
	return each(func(ctx context.Context, _ *Host, w wire.PortWant) (any, error) {
		by, sure := now.ClosedFor(w)
		// A rule that is only in the kernel says nothing of the next start: that is told of what is
		// known to be loaded then.
		f := wire.PortFound{Live: by == "", By: by, Maybe: by != "" && !sure, Wider: now.LetsElse(w), Kept: kept == nil || kept.Lets(w)}
		if boot != nil {
			if f.KeptBy = boot.Closed(w); f.KeptBy != "" {
				f.Kept = false
			}
		}
		if active == nil {
			return f, nil
		}
		f.Filter, f.NotAtBoot = active.Name(), !atBoot
		wider := false
		for _, network := range w.Sources() {
			s, err := active.Read(ctx, w, network)
			if err != nil {
				return nil, err
			}
			f.Live, f.Kept, f.Where, f.Denied = f.Live && s.Live, f.Kept && s.Kept, s.Where, cmp.Or(f.Denied, s.Denied)
			wider = wider || s.Wider
		}
		f.Wider = f.Wider && wider
		return f, nil
	})(ctx, m, wants)
}

// keptTable is the table that North Stake's own unit or script will load at the next
// start, nil when it will load none, or one that leaves the host itself to a firewall program.
func keptTable(m *Host) (*wire.KeptTable, error) {
	if !m.Exists(filter.File) || !m.Exists(filter.BootLink) && !family.ScriptAtBoot(m.Machine, filter.Service) {
		return nil, nil
	}
	b, err := m.Read(filter.File)
	if err != nil {
		return nil, err
	}
	t := wire.KeptTable(string(b))
	if !t.Guards() {
		return nil, nil
	}
	return &t, nil
}

// filterOf is the firewall program that a step was planned for. Nil says that
// none has come after all.
func filterOf(ctx context.Context, m *Host, name string, whichever bool) (filter.Program, error) {
	active, err := filter.Active(ctx, m.Machine)
	if err != nil || whichever {
		return active, err
	}
	if active == nil || active.Name() != name {
		return nil, &wire.Fault{What: fmt.Sprintf("%s is no longer active on this host", name), Fix: "plan again"}
	}
	return active, nil
}

func beforePort(ctx context.Context, m *Host, _ Job, w wire.PortWork) (portBefore, error) {
	b := portBefore{States: map[string]filter.PortState{}}
	active, err := filterOf(ctx, m, w.Filter, w.Whichever)
	if err != nil || active == nil {
		return b, err
	}
	b.Filter = active.Name()
	for _, network := range w.Sources() {
		if b.States[network], err = active.Read(ctx, w.PortWant, network); err != nil {
			return b, err
		}
	}
	return b, nil
}

// openPort gives the ports a rule of their own in each half where nothing opens
// them, or takes those rules away.
func openPort(ctx context.Context, m *Host, j Job, w wire.PortWork, b portBefore) (wire.StepState, error) {
	active, err := filterOf(ctx, m, w.Filter, w.Whichever)
	if err != nil {
		return "", err
	}
	if active == nil {
		j.Say("no firewall program is active: the port is open")
		return wire.Done, nil
	}
	for _, network := range w.Sources() {
		rules := slices.Clone(b.States[network].Rules)
		for i := range rules {
			rules[i].Live, rules[i].Kept = left(rules[i], w.Close)
		}
		if err := active.Set(ctx, w.PortWant, network, rules); err != nil {
			return "", err
		}
	}
	return wire.Done, nil
}

// left is a place's rule for the ports as a step leaves it, which opens or closes them.
func left(before filter.PortRule, closes bool) (live, kept bool) {
	if closes {
		return false, false
	}
	return before.Live || !before.OpenLive, before.Kept || !before.OpenKept
}

// formerRules are the rules with what a step did to those that were there before undone;
// what somebody has changed since stays.
func formerRules(now, before []filter.PortRule, closes bool) []filter.PortRule {
	out := slices.Clone(now)
	for i := range out {
		at := slices.IndexFunc(before, func(b filter.PortRule) bool { return b.Place == out[i].Place })
		if at < 0 {
			continue // the place has come since
		}
		live, kept := left(before[at], closes)
		if out[i].Live == live {
			out[i].Live = before[at].Live
		}
		if out[i].Kept == kept {
			out[i].Kept = before[at].Kept
		}
	}
	return out
}

// closePort makes the rules what they were before the step.
func closePort(ctx context.Context, m *Host, _ Job, w wire.PortWork, b portBefore) error {
	if b.Filter == "" {
		return nil
	}
	active, err := filterOf(ctx, m, b.Filter, false)
	if err != nil {
		return err
	}
	for network, s := range b.States {
		now, err := active.Read(ctx, w.PortWant, network)
		if err != nil {
			return err
		}
		if err := active.Set(ctx, w.PortWant, network, formerRules(now.Rules, s.Rules, w.Close)); err != nil {
			return err
		}
	}
	return nil
}
