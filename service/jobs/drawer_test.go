package jobs_test

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/service/place"
)

// A drawer is a place that is no machine: a folder with a card for each record, and a journal of its own.
// Nothing outside this file knows it.

type drawer struct {
	Folder string           `toml:"folder" required:"true"`
	Key    string           `toml:"key_secret" required:"true"`
	Cards  map[string]*card `toml:"card"`
	declare.Place
}

var _ = declare.Explain[drawer](map[string]string{
	"folder":     "Where the drawer is.",
	"key_secret": "Secret that opens it.",
	"card":       "What lies in it, by name.",
})

type card struct {
	Says string `toml:"says" json:"says" required:"true"`
}

var _ = declare.Explain[card](map[string]string{
	"says": "What the card says.",
})

type cardWork struct {
	Says string `json:"says"`
	Away bool   `json:"away,omitempty"`
}

type cardFound struct {
	There bool   `json:"there"`
	Says  string `json:"says"`
}

var (
	_ = declare.RegisterSort[drawer]("drawer", "The drawers of this ground.")
	_ = place.Register("drawer", drawers{})
	_ = stake.Register(stake.Kind{
		Type: "card", Of: "drawer",
		Wanted: func(w *stake.Wanting) error {
			cards := declare.PlaceOf[drawer](w.D, "drawer", w.Place).Cards
			for _, name := range slices.Sorted(maps.Keys(cards)) {
				w.Want(stake.Stake{Type: "card", Name: name, From: w.D.At("drawer", w.Place, "card", name), Want: wire.JSON(cards[name])})
			}
			return nil
		},
	})
	_ = stake.Judged("card", stake.Judgement{
		Judge: stake.Judging(func(in stake.Input, w card, f cardFound) stake.Verdict {
			v := stake.Verdict{Gone: !f.There}
			if !f.There || f.Says != w.Says {
				v.Differences = []wire.Difference{{Attribute: "says", Wanted: w.Says, Found: f.Says}}
				v.Moves = []wire.Move{{Verb: "write", Text: "write card " + in.Stake.Name, Work: wire.JSON(cardWork{Says: w.Says})}}
			}
			return v
		}),
		Away: stake.Judging(func(in stake.Input, w card, f cardFound) stake.Verdict {
			v := stake.Verdict{Gone: !f.There}
			if f.There {
				v.Moves = []wire.Move{{Verb: "take", Text: "take card " + in.Stake.Name + " out", Work: wire.JSON(cardWork{Away: true})}}
			}
			return v
		}),
	})
)

// drawers is their sort.
type drawers struct{}

// breaks is where the line to a drawer breaks, by its folder: "2 begun", or "2 worked".
var breaks sync.Map

func (drawers) Secrets(d *declare.Declaration, name string) []string {
	return []string{declare.PlaceOf[drawer](d, "drawer", name).Key}
}

func (drawers) Line(_ context.Context, _ string, to place.To) (place.Line, error) {
	d := declare.PlaceOf[drawer](to.Declared, "drawer", to.Name)
	if string(to.Secrets[d.Key]) != "sesame" {
		return nil, fmt.Errorf("the key does not open drawer %s", to.Name)
	}
	return &drawerLine{dir: d.Folder}, nil
}

func (s drawers) Fresh(ctx context.Context, to place.To) (place.Line, func(), error) {
	line, err := s.Line(ctx, "", to)
	return line, func() { _ = line.CloseRun(ctx, "") }, err // who hangs up lets go of the drawer
}

func (drawers) Drop(string) {}

// drawerLine is a connection to a drawer.
type drawerLine struct {
	dir    string
	broken bool
}

// drawerJournal is what a drawer knows of runs.
type drawerJournal struct {
	Run   string       `json:"run"` // that has the drawer
	Steps []drawerStep `json:"steps"`
}

type drawerStep struct {
	Run    string         `json:"run"`
	Number int            `json:"number"`
	Card   string         `json:"card"`
	Before *string        `json:"before"`
	State  wire.StepState `json:"state"`
}

var errLine = errors.New("the line to the drawer broke")

func (l *drawerLine) path(card string) string { return filepath.Join(l.dir, card) }

func (l *drawerLine) journal() (j drawerJournal, err error) {
	b, err := os.ReadFile(l.path(".journal"))
	if errors.Is(err, os.ErrNotExist) {
		return j, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &j)
	}
	return j, err
}

func (l *drawerLine) keep(j drawerJournal) error {
	return os.WriteFile(l.path(".journal"), wire.JSON(j), 0o600)
}

func (l *drawerLine) breaksAt(boundary string) error {
	if at, ok := breaks.Load(l.dir); ok && at == boundary {
		breaks.Delete(l.dir)
		l.broken = true
	}
	if l.broken {
		return errLine
	}
	return nil
}

func (l *drawerLine) Usable() bool { return !l.broken }

func (l *drawerLine) Traits(context.Context) (wire.Traits, error) {
	return wire.Traits{System: "a drawer"}, nil
}

func (l *drawerLine) LastTraits(ctx context.Context) (wire.Traits, error) { return l.Traits(ctx) }

