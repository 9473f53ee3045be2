package wire

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

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

// FirewallPrograms are the programs that keep the rules for ports themselves, by
// the names of their packages.
var FirewallPrograms = []string{"firewalld", "ufw"}

// FiltersItself says whether a host's firewall, as its traits name it, is a
// program that keeps the rules for ports.
func FiltersItself(firewall string) bool { return slices.Contains(FirewallPrograms, firewall) }

// RevertAfter is how many seconds a host waits for a new connection after a change
// that could have cut this one off, before it takes the change back.
const RevertAfter = 60
