package stake

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/wire"
)

// Port says who can reach a port.
type Port struct {
	From []string `toml:"from" json:"from,omitempty" default:"everybody can reach it" example:"[\"10.0.0.0/8\"]"`
}

var _ = declare.Explain[Port](map[string]string{
	"from": "Networks from which alone it can be reached.",
})

// portText names ports, and who is let in, for people.
func portText(w wire.PortWant) string {
	s := "port " + w.Span() + "/" + w.Protocol
	if w.To > w.Port {
		s = "ports " + w.Span() + "/" + w.Protocol
	}
	if len(w.From) > 0 {
		s += " for " + strings.Join(w.From, ", ")
	}
	return s
}

var _ = Register(Kind{
	Type:  "port",
	After: []string{"firewall"},
	Settings: []declare.Setting{
		declare.Value[[]string]("ports", "Ports that are open to everybody, such as \"443/tcp\" or \"8000-8100/udp\", besides those of sites.", "", `["443/tcp"]`),
		declare.Table[Port]("port", "PORT", "Ports of which there is more to say.", `{ "5432/tcp" = { from = ["10.0.0.0/8"] } }`),
	},
	Check: checkPorts,
	Wanted: func(w *Wanting) error {
		g := wantedPorts(w)
		w.Each(func(s declare.Settings, at func(...string) declare.Position) {
			for i, p := range declare.Get[[]string](s, "ports") {
				g.want(p, nil, at("ports", strconv.Itoa(i)))
			}
			list := declare.Get[map[string]*Port](s, "port")
			for _, p := range sortedKeys(list) {
				g.want(p, list[p].From, at("port", p))
			}
		})
		return nil
	},
	Finish: finishPorts,
	Dials: func(want json.RawMessage) []int {
		w, ok := last[wire.PortWant](want)
		if !ok || w.Protocol != "tcp" || w.Last() != w.Port {
			return nil
		}
		return []int{w.Port}
	},
	Claims: Claiming(func(w wire.PortWant) []Claim {
		return []Claim{{Need: Owns, Sort: ClaimPort, What: w.Ports().String()}}
	}),
})

