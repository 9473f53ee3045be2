package filter

import (
	"encoding/json"
	"net/netip"
	"slices"
	"strings"

	"northstake/core/wire"
)

// Asked is a first packet from outside: to a port, over IPv6 or not, and from a network,
// "" for anywhere.
type Asked struct {
	Protocol string
	Port     int
	From     string
	V6       bool
}

// here is what is known of the host that a packet comes to.
type here struct {
	interfaces []string // but for loopback
	addresses  []netip.Addr
	v6         bool
}

// tri is an answer that may not be known.
type tri int

const (
	no tri = iota
	maybe
	yes
)

func is(b bool) tri {
	if b {
		return yes
	}
	return no
}

func not(t tri) tri { return yes - t }

// ends are the ways that a packet can go through a chain.
type ends struct{ accept, drop, fall bool }

func (e ends) and(o ends) ends { return ends{e.accept || o.accept, e.drop || o.drop, e.fall || o.fall} }

// Closed names the chain that keeps some of the ports from some who are to be let in, ""
// where none does. What cannot be told counts against their being open.
func (f *Filters) Closed(w wire.PortWant) string {
	by, _ := f.ClosedFor(w)
	return by
}

// ClosedFor is Closed, and says whether that is sure: all that is asked for is kept out.
func (f *Filters) ClosedFor(w wire.PortWant) (by string, sure bool) {
	for _, network := range w.Sources() {
		for _, v6 := range f.versions(network) {
			for _, port := range f.edges(w) {
				if at, certain := f.closed(Asked{w.Protocol, port, network, v6}); at != "" {
					if certain {
						return at, true
					}
					by = at
				}
			}
		}
	}
	return by, false
}

// LetsElse says whether somebody outside the networks that ports are for may be let in as
// well: nothing surely keeps a stranger out.
func (f *Filters) LetsElse(w wire.PortWant) bool {
	if len(w.From) == 0 {
		return false
	}
	for _, v6 := range f.versions("") {
		stranger := strangerTo(w.From, v6)
		if stranger == "" {
			continue
		}
		for _, port := range f.edges(w) {
			if _, certain := f.closed(Asked{w.Protocol, port, stranger, v6}); !certain {
				return true
			}
		}
	}
	return false
}

// strangers are addresses that nobody has (RFC 5737, RFC 3849).
var strangers = map[bool][]string{false: {"203.0.113.77/32", "198.51.100.77/32"}, true: {"2001:db8:77::77/128"}}

func strangerTo(networks []string, v6 bool) string {
	for _, s := range strangers[v6] {
		if !slices.ContainsFunc(networks, func(n string) bool { return wire.Within(s, n) }) {
			return s
		}
	}
	return ""
}

// versions are those of IP over which a network can come: over both from anywhere, where
// the host has IPv6.
func (f *Filters) versions(network string) []bool {
	switch {
	case network != "":
		return []bool{strings.Contains(network, ":")}
	case f.here.v6:
		return []bool{false, true}
	}
	return []bool{false}
}

