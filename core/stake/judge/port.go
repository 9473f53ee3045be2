package judge

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"northstake/core/stake"
	"northstake/core/wire"
)

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

var _ = stake.Judged("port", stake.Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        stake.Judging(judgePort),
	Follows:      true,
	Holding:      true,
	Elsewhere:    formerNetworks,
	Unwanted:     unwantedPort,
	Away:         stake.Judging(awayPort),
})

// door is a port as it is judged: what is declared and found, and what a connection from outside has shown.
type door struct {
	in    stake.Input
	w     wire.PortWant
	f     wire.PortFound
	asked bool   // a connection was tried
	wider bool   // it is open to others than those for whom it is
	live  bool   // it is open now
	by    string // what closes it now, "" where that is not known
}

func doorAsFound(in stake.Input, w wire.PortWant, f wire.PortFound) door {
	p := door{in: in, w: w, f: f, wider: len(w.From) > 0 && f.Wider, live: f.Live, by: f.By}
	let, asked := in.Reached[w.Port]
	if p.asked = asked && p.one(); !p.asked {
		return p
	}
	outsider := len(w.From) > 0 && !slices.ContainsFunc(w.From, func(n string) bool { return wire.Within(in.Vantage, n) })
	switch {
	case outsider:
		p.wider = p.wider || let
	case let && f.Maybe:
		p.live = true // the rules close it to some, or cannot be told, and a connection gets through
	case !let && p.live:
		p.live, p.by = false, cmp.Or(p.by, "something that is not among the host's own filters")
	}
	return p
}

// one says whether it is a single port at which connections are made.
func (p door) one() bool { return p.w.Last() == p.w.Port && p.w.Protocol == "tcp" }

// shut says whether it is closed now, or after a restart.
func (p door) shut() bool { return !p.live || !p.f.Kept }

// unfiltered says whether it is open to everybody after a restart, and is not to be.
func (p door) unfiltered() bool { return p.f.NotAtBoot && len(p.w.From) > 0 }

func judgePort(in stake.Input, w wire.PortWant, f wire.PortFound) stake.Verdict {
	p := doorAsFound(in, w, f)
	v := stake.Verdict{Differences: p.differences(), Gone: !p.live && !f.Kept, Cautions: p.cautions(), Rests: p.rests()}
	switch {
	case in.Pending && f.Filter == "" && !w.Firewall:
		v.Differences = append(v.Differences, wire.Difference{Attribute: "open in the firewall that comes", Wanted: "yes", Found: "not yet"})
		v.Moves = []wire.Move{{Verb: "open", Text: "open " + portText(w) + " in the firewall that is active by then", Because: "a package of this plan brings one",
			Work: wire.JSON(wire.PortWork{PortWant: w, Whichever: true})}}
		return v
	case len(v.Differences) == 0:
		return v
	}
	note := p.barred()
	if note == nil && f.Filter != "" && p.by == "" && p.shut() {
		v.Moves = []wire.Move{p.opening()}
		return v
	}
	if note == nil {
		note = p.closedByOthers()
	}
	if note != nil {
		note.Address = in.Stake.Address()
		v.Blockers = []stake.Note{*note}
	}
	return v
}

func (p door) differences() differences {
	var d differences
	d.add("open now", "yes", yesNo(p.live))
	d.add("open after a restart", "yes", yesNo(p.f.Kept))
	if p.wider {
		d.differ("open to others", "no", "yes")
	}
	if p.unfiltered() {
		d.differ("filtered after a restart", "by "+p.f.Filter, p.f.Filter+" does not start at boot")
	}
	return d
}

// cautions say that nothing listens at a port that is declared for the first time.
func (p door) cautions() []stake.Note {
	if len(p.in.Last) > 0 || !p.one() || p.in.Stake.Site != "" || p.in.Traits.On(p.w.Port) != nil || served(p.in, p.w.Port) {
		return nil
	}
	return []stake.Note{{Address: p.in.Stake.Address(), What: fmt.Sprintf("%s is opened, and nothing listens on it", portText(p.w)), Fix: "see that what is to listen there does, or leave the port shut until then"}}
}

// rests says that no connection has shown whether the port is open.
func (p door) rests() string {
	switch {
	case p.asked:
		return ""
	case p.in.Traits.On(p.w.Port) != nil:
		return "no connection was tried there: this rests on the rules alone"
	}
	return "nothing listens there: this rests on the rules alone"
}

