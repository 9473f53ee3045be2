package kinds

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// Port says who can reach a port.
type Port struct {
	From []string `toml:"from" json:"from,omitempty" default:"everybody can reach it" example:"[\"10.0.0.0/8\"]"`
}

var _ = declare.Explain[Port](map[string]string{
	"from": "Networks from which alone it can be reached.",
})

var _ = stake.Register(stake.Kind{
	Type:  "port",
	After: []string{"firewall"},
	Settings: []declare.Setting{
		declare.Value[[]string]("ports", "Ports that are open to everybody, such as \"443/tcp\" or \"8000-8100/udp\", besides those of sites.", "", `["443/tcp"]`),
		declare.Table[Port]("port", "PORT", "Ports of which there is more to say.", `{ "5432/tcp" = { from = ["10.0.0.0/8"] } }`),
	},
	Check: checkPorts,
	Wanted: func(w *stake.Wanting) error {
		g := wantedPorts(w)
		w.Each(func(s declare.Settings, at func(...string) declare.Position) {
			for i, p := range declare.Get[[]string](s, "ports") {
				g.want(p, nil, at("ports", strconv.Itoa(i)))
			}
			list := declare.Get[map[string]*Port](s, "port")
			for _, p := range stake.SortedKeys(list) {
				g.want(p, list[p].From, at("port", p))
			}
		})
		return nil
	},
	Finish: finishPorts,
	Dials: func(want json.RawMessage) []int {
		w, ok := stake.Decoded[wire.PortWant](want)
		if !ok || w.Protocol != "tcp" || w.Last() != w.Port {
			return nil
		}
		return []int{w.Port}
	},
	Claims: stake.Claiming(func(w wire.PortWant) []claim.Claim {
		return []claim.Claim{{Need: claim.Owns, Sort: claim.Port, What: w.Ports().String()}}
	}),
})

// wantedPort is where ports are declared, and the sites that alone call for them.
type wantedPort struct {
	from     declare.Position
	sites    []string
	networks []string // that alone are let in
}

// ports is what is gathered of ports.
type ports map[wire.PortSpan]*wantedPort

// want wants ports as a declaration writes them; lint has read them.
func (g ports) want(written string, networks []string, from declare.Position) {
	if w, ok := wire.ParsePorts(written); ok {
		g[w.Ports()] = &wantedPort{from: from, networks: networks}
	}
}

func wantedPorts(w *stake.Wanting) ports {
	g := stake.Gathering[ports](w, "port")
	if *g == nil {
		*g = ports{}
	}
	return *g
}

// wantPortFor wants a TCP port to be open that a site listens on.
func wantPortFor(w *stake.Wanting, site string, port int, from declare.Position) {
	g, key := wantedPorts(w), wire.PortSpan{Protocol: "tcp", Port: port}
	switch p := g[key]; {
	case p == nil:
		g[key] = &wantedPort{from: from, sites: []string{site}}
	case len(p.sites) > 0:
		p.sites = append(p.sites, site)
	}
}

// names lists the ports, sorted.
func (g ports) names() []wire.PortSpan { return slices.SortedFunc(maps.Keys(g), wire.PortSpan.Compare) }

// open lists the ports, sorted, one for each network that alone is let in.
func (g ports) open() []wire.PortWant {
	var out []wire.PortWant
	for _, p := range g.names() {
		w := wire.PortWant{Port: p.Port, To: p.To, Protocol: p.Protocol}
		for _, network := range slices.Sorted(slices.Values(g[p].networks)) {
			w.From = []string{network}
			out = append(out, w)
		}
		if len(g[p].networks) == 0 {
			out = append(out, w)
		}
	}
	return out
}

// overlap notes ports that are for some networks in one place and for others in another.
func (g ports) overlap(w *stake.Wanting) {
	names := g.names()
	for i, a := range names {
		for _, b := range names[i+1:] {
			wa, wb := wire.PortWant{Port: a.Port, To: a.To}, wire.PortWant{Port: b.Port, To: b.To}
			if a.Protocol != b.Protocol || wa.Last() < wb.Port || wb.Last() < wa.Port || slices.Equal(g[a].networks, g[b].networks) {
				continue
			}
			w.Refuse(claim.Conflict{A: claim.Claim{By: wire.Local("port", stakeName(a)), From: g[a].from}, B: claim.Claim{By: wire.Local("port", stakeName(b)), From: g[b].from},
				What: fmt.Sprintf("ports %s and %s overlap, and are not for the same networks", a, b), Fix: "let them be for the same networks, or make them differ"})
		}
	}
}

// stakeName is the name of a port's stake.
func stakeName(p wire.PortSpan) string {
	w := wire.PortWant{Port: p.Port, To: p.To}
	return w.Span() + "-" + p.Protocol
}

func finishPorts(w *stake.Wanting) {
	g := wantedPorts(w)
	g.overlap(w)
	var needs []string
	if stake.Gathering[inbound](w, "firewall").filters(w) {
		needs = w.Locals("firewall")
	}
	var after []string
	for _, p := range wire.FirewallPrograms {
		if local := wire.Local("package", p); w.Wants(local) {
			after = append(after, local)
		}
		if wantsService(w, p) {
			after = append(after, wire.Local("service", p))
		}
	}
	for _, p := range g.names() {
		want := wire.PortWant{Port: p.Port, To: p.To, Protocol: p.Protocol, From: g[p].networks, Firewall: len(needs) > 0}
		w.Want(stake.Stake{Type: "port", Name: stakeName(p), Want: wire.JSON(want), From: g[p].from, For: g[p].sites, Needs: needs, After: after})
	}
}

func checkPorts(c *check.Checker, s declare.Settings, at []string) {
	table := declare.Get[map[string]*Port](s, "port")
	for i, p := range declare.Get[[]string](s, "ports") {
		checkPort(c, p, check.At(at, "ports", strconv.Itoa(i)))
		if table[p] != nil {
			c.Say(check.At(at, "port", p), fmt.Sprintf("port %s stands in ports as well", p), "keep one of the two")
		}
	}
	for _, p := range stake.SortedKeys(table) {
		here := check.At(at, "port", p)
		checkPort(c, p, here)
		for i, n := range table[p].From {
			c.Network(n, check.At(here, "from", strconv.Itoa(i)))
		}
		if c.Written(check.At(here, "from")...) && len(table[p].From) == 0 {
			c.Say(check.At(here, "from"), "a port for no network is open to nobody", "name a network, or write the port into ports")
		}
	}
}

func checkPort(c *check.Checker, p string, at []string) {
	if what, fix := form.Ports(p); what != "" {
		c.Say(at, what, fix)
	}
}
