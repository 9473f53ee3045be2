package jobs

import (
	"context"

	"northstake/core/declare"
	"northstake/core/plan"
	"northstake/core/resolve"
	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/host/family"
	"northstake/service/contract"
	"northstake/service/store"
)

// purpose is what a survey, a plan or a run is for. Each sort is a type in a file of its own; where one does
// not say otherwise it is as everything, which is all that is declared.
type purpose interface {
	// check refuses what is asked for together and does not go together.
	check(table store.Table) error
	// title is what a plan of it is called, "" for one of all that is declared.
	title() string
	// begin works out what it is about before any host is looked at. It may give the scope another
	// declaration than that of the revision.
	begin(ctx context.Context, j *Service, s *scope) (purpose, error)
	// extent says how far it goes.
	extent() extent
	// hosts are those that it is about.
	hosts(d *declare.Declaration) ([]string, error)
	// stakes are those that it is about on a host.
	stakes(d *declare.Declaration, host string, traits wire.Traits, secrets *stake.Secrets) (resolve.Place, error)
	// part is what is planned of all that is looked at on a host, nil for all of it.
	part(ctx context.Context, j *Service, s scope, host string, traits wire.Traits) (func(plan.Row) bool, error)
	// input adds to what a plan is worked out from.
	input(in *plan.Input)
	// cautions are what is to be said of it before it is carried out on a host.
	cautions(host string) []stake.Note
	// ended is what a host is looked at for, once it has been carried out there.
	ended() purpose
	// left says what is left on a host of what was to go, part of all that stands there; "" where nothing
	// is to be said of that.
	left(now plan.Place, part func(plan.Row) bool) string
}

// extent is how far a purpose goes.
type extent struct {
	whole    bool // all that is declared is to be as declared
	again    bool // it comes to the same each time, so that what is worked out for it can be kept
	declared bool // it is about what is declared, and how that stands is noted
	sound    bool // what is declared has to be sound by what this release knows
	clears   bool // what nobody declares any more is taken away
	former   bool // what has shifted goes back to what it was
}

// purposeOf is what was asked for.
func purposeOf(ask contract.Ask) purpose {
	all := everything{ask: ask}
	switch {
	case len(ask.Renew) > 0:
		return renewing{everything: all}
	case ask.Retire != "":
		return retiring{everything: all}
	case ask.Act.Do != "":
		return acting{everything: all, act: ask.Act}
	case ask.OneOff.Text != "":
		return oneOff{everything: all}
	case ask.Only != "":
		return restoring{everything: all}
	}
	return all
}

// Title is what a survey or plan is for, beside what is declared.
func Title(t store.Task) string {
	ask, err := t.Asked()
	if err != nil {
		return ""
	}
	return purposeOf(ask).title()
}

// everything is a survey or plan of all that is declared. With clears, what runs brought about and nobody
// declares any more goes with it.
type everything struct {
	ask    contract.Ask
	clears bool
}

func (e everything) check(table store.Table) error {
	if table != store.Plans && e.ask.Clear {
		return errClears
	}
	return nil
}

// planned refuses what goes with a plan of all that is declared alone, and a survey.
func (e everything) planned(table store.Table) error {
	switch {
	case table != store.Plans:
		return NotReady{"a survey is of what is declared", "ask for a plan"}
	case e.ask.Clear:
		return errClears
	}
	return nil
}

var errClears = NotReady{"what is not declared any more is taken away by a plan of all that is declared", "ask for such a plan"}

func (e everything) title() string { return "" }

func (e everything) begin(_ context.Context, _ *Service, s *scope) (purpose, error) {
	return e.of(*s), nil
}

// of is what is asked for of a ground, which may have what nobody declares any more go with each plan.
func (e everything) of(s scope) everything {
	e.clears = s.table == store.Plans && (e.ask.Clear || s.d.Ground.NoLongerDeclared == wire.Removed)
	return e
}

func (e everything) extent() extent {
	return extent{whole: true, again: !e.clears, declared: true, sound: true, clears: e.clears}
}

func (e everything) hosts(d *declare.Declaration) ([]string, error) { return d.Choose(e.ask.Hosts) }

func (e everything) stakes(d *declare.Declaration, host string, traits wire.Traits, secrets *stake.Secrets) (resolve.Place, error) {
	return resolve.OnePlace(d, host, traits, family.Layouts(traits.Family), secrets)
}

func (e everything) part(context.Context, *Service, scope, string, wire.Traits) (func(plan.Row) bool, error) {
	return nil, nil
}

func (e everything) input(in *plan.Input) { in.Clears, in.Removing = e.clears, e.ask.Removing }

func (e everything) cautions(string) []stake.Note { return nil }

func (e everything) ended() purpose { return e }

func (e everything) left(plan.Place, func(plan.Row) bool) string { return "" }
