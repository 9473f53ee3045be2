package stake

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
)

// Port says who can reach a port.
type Port struct {
	From []string `toml:"from" json:"from,omitempty" doc:"Networks from which alone it can be reached." default:"everybody can reach it" example:"[\"10.0.0.0/8\"]"`
}

// PortWant is a port, or the ports from Port to To, that can be reached from
// outside: from the networks in From alone where there are any.
type PortWant struct {
	Port     int      `json:"port"`
	To       int      `json:"to,omitempty"` // the last one, 0 for a single port
	Protocol string   `json:"protocol"`
	From     []string `json:"from,omitempty"`
	Firewall bool     `json:"firewall,omitempty"` // North Stake's own table opens it
}

// PortFound says whether every filter on the host lets the port in, now and
// after a restart. By names what closes it, now or, as KeptBy, after a restart; Maybe says
// that it closes it to some, or that this cannot be told from the rules. Filter is the
// firewall program that is active on the host, where one is, Where the place in it, and
// Denied a rule of somebody's in it that shuts the port. Wider says that others than the
// declared networks are let in, or may be, and NotAtBoot that the program is not started at
// boot.
type PortFound struct {
	Live      bool   `json:"live"`
	Kept      bool   `json:"kept"`
	By        string `json:"by,omitempty"`
	KeptBy    string `json:"kept_by,omitempty"`
	Maybe     bool   `json:"maybe,omitempty"`
	Filter    string `json:"filter,omitempty"`
	Where     string `json:"where,omitempty"`
	Denied    string `json:"denied,omitempty"`
	Wider     bool   `json:"wider,omitempty"`
	NotAtBoot bool   `json:"not_at_boot,omitempty"`
}

// PortWork opens a port in the firewall program that is active, or, with
// Whichever, in the one that a step before it has brought.
type PortWork struct {
	PortWant
	Filter    string `json:"filter,omitempty"`
	Whichever bool   `json:"whichever,omitempty"`
	Close     bool   `json:"close,omitempty"` // what was opened there once is closed again
}

// PortSpan is a port, or the ports from Port to To, of a protocol: the one spelling of
// ports inside. To is 0 for a single port.
type PortSpan struct {
	Protocol string
	Port, To int
}

// String writes them as a declaration does: "80/tcp", "8000-8100/udp".
func (p PortSpan) String() string {
	w := PortWant{Port: p.Port, To: p.To}
	return w.Span() + "/" + p.Protocol
}

// Compare orders ports by protocol and number.
func (p PortSpan) Compare(o PortSpan) int {
	return cmp.Or(strings.Compare(p.Protocol, o.Protocol), cmp.Compare(p.Port, o.Port), cmp.Compare(p.To, o.To))
}

// Ports are the ports that are wanted open.
func (w PortWant) Ports() PortSpan {
	if w.To == w.Port {
		w.To = 0
	}
	return PortSpan{w.Protocol, w.Port, w.To}
}

// Words write the ports with the networks that alone are let in.
func (w PortWant) Words() string {
	s := w.Ports().String()
	if len(w.From) > 0 {
		s += " from " + strings.Join(w.From, ", ")
	}
	return s
}

// Span writes the ports as one number or as two with a hyphen.
func (w PortWant) Span() string {
	if w.To == 0 || w.To == w.Port {
		return strconv.Itoa(w.Port)
	}
	return fmt.Sprintf("%d-%d", w.Port, w.To)
}

// Last is the last of the ports.
func (w PortWant) Last() int { return max(w.Port, w.To) }

// Sources are the networks that are let in: those of From, or one that is "".
func (w PortWant) Sources() []string {
	if len(w.From) == 0 {
		return []string{""}
	}
	return w.From
}

func (w PortWant) words() string {
	s := "port " + w.Span() + "/" + w.Protocol
	if w.To > w.Port {
		s = "ports " + w.Span() + "/" + w.Protocol
	}
	if len(w.From) > 0 {
		s += " for " + strings.Join(w.From, ", ")
	}
	return s
}

// ParsePorts reads ports such as "80/tcp" or "8000-8100/udp".
func ParsePorts(s string) (w PortWant, ok bool) {
	span, protocol, ok := strings.Cut(s, "/")
	if !ok || protocol != "tcp" && protocol != "udp" {
		return w, false
	}
	first, last, ranged := strings.Cut(span, "-")
	from, err := strconv.Atoi(first)
	w = PortWant{Port: from, Protocol: protocol}
	if ranged && err == nil {
		w.To, err = strconv.Atoi(last)
	}
	return w, err == nil && from >= 1 && w.Last() <= 65535 && (!ranged || w.To > from) && w.Span() == span
}

