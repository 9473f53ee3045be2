package jobs

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"northstake/core/declare"
	"northstake/core/plan"
	"northstake/core/stake/kinds"
	"northstake/core/wire"
	"northstake/service/store"
)

// renewing brings certificates that were made anew to where they are shown, and nothing else: what is declared
// otherwise besides stays due, and what was changed by hand stays as it is.
type renewing struct {
	everything
	over bool
}

func (r renewing) check(table store.Table) error {
	if r.ask.Only != "" || r.ask.Clear || r.ask.Retire != "" || r.ask.Act.Do != "" || r.ask.OneOff.Text != "" {
		return NotReady{"certificates are brought to where they are shown by themselves", "leave the rest to a plan of its own"}
	}
	return r.planned(table)
}

func (r renewing) title() string { return "renewal" }

func (r renewing) begin(_ context.Context, _ *Service, s *scope) (purpose, error) {
	for _, name := range r.ask.Renew {
		if s.d.Certificates[name] == nil {
			return r, NotReady{fmt.Sprintf("the ground declares no certificate called %q", name), "northstake certificates lists them"}
		}
	}
	return r, nil
}

func (r renewing) extent() extent { return extent{declared: true, sound: true} }

// hosts are those of the sites that show one of the certificates.
func (r renewing) hosts(d *declare.Declaration) ([]string, error) {
	among, err := r.everything.hosts(d)
	if err != nil {
		return nil, err
	}
	shows := map[string]bool{}
	for _, name := range r.ask.Renew {
		for _, site := range d.UsersOf(name) {
			for _, host := range d.HostsOf(site) {
				shows[host] = true
			}
		}
	}
	return slices.DeleteFunc(slices.Clone(among), func(host string) bool { return !shows[host] }), nil
}

// part are the sites of which nothing but their certificate is wanted otherwise than it was.
func (r renewing) part(ctx context.Context, j *Service, s scope, host string, traits wire.Traits) (func(plan.Row) bool, error) {
	if r.over {
		return nil, nil
	}
	h, err := r.stakes(s.d, host, traits, j.Secrets(ctx, s.d, s.ground, host))
	if err != nil {
		return nil, err
	}
	applied, _, err := j.Store.Applied(ctx, s.groundID, host)
	if err != nil {
		return nil, err
	}
	was := map[string]json.RawMessage{}
	for local, a := range applied {
		was[local] = a.Want
	}
	renewed := kinds.Renewed(h.Stakes, was, r.ask.Renew)
	goes := map[string]bool{}
	return func(row plan.Row) bool { // of a site before what shows its certificate, too
		local := wire.Local(row.Type, row.Name)
		site := renewed[local]
		goes[local] = site != "" && row.Standing == plan.Due && (site == local || goes[site])
		return goes[local]
	}, nil
}

func (r renewing) ended() purpose {
	r.over = true
	return r
}
