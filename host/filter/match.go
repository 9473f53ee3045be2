package filter

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"
)

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
