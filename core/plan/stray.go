package plan

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"northstake/core/stake"
)

// gone is a stake that was brought about and is not declared any more, and still there.
type gone struct {
	stake   stake.Stake
	kind    stake.Kind
	found   json.RawMessage
	applied Applied
}

// noLonger finds the stakes that runs have brought about and that nobody declares, or that
// are declared to lie elsewhere now, and that are still there, in the order of kinds. What
// was found as it was declared, and never touched, is the host's own.
func noLonger(in Input) []gone {
	declared := map[string]stake.Stake{}
	for _, s := range in.Stakes {
		declared[s.Local()] = s
	}
	byType := map[string][]gone{}
	for _, name := range slices.Sorted(maps.Keys(in.Applied)) {
		a := in.Applied[name]
		r, ok := in.Readings[name]
		kind, err := stake.KindOf(a.Type)
		if err != nil || !a.Made || !ok || r.Unread != "" {
			continue
		}
		g := gone{stake.Stake{Host: in.Host, Type: a.Type, Name: a.Name, Site: a.Site, Want: a.Want}, kind, r.Found, a}
		if now, is := declared[name]; is {
			if kind.Elsewhere == nil || len(r.Was) == 0 {
				continue
			}
			if g.stake.Want = kind.Elsewhere(a.Want, now.Want); g.stake.Want == nil {
				continue
			}
			g.stake.Name, g.found = a.Name+stake.Former, r.Was
		}
		v, err := kind.Judge(g.input(in))
		if err == nil && !v.Gone {
			byType[a.Type] = append(byType[a.Type], g)
		}
	}
	var out []gone
	for _, k := range stake.InOrder() {
		out = append(out, byType[k.Type]...)
	}
	return out
}

func (g gone) input(in Input) stake.Input {
	return stake.Input{Stake: g.stake, Found: g.found, Traits: in.Traits}
}

// leaver is a stake that goes with a plan, for the sake of one that is declared.
type leaver struct {
	judged
	why, sake string // sake is the declared stake, by its name on the host
}

// leavers are those of the stakes that are no longer declared that have to go.
func leavers(in Input, all []gone, only func(Row) bool) ([]leaver, error) {
	if in.Restores {
		return nil, nil
	}
	var out []leaver
	var leaving []stake.Stake
	for _, g := range all {
		if g.kind.Unwanted == nil || only != nil && !only(g.row(in)) {
			continue
		}
		if why, sake := g.kind.Unwanted(g.stake, stake.Around{Declared: in.Stakes, Leaving: leaving, Traits: in.Traits}); why != "" {
			leaving = append(leaving, g.stake)
			out = append(out, leaver{judged{stake: g.stake, input: g.input(in)}, why, sake})
		}
	}
	for i := range out {
		kind, err := stake.KindOf(out[i].stake.Type)
		if err != nil {
			return nil, err
		}
		out[i].input.Leaving = leaving
		if out[i].verdict, err = kind.Away(out[i].input); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (g gone) row(in Input) Row {
	reason := "it was brought about once, and is not declared"
	switch {
	case g.stake.Name != g.applied.Name:
		reason = fmt.Sprintf("revision %d declared it so, and the present one otherwise", g.applied.Revision)
	case g.applied.Revision > 0:
		reason = fmt.Sprintf("revision %d declared it, and the present one does not", g.applied.Revision)
	}
	return Row{Address: g.stake.Address(), Type: g.stake.Type, Name: g.stake.Name, Site: g.stake.Site, Standing: Stray, SetAt: g.applied.SetAt, Reason: reason}
}

// strays are rows for what was brought about, is no longer declared, and still there, and
// for what kinds found beside what they manage.
func strays(in Input, all []gone, byName map[string]judged) []Row {
	var rows []Row
	for _, s := range in.Stakes {
		for _, name := range byName[s.Local()].verdict.Strays {
			rows = append(rows, Row{Address: s.Address() + ":" + name, Type: s.Type, Name: name, Site: s.Site, Standing: Stray,
				Reason: "it lies in what " + s.Address() + " manages, and nobody declared it"})
		}
	}
	for _, g := range all {
		rows = append(rows, g.row(in))
	}
	return rows
}
