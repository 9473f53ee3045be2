package filter

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"

	"northstake/core/stake"
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
func (f *Filters) Closed(w stake.PortWant) string {
	by, _ := f.ClosedFor(w)
	return by
}

// ClosedFor is Closed, and says whether that is sure: all that is asked for is kept out.
func (f *Filters) ClosedFor(w stake.PortWant) (by string, sure bool) {
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
func (f *Filters) LetsElse(w stake.PortWant) bool {
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
		if !slices.ContainsFunc(networks, func(n string) bool { return stake.Within(s, n) }) {
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
func (f *Filters) edges(w stake.PortWant) []int {
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
	if table == stake.FirewallTable {
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

// matches says whether a packet fits a match.
func (f *Filters) matches(c *chain, raw json.RawMessage, a Asked) tri {
	var m struct {
		Op    string
		Left  json.RawMessage
		Right any
	}
	if json.Unmarshal(raw, &m) != nil {
		return maybe
	}
	hit := no
	for _, e := range f.elements(c, m.Right) {
		hit = max(hit, f.holds(c, m.Left, e, a))
	}
	switch m.Op {
	case "==", "in", "":
		return hit
	case "!=":
		if f.foreign(m.Left, a) {
			return no // a field of another protocol is not there to differ
		}
		return not(hit)
	}
	return maybe
}

// foreign says whether a match is about a protocol that the packet is not of.
func (f *Filters) foreign(left json.RawMessage, a Asked) bool {
	var l struct {
		Payload *struct{ Protocol, Field string }
	}
	if json.Unmarshal(left, &l) != nil || l.Payload == nil {
		return false
	}
	switch l.Payload.Protocol {
	case "ip":
		return a.V6
	case "ip6":
		return !a.V6
	case "tcp", "udp", "sctp", "dccp", "udplite", "icmp", "icmpv6":
		return l.Payload.Protocol != a.Protocol
	}
	return false
}

// holds says whether what a match looks at is one element of its other side.
func (f *Filters) holds(c *chain, left json.RawMessage, e any, a Asked) tri {
	if m, ok := e.(map[string]any); ok {
		if elem, ok := m["elem"].(map[string]any); ok {
			return f.holds(c, left, elem["val"], a)
		}
	}
	if name, ok := e.(string); ok && strings.HasPrefix(name, "@") {
		hit := no
		for _, one := range f.elements(c, e) {
			if one == e {
				return maybe
			}
			hit = max(hit, f.holds(c, left, one, a))
		}
		return hit
	}
	var l map[string]json.RawMessage
	if json.Unmarshal(left, &l) != nil || len(l) != 1 {
		return maybe
	}
	for what, raw := range l {
		switch what {
		case "concat":
			return f.concat(c, raw, e, a)
		case "payload":
			return f.payload(raw, e, a)
		case "&":
			return flags(raw, e, a)
		case "ct":
			return connection(raw, e)
		case "meta":
			return f.meta(raw, e, a)
		case "fib":
			return fib(raw, e)
		}
	}
	return maybe
}

// concat compares part by part.
func (f *Filters) concat(c *chain, raw json.RawMessage, e any, a Asked) tri {
	var parts []json.RawMessage
	m, ok := e.(map[string]any)
	values, ok2 := m["concat"].([]any)
	if json.Unmarshal(raw, &parts) != nil || !ok || !ok2 || len(parts) != len(values) {
		return maybe
	}
	hit := yes
	for i := range parts {
		one := no
		for _, v := range f.elements(c, values[i]) {
			one = max(one, f.holds(c, parts[i], v, a))
		}
		hit = min(hit, one)
	}
	return hit
}

func (f *Filters) payload(raw json.RawMessage, e any, a Asked) tri {
	var p struct{ Protocol, Field string }
	if json.Unmarshal(raw, &p) != nil || p.Protocol == "" {
		return maybe
	}
	if f.foreign(json.RawMessage(`{"payload":`+string(raw)+`}`), a) {
		return no
	}
	switch {
	case p.Field == "dport" && (p.Protocol == a.Protocol || p.Protocol == "th"):
		return number(e, a.Port)
	case p.Field == "saddr":
		return source(e, a)
	case p.Field == "daddr":
		return f.destination(e, a)
	case p.Field == "protocol" || p.Field == "nexthdr":
		return is(fmt.Sprint(e) == a.Protocol || fmt.Sprint(e) == fmt.Sprint(protocolNumbers[a.Protocol]))
	case p.Protocol == "tcp" && p.Field == "flags":
		return is(fmt.Sprint(e) == "syn" || fmt.Sprint(e) == "2")
	}
	return maybe
}

var protocolNumbers = map[string]int{"tcp": 6, "udp": 17}

// number compares a port with a number or a range.
func number(e any, port int) tri {
	switch e := e.(type) {
	case float64:
		return is(int(e) == port)
	case map[string]any:
		if r, ok := e["range"].([]any); ok && len(r) == 2 {
			lo, ok := r[0].(float64)
			hi, ok2 := r[1].(float64)
			if ok && ok2 {
				return is(port >= int(lo) && port <= int(hi))
			}
		}
	}
	return maybe
}

// networkOf reads an address, a prefix or a range of addresses, as its first and last.
func networkOf(e any) (first, last netip.Addr, ok bool) {
	switch e := e.(type) {
	case string:
		addr, err := netip.ParseAddr(e)
		return addr, addr, err == nil
	case map[string]any:
		if p, ok := e["prefix"].(map[string]any); ok {
			prefix, err := netip.ParsePrefix(fmt.Sprintf("%v/%v", p["addr"], p["len"]))
			if err != nil {
				return first, last, false
			}
			return prefix.Masked().Addr(), lastOf(prefix), true
		}
		if r, ok := e["range"].([]any); ok && len(r) == 2 {
			a, err := netip.ParseAddr(fmt.Sprint(r[0]))
			b, err2 := netip.ParseAddr(fmt.Sprint(r[1]))
			return a, b, err == nil && err2 == nil
		}
	}
	return first, last, false
}

// lastOf is the last address of a prefix.
func lastOf(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().AsSlice()
	for bit := p.Bits(); bit < len(b)*8; bit++ {
		b[bit/8] |= 1 << (7 - bit%8)
	}
	addr, _ := netip.AddrFromSlice(b)
	return addr
}

// source compares where a packet comes from: of a network that is asked for, all of it or
// a part.
func source(e any, a Asked) tri {
	first, last, ok := networkOf(e)
	if !ok {
		return maybe
	}
	if first.Is6() != a.V6 {
		return no
	}
	if a.From == "" {
		all := netip.PrefixFrom(map[bool]netip.Addr{false: netip.IPv4Unspecified(), true: netip.IPv6Unspecified()}[a.V6], 0)
		if first == all.Addr() && last == lastOf(all) {
			return yes
		}
		return maybe
	}
	asked, err := netip.ParsePrefix(a.From)
	if err != nil {
		return maybe
	}
	begin, end := asked.Masked().Addr(), lastOf(asked)
	switch {
	case first.Compare(begin) <= 0 && end.Compare(last) <= 0:
		return yes
	case end.Less(first) || last.Less(begin):
		return no
	}
	return maybe
}

// destination compares the host's own addresses.
func (f *Filters) destination(e any, a Asked) tri {
	first, last, ok := networkOf(e)
	if !ok || len(f.here.addresses) == 0 {
		return maybe
	}
	in, out := 0, 0
	for _, own := range f.here.addresses {
		switch {
		case own.Is6() != a.V6:
		case first.Compare(own) <= 0 && own.Compare(last) <= 0:
			in++
		default:
			out++
		}
	}
	switch {
	case in > 0 && out == 0:
		return yes
	case in == 0:
		return no
	}
	return maybe
}

// words are the strings in a value, however deep.
func words(v any) []string {
	switch v := v.(type) {
	case string:
		return []string{v}
	case []any:
		var out []string
		for _, e := range v {
			out = append(out, words(e)...)
		}
		return out
	case map[string]any:
		var out []string
		for _, e := range v {
			out = append(out, words(e)...)
		}
		return out
	}
	return nil
}

// flags compares TCP flags under a mask: of a first packet, SYN alone is set.
func flags(raw json.RawMessage, e any, a Asked) tri {
	var sides []any
	if json.Unmarshal(raw, &sides) != nil || len(sides) != 2 {
		return maybe
	}
	field, ok := sides[0].(map[string]any)
	pay, ok2 := field["payload"].(map[string]any)
	if !ok || !ok2 || pay["field"] != "flags" {
		return maybe
	}
	if a.Protocol != "tcp" {
		return no
	}
	left := slices.Contains(words(sides[1]), "syn")
	want := words(e)
	if len(want) == 0 {
		return is(!left) // compared with 0
	}
	return is(left && len(want) == 1 && want[0] == "syn")
}

// connection compares what conntrack knows: of a first packet, that it is new.
func connection(raw json.RawMessage, e any) tri {
	var key struct{ Key string }
	if json.Unmarshal(raw, &key) != nil || key.Key != "state" {
		return maybe
	}
	return is(slices.Contains(words(e), "new"))
}

func (f *Filters) meta(raw json.RawMessage, e any, a Asked) tri {
	var key struct{ Key string }
	if json.Unmarshal(raw, &key) != nil {
		return maybe
	}
	word := fmt.Sprint(e)
	switch key.Key {
	case "iif", "iifname":
		return f.comesBy(word)
	case "l4proto":
		return is(word == a.Protocol || word == fmt.Sprint(protocolNumbers[a.Protocol]))
	case "nfproto":
		return is(word == map[bool]string{false: "ipv4", true: "ipv6"}[a.V6])
	case "protocol":
		return is(word == map[bool]string{false: "ip", true: "ip6"}[a.V6])
	case "pkttype":
		return is(word == "unicast" || word == "host")
	}
	return maybe
}

// comesBy compares the interface that a packet comes in by: any but loopback.
func (f *Filters) comesBy(name string) tri {
	if name == "lo" {
		return no
	}
	if len(f.here.interfaces) == 0 {
		return maybe
	}
	in := 0
	for _, own := range f.here.interfaces {
		if ok, err := path.Match(name, own); err == nil && ok {
			in++
		}
	}
	switch in {
	case 0:
		return no
	case len(f.here.interfaces):
		return yes
	}
	return maybe
}

// fib compares what the routes say: a packet to the host is for a local address, and one
// that comes as it should has a way back.
func fib(raw json.RawMessage, e any) tri {
	var key struct {
		Result string
		Flags  any
	}
	if json.Unmarshal(raw, &key) != nil {
		return maybe
	}
	switch {
	case key.Result == "type" && slices.Contains(words(key.Flags), "daddr"):
		return is(fmt.Sprint(e) == "local")
	case key.Result == "oif" && slices.Contains(words(key.Flags), "saddr"):
		if b, ok := e.(bool); ok {
			return is(b)
		}
	}
	return maybe
}
