// Package plan compares what is wanted with what was read and works out the
// standing of every stake and the ordered steps that would make each one set.
package plan

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"northstake/core/declare"
	"northstake/core/stake"
)

// Standing is how a stake stands.
type Standing string

// The five standings.
const (
	Set     Standing = "set"     // as declared
	Due     Standing = "due"     // declared, not yet applied
	Shifted Standing = "shifted" // was applied, now differs
	Stray   Standing = "stray"   // there, inside what North Stake manages, but not declared
	Unread  Standing = "unread"  // could not be read
)

// Reading is what a survey found for one stake, by its name on the host. Unread
// is the reason where nothing could be found out.
type Reading struct {
	Name   string          `json:"name"`
	Found  json.RawMessage `json:"found,omitempty"`
	Unread string          `json:"unread,omitempty"`
}

// Applied is what is remembered of a stake from when it was last as declared.
type Applied struct {
	Type     string          `json:"type"`
	Name     string          `json:"name"`
	Site     string          `json:"site,omitempty"`
	Want     json.RawMessage `json:"want"`
	Found    json.RawMessage `json:"found"`
	Revision int             `json:"revision"`            // 0 for what was brought about once
	SetAt    time.Time       `json:"set_at"`              // when it was first seen as it is wanted now
	Shifted  time.Time       `json:"shifted_at,omitzero"` // when it was first seen to differ
	Made     bool            `json:"made,omitempty"`      // a run has brought it about, here or earlier; not so what was found as declared
}

// Row is one stake with its standing.
type Row struct {
	Address     string             `json:"address"`
	Type        string             `json:"type"`
	Name        string             `json:"name"`
	Site        string             `json:"site,omitempty"`
	Standing    Standing           `json:"standing"`
	From        declare.Position   `json:"from,omitzero"`
	Differences []stake.Difference `json:"differences,omitempty"`
	Reason      string             `json:"reason,omitempty"` // why it is unread or stray
	Touched     stake.Touch        `json:"touched,omitzero"`
	SetAt       time.Time          `json:"set_at,omitzero"`
	ShiftedAt   time.Time          `json:"shifted_at,omitzero"`
}

// Step is one thing to be done on a host. Steps are numbered from 1 on each
// host. Also are the addresses of other stakes that it brings about.
type Step struct {
	Number  int      `json:"number"`
	Host    string   `json:"host"`
	Address string   `json:"address"`
	Also    []string `json:"also,omitempty"`
	Type    string   `json:"type"`
	Name    string   `json:"name"`
	stake.Move
}

// Addresses are the stakes that the step brings about.
func (s Step) Addresses() []string { return append([]string{s.Address}, s.Also...) }

// Shares says whether two steps bring about a stake in common.
func (s Step) Shares(o Step) bool {
	return slices.ContainsFunc(s.Addresses(), func(a string) bool { return slices.Contains(o.Addresses(), a) })
}

// Host is the plan of one host. Left is what stays as it is because of a blocker,
// beside what the blockers themselves name, and LeftSites are the sites that are
// not brought about for that reason.
type Host struct {
	Host      string       `json:"host"`
	Rows      []Row        `json:"rows"`
	Steps     []Step       `json:"steps"`
	Blockers  []stake.Note `json:"blockers,omitempty"`
	Left      []Left       `json:"left,omitempty"`
	LeftSites []string     `json:"left_sites,omitempty"`
	Cautions  []stake.Note `json:"cautions,omitempty"`
	Unread    string       `json:"unread,omitempty"`  // why the host could not be surveyed at all
	Machine   string       `json:"machine,omitempty"` // of the service's own machine, its name
}

// Input is what the plan of one host is worked out from. Stakes stand in the
// order in which they can be brought about. Readings and Applied go by the
// stake's name on the host. Readings of stakes that are remembered but no
// longer declared are there as well.
type Input struct {
	Host     string
	Stakes   []stake.Stake
	Readings map[string]Reading
	Applied  map[string]Applied
	Traits   stake.Traits
	Memo     *stake.Memo // may be nil
}

type judged struct {
	stake   stake.Stake
	input   stake.Input
	verdict stake.Verdict
}

