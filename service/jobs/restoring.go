package jobs

import (
	"context"
	"fmt"

	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/service/store"
)

// restoring puts back what has shifted. What is only declared by now stays due.
type restoring struct {
	everything
	over bool
}

func (r restoring) check(table store.Table) error {
	if r.ask.Only != "shifted" {
		return NotReady{fmt.Sprintf("nothing is known that is called %q", r.ask.Only), "a plan is of all that is declared, or of what has shifted"}
	}
	return r.planned(table)
}

func (r restoring) title() string { return string(r.ask.Only) }

func (r restoring) begin(_ context.Context, _ *Service, s *scope) (purpose, error) {
	r.everything = r.of(*s)
	return r, nil
}

func (r restoring) extent() extent {
	return extent{declared: true, sound: true, clears: r.clears, former: true}
}

func (r restoring) part(context.Context, *Service, scope, string, wire.Traits) (func(plan.Row) bool, error) {
	if r.over {
		return nil, nil
	}
	return func(row plan.Row) bool { return row.Standing == plan.Shifted }, nil
}

func (r restoring) input(in *plan.Input) {
	r.everything.input(in)
	in.Restores = true
}

func (r restoring) ended() purpose {
	r.over = true
	return r
}
