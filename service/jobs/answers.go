package jobs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"northstake/core/declare"
	"northstake/core/plan"
	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/host/probe"
	"northstake/service/place"
	"northstake/service/store"
)

// askBeside begins to ask a host's sites as their visitors do, as far as they declare what is to be
// answered: from inside the host, and from the service. What other hosts would be answered is left to
// the checks that are asked for: none of them is to hold up this look.
func (j *Service) askBeside(ctx context.Context, s scope, conn place.Line, host string, probes []wire.Probe) func() []probe.Result {
	var near []wire.Probe
	for _, p := range probes {
		p.From = slices.DeleteFunc(slices.Clone(p.Places()), func(place string) bool {
			return place != wire.ProbeInside && place != wire.ProbeOutside
		})
		if len(p.From) > 0 {
			near = append(near, p)
		}
	}
	if len(near) == 0 {
		return func() []probe.Result { return nil }
	}
	done := make(chan []probe.Result, 1)
	go func() { done <- j.probeEach(ctx, s, conn, near, s.addressOf(host)) }()
	return func() []probe.Result { return <-done }
}

// startPatience is how long a server that runs may take until it listens.
const startPatience = 2 * time.Second

// askAgain asks the sites of a host once more of which nothing listened while their server runs: one
// that is just being started, by somebody else, takes a moment.
func (j *Service) askAgain(ctx context.Context, s scope, conn place.Line, l *look) {
	for deadline := time.Now().Add(startPatience); ctx.Err() == nil && time.Now().Before(deadline); _ = store.Pause(ctx, probePause) {
		refused := slices.DeleteFunc(slices.Clone(l.answers), func(a probe.Result) bool { return !a.Refused() })
		if rows, _ := answered(l.host, refused, nil, time.Time{}); rows == nil {
			return
		}
		l.answers = j.askBeside(ctx, s, conn, l.host.Name, l.probes)()
	}
}

// Visits to a host, at once and in all: of what is not visited in time nothing is said.
const (
	mostVisits = 16
	visitLimit = 5 * time.Second
)

// visitBeside begins to visit a host from the service: on each of some ports of its address each of the sites
// there, by each of its names, for the mark that its own text alone answers with. What it returns are the
// sites in whose place somebody else answers; where nobody does, the ports tell. Of a site that declares what
// is answered outside, that is asked and not this: there something else may stand before it on purpose.
func (j *Service) visitBeside(ctx context.Context, h *declare.Host, r *resolved, ports []int) func() []elsewhere {
	type visit struct {
		wire.SiteVisit
		name string
		port int
	}
	var visits []visit
	for _, port := range ports {
		for _, v := range r.visits {
			if !v.At.On(h.Address, port) || slices.ContainsFunc(r.host.Probes, func(p wire.Probe) bool {
				return p.Site == v.Site && slices.Contains(p.Places(), wire.ProbeOutside)
			}) {
				continue
			}
			for _, name := range v.Names {
				visits = append(visits, visit{v, name, port})
			}
		}
	}
	ctx, cancel := context.WithTimeout(ctx, visitLimit)
	found := make([]*elsewhere, len(visits))
	var next atomic.Int64
	var wg sync.WaitGroup
	for range min(mostVisits, len(visits)) {
		wg.Go(func() {
			for i := int(next.Add(1) - 1); i < len(visits) && ctx.Err() == nil; i = int(next.Add(1) - 1) {
				v := visits[i]
				limited, cancel := context.WithTimeout(ctx, dialLimit)
				own, status, err := probe.Visit(limited, wire.Endpoint{Scheme: v.At.Scheme(v.port), Name: v.name, Address: h.Address, Port: v.port}, v.SiteVisit)
				cancel()
				var other *probe.OtherCertificate
				if err == nil && !own || errors.As(err, &other) {
					found[i] = &elsewhere{v.Site, v.name, v.port, status}
				}
			}
		})
	}
	return func() (out []elsewhere) {
		wg.Wait()
		cancel()
		for _, e := range found {
			if e != nil {
				out = append(out, *e)
			}
		}
		return out
	}
}

