package judge

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"northstake/core/stake"
	"northstake/core/wire"
)

// forSSH says whether the SSH port is declared for some networks alone.
func forSSH(w wire.FirewallWant) bool {
	return slices.ContainsFunc(w.Ports, func(p wire.PortWant) bool {
		return p.Protocol == "tcp" && p.Port <= w.SSH && w.SSH <= p.Last() && len(p.From) > 0
	})
}

// Table renders the table in the form that nft(8) lists it.
func TableOf(w wire.FirewallWant) string {
	var b strings.Builder
	b.WriteString(wire.FirewallTable + " {\n")
	if w.Program == "" {
		writeInput(w, &b)
	}
	if w.Doors != nil {
		if w.Program == "" {
			b.WriteString("\n")
		}
		writeDoors(w, &b)
	}
	b.WriteString("}\n")
	return b.String()
}

// writeInput writes the chain that guards the host itself.
func writeInput(w wire.FirewallWant, b *strings.Builder) {
	b.WriteString("\tchain input {\n\t\ttype filter hook input priority filter; policy drop;\n")
	b.WriteString("\t\tct state established,related accept\n\t\tiifname \"lo\" accept\n\t\tmeta l4proto { icmp, ipv6-icmp } accept\n")
	if !forSSH(w) {
		fmt.Fprintf(b, "\t\ttcp dport %d accept\n", w.SSH)
	}
	for _, p := range w.Ports {
		if p.Words() == fmt.Sprintf("%d/tcp", w.SSH) {
			continue
		}
		for _, network := range p.Sources() {
			fmt.Fprintf(b, "\t\t%s%s dport %s accept\n", saddr(network), p.Protocol, p.Span())
		}
	}
	b.WriteString("\t}\n")
}

// writeDoors writes the chain that guards what is led elsewhere.
func writeDoors(w wire.FirewallWant, b *strings.Builder) {
	b.WriteString("\tchain doors {\n\t\ttype filter hook forward priority filter; policy accept;\n\t\tct state established,related accept\n")
	for _, p := range w.Doors {
		for _, network := range p.Sources() {
			fmt.Fprintf(b, "\t\t%sct status dnat meta l4proto %s %s%s accept\n", saddr(network), p.Protocol, doorOf, p.Span())
		}
	}
	b.WriteString("\t\t" + doorsShut + "\n\t}\n")
}

// doorOf begins the match of the port that a visitor asked for who is led elsewhere.
const doorOf = "ct original proto-dst "

// doorsShut drops whoever is led elsewhere and not let in.
const doorsShut = "ct status dnat drop"

// saddr matches a network, "" for all, as nft lists it.
func saddr(network string) string {
	switch {
	case strings.Contains(network, ":"):
		return "ip6 saddr " + strings.TrimSuffix(network, "/128") + " "
	case network != "":
		return "ip saddr " + strings.TrimSuffix(network, "/32") + " "
	}
	return ""
}

var _ = stake.Judged("firewall", stake.Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        stake.Judging(judgeFirewall),
	Away:         stake.Judging(awayFirewall),
	Follows:      true,
	Heeding:      true,
})

// judgeProgram judges a firewall program that lets in only what is declared. What others
// have opened in it is theirs to close.
func judgeProgram(in stake.Input, w wire.FirewallWant, f wire.FirewallFound) stake.Verdict {
	var d differences
	v := stake.Verdict{Gone: f.Live == "" && f.Kept == ""} // what the program filters is not North Stake's
	block := func(fix, what string, args ...any) {
		v.Blockers = append(v.Blockers, stake.Note{Address: in.Stake.Address(), What: fmt.Sprintf(what, args...), Fix: fix})
	}
	if f.Program != w.Program {
		d.differ("filtered by", w.Program, cmp.Or(f.Program, "nothing: "+w.Program+" is not active"))
		block(fmt.Sprintf("start %s again (northstake bring service %[1]s --running --at-boot --on %[2]s), or add service.%[1]s = { running = true, at_boot = true } to [host.%[2]s]", w.Program, in.Stake.Place), "%s is not active on this host", w.Program)
		v.Differences = d
		return v
	}
	if f.All {
		d.differ("what no rule is about", "is shut out", "is let in")
		block("make it drop by default what no rule lets in", "%s lets in whatever no rule is about", w.Program)
	}
	if f.NotAtBoot {
		d.differ("at boot", "yes", "no")
		block(fmt.Sprintf("add service.%s = { at_boot = true } to [host.%s]", w.Program, in.Stake.Place), "%s is not started at boot", w.Program)
	}
	if len(f.Besides) > 0 {
		d.differ("lets in besides", "nothing", strings.Join(f.Besides, ", "))
		if theirs := withoutLeaving(f.Besides, in.Leaving); len(theirs) > 0 {
			block("close that there, or declare it", "%s lets in what nobody declares: %s", w.Program, strings.Join(theirs, ", "))
		}
	}
	v.Differences = d
	if w.Doors == nil { // what a release before wanted: nothing beside the program
		return v
	}
	return judgeTable(w, in, f, v)
}

