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
	"northstake/host/family"
	"northstake/service/contract"
	"northstake/service/store"
)

// retiring is what a plan takes away as a whole: one site, or all that runs made on some
// hosts.
type retiring struct {
	what  string // in words
	site  string // "" for all that is on the hosts
	hosts []string
	at    declare.Position // where it is declared still
}

// retire makes a scope that of taking away what is named: a site or a host, by its name, or
// all of the ground. Sort says which of the two where there are both. What is declared no
// more is known from the newest revision that has it.
func (j *Service) retire(ctx context.Context, s scope, named string) (scope, error) {
	sort, name, ok := strings.Cut(named, ":")
	if !ok {
		sort, name = "", named
	}
	s.clears = true
	if named == contract.All {
		s.retires = &retiring{what: "ground " + s.ground, hosts: s.d.HostNames()}
		return s, nil
	}
	withSite, err := j.newestWith(ctx, s, func(d *declare.Declaration) bool { return d.Sites[name] != nil })
	if err != nil {
		return s, err
	}
	withHost, err := j.newestWith(ctx, s, func(d *declare.Declaration) bool { return d.Hosts[name] != nil })
	if err != nil {
		return s, err
	}
	isSite, isHost := withSite != nil && sort != "host", withHost != nil && sort != "site"
	switch {
	case isSite && isHost:
		return s, NotReady{fmt.Sprintf("there is a site and a host called %s", name), fmt.Sprintf("say which: site:%s or host:%[1]s", name)}
	case isHost:
		s.retires = &retiring{what: "host " + name, hosts: []string{name}}
		if s.d.Hosts[name] != nil {
			s.retires.at = s.d.At("host", name)
		} else {
			s.d = withHost
		}
	case isSite:
		s.retires = &retiring{what: "site " + name, site: name}
		if s.retires.hosts, err = j.hostsWith(ctx, s, name); err != nil {
			return s, err
		}
		if s.d.Sites[name] != nil {
			s.retires.at = s.d.At("site", name)
			s.d = s.d.Without(name)
		}
	default:
		fix := "northstake hosts lists the hosts with their sites"
		if like := near.One(name, append(slices.Collect(maps.Keys(s.d.Sites)), s.d.HostNames()...)); like != "" {
			fix = fmt.Sprintf("did you mean %q?", like)
		}
		return s, NotReady{fmt.Sprintf("no site and no host is, or was, called %q on ground %s", named, s.ground), fix}
	}
	return s, nil
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

// hostsWith are the declared hosts that have, or had, a site.
func (j *Service) hostsWith(ctx context.Context, s scope, site string) ([]string, error) {
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

// retiresOf is what of a host's stakes goes: all that nobody declares on it, or what a site alone
// called for when it was last declared there.
func (j *Service) retiresOf(ctx context.Context, s scope, host string, traits stake.Traits) (func(plan.Row) bool, error) {
	if s.retires.site == "" {
		return func(r plan.Row) bool { return r.Standing == plan.Stray }, nil
	}
	d, err := j.newestWith(ctx, s, func(d *declare.Declaration) bool { return slices.Contains(d.HostsOf(s.retires.site), host) })
	if err != nil {
		return nil, err
	}
	its := map[string]bool{}
	if d != nil {
		with, err := resolve.OneHost(d, host, traits, family.Layouts(traits.Family), nil)
		if err != nil {
			return nil, err
		}
		without, err := resolve.OneHost(d.Without(s.retires.site), host, traits, family.Layouts(traits.Family), nil)
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
	return func(r plan.Row) bool {
		return r.Standing == plan.Stray && (r.Site == s.retires.site || its[r.Address])
	}, nil
}

// stillDeclared are cautions for what a plan takes away although it is declared.
func (s scope) stillDeclared(host string) []stake.Note {
	if s.retires == nil || s.retires.at.File == "" {
		return nil
	}
	return []stake.Note{{Address: host, What: s.retires.what + " is declared still, and the next plan of all that is declared would bring it back", Fix: fmt.Sprintf("take it out of the declaration: %s:%d", s.retires.at.File, s.retires.at.Line)}}
}

// leftOf says what is left on a host of what a run has retired.
func (s scope) leftOf(now plan.Host, only func(plan.Row) bool) string {
	var left []string
	for _, r := range now.Rows {
		if only(r) {
			left = append(left, strings.TrimPrefix(r.Address, now.Host+"/"))
		}
	}
	if len(left) == 0 {
		return "nothing that runs made here is left of " + s.retires.what
	}
	slices.Sort(left)
	return fmt.Sprintf("of %s this is still here: %s", s.retires.what, strings.Join(left[:min(len(left), 10)], ", ")) + andMore(len(left)-10)
}

// NotForgotten says that something is still there of what is to be forgotten.
type NotForgotten struct{ Left map[string]int } // stakes that runs made, by host

func (n NotForgotten) Error() string {
	var out []string
	for _, h := range slices.Sorted(maps.Keys(n.Left)) {
		out = append(out, fmt.Sprintf("%d on %s", n.Left[h], h))
	}
	return "runs brought things about that are still there: " + strings.Join(out, ", ")
}

// Forget drops the record of a ground, or of some hosts that are not declared any more. With
// regardless, what runs made there may still be there.
func (j *Service) Forget(ctx context.Context, g store.Ground, hosts []string, regardless bool) error {
	d, err := j.Declaration(ctx, g.ID, g.Newest)
	if err != nil && len(hosts) > 0 { // all of a ground goes whatever stands in it
		return err
	}
	known, err := j.Store.HostsOf(ctx, g.ID)
	if err != nil {
		return err
	}
	runs, err := j.Store.Runs(ctx, g.ID, 100)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if r.State == "queued" || r.State == "running" {
			return NotReady{fmt.Sprintf("run %d is %s", r.ID, r.State), "wait until it has ended: northstake watch " + fmt.Sprint(r.ID)}
		}
	}
	for _, h := range hosts {
		switch {
		case d.Hosts[h] != nil:
			at := d.At("host", h)
			return NotReady{fmt.Sprintf("host %s is declared", h), fmt.Sprintf("take it out of the declaration first: %s:%d", at.File, at.Line)}
		case !slices.Contains(known, h):
			return NotReady{fmt.Sprintf("nothing is known of a host %q", h), "northstake hosts lists the hosts"}
		}
	}
	if len(hosts) > 0 {
		known = hosts
	}
	left := map[string]int{}
	for _, h := range known {
		applied, _, err := j.Store.Applied(ctx, g.ID, h)
		if err != nil {
			return err
		}
		for _, a := range applied {
			if a.Made {
				left[h]++
			}
		}
	}
	if len(left) > 0 && !regardless {
		return NotForgotten{left}
	}
	for _, h := range known {
		j.Hosts.Drop(connKey(scope{groundID: g.ID}, h))
	}
	return j.Store.Forget(ctx, g.ID, hosts)
}
