// Package plan compares what is wanted with what was read and works out the
// standing of every stake and the ordered steps that would make each one set.
package plan

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
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

// Reading is what a survey found for one stake, by its name on the host. Was is what it
// found for what was wanted when the stake was last as declared, where that is another
// thing. Unread is the reason where nothing could be found out.
type Reading struct {
	Name   string          `json:"name"`
	Found  json.RawMessage `json:"found,omitempty"`
	Was    json.RawMessage `json:"was,omitempty"`
	Unread string          `json:"unread,omitempty"`
}

// Row is one stake with its standing. The differences of one that has shifted are from
// what it was when it was last as declared; NewlyDeclared says that something else is
// declared by now.
type Row struct {
	Address     string             `json:"name"`
	Type        string             `json:"type"`
	Name        string             `json:"subject"` // what it is of its type
	Site        string             `json:"site,omitempty"`
	Standing    Standing           `json:"standing"`
	From        declare.Position   `json:"from,omitzero"`
	Differences []stake.Difference `json:"differences,omitempty"`
	Reason      string             `json:"reason,omitempty"` // why it is unread or stray, or what the verdict rests on
	Touched     stake.Touch        `json:"touched,omitzero"`
	SetAt       time.Time          `json:"set_at,omitzero"`
	ShiftedAt   time.Time          `json:"shifted_at,omitzero"`

	NewlyDeclared bool `json:"newly_declared,omitempty"`
	Absent        bool `json:"absent,omitempty"` // nothing of it is there
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
	Unread    string       `json:"unread,omitempty"` // why the host could not be surveyed at all
	NotRead   []Unreadable `json:"not_read,omitempty"`
	Otherwise []stake.Note `json:"answers_otherwise,omitempty"` // sites that lie there as declared, and what their visitors get instead
	Machine   string       `json:"machine,omitempty"`           // of the service's own machine, its name
}

// Unreadable is a stake of which nothing could be found out, and why: nobody knows
// whether it is as declared.
type Unreadable struct {
	Address string `json:"name"`
	Why     string `json:"why"`
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
	Restores bool        // what has shifted goes back to what it was last declared to be
	Clears   bool        // what runs brought about, and nobody declares any more, is taken away
	Retires  string      // what is taken away although it may be declared, in words
	Removing []string    // addresses of what goes only when it is named
	Resumed  bool        // a part of the plan may be done already

	Way       *Way             // how the service gets in, nil where nothing can shut it out
	Conflicts []stake.Conflict // of what is declared
	Reached   map[int]bool     // TCP ports that a connection from outside was tried to, and whether it was let in
	Vantage   string           // where that came from, as a network of one address
}