// Within says whether a network lies within another; every network does in "",
// which is all of them.
func Within(network, other string) bool {
	if other == "" || network == other {
		return true
	}
	a, err := netip.ParsePrefix(network)
	b, err2 := netip.ParsePrefix(other)
	return err == nil && err2 == nil && b.Overlaps(a) && b.Bits() <= a.Bits()
}

var _ = Register(Kind{
	Type: "port", After: []string{"firewall"},
	WayIn: byPaths,
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
		w, ok := last[PortWant](want)
		if !ok || w.Protocol != "tcp" || w.Last() != w.Port {
			return nil
		}
		return []int{w.Port}
	},
	Claims: Claiming(func(w PortWant) []Claim {
		return []Claim{{Need: Owns, Sort: ClaimPort, What: w.Ports().String()}}
	}),
	Judge: Judging(judgePort), Follows: true, Holding: true,
	Elsewhere: formerNetworks, Unwanted: unwantedPort, Away: Judging(awayPort),
})

// wantedPort is where ports are declared, and the sites that alone call for them.
type wantedPort struct {
	from     declare.Position
	sites    []string
	networks []string // that alone are let in
}

// ports is what is gathered of ports.
type ports map[PortSpan]*wantedPort

// want wants ports as a declaration writes them; lint has read them.
func (g ports) want(written string, networks []string, from declare.Position) {
	if w, ok := ParsePorts(written); ok {
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

// PortFor wants a TCP port to be open that a site listens on.
func (w *Wanting) PortFor(site string, port int, from declare.Position) {
	g, key := wantedPorts(w), PortSpan{Protocol: "tcp", Port: port}
	switch p := g[key]; {
	case p == nil:
		g[key] = &wantedPort{from: from, sites: []string{site}}
	case len(p.sites) > 0:
		p.sites = append(p.sites, site)
	}
}

// names lists the ports, sorted.
func (g ports) names() []PortSpan { return slices.SortedFunc(maps.Keys(g), PortSpan.Compare) }

// open lists the ports, sorted, one for each network that alone is let in.
func (g ports) open() []PortWant {
	var out []PortWant
	for _, p := range g.names() {
		w := PortWant{Port: p.Port, To: p.To, Protocol: p.Protocol}
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
			wa, wb := PortWant{Port: a.Port, To: a.To}, PortWant{Port: b.Port, To: b.To}
			if a.Protocol != b.Protocol || wa.Last() < wb.Port || wb.Last() < wa.Port || slices.Equal(g[a].networks, g[b].networks) {
				continue
			}
			w.conflicts = append(w.conflicts, Conflict{Claim{By: Local("port", stakeName(a)), From: g[a].from}, Claim{By: Local("port", stakeName(b)), From: g[b].from},
				fmt.Sprintf("ports %s and %s overlap, and are not for the same networks", a, b), "let them be for the same networks, or make them differ"})
		}
	}
}

// stakeName is the name of a port's stake.
func stakeName(p PortSpan) string {
	w := PortWant{Port: p.Port, To: p.To}
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
	for _, p := range FirewallPrograms {
		if local := Local("package", p); w.Wants(local) {
			after = append(after, local)
		}
		if w.WantsService(p) {
			after = append(after, Local("service", p))
		}
	}
	for _, p := range g.names() {
		want := PortWant{Port: p.Port, To: p.To, Protocol: p.Protocol, From: g[p].networks, Firewall: len(needs) > 0}
		w.Want(Stake{Type: "port", Name: stakeName(p), Want: JSON(want), From: g[p].from, For: g[p].sites, Needs: needs, After: after})
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

// met is what a connection from outside has shown of a port: whether one was made at all,
// and whether it was let in, being of those for whom the port is.
func (w PortWant) met(in Input) (asked, in_ bool, outsider bool) {
	let, asked := in.Reached[w.Port]
	if !asked || w.Last() != w.Port || w.Protocol != "tcp" {
		return false, false, false
	}
	outsider = len(w.From) > 0 && !slices.ContainsFunc(w.From, func(n string) bool { return Within(in.Vantage, n) })
	return true, let, outsider
}

func judgePort(in Input, w PortWant, f PortFound) Verdict {
	asked, let, outsider := w.met(in)
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
		v.Cautions = []Note{{in.Stake.Address(), fmt.Sprintf("%s is opened, and nothing listens on it", w.words()), "see that what is to listen there does, or leave the port shut until then"}}
	}
	if !asked {
		v.Rests = "nothing listens there: this rests on the rules alone"
		if in.Traits.On(w.Port) != nil {
			v.Rests = "no connection was tried there: this rests on the rules alone"
		}
	}
	if in.Pending && f.Filter == "" && !w.Firewall {
		v.Differences = append(d, Difference{"open in the firewall that comes", "yes", "not yet"})
		v.Moves = []Move{{Verb: "open", Text: "open " + w.words() + " in the firewall that is active by then", Because: "a package of this plan brings one",
			Work: JSON(PortWork{PortWant: w, Whichever: true})}}
		return v
	}
	if len(d) == 0 {
		return v
	}
	block := func(fix, what string, args ...any) {
		v.Blockers = append(v.Blockers, Note{in.Stake.Address(), fmt.Sprintf(what, args...), fix})
	}
	own := w.Firewall && (by == "" || by == FirewallTable)
	closes := slices.ContainsFunc(leaving[PortWant](in.Leaving, "port", in.Memo), func(l PortWant) bool { return l.Ports() == w.Ports() })
	switch {
	case unfiltered:
		block(fmt.Sprintf("add service.%s = { at_boot = true } to [host.%s]", f.Filter, in.Stake.Host), "%s filters now and is not started at boot", f.Filter)
	case f.Denied != "" && (!live || !f.Kept):
		block("take that rule out, or this port: North Stake does not go over rules of others", "%s is closed by a rule in %s: %s", w.words(), f.Filter, f.Denied)
	case len(w.From) > 0 && (f.Wider || outsider && let) && !w.Firewall && !closes:
		fix := "close it there to everybody"
		if f.Filter == "" && f.By == "" {
			fix = fmt.Sprintf("add inbound = \"declared\" to [host.%s], which shuts all others out, or filter by the means of the host", in.Stake.Host)
		}
		block(fix, "%s is open to others as well, and nothing that North Stake keeps closes it", w.words())
	case f.Filter != "" && by == "" && (!live || !f.Kept):
		verb, text := "open", fmt.Sprintf("open %s in %s, now and after restarts", w.words(), f.Where)
		switch {
		case live:
			verb, text = "keep", fmt.Sprintf("keep %s open in %s after restarts", w.words(), f.Where)
		case f.Kept:
			text = fmt.Sprintf("open %s in %s now; it is kept there already", w.words(), f.Where)
		}
		v.Moves = []Move{{Verb: verb, Text: text, Work: JSON(PortWork{PortWant: w, Filter: f.Filter})}}
	// Where North Stake's own table filters, the firewall stake's step opens the
	// port; elsewhere the filter belongs to somebody else.
	case !live && by == FirewallTable && !own, live && !f.Kept && f.KeptBy == FirewallTable && !own:
		block("declare the port there as well; what this ground has left goes with northstake plan --clear", "%s is closed by %s, by which North Stake lets in what another ground on this machine declares, or what this one did before inbound was taken out", w.words(), FirewallTable)
	case !live && !own:
		block("open it there: North Stake changes no rules but its own", "%s is closed by %s%s", w.words(), cmp.Or(by, "a filter on the host"), map[bool]string{true: ", to some at least, or it cannot be told from its rules"}[f.Maybe])
	case !f.Kept && f.KeptBy != "" && f.KeptBy != FirewallTable:
		block("open it there: North Stake changes no rules but its own", "%s will be closed after a restart, by %s", w.words(), f.KeptBy)
	}
	return v
}

// formerNetworks is a port for those networks that it was open to and is not any more.
func formerNetworks(former, now json.RawMessage) json.RawMessage {
	was, ok := last[PortWant](former)
	is, ok2 := last[PortWant](now)
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
	return JSON(was)
}

// served says whether a declared site listens on a port.
func served(in Input, port int) bool {
	for _, site := range of[SiteWant](in.Declared, "site", in.Memo) {
		if slices.Contains(site.Listen, port) {
			return true
		}
	}
	return false
}

// unwantedPort says whether only what is declared is let in, or the port is open to other
// networks by now.
func unwantedPort(gone Stake, in Around) (why, forStake string) {
	for _, d := range in.Declared {
		if name, former := strings.CutSuffix(gone.Name, Former); former && d.Local() == Local("port", name) {
			w, _ := last[PortWant](d.Want)
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
func awayPort(_ Input, w PortWant, f PortFound) Verdict {
	v := Verdict{Gone: f.Filter == "" || !f.Live && !f.Kept}
	if !v.Gone {
		v.Moves = []Move{{Verb: "close", Text: fmt.Sprintf("close %s in %s, now and after restarts", w.words(), cmp.Or(f.Where, f.Filter)), Work: JSON(PortWork{PortWant: w, Filter: f.Filter, Close: true})}}
	}
	return v
}

// FirewallPrograms are the programs that keep the rules for ports themselves, by
// the names of their packages.
var FirewallPrograms = []string{"firewalld", "ufw"}

// FiltersItself says whether a host's firewall, as its traits name it, is a
// program that keeps the rules for ports.
func FiltersItself(firewall string) bool { return slices.Contains(FirewallPrograms, firewall) }

// RevertAfter is how many seconds a host waits for a new connection after a change
// that could have cut this one off, before it takes the change back.
const RevertAfter = 60

var armed = Detail{Title: "safety", Text: "the host takes this back by itself after 60 s unless a new connection confirms it"}