// elsewhere is a site in whose place somebody else answers who comes from outside, by one of its names.
type elsewhere struct {
	site, name   string
	port, status int
}

// answered are the rows of a host with what its sites answered: one that lies there as declared and
// answers otherwise is not as declared, whatever its files say. A check that could not be made says
// nothing, and one that got no answer in time that nobody knows. Led are the sites whose visitors from outside
// somebody else answers. There are no rows where nothing is
// answered otherwise. Otherwise are the sites that would be as declared but for that.
func answered(h plan.Place, answers []probe.Result, led []elsewhere, now time.Time) (rows []plan.Row, otherwise []stake.Note) {
	for _, a := range answers {
		if a.OK || !a.Made() {
			continue
		}
		i := slices.IndexFunc(h.Rows, func(r plan.Row) bool {
			return r.Address == h.Name+"/"+wire.Local("site", a.Site) || r.Address == h.Name+"/"+a.Site
		})
		if i < 0 || explained(h, h.Rows[i], a) {
			continue
		}
		if rows == nil {
			rows = slices.Clone(h.Rows)
		}
		switch r := &rows[i]; {
		case strings.Contains(a.Error, "no answer in") && r.Standing == plan.Set:
			r.Standing, r.Reason = plan.Unread, fmt.Sprintf("asked for %s at port %d from %s: %s", a.Path, a.Port, a.From, a.Words())
		case r.Standing == plan.Set || r.Standing == plan.Shifted:
			if r.Standing == plan.Set {
				r.ShiftedAt = now
				otherwise = append(otherwise, stake.Note{Address: r.Address, What: fmt.Sprintf("what lies there is as declared, and %s at port %d is answered otherwise from %s: %s", a.Path, a.Port, a.From, a.Words()), Fix: "no step of this plan changes that; look at what answers there: another virtual host, another program, what the server includes"})
			}
			r.Standing = plan.Shifted
			r.Differences = append(slices.Clone(r.Differences), wire.Difference{Attribute: fmt.Sprintf("answers %s at port %d from %s", a.Path, a.Port, a.From), Wanted: "as its probe says", Found: a.Words()})
		}
	}
	told := map[string]bool{} // sites, by the first of their names alone
	for _, e := range led {
		i := slices.IndexFunc(h.Rows, func(r plan.Row) bool { return r.Address == h.Name+"/"+wire.Local("site", e.site) })
		if i < 0 || h.Rows[i].Standing != plan.Set {
			continue
		}
		if rows == nil {
			rows = slices.Clone(h.Rows)
		}
		r := &rows[i]
		r.Standing, r.ShiftedAt = plan.Shifted, now
		r.Differences = append(slices.Clone(r.Differences), wire.Difference{Attribute: fmt.Sprintf("who answers %s at port %d from outside", e.name, e.port), Wanted: "the site, as on the host itself", Found: fmt.Sprintf("somebody else, with %d", e.status)})
		if told[e.site] {
			continue
		}
		told[e.site] = true
		otherwise = append(otherwise, stake.Note{Address: r.Address, What: fmt.Sprintf("%s answers on the host itself, and from outside somebody else does at port %d, with %d", e.name, e.port, e.status),
			Fix: "look for a rule on the host that leads the port elsewhere (nft list ruleset), or for what stands before the host; if that belongs there, declare a probe from outside"})
	}
	return rows, otherwise
}

// explained says whether what a site does not answer follows from something else that is told of: a
// part of it, or what it shares with others and that changes with them, such as the server's service.
// What is declared and not applied yet, or waits, has nothing to answer.
func explained(h plan.Place, site plan.Row, a probe.Result) bool {
	return slices.ContainsFunc(h.Rows, func(r plan.Row) bool {
		if r.Address == site.Address || r.Standing == plan.Set || r.Standing == plan.Stray {
			return false
		}
		kind, err := stake.KindOf(r.Type)
		return r.Site == a.Site && a.Site != "" || r.Site == "" && err == nil && kind.Follows
	})
}
