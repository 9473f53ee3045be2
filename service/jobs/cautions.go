package jobs

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"northstake/core/certificate"
	"northstake/core/plan"
	"northstake/core/stake"
	"northstake/core/wire"
)

// siteCautions are what is unwise about the sites that are not as declared on a host: what
// they would show and never show, and names that lead elsewhere.
func (j *Service) siteCautions(ctx context.Context, s scope, host string, h plan.Place, traits wire.Traits) []stake.Note {
	working := map[string]bool{}
	for _, r := range h.Rows {
		if r.Site != "" && r.Standing != plan.Set {
			working[r.Site] = true
		}
	}
	var out []stake.Note
	var names []string
	for _, site := range s.d.SitesOn(host) {
		if working[site] {
			names = append(append(names, s.d.Sites[site].Names...), s.d.Sites[site].RedirectedNames...)
		}
	}
	for _, c := range s.unwise() {
		if working[c.Site] && slices.Contains(s.d.SitesOn(host), c.Site) {
			out = append(out, stake.Note{Address: host + "/" + wire.Local("site", c.Site), What: fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.What), Fix: c.Fix})
		}
	}
	out = append(out, j.certificateCautions(ctx, s, host, working)...)
	addresses := traits.Addresses
	if a := s.addressOf(host); a != "" {
		addresses = append(slices.Clone(addresses), a)
	}
	j.mu.Lock()
	mute := time.Now().Before(j.mute)
	j.mu.Unlock()
	if mute {
		return out
	}
	misled, answered := misled(ctx, net.DefaultResolver.LookupHost, host, names, addresses)
	if !answered {
		j.mu.Lock()
		j.mute = time.Now().Add(muteTime)
		j.mu.Unlock()
	}
	return append(out, misled...)
}

// certificateCautions are what is unwise about certificates that were handed over, of the sites that are not as
// declared on a host. What visitors turn away from is said where the site is judged, but for a chain that leads
// to no authority known to this system: others may know it.
func (j *Service) certificateCautions(ctx context.Context, s scope, host string, working map[string]bool) (out []stake.Note) {
	roots, err := x509.SystemCertPool()
	if err != nil {
		roots = nil
	}
	for _, site := range s.d.SitesOn(host) {
		name := s.d.Sites[site].Certificate
		if c := s.d.Certificates[name]; !working[site] || c == nil || c.IsMade() {
			continue
		}
		chain, err := j.Chain(ctx, s.ground, s.d, name)
		if err != nil {
			continue // which the site says itself
		}
		known := certificate.Judge(chain, certificate.Use{}).Mistakes
		found := certificate.Judge(chain, certificate.Use{Roots: roots})
		for _, n := range append(found.Cautions, found.Mistakes...) {
			if !slices.Contains(known, n) {
				out = append(out, stake.Note{Address: host + "/" + wire.Local("site", site), What: "certificate " + name + ": " + n.What, Fix: n.Fix})
			}
		}
	}
	return out
}

// muteTime is how long no name is asked for after no resolver answered.
const muteTime = time.Minute

// lookupTime is how long all names of a host are asked for.
const lookupTime = 1500 * time.Millisecond

// reserved are the ends of names that no server has (RFC 6761): they are known, if at all, by
// other means than a question.
var reserved = []string{"test", "example", "invalid", "localhost", "local", "internal"}

// misled says which names lead to other addresses than those of a host, or nowhere, and whether
// there was an answer at all. Lookup asks the resolver of this service.
func misled(ctx context.Context, lookup func(context.Context, string) ([]string, error), host string, names, addresses []string) (out []stake.Note, answered bool) {
	ctx, cancel := context.WithTimeout(ctx, lookupTime)
	defer cancel()
	for _, a := range slices.Clone(addresses) { // a host may be known by a name
		if net.ParseIP(a) == nil {
			if more, err := lookup(ctx, a); err == nil {
				addresses = append(addresses, more...)
			}
		}
	}
	var mu sync.Mutex
	answered = len(names) == 0
	say := func(name, what, fix string) {
		mu.Lock()
		defer mu.Unlock()
		out = append(out, stake.Note{Address: host, What: fmt.Sprintf("name %s %s, asked of this service's resolver", name, what), Fix: fix})
	}
	limit := make(chan struct{}, 16)
	var all sync.WaitGroup
	for _, n := range names {
		if strings.HasPrefix(n, "*") {
			continue
		}
		all.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			found, err := lookup(ctx, n)
			var answer *net.DNSError
			if err == nil || errors.As(err, &answer) && answer.IsNotFound {
				mu.Lock()
				answered = true
				mu.Unlock()
			}
			end := n[strings.LastIndexByte(n, '.')+1:]
			switch {
			case errors.As(err, &answer) && answer.IsNotFound && !slices.Contains(reserved, end):
				say(n, "does not resolve", "add it to the zone, or take it out: visitors do not find the site by it")
			case err != nil: // nobody answered, which says nothing of the name
			case !slices.ContainsFunc(found, func(a string) bool { return slices.Contains(addresses, a) }):
				say(n, fmt.Sprintf("resolves to %s, and %s is at %s", strings.Join(found, ", "), host, strings.Join(addresses, ", ")), "correct the zone, or the name; where something before the host passes requests on, this is as it should be")
			}
		})
	}
	all.Wait()
	slices.SortFunc(out, func(a, b stake.Note) int { return cmp.Compare(a.What, b.What) })
	return out, answered
}
