package jobs

import (
	"context"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/service/contract"
	"northstake/service/store"
)

// oneOff brings about what nobody declares: its stakes stand beside those of the revision, and they alone
// are planned.
type oneOff struct {
	everything
	over bool
}

func (o oneOff) check(table store.Table) error {
	if o.ask.Only != "" {
		return NotReady{"something is brought about by itself, without what is declared", "ask for one of the two"}
	}
	return o.planned(table)
}

func (o oneOff) title() string { return "one-off" }

func (o oneOff) begin(ctx context.Context, j *Service, s *scope) (p purpose, err error) {
	o.everything = o.of(*s)
	s.d, err = j.withOneOff(ctx, s.groundID, s.revision, o.ask.OneOff)
	return o, err
}

func (o oneOff) extent() extent {
	return extent{declared: true, sound: true, clears: o.clears}
}

func (o oneOff) part(context.Context, *Service, scope, string, wire.Traits) (func(plan.Row) bool, error) {
	if o.over {
		return nil, nil
	}
	return func(r plan.Row) bool { return r.From.File == declare.OneOff }, nil
}

func (o oneOff) ended() purpose {
	o.over = true
	return o
}

// withOneOff is a revision's declaration with the stakes of a one-off.
func (j *Service) withOneOff(ctx context.Context, groundID int64, revision int, o contract.OneOff) (*declare.Declaration, error) {
	r, err := j.Store.Revision(ctx, groundID, revision)
	if err != nil {
		return nil, err
	}
	sources, err := r.Texts()
	if err != nil {
		return nil, err
	}
	m, err := r.Files()
	if err != nil {
		return nil, err
	}
	m.Files = append(m.Files, o.Files...)
	d, problems := lint.ParseIn(r.Words, append(sources, declare.Source{Name: declare.OneOff, Text: o.Text}), &m)
	if len(problems) > 0 {
		return nil, problems
	}
	return d, nil
}
