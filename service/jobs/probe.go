package jobs

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"northstake/core/near"
	"northstake/core/resolve"
	"northstake/core/wire"
	"northstake/host/probe"
	"northstake/service/contract"
	"northstake/service/place"
	"northstake/service/store"
)

func (h *placeRun) probeAll(ctx context.Context, probes []wire.Probe) ([]probe.Result, *probe.Result) {
	address := h.s.addressOf(h.doc.Place)
	patience := probePatience
	if h.went {
		patience = bootPatience
	}
	deadline := time.Now().Add(patience)
	for {
		results := h.j.probeEach(ctx, h.s, h.conn, probes, address)
		var bad *probe.Result
		for i := range results {
			if h.worse(results[i]) {
				bad = &results[i]
				break
			}
		}
		if bad == nil || time.Now().After(deadline) || ctx.Err() != nil {
			return results, bad
		}
		_ = store.Pause(ctx, probePause)
	}
}

// probeEach makes each check from each of its places: over the connection inside the host, by
// the service outside, and by the rods of other hosts.
func (j *Service) probeEach(ctx context.Context, s scope, conn place.Line, probes []wire.Probe, address string) []probe.Result {
	var asked []probe.Asked
	for _, p := range probes {
		for _, place := range p.Places() {
			a := probe.Asked{Probe: p, From: place, At: address}
			if place == wire.ProbeInside {
				a.At = loopback
			}
			asked = append(asked, a)
		}
	}
	results := make([]probe.Result, len(asked))
	var wg sync.WaitGroup
	for i, a := range asked {
		wg.Go(func() {
			var err error
			switch a.From {
			case wire.ProbeOutside:
				if container, engine := s.d.InContainer(a.Probe.Host); container != "" && a.At == "" {
					results[i], err = j.probeContainer(ctx, s, conn, engine, a)
					break
				}
				results[i] = probe.Fetch(ctx, a)
			case wire.ProbeInside:
				results[i], err = probeOver(ctx, conn, a)
			default:
				err = j.over(ctx, s, a.From, func(other place.Line, _ access) (err error) {
					results[i], err = probeOver(ctx, other, a)
					return err
				})
			}
			if err != nil {
				results[i] = probe.Failed(a.Probe, a.From, err)
			}
		})
	}
	wg.Wait()
	return results
}

// probeOver makes a check on a place, over a line to it, nil where there is none.
func probeOver(ctx context.Context, line place.Line, a probe.Asked) (probe.Result, error) {
	from, visits := line.(place.Visiting)
	if !visits {
		return probe.Result{}, errNoWayIn
	}
	return from.Probe(ctx, a)
}

// probeContainer makes a check of a host that is a container, at the address that it has on its
// engine's network: only the machine of the engine is sure to get there.
func (j *Service) probeContainer(ctx context.Context, s scope, conn place.Line, engine string, a probe.Asked) (r probe.Result, err error) {
	if conn == nil {
		return r, errNoWayIn
	}
	traits, err := conn.LastTraits(ctx)
	if err != nil {
		return r, err
	}
	for _, address := range traits.Addresses {
		if ip, err := netip.ParseAddr(address); err == nil && !ip.IsLoopback() && ip.Is4() {
			a.At = address
			break
		}
	}
	if a.At == "" {
		return r, errors.New("the container has no address of its own: declare the host's address")
	}
	if engine == "" {
		return probe.Fetch(ctx, a), nil
	}
	err = j.over(ctx, s, engine, func(on place.Line, _ access) (err error) {
		r, err = probeOver(ctx, on, a)
		return err
	})
	return r, err
}

const loopback = "127.0.0.1"

var errNoWayIn = errors.New("the host could not be reached")

// NotProbed says what is wrong with what was asked of a check.
type NotProbed struct{ What, Fix string }

func (n NotProbed) Error() string { return n.What }

// Probe makes the checks of a ground's sites, each from its places, or of one URL once.
func (j *Service) Probe(ctx context.Context, g store.Ground, ask contract.ProbeAsk) ([]probe.Result, error) {
	s, err := j.scope(ctx, g.ID, g.Name, g.Newest, ask.SudoPasswords)
	if err != nil {
		return nil, err
	}
	if ask.Once.URL != "" {
		return j.probeOnce(ctx, s, ask)
	}
	names, err := s.d.Choose(ask.Hosts)
	if err != nil {
		return nil, err
	}
	if ask.Site != "" {
		if s.d.Sites[ask.Site] == nil {
			return nil, NotProbed{fmt.Sprintf("no site is called %q", ask.Site), near.DidYouMean(ask.Site, s.d.SiteNames())}
		}
		names = slices.DeleteFunc(slices.Clone(names), func(h string) bool { return !slices.Contains(s.d.HostsOf(ask.Site), h) })
	}
	if err := needPasswords(s.d, names, ask.SudoPasswords); err != nil {
		return nil, err
	}
	all := make([][]probe.Result, len(names))
	var wg sync.WaitGroup
	for i, name := range names {
		wg.Go(func() { all[i] = j.probeHost(ctx, s, name, ask.Site) })
	}
	wg.Wait()
	out := []probe.Result{}
	for _, r := range all {
		out = append(out, r...)
	}
	return out, nil
}

// probeOnce checks a URL from the places that are named.
func (j *Service) probeOnce(ctx context.Context, s scope, ask contract.ProbeAsk) ([]probe.Result, error) {
	p, err := ask.Once.Probe()
	if err != nil {
		return nil, NotProbed{err.Error(), "northstake probe --help says what can be asked"}
	}
	var hosts []string
	for _, place := range p.From {
		if place == wire.ProbeOutside {
			continue
		}
		if s.d.Hosts[place] == nil {
			return nil, NotProbed{fmt.Sprintf("no host is called %q", place), near.DidYouMean(place, append(s.d.HostNames(), wire.ProbeOutside))}
		}
		hosts = append(hosts, place)
	}
	if err := needPasswords(s.d, hosts, ask.SudoPasswords); err != nil {
		return nil, err
	}
	return j.probeEach(ctx, s, nil, []wire.Probe{p}, p.Address), nil
}

// probeHost checks one host's sites; when the host cannot be reached over SSH
// its sites are checked from outside all the same.
func (j *Service) probeHost(ctx context.Context, s scope, name, site string) []probe.Result {
	address := s.addressOf(name)
	probes := slices.DeleteFunc(resolve.ProbesOf(s.d, name), func(p wire.Probe) bool { return site != "" && p.Site != site })
	if len(probes) == 0 {
		return nil
	}
	var results []probe.Result
	err := j.over(ctx, s, name, func(conn place.Line, _ access) error {
		if _, err := conn.Traits(ctx); err != nil { // is the line still there?
			return err
		}
		results = j.probeEach(ctx, s, conn, probes, address)
		return nil
	})
	if err == nil {
		return results
	}
	results = j.probeEach(ctx, s, nil, probes, address)
	for i := range results {
		if results[i].From == wire.ProbeInside {
			results[i] = probe.Failed(results[i].Probe, wire.ProbeInside, err)
		}
	}
	return results
}