// Build works out the plan of one host. With only, stakes for which it is false
// are judged but get no steps.
func Build(in Input, only func(Row) bool) (Host, error) {
	out := Host{Host: in.Host, Rows: []Row{}, Steps: []Step{}}
	former := noLonger(in)
	leave, err := leavers(in, former, only)
	if err != nil {
		return out, err
	}
	list, byName, err := judgeAll(in, leave, only, &out)
	if err != nil {
		return out, err
	}
	blocked, sites := behind(list, byName)
	out.LeftSites = slices.Sorted(maps.Keys(sites))
	waiting, err := heed(list, blocked, sites)
	if err != nil {
		return out, err
	}
	changing := map[string]bool{}
	nudges := map[string][]stake.Nudge{}
	var targets []string
	nudge := func(list []stake.Nudge) {
		for _, n := range list {
			if nudges[n.Target] == nil {
				targets = append(targets, n.Target)
			}
			nudges[n.Target] = append(nudges[n.Target], n)
		}
	}
	var late []leaver
	goes := func(l leaver) {
		for _, m := range l.verdict.Moves {
			m.Because = l.why
			out.Steps = append(out.Steps, l.step(m))
		}
	}
	for _, l := range leave { // before what comes in its place
		if blocked[l.sake] != "" {
			continue
		}
		out.Blockers = append(out.Blockers, l.verdict.Blockers...)
		out.Cautions = append(out.Cautions, l.verdict.Cautions...)
		nudge(l.verdict.Nudges)
		if l.sake != "" && l.verdict.Late {
			late = append(late, l)
			continue
		}
		goes(l)
	}
	told := map[string]int{} // how many nudges of a target a step has told it of
	tell := func(target string) error {
		j, ok := byName[target]
		if !ok {
			move, of, err := tellOthers(in, target, leave, nudges[target][told[target]:])
			if told[target] = len(nudges[target]); err == nil && move != nil {
				out.Steps = append(out.Steps, of.step(*move))
			}
			return err
		}
		if changing[target] || blocked[target] != "" || len(j.verdict.Differences) > 0 || told[target] == len(nudges[target]) {
			return nil
		}
		kind, err := stake.KindOf(j.stake.Type)
		if err != nil || kind.Nudged == nil {
			return err
		}
		j.input.Nudges = nudges[target][told[target]:]
		told[target] = len(nudges[target])
		move, err := kind.Nudged(j.input)
		switch {
		case err != nil:
			return err
		case move != nil:
			out.Steps = append(out.Steps, j.step(*move))
		default:
			var why []string
			for _, n := range j.input.Nudges {
				why = append(why, n.Reason)
			}
			out.Cautions = append(out.Cautions, stake.Note{Address: j.stake.Address(), What: fmt.Sprintf("%s does not run, and is not told that %s", j.stake.Name, strings.Join(why, "; ")), Fix: "start it, if it is meant to run: it takes notice then"})
		}
		return nil
	}
	goLate := func() error {
		var lets []string // servers that go on, and have a port until they are told
		for _, l := range late {
			goes(l)
			for _, n := range l.verdict.Nudges {
				lets = append(lets, n.Target)
			}
		}
		late = nil
		for _, target := range lets {
			if err := tell(target); err != nil {
				return err
			}
		}
		return nil
	}
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
		if by := waiting[local]; by != "" {
			out.Left = append(out.Left, Left{j.stake.Address(), j.stake.Site, byName[by].stake.Address()})
		}
		nudge(j.verdict.Nudges)
		awaited := slices.ContainsFunc(late, func(l leaver) bool { return slices.Contains(j.stake.Needs, l.sake) })
		itself := slices.IndexFunc(j.verdict.Moves, func(m stake.Move) bool { return m.Late })
		for i, m := range j.verdict.Moves {
			if awaited && i == max(itself, 0) {
				if err := goLate(); err != nil {
					return out, err
				}
			}
			changing[local] = true
			out.Steps = append(out.Steps, j.step(m))
		}
	}
	if err := goLate(); err != nil {
		return out, err
	}
	// A service takes notice once, after everything else, unless it is started
	// or restarted anyway.
	for _, target := range targets {
		if err := tell(target); err != nil {
			return out, err
		}
	}
	if out.Steps, err = join(out.Steps); err != nil {
		return out, err
	}
	out.Cautions = append(out.Cautions, in.Way.guard(out.Steps)...)
	for i := range out.Steps {
		out.Steps[i].Number = i + 1
	}
	out.Rows = append(out.Rows, strays(in, former, byName)...)
	if (only == nil || in.Clears) && !in.Restores {
		if only != nil {
			former = slices.DeleteFunc(former, func(g gone) bool { return !only(g.row(in)) })
		}
		out.Cautions = append(staying(in, former, leave), out.Cautions...)
		if !in.Resumed {
			out.Blockers = append(out.Blockers, unknownNames(in, former)...)
		}
	}
	between(out.Cautions, out.Steps)
	return out, nil
}

// tellOthers has what nobody declares any more, and goes on, take notice of what is gone: a server that
// serves others would serve the former site until somebody reloads it.
func tellOthers(in Input, target string, leave []leaver, nudges []stake.Nudge) (*stake.Move, judged, error) {
	a, known := in.Applied[target]
	r := in.Readings[target]
	goes := slices.ContainsFunc(leave, func(l leaver) bool { return l.stake.Local() == target && len(l.verdict.Moves) > 0 })
	if !known || goes || r.Unread != "" || len(nudges) == 0 {
		return nil, judged{}, nil
	}
	kind, err := stake.KindOf(a.Type)
	if err != nil || kind.Nudged == nil {
		return nil, judged{}, err
	}
	j := judged{stake: stake.Stake{Host: in.Host, Type: a.Type, Name: a.Name, Want: a.Want}}
	j.input = stake.Input{Stake: j.stake, Found: r.Found, Traits: in.Traits, Nudges: nudges}
	move, err := kind.Nudged(j.input)
	return move, j, err
}

// servesAgain is the step by which a server serves what another one has let go of: of those that
// follow, the first that starts something; else one that has it take notice; else the next.
func servesAgain(steps []Step) Step {
	for _, verbs := range [][]string{{"start", "run", "restart"}, {"reload"}} {
		for _, s := range steps {
			if slices.Contains(verbs, s.Verb) || s.Type == "container" && s.Verb == "make" {
				return s
			}
		}
	}
	return steps[0]
}

// between puts the numbers of steps into the cautions that name the step of their stake and the
// one after it.
func between(cautions []stake.Note, steps []Step) {
	for i, c := range cautions {
		where := "the step that stops it and the next"
		if n := slices.IndexFunc(steps, func(s Step) bool { return s.Address == c.Address }); n >= 0 && n+1 < len(steps) {
			where = fmt.Sprintf("steps %d and %d", steps[n].Number, servesAgain(steps[n+1:]).Number)
		}
		cautions[i].What = strings.ReplaceAll(c.What, stake.BetweenSteps, where)
	}
}

// Counts counts rows by standing.
func Counts(rows []Row) map[Standing]int {
	out := map[Standing]int{}
	for _, r := range rows {
		out[r.Standing]++
	}
	return out
}