var _ = Judged("port", Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        Judging(judgePort),
	Follows:      true,
	Holding:      true,
	Elsewhere:    formerNetworks,
	Unwanted:     unwantedPort,
	Away:         Judging(awayPort),
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

func wantedPorts(w *Wanting) ports {
	g := gathering[ports](w, "port")
	if *g == nil {
		*g = ports{}
	}
	return *g
}

// wantPortFor wants a TCP port to be open that a site listens on.
func wantPortFor(w *Wanting, site string, port int, from declare.Position) {
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
func (g ports) overlap(w *Wanting) {
	names := g.names()
	for i, a := range names {
		for _, b := range names[i+1:] {
			wa, wb := wire.PortWant{Port: a.Port, To: a.To}, wire.PortWant{Port: b.Port, To: b.To}
			if a.Protocol != b.Protocol || wa.Last() < wb.Port || wb.Last() < wa.Port || slices.Equal(g[a].networks, g[b].networks) {
				continue
			}
			w.Refuse(Conflict{Claim{By: wire.Local("port", stakeName(a)), From: g[a].from}, Claim{By: wire.Local("port", stakeName(b)), From: g[b].from},
				fmt.Sprintf("ports %s and %s overlap, and are not for the same networks", a, b), "let them be for the same networks, or make them differ"})
		}
	}
}

// stakeName is the name of a port's stake.
func stakeName(p wire.PortSpan) string {
	w := wire.PortWant{Port: p.Port, To: p.To}
	return w.Span() + "-" + p.Protocol
}

func finishPorts(w *Wanting) {
	g := wantedPorts(w)
	g.overlap(w)
	var needs []string
	if gathering[inbound](w, "firewall").filters(w) {
		needs = w.of("firewall")
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
		w.Want(Stake{Type: "port", Name: stakeName(p), Want: wire.JSON(want), From: g[p].from, For: g[p].sites, Needs: needs, After: after})
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
	for _, p := range sortedKeys(table) {
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

// portMet is what a connection from outside has shown of a port: whether one was made at all,
// and whether it was let in, being of those for whom the port is.
func reachedFromOutside(w wire.PortWant, in Input) (asked, in_ bool, outsider bool) {
	let, asked := in.Reached[w.Port]
	if !asked || w.Last() != w.Port || w.Protocol != "tcp" {
		return false, false, false
	}
	outsider = len(w.From) > 0 && !slices.ContainsFunc(w.From, func(n string) bool { return wire.Within(in.Vantage, n) })
	return true, let, outsider
}

func judgePort(in Input, w wire.PortWant, f wire.PortFound) Verdict {
	asked, let, outsider := reachedFromOutside(w, in)
	live, by := f.Live, f.By
	switch {
	case asked && !outsider && let && f.Maybe:
		live = true // the rules close it to some, or cannot be told, and a connection gets through
	case asked && !outsider && !let && live:
		live, by = false, cmp.Or(by, "something that is not among the host's own filters")
	}
	var d differences
	d.add("open now", "yes", yesNo(live))
	d.add("open after a restart", "yes", yesNo(f.Kept))
	if len(w.From) > 0 && (f.Wider || outsider && let) {
		d.differ("open to others", "no", "yes")
	}
	unfiltered := f.NotAtBoot && len(w.From) > 0 // open to everybody it is then all the same
	if unfiltered {
		d.differ("filtered after a restart", "by "+f.Filter, f.Filter+" does not start at boot")
	}
	v := Verdict{Differences: d, Gone: !live && !f.Kept}
	if len(in.Last) == 0 && w.Protocol == "tcp" && w.Last() == w.Port && in.Stake.Site == "" && in.Traits.On(w.Port) == nil && !served(in, w.Port) {
		v.Cautions = []Note{{in.Stake.Address(), fmt.Sprintf("%s is opened, and nothing listens on it", portText(w)), "see that what is to listen there does, or leave the port shut until then"}}
	}
	if !asked {
		v.Rests = "nothing listens there: this rests on the rules alone"
		if in.Traits.On(w.Port) != nil {
			v.Rests = "no connection was tried there: this rests on the rules alone"
		}
	}
	if in.Pending && f.Filter == "" && !w.Firewall {
		v.Differences = append(d, wire.Difference{Attribute: "open in the firewall that comes", Wanted: "yes", Found: "not yet"})
		v.Moves = []wire.Move{{Verb: "open", Text: "open " + portText(w) + " in the firewall that is active by then", Because: "a package of this plan brings one",
			Work: wire.JSON(wire.PortWork{PortWant: w, Whichever: true})}}
		return v
	}
	if len(d) == 0 {
		return v
	}
	block := func(fix, what string, args ...any) {
		v.Blockers = append(v.Blockers, Note{in.Stake.Address(), fmt.Sprintf(what, args...), fix})
	}
	own := w.Firewall && (by == "" || by == wire.FirewallTable)
	closes := slices.ContainsFunc(leaving[wire.PortWant](in.Leaving, "port", in.Memo), func(l wire.PortWant) bool { return l.Ports() == w.Ports() })
	switch {
	case unfiltered:
		block(fmt.Sprintf("add service.%s = { at_boot = true } to [host.%s]", f.Filter, in.Stake.Host), "%s filters now and is not started at boot", f.Filter)
	case f.Denied != "" && (!live || !f.Kept):
		block("take that rule out, or this port: North Stake does not go over rules of others", "%s is closed by a rule in %s: %s", portText(w), f.Filter, f.Denied)
	case len(w.From) > 0 && (f.Wider || outsider && let) && !w.Firewall && !closes:
		fix := "close it there to everybody"
		if f.Filter == "" && f.By == "" {
			fix = fmt.Sprintf("add inbound = \"declared\" to [host.%s], which shuts all others out, or filter by the means of the host", in.Stake.Host)
		}
		block(fix, "%s is open to others as well, and nothing that North Stake keeps closes it", portText(w))
	case f.Filter != "" && by == "" && (!live || !f.Kept):
		verb, text := "open", fmt.Sprintf("open %s in %s, now and after restarts", portText(w), f.Where)
		switch {
		case live:
			verb, text = "keep", fmt.Sprintf("keep %s open in %s after restarts", portText(w), f.Where)
		case f.Kept:
			text = fmt.Sprintf("open %s in %s now; it is kept there already", portText(w), f.Where)
		}
		v.Moves = []wire.Move{{Verb: verb, Text: text, Work: wire.JSON(wire.PortWork{PortWant: w, Filter: f.Filter})}}
	// Where North Stake's own table filters, the firewall stake's step opens the
	// port; elsewhere the filter belongs to somebody else.
	case !live && by == wire.FirewallTable && !own, live && !f.Kept && f.KeptBy == wire.FirewallTable && !own:
		block("declare the port there as well; what this ground has left goes with northstake plan --clear", "%s is closed by %s, by which North Stake lets in what another ground on this machine declares, or what this one did before inbound was taken out", portText(w), wire.FirewallTable)
	case !live && !own:
		block("open it there: North Stake changes no rules but its own", "%s is closed by %s%s", portText(w), cmp.Or(by, "a filter on the host"), map[bool]string{true: ", to some at least, or it cannot be told from its rules"}[f.Maybe])
	case !f.Kept && f.KeptBy != "" && f.KeptBy != wire.FirewallTable:
		block("open it there: North Stake changes no rules but its own", "%s will be closed after a restart, by %s", portText(w), f.KeptBy)
	}
	return v
}

// formerNetworks is a port for those networks that it was open to and is not any more.
func formerNetworks(former, now json.RawMessage) json.RawMessage {
	was, ok := last[wire.PortWant](former)
	is, ok2 := last[wire.PortWant](now)
	if !ok || !ok2 || len(is.From) == 0 {
		return nil // everybody is let in now
	}
	var left []string
	for _, network := range was.From {
		if !slices.Contains(is.From, network) {
			left = append(left, network)
		}
	}
	if len(was.From) > 0 && len(left) == 0 {
		return nil
	}
	was.From = left
	return wire.JSON(was)
}

// served says whether a declared site listens on a port.
func served(in Input, port int) bool {
	for _, site := range of[wire.SiteWant](in.Declared, "site", in.Memo) {
		if slices.Contains(site.Listen, port) {
			return true
		}
	}
	return false
}

// unwantedPort says whether only what is declared is let in, or the port is open to other
// networks by now.
func unwantedPort(gone Stake, in Surroundings) (why, forStake string) {
	for _, d := range in.Declared {
		if name, former := strings.CutSuffix(gone.Name, Former); former && d.Local() == wire.Local("port", name) {
			w, _ := last[wire.PortWant](d.Want)
			return "only " + strings.Join(w.From, ", ") + " is let in now", d.Local()
		}
	}
	for _, d := range in.Declared {
		if d.Type == "firewall" {
			return "only what is declared is let in", d.Local()
		}
	}
	return "", ""
}

// awayPort closes ports in the firewall program where they were opened once. North Stake's
// own table lets in what it is made to.
func awayPort(_ Input, w wire.PortWant, f wire.PortFound) Verdict {
	v := Verdict{Gone: f.Filter == "" || !f.Live && !f.Kept}
	if !v.Gone {
		v.Moves = []wire.Move{{Verb: "close", Text: fmt.Sprintf("close %s in %s, now and after restarts", portText(w), cmp.Or(f.Where, f.Filter)), Work: wire.JSON(wire.PortWork{PortWant: w, Filter: f.Filter, Close: true})}}
	}
	return v
}

var armed = wire.Detail{Title: "safety", Text: "the host takes this back by itself after 60 s unless a new connection confirms it"}
