package plan

import (
	"fmt"
	"slices"
	"strings"

	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

type judged struct {
	stake   stake.Stake
	input   stake.Input
	verdict stake.Verdict
}

// judgeAll judges the stakes in their order and notes a row for each. The list
// holds those that the plan is about.
func judgeAll(in Input, leave []leaver, only func(Row) bool, out *Place) (list []judged, byName map[string]judged, err error) {
	changing := map[string]bool{}
	nudges := map[string][]stake.Nudge{}
	var leaving []stake.Stake
	for _, l := range leave {
		if len(l.verdict.Moves) > 0 {
			leaving = append(leaving, l.stake)
		}
		for _, n := range l.verdict.Nudges {
			nudges[n.Target] = append(nudges[n.Target], n)
		}
	}
	byName = map[string]judged{}
	paths := map[string]bool{}
	for _, s := range in.Stakes {
		if strings.HasPrefix(s.Name, "/") {
			paths[s.Name] = true
		}
	}
	for _, a := range in.Applied { // and what is leaving, or has just left
		if strings.HasPrefix(a.Name, "/") {
			paths[a.Name] = true
		}
	}
	for _, s := range in.Stakes {
		j, row, err := judgeStake(in, s, stake.Input{Nudges: nudges[s.Local()], Leaving: leaving, Paths: paths, Declared: in.Stakes}, changing)
		if err != nil {
			return nil, nil, err
		}
		out.Rows = append(out.Rows, row)
		if row.Standing == Unread {
			out.NotRead = append(out.NotRead, Unreadable{row.Address, row.Reason})
		}
		byName[s.Local()] = j
		if row.Standing == Unread || (only != nil && !only(row)) {
			continue
		}
		list = append(list, j)
		changing[s.Local()] = len(j.verdict.Moves) > 0
		for _, n := range j.verdict.Nudges {
			nudges[n.Target] = append(nudges[n.Target], n)
		}
	}
	excluded := map[string][]stake.Note{}
	for _, c := range in.Conflicts {
		for _, one := range [][2]claim.Claim{{c.A, c.B}, {c.B, c.A}} {
			at := one[1].From
			excluded[one[0].By] = append(excluded[one[0].By], stake.Note{What: c.What, Fix: fmt.Sprintf("see %s:%d; %s", at.File, at.Line, c.Fix)})
		}
	}
	first := map[string]judged{}
	for i, j := range list {
		is := j.verdict.SameAs
		for _, note := range excluded[j.stake.Local()] {
			note.Address = j.stake.Address()
			j.verdict.Blockers = append(j.verdict.Blockers, note)
		}
		if other, taken := first[is]; taken && is != "" {
			at := other.stake.From
			j.verdict.Blockers = append(j.verdict.Blockers, stake.Note{Address: j.stake.Address(), What: fmt.Sprintf("%s and %s are one thing on this host: %s", other.stake.Address(), j.stake.Address(), is),
				Fix: fmt.Sprintf("declare it once: see %s:%d", at.File, at.Line)})
		}
		first[is] = j
		j.verdict.Blockers = append(j.verdict.Blockers, j.heldUp(in.Traits.Stuck)...)
		list[i].verdict.Blockers = append(j.verdict.Blockers, j.undoes(byName)...)
		byName[j.stake.Local()] = list[i]
	}
	return list, byName, nil
}

// heldUp are blockers for what has to do with what a step did that could not be taken back.
func (j judged) heldUp(stuck []wire.StuckStep) []stake.Note {
	var out []stake.Note
	for _, s := range stuck {
		if !slices.ContainsFunc(j.verdict.Moves, func(m wire.Move) bool { return j.step(m).Touches(s) }) {
			continue
		}
		run, _, _ := strings.Cut(s.Run, "x")
		out = append(out, stake.Note{Address: j.stake.Address(), What: fmt.Sprintf("step %d of run %s, %q, was cut off and could not be taken back: %s", s.Number, run, s.Text, s.Why),
			Fix: fmt.Sprintf("mend what is in its way and resume that run: northstake resume %s; or mend it by hand, and dismiss the step: northstake journal %s", run, j.stake.Place)})
	}
	return out
}

// undoes are blockers for what a stake's steps would take along although it is declared.
func (j judged) undoes(byName map[string]judged) []stake.Note {
	var out []stake.Note
	if len(j.verdict.Moves) == 0 {
		return nil
	}
	for _, name := range j.verdict.Takes {
		other, declared := byName[name]
		if !declared || other.stake.WantsNothing() {
			continue
		}
		at := other.stake.From
		out = append(out, stake.Note{Address: j.stake.Address(), What: fmt.Sprintf("to %s would take along %s, which is declared", j.verdict.Moves[0].Text, other.stake.Address()),
			Fix: fmt.Sprintf("take one of the two out: %s:%d or %s:%d", j.stake.From.File, j.stake.From.Line, at.File, at.Line)})
	}
	return out
}

func judgeStake(in Input, s stake.Stake, input stake.Input, changing map[string]bool) (judged, Row, error) {
	row := Row{Address: s.Address(), Type: s.Type, Name: s.Name, Site: s.Site, From: s.From, Standing: Unread}
	applied, known := in.Applied[s.Local()]
	row.SetAt, row.ShiftedAt = applied.SetAt, applied.Shifted
	reading, ok := in.Readings[s.Local()]
	switch {
	case !ok:
		row.Reason = "the survey did not look at it"
	case reading.Unread != "":
		row.Reason = reading.Unread
	}
	if row.Reason != "" {
		return judged{stake: s}, row, nil
	}
	kind, err := stake.KindOf(s.Type)
	if err != nil {
		return judged{}, row, err
	}
	input.Stake, input.Found, input.Last, input.LastFound = s, reading.Found, applied.Want, applied.Found
	input.Traits, input.Memo, input.Reached, input.Vantage, input.Restores = in.Traits, in.Memo, in.Reached, in.Vantage, in.Restores
	for _, before := range [][]string{s.Needs, s.After} {
		for _, other := range before {
			input.Pending = input.Pending || changing[other]
		}
	}
	v, err := kind.Judge(input)
	switch {
	case err != nil:
		row.Reason = err.Error() // the others can be read all the same
	case v.Unread != "":
		row.Reason = v.Unread
	}
	if row.Reason != "" {
		return judged{stake: s}, row, nil
	}
	row.Differences, row.Touched, row.Reason, row.Soon = v.Differences, v.Touched, v.Rests, v.Soon
	row.Absent = v.Gone
	j := judged{stake: s, input: input, verdict: v}
	if row.Standing = Set; len(v.Differences) == 0 {
		return j, row, nil
	}
	if row.Standing = Due; !known {
		return j, row, nil
	}
	if row.Standing = Shifted; Same(applied.Want, s.Want) {
		return j, row, nil
	}
	was, err := formerly(kind, input, applied, reading)
	row.Soon = was.verdict.Soon // of what is there
	switch {
	case err != nil:
		row.Standing, row.Reason, row.Differences = Unread, err.Error(), nil
		return judged{stake: s}, row, nil
	case len(was.verdict.Differences) == 0:
		row.Standing = Due
		return j, row, nil
	}
	row.Differences, row.Touched, row.NewlyDeclared = was.verdict.Differences, was.verdict.Touched, true
	if in.Restores {
		return was, row, nil
	}
	return j, row, nil
}

// formerly judges a stake by what was wanted when it was last as declared: what differs
// from that has shifted, and what differs from the declaration alone is due.
func formerly(kind stake.Kind, in stake.Input, applied Applied, reading wire.Reading) (judged, error) {
	in.Stake.Want = applied.Want
	if in.Memo = nil; len(reading.Was) > 0 {
		in.Found = reading.Was
	}
	v, err := kind.Judge(in)
	return judged{in.Stake, in, v}, err
}