func (l *drawerLine) Survey(_ context.Context, _ string, wants func() ([]wire.Want, error)) (wire.Survey, error) {
	out := wire.Survey{Traits: wire.Traits{System: "a drawer"}}
	if l.broken {
		return out, errLine
	}
	list, err := wants()
	if err != nil {
		return out, err
	}
	for _, w := range list {
		r := wire.Reading{Name: wire.Local(w.Type, w.Name)}
		b, err := os.ReadFile(l.path(w.Name))
		switch {
		case err == nil:
			r.Found = wire.JSON(cardFound{true, string(b)})
		case errors.Is(err, os.ErrNotExist):
			r.Found = wire.JSON(cardFound{})
		default:
			r.Unread = err.Error()
		}
		if r.Was = nil; len(w.Last) > 0 {
			r.Was = r.Found
		}
		out.Readings = append(out.Readings, r)
	}
	out.Sum = string(wire.JSON(out.Readings))
	return out, nil
}

func (l *drawerLine) Open(_ context.Context, run string, _ wire.OpenAsk) (wire.OpenAnswer, error) {
	out := wire.OpenAnswer{Steps: []wire.StepRecord{}}
	j, err := l.journal()
	if err != nil {
		return out, err
	}
	if j.Run != "" && j.Run != run {
		return out, &wire.Fault{What: "another run has the drawer", Fix: "wait until it has ended"}
	}
	j.Run = run
	for i, s := range j.Steps {
		if s.State == wire.Begun { // it was cut off
			if err := l.put(s.Card, s.Before); err != nil {
				return out, err
			}
			j.Steps[i].State = wire.Back
			out.Recovered = append(out.Recovered, "took back card "+s.Card)
		}
	}
	for _, s := range j.Steps {
		if s.Run == run {
			out.Steps = append(out.Steps, wire.StepRecord{Number: s.Number, Address: "card/" + s.Card, State: s.State})
		}
	}
	return out, l.keep(j)
}

func (l *drawerLine) CloseRun(context.Context, string) error {
	j, err := l.journal()
	if err != nil {
		return err
	}
	j.Run = ""
	return l.keep(j)
}

func (l *drawerLine) Preflight(_ context.Context, _ string, steps []wire.Step) error {
	for _, s := range steps {
		if s.Name == "forbidden" {
			return &wire.Fault{What: "no card can be called forbidden", Fix: "call it otherwise"}
		}
	}
	return nil
}

func (l *drawerLine) Step(_ context.Context, run string, step wire.Step, say func(string)) (wire.StepState, error) {
	var w cardWork
	j, err := l.journal()
	if err == nil {
		err = json.Unmarshal(step.Work, &w)
	}
	if err != nil {
		return "", err
	}
	now := drawerStep{Run: run, Number: step.Number, Card: step.Name, State: wire.Begun}
	if b, err := os.ReadFile(l.path(step.Name)); err == nil {
		text := string(b)
		now.Before = &text
	}
	j.Steps = append(j.Steps, now)
	if err := l.keep(j); err != nil {
		return "", err
	}
	if err := l.breaksAt(fmt.Sprint(step.Number, " begun")); err != nil {
		return "", err
	}
	if w.Says == "torn" {
		return "", &wire.Fault{What: "the card tears", Fix: "write another"}
	}
	say("writing")
	text := &w.Says
	if w.Away {
		text = nil
	}
	if err := l.put(step.Name, text); err != nil {
		return "", err
	}
	if err := l.breaksAt(fmt.Sprint(step.Number, " worked")); err != nil {
		return "", err
	}
	j.Steps[len(j.Steps)-1].State = wire.Done
	return wire.Done, l.keep(j)
}

// put makes a card say something, or takes it out.
func (l *drawerLine) put(card string, says *string) error {
	if says == nil {
		if err := os.Remove(l.path(card)); !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	return os.WriteFile(l.path(card), []byte(*says), 0o644)
}

func (l *drawerLine) CancelStep(context.Context, string) error { return nil }

func (l *drawerLine) Confirm(context.Context, string, int) error { return nil }

func (l *drawerLine) TakeBack(_ context.Context, run string, say func(string)) error {
	j, err := l.journal()
	for i := len(j.Steps) - 1; i >= 0 && err == nil; i-- {
		if s := j.Steps[i]; s.Run == run && s.State != wire.Back {
			say("putting card " + s.Card + " back")
			err = l.put(s.Card, s.Before)
			j.Steps[i].State = wire.Back
		}
	}
	return cmp.Or(err, l.keep(j))
}

func (l *drawerLine) Journal(context.Context, string) ([]wire.JournalStep, error) {
	j, err := l.journal()
	var out []wire.JournalStep
	for _, s := range slices.Backward(j.Steps) {
		out = append(out, wire.JournalStep{Run: s.Run, Number: s.Number, Address: "card/" + s.Card, State: s.State})
	}
	return out, err
}

func (l *drawerLine) Dismiss(context.Context, string, int, string) error { return io.EOF }