// withoutLeaving are words of ports but those that the same plan closes.
func withoutLeaving(words []string, gone []stake.Stake) []string {
	ours := map[string]bool{}
	for _, w := range leaving[wire.PortWant](gone, "port", nil) {
		for _, network := range w.Sources() {
			one := wire.PortWant{Port: w.Port, To: w.To, Protocol: w.Protocol}
			if network != "" {
				one.From = []string{network}
			}
			ours[one.Words()] = true
		}
	}
	return slices.DeleteFunc(slices.Clone(words), func(s string) bool { return ours[s] })
}

// withoutHeld leaves out of a list of ports those that are held up, but for those that are let in
// already: what is there is not shut because something else is in its way.
func withoutHeld(list []wire.PortWant, in stake.Input, live wire.KeptTable) []wire.PortWant {
	return slices.DeleteFunc(slices.Clone(list), func(p wire.PortWant) bool {
		return !live.Lets(p) && slices.ContainsFunc(leaving[wire.PortWant](in.Held, "port", in.Memo), func(h wire.PortWant) bool { return h.Ports() == p.Ports() })
	})
}

func judgeFirewall(in stake.Input, w wire.FirewallWant, f wire.FirewallFound) stake.Verdict {
	if len(in.Held) > 0 {
		w.Ports = withoutHeld(w.Ports, in, wire.KeptTable(f.Live))
		w.Doors = withoutHeld(w.Doors, in, wire.KeptTable(f.Live))
	}
	if w.Program != "" {
		return judgeProgram(in, w, f)
	}
	return judgeTable(w, in, f, stake.Verdict{Gone: f.Live == "" && f.Kept == ""})
}

// judgeTable judges North Stake's own table, after what else is judged of the host's filter.
func judgeTable(w wire.FirewallWant, in stake.Input, f wire.FirewallFound, v stake.Verdict) stake.Verdict {
	d, before := differences(v.Differences), len(v.Differences)
	table := TableOf(w)
	if squeeze(f.Live) != squeeze(table) {
		found := "not there"
		if f.Live != "" {
			found = "different"
			d.add("lets in now", portWords(table), portWords(f.Live))
		}
		if len(d) == before {
			d.add("rules now", "only declared ports are let in", found)
		}
	}
	live := len(d)
	if f.Kept != table {
		d.add("kept rules", "only declared ports are let in", map[bool]string{true: "none are kept", false: "different"}[f.Kept == ""])
	}
	if f.File.Kind != "" {
		compareEntry(&d, wire.EntryFile, wire.Administrators, "0644", f.File)
	}
	if len(d) > live { // else who last wrote the file has nothing to do with it
		v.Touched = f.File.Touched
	}
	switch {
	case f.Loader == nil:
		d.add("unit", "loads the rules at boot", "not there")
	case !f.Loader.Same:
		d.add("unit", "loads the rules at boot", "different")
	default:
		d.add("mode of the unit", string(f.Loader.Wanted), string(f.Loader.Mode))
	}
	if f.Boot != "enabled" {
		d.add("at boot", "yes", map[bool]string{true: "no", false: f.Boot}[f.Boot == "" || f.Boot == "disabled"])
	}
	v.Differences = d
	if len(d) == before || len(v.Blockers) > 0 {
		return v
	}
	if f.Denied {
		v.Blockers = []stake.Note{{Address: in.Stake.Address(), What: "this host is a container that may set no packet filter (it has not the right NET_ADMIN)", Fix: "leave inbound out, and filter on the machine that it runs on"}}
		return v
	}
	if in.Traits.ServiceManager == wire.NoServices {
		v.Blockers = []stake.Note{{Address: in.Stake.Address(), What: "nothing on this host can put the rules up at boot: it has neither systemd nor init scripts", Fix: "leave inbound out, and filter by the means of the host"}}
		return v
	}
	shut := ledNoMore(w, f)
	if w.Program == "" {
		shut = append(shutOut(in.Traits, w, wire.KeptTable(table), f.Live), shut...)
	}
	if len(shut) > 0 {
		v.Cautions = append(v.Cautions, stake.Note{Address: in.Stake.Address(), What: "this shuts out what answers on this host: " + strings.Join(shut, ", "), Fix: "declare in ports what others are to reach; the rest is shut on purpose"})
	}
	text := "let in only " + portWords(table) + ", and drop the rest"
	if w.Program != "" {
		text = fmt.Sprintf("let only declared ports be led past %s, into containers or elsewhere", w.Program)
		if len(w.Doors) > 0 {
			text += ": " + strings.ReplaceAll(portWords(table), ledElsewhere, "")
		}
	}
	v.Moves = []wire.Move{{
		Verb: "let", Text: text,
		Because: "the declaration says inbound = \"declared\"",
		Details: []wire.Detail{{Title: wire.FirewallTable, Text: udiff.Unified("found", "wanted", f.Live, table), Diff: true},
			armed},
		Work:    wire.JSON(wire.FirewallWork{Table: table, Revert: wire.RevertAfter}),
		Confirm: true,
	}}
	return v
}

