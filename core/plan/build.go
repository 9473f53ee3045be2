package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"northstake/core/stake"
	"northstake/core/stake/judge"
	"northstake/core/wire"
)

// building is a plan that is being worked out.
type building struct {
	in   Input
	only func(Row) bool // what is planned for, nil for all
	out  Place

	former []gone   // what nobody declares any more
	leave  []leaver // what of that goes
	late   []leaver // what of that goes right before what comes in its place, and has not yet

	list   []judged // what is declared, in the order in which it is brought about
	byName map[string]judged

	blocked  map[string]string // by what, by the stake's name
	waiting  map[string]string // for what, of what is brought about nevertheless
	changing map[string]bool   // stakes with a step

	targets []string                 // of nudges, in the order of their first
	nudges  map[string][]stake.Nudge // by target
	told    map[string]int           // how many of those a step has told the target of
}

// Build works out the plan of one host. With only, stakes for which it is false
// are judged but get no steps.
func Build(in Input, only func(Row) bool) (Place, error) {
	b := &building{in: in, only: only, out: Place{Name: in.Place, Rows: []Row{}, Steps: []wire.Step{}},
		changing: map[string]bool{}, nudges: map[string][]stake.Nudge{}, told: map[string]int{}}
	for _, part := range []func() error{b.judge, b.takeAwayEarly, b.bring, b.takeAwayLate, b.tellAll, b.number} {
		if err := part(); err != nil {
			return b.out, err
		}
	}
	b.tellOfRest()
	between(b.out.Cautions, b.out.Steps)
	return b.out, nil
}

// judge finds what goes, how all that is declared stands, and what waits for something that is in the way.
func (b *building) judge() (err error) {
	b.former = noLonger(b.in)
	if b.leave, err = leavers(b.in, b.former, b.only); err != nil {
		return err
	}
	if b.list, b.byName, err = judgeAll(b.in, b.leave, b.only, &b.out); err != nil {
		return err
	}
	var sites map[string]string
	b.blocked, sites = behind(b.list, b.byName)
	b.out.LeftSites = slices.Sorted(maps.Keys(sites))
	b.waiting, err = heed(b.list, b.blocked, sites)
	return err
}

// says adds what a verdict has to say beside its moves.
func (b *building) says(v stake.Verdict) {
	b.out.Blockers = append(b.out.Blockers, v.Blockers...)
	b.out.Cautions = append(b.out.Cautions, v.Cautions...)
}

// nudge notes who is to take notice.
func (b *building) nudge(list []stake.Nudge) {
	for _, n := range list {
		if b.nudges[n.Target] == nil {
			b.targets = append(b.targets, n.Target)
		}
		b.nudges[n.Target] = append(b.nudges[n.Target], n)
	}
}

// goes takes something away.
func (b *building) goes(l leaver) {
	for _, m := range l.verdict.Moves {
		m.Because = l.why
		b.out.Steps = append(b.out.Steps, l.step(m))
	}
}

// takeAwayEarly takes away what leaves, before what comes in its place.
func (b *building) takeAwayEarly() error {
	for _, l := range b.leave {
		if b.blocked[l.sake] != "" {
			continue
		}
		b.says(l.verdict)
		b.nudge(l.verdict.Nudges)
		if l.sake != "" && l.verdict.Late {
			b.late = append(b.late, l)
			continue
		}
		b.goes(l)
	}
	return nil
}

// takeAwayLate takes away what was left until what comes in its place is ready to start.
func (b *building) takeAwayLate() error {
	var lets []string // servers that go on, and have a port until they are told
	for _, l := range b.late {
		b.goes(l)
		for _, n := range l.verdict.Nudges {
			lets = append(lets, n.Target)
		}
	}
	b.late = nil
	return b.tellEach(lets)
}

// bring brings about what is declared and not in its way.
func (b *building) bring() error {
	for _, j := range b.list {
		b.says(j.verdict)
		local := j.stake.Local()
		if by := b.blocked[local]; by != "" {
			if by != local {
				b.left(j, by)
			}
			continue
		}
		if by := b.waiting[local]; by != "" {
			b.left(j, by)
		}
		b.nudge(j.verdict.Nudges)
		if err := b.moves(j); err != nil {
			return err
		}
	}
	return nil
}

// left notes that something waits for what another stake, by its name, is held up by.
func (b *building) left(j judged, by string) {
	b.out.Left = append(b.out.Left, Left{j.stake.Address(), j.stake.Site, b.byName[by].stake.Address()})
}

