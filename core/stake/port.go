package stake

import (
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
// after a restart. By names what closes it. Filter is the firewall program that
// is active on the host, where one is, and Where the place in it.
type PortFound struct {
	Live   bool   `json:"live"`
	Kept   bool   `json:"kept"`
	By     string `json:"by,omitempty"`
	Filter string `json:"filter,omitempty"`
	Where  string `json:"where,omitempty"`
}

// PortWork opens a port in the firewall program that is active, or, with
// Whichever, in the one that a step before it has brought.
type PortWork struct {
	PortWant
	Filter    string `json:"filter,omitempty"`
	Whichever bool   `json:"whichever,omitempty"`
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

var _ = register("port", kindOf[PortWant, PortFound](judgePort))

func judgePort(in Input, w PortWant, f PortFound) Verdict {
	var d differences
	d.add("open now", "yes", yesNo(f.Live))
	d.add("open after a restart", "yes", yesNo(f.Kept))
	v := Verdict{Differences: d, Gone: !f.Live && !f.Kept}
	if in.Pending && f.Filter == "" && !w.Firewall {
		v.Differences = append(d, Difference{"open in the firewall that comes", "yes", "not yet"})
		v.Moves = []Move{{Verb: "open", Text: "open " + w.words() + " in the firewall that is active by then", Because: "a package of this plan brings one",
			Work: JSON(PortWork{PortWant: w, Whichever: true})}}
		return v
	}
	if len(d) == 0 {
		return v
	}
	switch {
	case f.Filter != "":
		verb, text := "open", fmt.Sprintf("open %s in %s, now and after restarts", w.words(), f.Where)
		switch {
		case f.Live:
			verb, text = "keep", fmt.Sprintf("keep %s open in %s after restarts", w.words(), f.Where)
		case f.Kept:
			text = fmt.Sprintf("open %s in %s now; it is kept there already", w.words(), f.Where)
		}
		v.Moves = []Move{{Verb: verb, Text: text, Work: JSON(PortWork{PortWant: w, Filter: f.Filter})}}
	// Where North Stake's own table filters, the firewall stake's step opens the
	// port; elsewhere the filter belongs to somebody else.
	case !w.Firewall || (f.By != "" && f.By != FirewallTable):
		by := f.By
		if by == "" {
			by = "a filter on the host"
		}
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s is closed by %s", w.words(), by),
			"open it there: North Stake changes no rules but its own"}}
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