// barred is why the port cannot be put right whatever closes it, nil for nothing.
func (p door) barred() *stake.Note {
	w, f := p.w, p.f
	closes := func() bool {
		return slices.ContainsFunc(leaving[wire.PortWant](p.in.Leaving, "port", p.in.Memo), func(l wire.PortWant) bool { return l.Ports() == w.Ports() })
	}
	switch {
	case p.unfiltered():
		return &stake.Note{What: f.Filter + " filters now and is not started at boot", Fix: fmt.Sprintf("add service.%s = { at_boot = true } to [host.%s]", f.Filter, p.in.Stake.Place)}
	case f.Denied != "" && p.shut():
		return &stake.Note{What: fmt.Sprintf("%s is closed by a rule in %s: %s", portText(w), f.Filter, f.Denied), Fix: "take that rule out, or this port: North Stake does not go over rules of others"}
	case p.wider && !w.Firewall && !closes():
		fix := "close it there to everybody"
		if f.Filter == "" && f.By == "" {
			fix = fmt.Sprintf("add inbound = \"declared\" to [host.%s], which shuts all others out, or filter by the means of the host", p.in.Stake.Place)
		}
		return &stake.Note{What: portText(w) + " is open to others as well, and nothing that North Stake keeps closes it", Fix: fix}
	}
	return nil
}

// opening opens the port in the host's own firewall program.
func (p door) opening() wire.Move {
	verb, text := "open", fmt.Sprintf("open %s in %s, now and after restarts", portText(p.w), p.f.Where)
	switch {
	case p.live:
		verb, text = "keep", fmt.Sprintf("keep %s open in %s after restarts", portText(p.w), p.f.Where)
	case p.f.Kept:
		text = fmt.Sprintf("open %s in %s now; it is kept there already", portText(p.w), p.f.Where)
	}
	return wire.Move{Verb: verb, Text: text, Work: wire.JSON(wire.PortWork{PortWant: p.w, Filter: p.f.Filter})}
}

// closedByOthers is what closes the port that is not this stake's to open, nil where nothing does: where
// North Stake's own table filters, the firewall stake's step opens it; elsewhere the filter belongs to
// somebody else.
func (p door) closedByOthers() *stake.Note {
	w, f := p.w, p.f
	own := w.Firewall && (p.by == "" || p.by == wire.FirewallTable)
	former := !p.live && p.by == wire.FirewallTable || p.live && !f.Kept && f.KeptBy == wire.FirewallTable
	switch {
	case former && !own:
		return &stake.Note{What: fmt.Sprintf("%s is closed by %s, by which North Stake lets in what another ground on this machine declares, or what this one did before inbound was taken out", portText(w), wire.FirewallTable),
			Fix: "declare the port there as well; what this ground has left goes with northstake plan --clear"}
	case !p.live && !own:
		what := fmt.Sprintf("%s is closed by %s", portText(w), cmp.Or(p.by, "a filter on the host"))
		if f.Maybe {
			what += ", to some at least, or it cannot be told from its rules"
		}
		return &stake.Note{What: what, Fix: "open it there: North Stake changes no rules but its own"}
	case !f.Kept && f.KeptBy != "" && f.KeptBy != wire.FirewallTable:
		return &stake.Note{What: fmt.Sprintf("%s will be closed after a restart, by %s", portText(w), f.KeptBy), Fix: "open it there: North Stake changes no rules but its own"}
	}
	return nil
}

// formerNetworks is a port for those networks that it was open to and is not any more.
func formerNetworks(former, now json.RawMessage) json.RawMessage {
	was, ok := stake.Decoded[wire.PortWant](former)
	is, ok2 := stake.Decoded[wire.PortWant](now)
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
func served(in stake.Input, port int) bool {
	for _, site := range stake.Of[wire.SiteWant](in.Declared, "site", in.Memo) {
		if site.Listen.Has(port) {
			return true
		}
	}
	return false
}

// unwantedPort says whether only what is declared is let in, or the port is open to other
// networks by now.
func unwantedPort(gone stake.Stake, in stake.Surroundings) (why, forStake string) {
	for _, d := range in.Declared {
		if name, former := strings.CutSuffix(gone.Name, stake.Former); former && d.Local() == wire.Local("port", name) {
			w, _ := stake.Decoded[wire.PortWant](d.Want)
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
func awayPort(_ stake.Input, w wire.PortWant, f wire.PortFound) stake.Verdict {
	v := stake.Verdict{Gone: f.Filter == "" || !f.Live && !f.Kept}
	if !v.Gone {
		v.Moves = []wire.Move{{Verb: "close", Text: fmt.Sprintf("close %s in %s, now and after restarts", portText(w), cmp.Or(f.Where, f.Filter)), Work: wire.JSON(wire.PortWork{PortWant: w, Filter: f.Filter, Close: true})}}
	}
	return v
}

var armed = wire.Detail{Title: "safety", Text: "the host takes this back by itself after 60 s unless a new connection confirms it"}
