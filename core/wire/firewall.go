package wire

import (
	"slices"
	"strings"
)

// FirewallTable is the nftables table that North Stake keeps for itself.
const FirewallTable = "table inet northstake"

// FirewallWant is the table that lets in established connections, loopback,
// ICMP, the SSH port and the listed ports, and drops the rest.
type FirewallWant struct {
	SSH   int        `json:"ssh"`
	Ports []PortWant `json:"ports"` // sorted, one for each network

	// Doors are the ports of the host that may lead elsewhere: into containers, or where somebody's
	// rule leads them. An engine leads visitors there before what guards the host itself sees them, a
	// firewall program too: beside one the table guards the doors alone. Releases before kept nil
	// where no container was declared, and had nothing guard them.
	Doors []PortWant `json:"doors"`

	Program string `json:"program,omitempty"` // the firewall program that does it in the place of the table
}

// Besides are the ports among some that are let in and not wanted.
func (w FirewallWant) Besides(let []PortWant) []string {
	var out []string
	for _, p := range let {
		if p.Protocol == "tcp" && p.Port == w.SSH && p.Last() == w.SSH {
			continue
		}
		if !slices.ContainsFunc(w.Ports, func(d PortWant) bool {
			if d.Protocol != p.Protocol || d.Port > p.Port || p.Last() > d.Last() {
				return false
			}
			return len(d.From) == 0 || len(p.From) > 0 && Within(p.From[0], d.From[0])
		}) {
			out = append(out, p.Words())
		}
	}
	return out
}

// FirewallFound is the table as it is loaded and as it is kept for the next start, ""
// for none, the file that it is kept in, and what loads it from there at boot.
type FirewallFound struct {
	Live   string          `json:"live"`
	Kept   string          `json:"kept"`
	File   Entry           `json:"file"`
	Loader *FirewallLoader `json:"loader,omitempty"`
	Boot   string          `json:"boot"`
	Denied bool            `json:"denied,omitempty"` // the host may set no rules

	Program   string   `json:"program,omitempty"` // that is active
	All       bool     `json:"all,omitempty"`     // it lets in whatever no rule is about
	NotAtBoot bool     `json:"not_at_boot,omitempty"`
	Besides   []string `json:"besides,omitempty"` // ports that it lets in and nobody declares, and rules that are no ports

	Led []Led `json:"led,omitempty"` // what rules lead elsewhere, past what guards the host itself
}

// Led are ports that a rule leads elsewhere (destination NAT), by whose chain. No ports are those
// that the rule does not name.
type Led struct {
	Ports []PortWant `json:"ports,omitempty"`
	By    string     `json:"by"` // "table ip nat, chain PREROUTING"
}

// FirewallLoader is the unit or script that loads the table: whether its text is North
// Stake's, and its mode beside the one that it should have.
type FirewallLoader struct {
	Same   bool `json:"same"`
	Mode   Mode `json:"mode"`
	Wanted Mode `json:"wanted"`
}

// FirewallWork puts the table up, or takes it away where there is none. Revert is how long the host waits for a
// confirmation before it takes the table down, in seconds.
type FirewallWork struct {
	Table  string `json:"table"`
	Revert int    `json:"revert"`
}

// PortsIn lists the ports that a table lets in, from its text.
func PortsIn(table string) []PortWant {
	var out []PortWant
	for _, line := range strings.Split(table, "\n") {
		f := strings.Fields(line)
		var ports string
		var from []string
		switch {
		case len(f) == 4 && f[1] == "dport" && f[3] == "accept":
			ports = f[2] + "/" + f[0]
		case len(f) == 7 && f[1] == "saddr" && f[4] == "dport" && f[6] == "accept":
			network := f[2]
			if !strings.Contains(network, "/") {
				network += map[bool]string{true: "/128", false: "/32"}[f[0] == "ip6"]
			}
			ports, from = f[5]+"/"+f[3], []string{network}
		}
		if w, ok := ParsePorts(ports); ok {
			w.From = from
			out = append(out, w)
		}
	}
	return out
}

// KeptTable is the text of a file that loads North Stake's table.
type KeptTable string

// Guards says whether the table guards the host itself, and not alone what is led past it.
func (t KeptTable) Guards() bool { return strings.Contains(string(t), "hook input") }

// Lets says whether the table lets ports in, for every network that they are to be
// open to.
func (t KeptTable) Lets(w PortWant) bool {
	for _, network := range w.Sources() {
		let := false
		for _, have := range PortsIn(string(t)) {
			from := have.Sources()[0]
			let = let || have.Protocol == w.Protocol && have.Port <= w.Port && w.Last() <= have.Last() && (from == "" || network != "" && Within(network, from))
		}
		if !let {
			return false
		}
	}
	return true
}