// moves adds a stake's own steps, and right before the one that needs it what goes late for its sake.
func (b *building) moves(j judged) error {
	awaited := slices.ContainsFunc(b.late, func(l leaver) bool { return slices.Contains(j.stake.Needs, l.sake) })
	itself := slices.IndexFunc(j.verdict.Moves, func(m wire.Move) bool { return m.Late })
	for i, m := range j.verdict.Moves {
		if awaited && i == max(itself, 0) {
			if err := b.takeAwayLate(); err != nil {
				return err
			}
		}
		b.changing[j.stake.Local()] = true
		b.out.Steps = append(b.out.Steps, j.step(m))
	}
	return nil
}

// tellAll has each service take notice once, after everything else, unless it is started or restarted anyway.
func (b *building) tellAll() error { return b.tellEach(b.targets) }

func (b *building) tellEach(targets []string) error {
	for _, target := range targets {
		if err := b.tell(target); err != nil {
			return err
		}
	}
	return nil
}

// tell has a target take notice of what it has not been told of.
func (b *building) tell(target string) error {
	untold := b.nudges[target][b.told[target]:]
	j, declared := b.byName[target]
	if !declared {
		move, of, err := tellOthers(b.in, target, b.leave, untold)
		if b.told[target] = len(b.nudges[target]); err == nil && move != nil {
			b.out.Steps = append(b.out.Steps, of.step(*move))
		}
		return err
	}
	if b.changing[target] || b.blocked[target] != "" || len(j.verdict.Differences) > 0 || len(untold) == 0 {
		return nil
	}
	kind, err := stake.KindOf(j.stake.Type)
	if err != nil || kind.Nudged == nil {
		return err
	}
	j.input.Nudges = untold
	b.told[target] = len(b.nudges[target])
	move, err := kind.Nudged(j.input)
	if err == nil && move != nil {
		b.out.Steps = append(b.out.Steps, j.step(*move))
	}
	if err == nil && move == nil {
		b.out.Cautions = append(b.out.Cautions, untoldOf(j))
	}
	return err
}

// untoldOf says that a service does not run, and of what it is not told.
func untoldOf(j judged) stake.Note {
	var why []string
	for _, n := range j.input.Nudges {
		why = append(why, n.Reason)
	}
	return stake.Note{Address: j.stake.Address(), What: fmt.Sprintf("%s does not run, and is not told that %s", j.stake.Name, strings.Join(why, "; ")), Fix: "start it, if it is meant to run: it takes notice then"}
}

// number joins steps that can be made together, holds those by which the way in could be lost, and numbers them.
func (b *building) number() (err error) {
	if b.out.Steps, err = join(b.out.Steps); err != nil {
		return err
	}
	b.out.Cautions = append(b.out.Cautions, guard(b.in.Access, b.out.Steps)...)
	for i := range b.out.Steps {
		b.out.Steps[i].Number = i + 1
	}
	return nil
}

// tellOfRest tells of what nobody declares any more and stays.
func (b *building) tellOfRest() {
	b.out.Rows = append(b.out.Rows, strays(b.in, b.former, b.byName)...)
	if b.only != nil && !b.in.Clears || b.in.Restores {
		return
	}
	stays := b.former
	if b.only != nil {
		stays = slices.DeleteFunc(stays, func(g gone) bool { return !b.only(g.row(b.in)) })
	}
	b.out.Cautions = append(staying(b.in, stays, b.leave), b.out.Cautions...)
	if !b.in.Resumed {
		b.out.Blockers = append(b.out.Blockers, unknownNames(b.in, stays)...)
	}
}

// tellOthers has what nobody declares any more, and goes on, take notice of what is gone: a server that
// serves others would serve the former site until somebody reloads it.
func tellOthers(in Input, target string, leave []leaver, nudges []stake.Nudge) (*wire.Move, judged, error) {
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
	j := judged{stake: stake.Stake{Place: in.Place, Type: a.Type, Name: a.Name, Want: a.Want}}
	j.input = stake.Input{Stake: j.stake, Found: r.Found, Traits: in.Traits, Nudges: nudges}
	move, err := kind.Nudged(j.input)
	return move, j, err
}

// servesAgain is the step by which a server serves what another one has let go of: of those that
// follow, the first that starts something; else one that has it take notice; else the next.
func servesAgain(steps []wire.Step) wire.Step {
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
func between(cautions []stake.Note, steps []wire.Step) {
	for i, c := range cautions {
		where := "the step that stops it and the next"
		if n := slices.IndexFunc(steps, func(s wire.Step) bool { return s.Address == c.Address }); n >= 0 && n+1 < len(steps) {
			where = fmt.Sprintf("steps %d and %d", steps[n].Number, servesAgain(steps[n+1:]).Number)
		}
		cautions[i].What = strings.ReplaceAll(c.What, judge.BetweenSteps, where)
	}
}
