package kinds

import (
	"cmp"
	"encoding/json"
	"net/netip"
	"slices"
	"strings"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

var _ = stake.Register(stake.Kind{
	Type:      "firewall",
	After:     []string{"service"},
	Rehearsal: `inbound = "declared"`,
	Settings:  []declare.Setting{declare.Value[string]("inbound", "\"any\" leaves the host's filtering alone; \"declared\" lets in only the SSH port and declared ports.", "any", `"declared"`, "any", "declared")},
	Wanted: func(w *stake.Wanting) error {
		g := stake.Gathering[inbound](w, "firewall")
		w.Each(func(s declare.Settings, at func(...string) declare.Position) {
			if v := declare.Get[string](s, "inbound"); v != "" {
				*g = inbound{v, at("inbound")}
			}
		})
		return nil
	},
	Implied: func(w *stake.Wanting) error { // firewalld cannot be without it
		if g := stake.Gathering[inbound](w, "firewall"); g.what == "declared" && w.Traits.Firewall != "firewalld" && stake.Gathering[packages](w, "package").find("nftables") == nil {
			wantPackage(w, wire.PackageWant{Name: "nftables"}, g.from)
		}
		return nil
	},
	Finish: finishFirewall,
	Former: func(want map[string]json.RawMessage) {
		var was []string // "5432/tcp from 10.88.0.0/24"
		if json.Unmarshal(want["ports"], &was) != nil || len(was) == 0 {
			return
		}
		ports := make([]wire.PortWant, len(was))
		for i, text := range was {
			port, from, limited := strings.Cut(text, " from ")
			if ports[i], _ = wire.ParsePorts(port); limited {
				ports[i].From = []string{from}
			}
		}
		want["ports"] = wire.JSON(ports)
	},
	Claims: func(stake.Stake) []claim.Claim {
		return []claim.Claim{{Need: claim.Owns, Sort: claim.Name, What: wire.FirewallTable}}
	},
})

// inbound is what is let in, and where that is declared.
type inbound struct {
	what string
	from declare.Position
}

// filters says whether North Stake's own table lets in only what is declared. A
// firewall program that is active does that itself: beside it, a second filter would
// close what it opens.
func (g inbound) filters(w *stake.Wanting) bool {
	return g.what == "declared" && !wire.FiltersItself(w.Traits.Firewall)
}

func finishFirewall(w *stake.Wanting) {
	g, ports := stake.Gathering[inbound](w, "firewall"), wantedPorts(w)
	if g.what != "declared" {
		return
	}
	from := g.from
	for _, p := range ports.names() {
		if at := ports[p].from; at.File == declare.OneOff {
			from = at // a port that is brought about once is let in by the same rules
		}
	}
	ssh := cmp.Or(w.Traits.SSHPort, w.D.ReachOf(w.Place).Port)
	want := wire.FirewallWant{SSH: ssh, Ports: ports.open()}
	want.Doors = doorsOf(w, want.Ports)
	needs := []string{"package/nftables"}
	if wire.FiltersItself(w.Traits.Firewall) {
		want.Program = w.Traits.Firewall
		if !w.Wants("package/nftables") {
			needs = nil
		}
	}
	w.Want(stake.Stake{Type: "firewall", Name: "inbound", Want: wire.JSON(want), From: from, Needs: needs})
}

// doorsOf are the ports that may lead elsewhere: those of the containers that are declared, to
// everybody or, where the port is declared for some networks, to those; and the other ports that
// are declared, which may be those of a container that somebody else runs.
func doorsOf(w *stake.Wanting, declared []wire.PortWant) []wire.PortWant {
	out := append([]wire.PortWant{}, declared...)
	for _, c := range stake.Of[wire.ContainerWant](w.All, "container", nil) {
		for _, d := range c.ReachedAt {
			at, err := netip.ParseAddr(d.At)
			is := func(p wire.PortWant) bool {
				return p.Protocol == "tcp" && p.Port <= d.Outside && d.Outside <= p.Last()
			}
			if err == nil && at.IsLoopback() || slices.ContainsFunc(out, is) {
				continue
			}
			out = append(out, wire.PortWant{Protocol: "tcp", Port: d.Outside})
		}
	}
	slices.SortStableFunc(out, func(a, b wire.PortWant) int { return cmp.Or(cmp.Compare(a.Protocol, b.Protocol), a.Port-b.Port) })
	return out
}
