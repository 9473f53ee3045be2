package plan

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/stake/claim"
)

// gone is a stake that was brought about and is not declared now, and still there.
type gone struct {
	stake   stake.Stake
	kind    stake.Kind
	found   json.RawMessage
	applied Applied
	brought []stake.Stake // all that is remembered of the place
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
	names := slices.Sorted(maps.Keys(in.Applied))
	brought := make([]stake.Stake, 0, len(names))
	for _, name := range names {
		a := in.Applied[name]
		brought = append(brought, stake.Stake{Place: in.Place, Type: a.Type, Name: a.Name, Site: a.Site, Want: a.Want})
	}
	for _, name := range names {
		a := in.Applied[name]
		r, ok := in.Readings[name]
		kind, err := stake.KindOf(a.Type)
		if err != nil || !a.Made || !ok || r.Unread != "" {
			continue
		}
		g := gone{stake.Stake{Place: in.Place, Type: a.Type, Name: a.Name, Site: a.Site, Want: a.Want}, kind, r.Found, a, brought}
		if now, is := declared[name]; is {
			if kind.Elsewhere == nil || len(r.Was) == 0 {
				continue
			}
			if g.stake.Want = kind.Elsewhere(a.Want, now.Want); g.stake.Want == nil {
				continue
			}
			g.stake.Name, g.found = a.Name+stake.Former, r.Was
		}
		judge := kind.Judge
		if kind.Away != nil {
			judge = kind.Away
		}
		v, err := judge(g.input(in))
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
	return stake.Input{Stake: g.stake, Found: g.found, Traits: in.Traits, Declared: in.Stakes, Brought: g.brought, Fresh: g.applied.Fresh}
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
	leaves, leaving := goers(in, all, only)
	var out, rest []leaver
	for _, g := range all {
		l, goes := leaves[g.stake.Local()]
		switch {
		case goes && l.sake != "":
			out = append(out, l)
		case goes:
			rest = append(rest, l)
		}
	}
	slices.Reverse(rest) // what was brought about last goes first
	out = append(out, rest...)
	for i := range out {
		if err := out[i].judge(in, leaving); err != nil {
			return nil, err
		}
		if len(out[i].verdict.Moves) == 0 {
			leaving = slices.DeleteFunc(leaving, func(s stake.Stake) bool { return s.Local() == out[i].stake.Local() })
		}
	}
	return lastTakers(out), nil
}

// goers are the stakes that go, by their names on the host, and in the order in which that turned out.
func goers(in Input, all []gone, only func(Row) bool) (leaves map[string]leaver, leaving []stake.Stake) {
	leaves = map[string]leaver{}
	for more := true; more; { // what one does may be a matter of what else goes
		more = false
		for _, g := range all {
			if _, known := leaves[g.stake.Local()]; known || g.kind.Away == nil || only != nil && !only(g.row(in)) {
				continue
			}
			why, sake := g.why(in, leaving)
			if why == "" {
				continue
			}
			l := leaver{judged{stake: g.stake, input: g.input(in)}, why, sake}
			l.input.Pending = sake != "" // something comes in its place
			leaves[g.stake.Local()], leaving, more = l, append(leaving, g.stake), true
		}
	}
	return leaves, leaving
}

// why says why a stake goes, "" where it does not, and for the sake of which declared one.
func (g gone) why(in Input, leaving []stake.Stake) (why, sake string) {
	if g.kind.Unwanted != nil {
		why, sake = g.kind.Unwanted(g.stake, stake.Surroundings{Declared: in.Stakes, Leaving: leaving, Traits: in.Traits, Memo: in.Memo})
	}
	switch {
	case why != "" || !g.goes(in):
		return why, sake
	case in.Retires != "":
		return in.Retires + " is retired", sake
	}
	return "nothing declares it any more", sake
}

// judge works out how a stake goes, or that it stays because something that is declared needs it.
func (l *leaver) judge(in Input, leaving []stake.Stake) error {
	kind, err := stake.KindOf(l.stake.Type)
	if err != nil {
		return err
	}
	l.input.Leaving = slices.Clone(leaving)
	if l.verdict, err = kind.Away(l.input); err != nil {
		return err
	}
	if by := l.needed(in.Stakes); by != nil {
		l.verdict = stake.Verdict{Cautions: []stake.Note{{Address: l.stake.Address(), What: fmt.Sprintf("%s stays: %s needs it", l.stake.Local(), by.Local()), Fix: fmt.Sprintf("declare it, or take out what needs it: %s:%d", by.From.File, by.From.Line)}}}
	}
	return nil
}

// lastTakers has, of leavers of one kind, those that take others along come after them; what kind goes
// after what kind stays as it is.
func lastTakers(all []leaver) []leaver {
	of := map[string][]leaver{}
	for _, l := range all {
		of[l.stake.Type] = append(of[l.stake.Type], l)
	}
	for _, list := range of {
		slices.SortStableFunc(list, func(a, b leaver) int { return cmp.Compare(len(a.verdict.Takes), len(b.verdict.Takes)) })
	}
	out := make([]leaver, 0, len(all))
	for _, l := range all {
		out = append(out, of[l.stake.Type][0])
		of[l.stake.Type] = of[l.stake.Type][1:]
	}
	return out
}

// needed is the declared stake that a leaver has to stay for, nil for none: one that the
// steps would undo, or that rests on the same thing.
func (l leaver) needed(declared []stake.Stake) *stake.Stake {
	if l.sake != "" || len(l.verdict.Moves) == 0 {
		return nil
	}
	own := stake.ClaimsOf([]stake.Stake{l.stake})
	for i, s := range declared {
		if slices.Contains(l.verdict.Takes, s.Local()) && !s.WantsNothing() {
			return &declared[i]
		}
		for _, c := range stake.ClaimsOf(declared[i : i+1]) {
			if c.Need != claim.Leaves && slices.ContainsFunc(own, func(o claim.Claim) bool {
				return o.Need == claim.Owns && o.IsThing() && o.Sort == c.Sort && o.What == c.What
			}) {
				return &declared[i]
			}
		}
	}
	return nil
}

// unknownNames are blockers for what was named to go, and is not among what nobody
// declares any more, or was there before a run changed it.
func unknownNames(in Input, all []gone) []stake.Note {
	var out []stake.Note
	for _, name := range in.Removing {
		i := slices.IndexFunc(all, func(g gone) bool { return g.stake.Address() == name })
		switch {
		case !strings.HasPrefix(name, in.Place+"/"):
		case i >= 0 && !all[i].kind.Holds && !all[i].goes(in):
			out = append(out, stake.Note{Address: name, What: "it was named to go, and was there before a run changed it: North Stake takes away what runs made", Fix: "take it away by hand, or leave it"})
		case i < 0:
			out = append(out, stake.Note{Address: name, What: "it was named to go, and is not among what runs brought about here and nobody declares any more", Fix: "see what is: northstake drift --on " + in.Place})
		}
	}
	return out
}

// goes says whether it goes because nobody declares it any more.
func (g gone) goes(in Input) bool {
	if g.kind.Holds {
		return in.Clears && slices.Contains(in.Removing, g.stake.Address())
	}
	return in.Clears && g.applied.Fresh
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

// staying says what is still there of what nobody declares any more, and how it goes.
func staying(in Input, all []gone, leave []leaver) []stake.Note {
	var names, held []string
	clears := false
	for _, g := range all {
		if slices.ContainsFunc(leave, func(l leaver) bool { return l.stake.Local() == g.stake.Local() }) {
			continue // it goes, or says why it stays
		}
		names = append(names, g.stake.Local())
		switch {
		case g.kind.Holds:
			held = append(held, g.stake.Address())
		case g.kind.Away != nil && g.applied.Fresh:
			clears = true
		}
	}
	if len(names) == 0 {
		return nil
	}
	n := stake.Note{Address: in.Place, What: fmt.Sprintf("brought about earlier, not declared now, and still there: %s", strings.Join(form.Names(names[:min(len(names), 8)]), ", ")), Fix: "take it away by hand, or leave it"}
	if more := len(names) - 8; more > 0 {
		n.What += fmt.Sprintf(" and %d more", more)
	}
	switch {
	case clears:
		n.Fix = "northstake plan --clear takes away what runs made there"
	case len(held) > 0 && in.Retires != "":
		n.Fix = "what people may rely on goes only when it is named: retire it again with --removing " + strings.Join(held, ",")
	case len(held) > 0:
		n.Fix = "what people may rely on goes only when it is named: northstake plan --clear --removing " + strings.Join(held, ",")
	}
	return []stake.Note{n}
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