// edges are the ports at which the answer can change.
func (f *Filters) edges(w wire.PortWant) []int {
	out := []int{w.Port}
	if w.Last() == w.Port {
		return out
	}
	out = append(out, w.Last())
	for _, n := range f.numbers {
		for _, p := range []int{n - 1, n, n + 1} {
			if p > w.Port && p < w.Last() {
				out = append(out, p)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// closed asks every chain that a packet to the host goes through: one that may drop it
// closes the port, whatever the others say.
func (f *Filters) closed(a Asked) (by string, sure bool) {
	for _, c := range f.base {
		if c.family == "ip6" && !a.V6 || c.family == "ip" && a.V6 || c.family == "bridge" || c.family == "arp" {
			continue
		}
		e := f.through(c, a, 0)
		if e.fall && c.policy == "drop" {
			e.drop, e.fall = true, false
		}
		if e.drop && !e.accept && !e.fall {
			return c.where(), true
		}
		if e.drop && by == "" {
			by = c.where()
		}
	}
	return by, false
}

func (c *chain) where() string {
	table := "table " + c.family + " " + c.table
	if table == wire.FirewallTable {
		return table
	}
	return table + ", chain " + c.name
}

// through follows a packet through a chain; fall says that it can come out at the end.
func (f *Filters) through(c *chain, a Asked, depth int) (out ends) {
	if depth > 16 {
		return ends{fall: true}
	}
	for _, rule := range c.rules {
		e, on := f.rule(c, rule, a, depth)
		if out = out.and(e); !on {
			return out
		}
	}
	out.fall = true
	return out
}

// neutral are statements that decide nothing about a packet.
var neutral = []string{"counter", "log", "comment", "mangle", "ct helper", "ct timeout", "ct expectation", "notrack", "add", "update", "set", "map", "flow", "dup", "synproxy", "secmark"}

// rule says how a packet can end by a rule, and whether it can go on to the next.
func (f *Filters) rule(c *chain, rule []map[string]json.RawMessage, a Asked, depth int) (e ends, on bool) {
	matched := yes
	for _, statement := range rule {
		for word, raw := range statement {
			switch {
			case word == "match":
				m := f.matches(c, raw, a)
				if m == no {
					return ends{}, true
				}
				matched = min(matched, m)
			case word == "accept":
				return ends{accept: true}, matched != yes
			case word == "drop", word == "reject":
				return ends{drop: true}, matched != yes
			case word == "return":
				return ends{fall: true}, matched != yes
			case word == "jump", word == "goto":
				sub := f.target(c, raw, a, depth)
				if word == "goto" {
					return sub, matched != yes
				}
				return ends{accept: sub.accept, drop: sub.drop}, matched != yes || sub.fall
			case word == "vmap":
				e, on := f.vmap(c, raw, a, depth)
				return e, on || matched != yes
			case word == "redirect", word == "dnat", word == "tproxy", word == "fwd", word == "queue":
				return ends{drop: true}, matched != yes // it is for another to decide where it goes
			case slices.Contains(neutral, word):
			default:
				matched = maybe // a limit, a match of an extension, or what is not known
			}
		}
	}
	return ends{}, true
}

// target follows a jump.
func (f *Filters) target(c *chain, raw json.RawMessage, a Asked, depth int) ends {
	var to struct{ Target string }
	next := (*chain)(nil)
	if json.Unmarshal(raw, &to) == nil {
		next = f.chains[c.family+" "+c.table+" "+to.Target]
	}
	if next == nil {
		return ends{fall: true, drop: true}
	}
	return f.through(next, a, depth+1)
}

// vmap follows each verdict whose key the packet may have.
func (f *Filters) vmap(c *chain, raw json.RawMessage, a Asked, depth int) (out ends, on bool) {
	var v struct {
		Key  json.RawMessage
		Data any
	}
	if json.Unmarshal(raw, &v) != nil {
		return ends{drop: true}, true
	}
	on = true
	for _, pair := range f.elements(c, v.Data) {
		kv, ok := pair.([]any)
		if !ok || len(kv) != 2 {
			continue
		}
		hit := f.holds(c, v.Key, kv[0], a)
		if hit == no {
			continue
		}
		verdict, err := json.Marshal(kv[1])
		var statement map[string]json.RawMessage
		if err != nil || json.Unmarshal(verdict, &statement) != nil {
			return out.and(ends{drop: true}), true
		}
		e, further := f.rule(c, []map[string]json.RawMessage{statement}, a, depth)
		out = out.and(e)
		if hit == yes {
			return out, further
		}
	}
	return out, on
}

// elements are those of a set or map, named or not.
func (f *Filters) elements(c *chain, v any) []any {
	switch v := v.(type) {
	case string:
		if list, ok := f.sets[c.family+" "+c.table+" "+v]; ok {
			return list
		}
	case []any:
		return v
	case map[string]any:
		if set, ok := v["set"]; ok {
			return f.elements(c, set)
		}
	}
	return []any{v}
}

var protocolNumbers = map[string]int{"tcp": 6, "udp": 17}
