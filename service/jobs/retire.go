package jobs

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"northstake/core/declare"
	"northstake/core/near"
	"northstake/core/plan"
	"northstake/core/resolve"
	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/host/family"
	"northstake/service/contract"
	"northstake/service/store"
)

// retiring takes away one site, or all that runs made on some hosts, whether it is declared or not.
type retiring struct {
	everything
	what string // in words
	site string // "" for all that is on the hosts
	on   []string
	at   declare.Position // where it is declared still
}

func (r retiring) check(table store.Table) error {
	a := r.ask
	if table != store.Plans || a.Clear || a.Only != "" || a.Act.Do != "" || a.OneOff.Text != "" {
		return NotReady{"something is retired by a plan of its own", "ask for such a plan"}
	}
	return nil
}

func (r retiring) title() string {
	if r.ask.Retire == contract.All {
		return "retire all"
	}
	return "retire " + r.ask.Retire
}

// begin finds what is named: a site or a place, by its name, or all of the ground. Sort says which of the two
// where there are both. What is declared no more is known from the newest revision that has it.
func (r retiring) begin(ctx context.Context, j *Service, s *scope) (purpose, error) {
	named := r.ask.Retire
	sort, name, ok := strings.Cut(named, ":")
	if !ok {
		sort, name = "", named
	}
	r.clears = true
	if named == contract.All {
		r.what, r.on = "ground "+s.ground, s.d.PlaceNames()
		return r, nil
	}
	withSite, err := j.newestWith(ctx, *s, func(d *declare.Declaration) bool { return d.Sites[name] != nil })
	if err != nil {
		return r, err
	}
	withPlace, err := j.newestWith(ctx, *s, func(d *declare.Declaration) bool {
		return d.SortOf(name) != "" && (sort == "" || sort == d.SortOf(name))
	})
	if err != nil {
		return r, err
	}
	isSite, isPlace := withSite != nil && (sort == "" || sort == "site"), withPlace != nil
	switch {
	case isSite && isPlace:
		its := withPlace.SortOf(name)
		return r, NotReady{fmt.Sprintf("there is a site and a %s called %s", its, name), fmt.Sprintf("say which: site:%s or %s:%[1]s", name, its)}
	case isPlace:
		r.what, r.on = withPlace.SortOf(name)+" "+name, []string{name}
		if s.d.SortOf(name) != "" {
			r.at = s.d.PlaceAt(name)
		} else {
			s.d = withPlace
		}
	case isSite:
		r.what, r.site = "site "+name, name
		if r.on, err = j.placesWith(ctx, *s, name); err != nil {
			return r, err
		}
		if s.d.Sites[name] != nil {
			r.at = s.d.At("site", name)
			s.d = s.d.Without(name)
		}
	default:
		fix := "northstake hosts lists the hosts with their sites"
		if like := near.One(name, append(slices.Collect(maps.Keys(s.d.Sites)), s.d.PlaceNames()...)); like != "" {
			fix = fmt.Sprintf("did you mean %q?", like)
		}
		return r, NotReady{fmt.Sprintf("no site and no host is, or was, called %q on ground %s", named, s.ground), fix}
	}
	return r, nil
}

func (r retiring) extent() extent { return extent{declared: true, clears: true} }

// hosts are those that have what is retired, where no others are asked for.
func (r retiring) hosts(d *declare.Declaration) ([]string, error) {
	if len(r.ask.Hosts) == 0 {
		return r.on, nil
	}
	return r.everything.hosts(d)
}

func (r retiring) stakes(d *declare.Declaration, host string, traits wire.Traits, secrets *stake.Secrets) (resolve.Place, error) {
	if r.site == "" {
		return resolve.Place{}, nil // nothing is to be there
	}
	return r.everything.stakes(d, host, traits, secrets)
}

func (r retiring) input(in *plan.Input) {
	r.everything.input(in)
	in.Retires = r.what
}

// newestWith is the declaration of the newest revision of which something holds, nil where
// it holds of none.
func (j *Service) newestWith(ctx context.Context, s scope, holds func(*declare.Declaration) bool) (*declare.Declaration, error) {
	for number := s.revision; number > 0; number-- {
		d, err := j.Declaration(ctx, s.groundID, number)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil || holds(d) {
			return d, err
		}
	}
	return nil, nil
}

// placesWith are the declared hosts that have, or had, a site.
func (j *Service) placesWith(ctx context.Context, s scope, site string) ([]string, error) {
	var out []string
	for _, host := range s.d.HostNames() {
		applied, _, err := j.Store.Applied(ctx, s.groundID, host)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(slices.Collect(maps.Values(applied)), func(a plan.Applied) bool { return a.Site == site }) || slices.Contains(s.d.HostsOf(site), host) {
			out = append(out, host)
		}
	}
	return out, nil
}

// part is what of a host's stakes goes: all that nobody declares on it, or what a site alone
// called for when it was last declared there.
func (r retiring) part(ctx context.Context, j *Service, s scope, host string, traits wire.Traits) (func(plan.Row) bool, error) {
	if r.site == "" {
		return func(r plan.Row) bool { return r.Standing == plan.Stray }, nil
	}
	d, err := j.newestWith(ctx, s, func(d *declare.Declaration) bool { return slices.Contains(d.HostsOf(r.site), host) })
	if err != nil {
		return nil, err
	}
	its := map[string]bool{}
	if d != nil {
		with, err := resolve.OnePlace(d, host, traits, family.Layouts(traits.Family), nil)
		if err != nil {
			return nil, err
		}
		without, err := resolve.OnePlace(d.Without(r.site), host, traits, family.Layouts(traits.Family), nil)
		if err != nil {
			return nil, err
		}
		for _, st := range with.Stakes {
			its[st.Address()] = true
		}
		for _, st := range without.Stakes {
			delete(its, st.Address())
		}
	}
	return func(row plan.Row) bool {
		return row.Standing == plan.Stray && (row.Site == r.site || its[row.Address])
	}, nil
}

// cautions say that what goes is declared.
func (r retiring) cautions(host string) []stake.Note {
	if r.at.File == "" {
		return nil
	}
	return []stake.Note{{Address: host, What: r.what + " is declared still, and the next plan of all that is declared would bring it back", Fix: fmt.Sprintf("take it out of the declaration: %s:%d", r.at.File, r.at.Line)}}
}

func (r retiring) ended() purpose { return r }

func (r retiring) left(now plan.Place, part func(plan.Row) bool) string {
	var left []string
	for _, row := range now.Rows {
		if part(row) {
			left = append(left, strings.TrimPrefix(row.Address, now.Name+"/"))
		}
	}
	if len(left) == 0 {
		return "nothing that runs made here is left of " + r.what
	}
	slices.Sort(left)
	return fmt.Sprintf("of %s this is still here: %s", r.what, strings.Join(left[:min(len(left), 10)], ", ")) + andMore(len(left)-10)
}
