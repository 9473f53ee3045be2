// Package resolve works out the stakes of a host from a declaration and the
// host's traits. People declare sites; a site implies a package, a service,
// directories, content, a virtual host, ports and probes.
package resolve

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/stake/kinds"
	"northstake/core/wire"
)

// Place is what a declaration means for one place. Stakes stand in an order in
// which they can be brought about.
type Place struct {
	Stakes    []stake.Stake    `json:"stakes"`
	Probes    []wire.Probe     `json:"probes"`
	Conflicts []claim.Conflict `json:"conflicts,omitempty"`
}

// OnePlace works out the stakes and probes of a place: of a host, whose family's web servers lie as
// the layouts say. The error names what the host's platform cannot do.
func OnePlace(d *declare.Declaration, name string, traits wire.Traits, layouts map[string]wire.Layout, secrets *stake.Secrets) (Place, error) {
	if d.SortOf(name) == "" {
		return Place{}, fmt.Errorf("ground %s has no place %q", d.Ground.Name, name)
	}
	w := &stake.Wanting{D: d, Place: name, Traits: traits, Layouts: layouts, Secrets: secrets}
	stakes, err := w.Stakes()
	if err != nil {
		return Place{}, err
	}
	probes, shown := ProbesOf(d, name), kinds.Fingerprints(stakes)
	for i, p := range probes {
		if p.Scheme == wire.HTTPS {
			probes[i].Fingerprint = shown[p.Site]
		}
	}
	return Place{stakes, probes, w.Conflicts()}, nil
}

// Clashes are what excludes each other in what a declaration means for its hosts, whichever
// of some families of systems they are of: families has the layouts of each. Hosts that
// are declared alike are looked at once.
func Clashes(d *declare.Declaration, families map[string]map[string]wire.Layout) declare.Problems {
	var out declare.Problems
	seen := map[string]bool{}
	for _, host := range d.HostNames() {
		h := d.Hosts[host]
		alike := fmt.Sprint(h.Kits, d.SitesOn(host), h.Settings)
		if seen[alike] {
			continue
		}
		seen[alike] = true
		found := map[string]int{}
		first := map[string]claim.Conflict{}
		tried := 0
		for _, family := range slices.Sorted(maps.Keys(families)) {
			r, err := OnePlace(d, host, wire.Traits{Family: family}, families[family], nil)
			if err != nil {
				continue // not a family for what is declared
			}
			tried++
			for key := range r.distinct(first) {
				found[key]++
			}
		}
		for _, key := range slices.Sorted(maps.Keys(found)) {
			if c := first[key]; found[key] == tried { // else it is a matter of the family, and the plan says so
				out = append(out, d.ProblemAt(c.B.From, fmt.Sprintf("on host %s, %s", host, c.What), fmt.Sprintf("see %s:%d; %s", c.A.From.File, c.A.From.Line, c.Fix)))
			}
		}
	}
	out.Sort()
	return slices.CompactFunc(out, func(a, b declare.Problem) bool { return a.Position == b.Position })
}

// distinct are the host's conflicts, each once by its places, and notes the first of each.
func (h Place) distinct(first map[string]claim.Conflict) map[string]bool {
	out := map[string]bool{}
	for _, c := range h.Conflicts {
		key := fmt.Sprint(c.A.From, c.B.From)
		if _, known := first[key]; !known {
			first[key] = c
		}
		out[key] = true
	}
	return out
}

// ProbesOf lists the checks of the sites that a host serves: those that are
// declared, and one of / for a site that has content and declares none.
func ProbesOf(d *declare.Declaration, host string) []wire.Probe {
	var out []wire.Probe
	for _, name := range d.SitesOn(host) {
		s := d.Sites[name]
		if !s.IsServed() {
			continue
		}
		if s.Closed != "" {
			s = s.AsClosed()
		}
		base := wire.Probe{Site: name, Host: host, Endpoint: s.Listening()[0].By(askedName(d, host, s.Names[0])), Check: wire.Check{Path: "/"}}
		for _, p := range s.Probes {
			one := base
			one.Check = wire.Check(p)
			out = append(out, one)
		}
		if len(s.Probes) == 0 && s.Content != nil {
			out = append(out, base)
		}
		// Each further name is checked once: another virtual host may answer to it.
		if first := len(out) - max(len(s.Probes), 1); len(s.Probes) > 0 || s.Content != nil {
			for _, n := range s.Names[1:] {
				one := out[first]
				one.Name = askedName(d, host, n)
				out = append(out, one)
			}
		}
	}
	for _, c := range declare.Nearest[kinds.Container](d, host, "container") {
		out = append(out, probesOfContainer(c.Name, host, c.Value)...)
	}
	for i := range out {
		out[i].Status = cmp.Or(out[i].Status, 200)
	}
	return out
}

// askedName is the name by which a site is asked that has a name: of a wildcard one below it that no
// site of the host has for itself.
func askedName(d *declare.Declaration, host, name string) string {
	zone, wild := strings.CutPrefix(name, "*")
	if !wild {
		return name
	}
	taken := func(name string) bool {
		return slices.ContainsFunc(d.SitesOn(host), func(other string) bool {
			s := d.Sites[other]
			return slices.Contains(s.Names, name) || slices.Contains(s.RedirectedNames, name)
		})
	}
	label := "www"
	for i := 2; taken(label + zone); i++ {
		label = fmt.Sprintf("any%d", i)
	}
	return label + zone
}

// probesOfContainer lists the checks of a container that runs: its stake's name stands for that of
// a site.
func probesOfContainer(name, host string, c *kinds.Container) []wire.Probe {
	if c.Is == "stopped" || len(c.ReachedAt) == 0 {
		return nil
	}
	door := c.ReachedAt[0]
	base := wire.Probe{Site: wire.Local("container", name), Host: host, Endpoint: wire.Endpoint{Name: name + "." + host, Port: door.Outside}}
	at, err := netip.ParseAddr(door.At)
	if err == nil && !at.IsLoopback() {
		base.Address = door.At
	}
	var out []wire.Probe
	for _, p := range c.Probes {
		one := base
		if one.Check = wire.Check(p); len(p.From) == 0 && err == nil && at.IsLoopback() {
			one.From = []string{wire.ProbeInside}
		}
		out = append(out, one)
	}
	return out
}
