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

// reachedFromOutside is what a connection from outside has shown of a port: whether one was made at all,
// and whether it was let in, being of those for whom the port is.
func reachedFromOutside(w wire.PortWant, in stake.Input) (asked, in_ bool, outsider bool) {
	let, asked := in.Reached[w.Port]
	if !asked || w.Last() != w.Port || w.Protocol != "tcp" {
		return false, false, false
	}
	outsider = len(w.From) > 0 && !slices.ContainsFunc(w.From, func(n string) bool { return wire.Within(in.Vantage, n) })
	return true, let, outsider
}

func judgePort(in stake.Input, w wire.PortWant, f wire.PortFound) stake.Verdict {
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
	v := stake.Verdict{Differences: d, Gone: !live && !f.Kept}
	if len(in.Last) == 0 && w.Protocol == "tcp" && w.Last() == w.Port && in.Stake.Site == "" && in.Traits.On(w.Port) == nil && !served(in, w.Port) {
		v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("%s is opened, and nothing listens on it", portText(w)), Fix: "see that what is to listen there does, or leave the port shut until then"}}
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
		v.Blockers = append(v.Blockers, stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf(what, args...), Fix: fix})
	}
	own := w.Firewall && (by == "" || by == wire.FirewallTable)
	closes := slices.ContainsFunc(leaving[wire.PortWant](in.Leaving, "port", in.Memo), func(l wire.PortWant) bool { return l.Ports() == w.Ports() })
	switch {
	case unfiltered:
		block(fmt.Sprintf("add service.%s = { at_boot = true } to [host.%s]", f.Filter, in.Stake.Place), "%s filters now and is not started at boot", f.Filter)
	case f.Denied != "" && (!live || !f.Kept):
		block("take that rule out, or this port: North Stake does not go over rules of others", "%s is closed by a rule in %s: %s", portText(w), f.Filter, f.Denied)
	case len(w.From) > 0 && (f.Wider || outsider && let) && !w.Firewall && !closes:
		fix := "close it there to everybody"
		if f.Filter == "" && f.By == "" {
			fix = fmt.Sprintf("add inbound = \"declared\" to [host.%s], which shuts all others out, or filter by the means of the host", in.Stake.Place)
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