// Build works out the plan of one host. With only, stakes for which it is false
// are judged but get no steps.
func Build(in Input, only func(Row) bool) (Host, error) {
	out := Host{Host: in.Host, Rows: []Row{}, Steps: []Step{}}
	list, byName, err := judgeAll(in, only, &out)
	if err != nil {
		return out, err
	}
	blocked, sites := behind(list, byName)
	out.LeftSites = slices.Sorted(maps.Keys(sites))
	changing := map[string]bool{}
	nudges := map[string][]stake.Nudge{}
	var targets []string
	for _, j := range list {
		out.Blockers = append(out.Blockers, j.verdict.Blockers...)
		out.Cautions = append(out.Cautions, j.verdict.Cautions...)
		local := j.stake.Local()
		if by := blocked[local]; by != "" {
			if by != local {
				out.Left = append(out.Left, Left{j.stake.Address(), j.stake.Site, byName[by].stake.Address()})
			}
			continue
		}
		for _, n := range j.verdict.Nudges {
			if nudges[n.Target] == nil {
				targets = append(targets, n.Target)
			}
			nudges[n.Target] = append(nudges[n.Target], n)
		}
		for _, m := range j.verdict.Moves {
			changing[local] = true
			out.Steps = append(out.Steps, step(j.stake, m))
		}
	}
	// A service takes notice once, after everything else, unless it is started
	// or restarted anyway.
	for _, target := range targets {
		j, ok := byName[target]
		if !ok || changing[target] || blocked[target] != "" || len(j.verdict.Differences) > 0 {
			continue
		}
		kind, err := stake.KindOf(j.stake.Type)
		if err != nil {
			return out, err
		}
		if kind.Nudged == nil {
			continue
		}
		j.input.Nudges = nudges[target]
		move, err := kind.Nudged(j.input)
		if err != nil {
			return out, err
		}
		if move != nil {
			out.Steps = append(out.Steps, step(j.stake, *move))
		}
	}
	if out.Steps, err = join(out.Steps); err != nil {
		return out, err
	}
	for i := range out.Steps {
		out.Steps[i].Number = i + 1
	}
	out.Rows = append(out.Rows, strays(in, byName)...)
	return out, nil
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

// join makes one step of steps of one kind that follow one another and can be made
// together.
func join(steps []Step) ([]Step, error) {
	out := []Step{}
	for i := 0; i < len(steps); {
		n := i + 1
		for steps[i].Joins && n < len(steps) && steps[n].Joins && steps[n].Type == steps[i].Type {
			n++
		}
		one := steps[i]
		if n > i+1 {
			kind, err := stake.KindOf(one.Type)
			if err != nil {
				return nil, err
			}
			if kind.Join == nil {
				return nil, fmt.Errorf("moves of kind %s cannot be joined", one.Type)
			}
			var moves []stake.Move
			for _, s := range steps[i:n] {
				moves = append(moves, s.Move)
				if s.Address != one.Address {
					one.Also = append(one.Also, s.Address)
				}
			}
			one.Move = kind.Join(moves)
		}
		out = append(out, one)
		i = n
	}
	return out, nil
}

func step(s stake.Stake, m stake.Move) Step {
	return Step{Host: s.Host, Address: s.Address(), Type: s.Type, Name: s.Name, Move: m}
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

// strays lists what was brought about, is no longer declared, and still there, and
// what kinds found beside what they manage. What was found as it was declared, and
// never touched, is the host's own.
func strays(in Input, byName map[string]judged) []Row {
	declared := map[string]bool{}
	var rows []Row
	for _, s := range in.Stakes {
		declared[s.Local()] = true
		for _, name := range byName[s.Local()].verdict.Strays {
			rows = append(rows, Row{Address: s.Address() + ":" + name, Type: s.Type, Name: name, Site: s.Site, Standing: Stray,
				Reason: "it lies in what " + s.Address() + " manages, and nobody declared it"})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(in.Applied)) {
		a := in.Applied[name]
		r, ok := in.Readings[name]
		if declared[name] || !a.Made || !ok || r.Unread != "" {
			continue
		}
		kind, err := stake.KindOf(a.Type)
		if err != nil {
			continue
		}
		v, err := kind.Judge(stake.Input{Stake: stake.Stake{Host: in.Host, Type: a.Type, Name: a.Name, Want: a.Want}, Found: r.Found, Traits: in.Traits})
		if err != nil || v.Gone {
			continue
		}
		reason := "it was brought about once, and is not declared"
		if a.Revision > 0 {
			reason = fmt.Sprintf("revision %d declared it, and the present one does not", a.Revision)
		}
		rows = append(rows, Row{Address: in.Host + "/" + name, Type: a.Type, Name: a.Name, Site: a.Site, Standing: Stray, SetAt: a.SetAt, Reason: reason})
	}
	return rows
}

// Remember brings what is remembered up to a new reading: stakes that are as
// declared are noted with what was found; those that differ keep what was noted
// and get the time they were first seen to differ. It reports whether anything
// changed, and writes the times into the host's rows. Worked are the addresses of
// stakes that a run has just brought about.
func Remember(in Input, h *Host, worked map[string]bool, revision int, now time.Time) (map[string]Applied, bool) {
	out := map[string]Applied{}
	maps.Copy(out, in.Applied)
	changed := false
	stakes := map[string]stake.Stake{}
	for _, s := range in.Stakes {
		stakes[s.Local()] = s
	}
	present := map[string]bool{}
	for i := range h.Rows {
		row := &h.Rows[i]
		name := stake.Local(row.Type, row.Name)
		present[name] = true
		s, ok := stakes[name]
		if !ok || row.Address != s.Address() {
			continue
		}
		a, known := out[name]
		switch row.Standing {
		case Set:
			made := a.Made || worked[row.Address]
			if known && a.Shifted.IsZero() && a.Made == made && Same(a.Want, s.Want) && Same(a.Found, in.Readings[name].Found) {
				continue
			}
			setAt := now
			if known && a.Shifted.IsZero() && Same(a.Want, s.Want) {
				setAt = a.SetAt
			}
			from := revision
			if s.From.File == declare.OneOff {
				from = 0
			}
			out[name] = Applied{s.Type, s.Name, s.Site, s.Want, in.Readings[name].Found, from, setAt, time.Time{}, made}
			row.SetAt, row.ShiftedAt = setAt, time.Time{}
			changed = true
		case Shifted:
			if a.Shifted.IsZero() {
				a.Shifted = now
				row.ShiftedAt = now
				out[name] = a
				changed = true
			}
		}
	}
	for name := range out {
		if _, declared := stakes[name]; declared || present[name] {
			continue
		}
		if r, ok := in.Readings[name]; !out[name].Made || ok && r.Unread == "" {
			delete(out, name) // no longer declared, and gone or never touched
			changed = true
		}
	}
	return out, changed
}

// Same compares two JSON values by their compact text.
func Same(a, b json.RawMessage) bool {
	if bytes.Equal(a, b) {
		return true
	}
	var x, y any
	if json.Unmarshal(a, &x) != nil || json.Unmarshal(b, &y) != nil {
		return false
	}
	return bytes.Equal(stake.JSON(x), stake.JSON(y))
}

// Digest is what makes two steps the same step: where and what, not the words.
func (s Step) Digest() string {
	h := sha256.New()
	fmt.Fprintf(h, "%s\x00%s\x00", s.Address, s.Verb)
	h.Write(stake.JSON(json.RawMessage(s.Work)))
	return hex.EncodeToString(h.Sum(nil))
}

// Moved says how a host differs from what a plan was made for, and "" where it
// does not: fresh is the plan worked out now. When resumed is true some of the
// planned steps have been done, and the fresh plan may hold fewer of them.
func Moved(planned, fresh Host, resumed bool) string {
	for _, b := range fresh.Blockers {
		if !slices.ContainsFunc(planned.Blockers, func(p stake.Note) bool { return p.Address == b.Address }) {
			return b.What
		}
	}
	if resumed {
		known := map[string]bool{}
		for _, s := range planned.Steps {
			for _, a := range s.Addresses() {
				known[a] = true
			}
		}
		for _, s := range fresh.Steps {
			for _, a := range s.Addresses() {
				if !known[a] {
					return fmt.Sprintf("it would now also need to %s", s.Text)
				}
			}
		}
		return ""
	}
	for i, s := range fresh.Steps {
		if i >= len(planned.Steps) {
			return fmt.Sprintf("it would now also need to %s", s.Text)
		}
		if s.Digest() != planned.Steps[i].Digest() {
			return fmt.Sprintf("where the plan says to %s, it would now need to %s", planned.Steps[i].Text, s.Text)
		}
	}
	if len(fresh.Steps) < len(planned.Steps) {
		return fmt.Sprintf("there is no longer a need to %s", planned.Steps[len(fresh.Steps)].Text)
	}
	return ""
}

// Counts counts rows by standing.
func Counts(rows []Row) map[Standing]int {
	out := map[Standing]int{}
	for _, r := range rows {
		out[r.Standing]++
	}
	return out
}
