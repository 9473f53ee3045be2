package plan

import "northstake/core/stake"

type judged struct {
	stake   stake.Stake
	input   stake.Input
	verdict stake.Verdict
}

// judgeAll judges the stakes in their order and notes a row for each. The list
// holds those that the plan is about.
func judgeAll(in Input, only func(Row) bool, out *Host) (list []judged, byName map[string]judged, err error) {
	changing := map[string]bool{}
	nudges := map[string][]stake.Nudge{}
	byName = map[string]judged{}
	for _, s := range in.Stakes {
		j, row, err := judge(in, s, changing, nudges[s.Local()])
		if err != nil {
			return nil, nil, err
		}
		out.Rows = append(out.Rows, row)
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
	return list, byName, nil
}

func judge(in Input, s stake.Stake, changing map[string]bool, nudges []stake.Nudge) (judged, Row, error) {
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
	input := stake.Input{Stake: s, Found: reading.Found, Last: applied.Want, LastFound: applied.Found, Traits: in.Traits, Nudges: nudges, Memo: in.Memo}
	for _, before := range [][]string{s.Needs, s.After} {
		for _, other := range before {
			input.Pending = input.Pending || changing[other]
		}
	}
	v, err := kind.Judge(input)
	if err != nil {
		return judged{}, row, err
	}
	row.Differences, row.Touched = v.Differences, v.Touched
	row.Standing, err = standing(kind, input, v, known, applied)
	return judged{stake: s, input: input, verdict: v}, row, err
}

// standing tells due from shifted: a stake has shifted when it differs from
// what it was when it was last as declared, whatever is declared now.
func standing(kind stake.Kind, in stake.Input, v stake.Verdict, known bool, applied Applied) (Standing, error) {
	switch {
	case len(v.Differences) == 0:
		return Set, nil
	case !known:
		return Due, nil
	case Same(applied.Want, in.Stake.Want):
		return Shifted, nil
	}
	in.Stake.Want = applied.Want
	before, err := kind.Judge(in)
	if err != nil {
		return Unread, err
	}
	if len(before.Differences) > 0 {
		return Shifted, nil
	}
	return Due, nil
}