// dhcpClients are the ports at which a host is told its own addresses (RFC 2131, RFC 8415).
var dhcpClients = []int{68, 546}

// shutOut are programs that listen to others, and that a table does not let in any more which the one
// before it let in, or nothing kept out.
func shutOut(t wire.Traits, w wire.FirewallWant, table wire.KeptTable, before string) []string {
	var out []string
	for _, l := range t.Listeners {
		at, err := netip.ParseAddr(l.Address)
		if err == nil && at.IsLoopback() || l.Port == w.SSH || l.Protocol == "udp" && slices.Contains(dhcpClients, l.Port) {
			continue
		}
		var port wire.PortWant
		port.Protocol, port.Port = l.Protocol, l.Port
		some := slices.ContainsFunc(wire.PortsIn(string(table)), func(p wire.PortWant) bool {
			return p.Protocol == port.Protocol && p.Port <= port.Port && port.Port <= p.Last()
		})
		if some || before != "" && !wire.KeptTable(before).Lets(port) {
			continue
		}
		if words := fmt.Sprintf("port %d/%s (%s)", l.Port, l.Protocol, cmp.Or(l.Program, "the kernel")); !slices.Contains(out, words) {
			out = append(out, words)
		}
	}
	if more := len(out) - 8; more > 0 {
		out = append(out[:8], fmt.Sprintf("and %d more", more))
	}
	return out
}

// ledNoMore is what rules lead elsewhere, and the table lets through no more.
func ledNoMore(w wire.FirewallWant, f wire.FirewallFound) []string {
	var out []string
	for _, l := range f.Led {
		var ports []string
		for _, p := range l.Ports {
			was := !strings.Contains(f.Live, doorsShut) || strings.Contains(f.Live, doorOf+p.Span()+" accept")
			if was && !slices.ContainsFunc(w.Doors, func(d wire.PortWant) bool {
				return d.Protocol == p.Protocol && d.Port <= p.Port && p.Last() <= d.Last()
			}) {
				ports = append(ports, "port "+p.Ports().String())
			}
		}
		if len(l.Ports) == 0 && !strings.Contains(f.Live, doorsShut) {
			ports = []string{"ports that it does not name"}
		}
		if len(ports) > 0 {
			out = append(out, fmt.Sprintf("%s (led elsewhere by %s)", strings.Join(ports, ", "), l.By))
		}
	}
	return out
}

// awayFirewall takes North Stake's own table away.
func awayFirewall(_ stake.Input, _ wire.FirewallWant, f wire.FirewallFound) stake.Verdict {
	v := stake.Verdict{Gone: f.Live == "" && f.Kept == ""}
	if !v.Gone {
		v.Moves = []wire.Move{{Verb: "take", Text: "take " + wire.FirewallTable + " away, and let in what the host lets in by itself", Work: wire.JSON(wire.FirewallWork{})}}
	}
	return v
}

func squeeze(s string) string { return strings.Join(strings.Fields(s), " ") }

// ledElsewhere is said of a port that is let in to where it is led alone.
const ledElsewhere = " to a container"

// portWords writes what a table lets in, for people.
func portWords(table string) string {
	var out []string
	for _, p := range wire.PortsIn(table) {
		out = append(out, p.Words())
	}
	for _, line := range strings.Split(table, "\n") {
		if before, port, is := strings.Cut(line, doorOf); is {
			fields := strings.Fields(before)
			span, protocol := strings.TrimSuffix(port, " accept"), fields[len(fields)-1]
			if !strings.Contains(table, fmt.Sprintf("\t%s dport %s accept", protocol, span)) && !strings.Contains(table, fmt.Sprintf(" %s dport %s accept", protocol, span)) {
				from := ""
				if len(fields) > 2 && fields[1] == "saddr" {
					from = " from " + fields[2]
				}
				out = append(out, span+"/"+protocol+ledElsewhere+from)
			}
		}
	}
	return strings.Join(out, ", ")
}
