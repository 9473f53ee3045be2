package filter

import (
	"encoding/json"
	"fmt"
	"slices"

	"northstake/core/wire"
)

// Led are the ports that rules lead elsewhere before what guards the host itself sees who asks for
// them (destination NAT, by an engine or by hand), each rule once, with its chain.
func (f *Filters) Led() []wire.Led {
	var out []wire.Led
	seen := map[string]bool{}
	for _, c := range f.base {
		if c.hook == "prerouting" {
			f.ledBy(c, nil, seen, &out)
		}
	}
	return out
}

// ledBy follows a chain, and whatever it jumps to; ports are those that a jump to it is for.
func (f *Filters) ledBy(c *chain, ports []wire.PortWant, seen map[string]bool, out *[]wire.Led) {
	key := fmt.Sprint(c.family, c.table, c.name, ports)
	if seen[key] {
		return
	}
	seen[key] = true
	for _, rule := range c.rules {
		here := ports
		for _, statement := range rule {
			for word, raw := range statement {
				switch word {
				case "match":
					here = orElse(f.portsOfMatch(c, raw), here)
				case "jump", "goto":
					var to struct{ Target string }
					if json.Unmarshal(raw, &to) == nil {
						f.ledTo(c, to.Target, here, seen, out)
					}
				case "vmap":
					var v struct {
						Key  json.RawMessage
						Data any
					}
					if json.Unmarshal(raw, &v) != nil {
						continue
					}
					for _, pair := range f.elements(c, v.Data) {
						if kv, ok := pair.([]any); ok && len(kv) == 2 {
							f.ledTo(c, targetOf(kv[1]), orElse(portsOfKey(v.Key, kv[0]), here), seen, out)
						}
					}
				case "dnat", "xt":
					if more, leads := f.leads(c, word, raw); leads {
						*out = append(*out, wire.Led{Ports: orElse(more, here), By: c.where()})
					}
				}
			}
		}
	}
}

func (f *Filters) ledTo(c *chain, name string, ports []wire.PortWant, seen map[string]bool, out *[]wire.Led) {
	if to := f.chains[c.family+" "+c.table+" "+name]; to != nil && len(seen) < 10_000 {
		f.ledBy(to, ports, seen, out)
	}
}

// targetOf is the chain that a verdict of a map jumps to.
func targetOf(verdict any) string {
	v, _ := verdict.(map[string]any)
	for _, word := range []string{"jump", "goto"} {
		if to, ok := v[word].(map[string]any); ok {
			return fmt.Sprint(to["target"])
		}
	}
	return ""
}

// leads says whether a statement leads elsewhere, and for which ports, where a map of its own tells
// that. nft tells of iptables' targets no more than their names.
func (f *Filters) leads(c *chain, word string, raw json.RawMessage) (ports []wire.PortWant, leads bool) {
	if word == "xt" {
		var x struct{ Type, Name string }
		return nil, json.Unmarshal(raw, &x) == nil && x.Type == "target" && slices.Contains([]string{"DNAT", "NETMAP"}, x.Name)
	}
	var d struct{ Addr, Port any }
	if json.Unmarshal(raw, &d) != nil {
		return nil, true
	}
	if text, ok := d.Addr.(string); ok {
		if at, _, ok := networkOf(text); ok && (at.IsLoopback() || slices.Contains(f.here.addresses, at)) {
			return nil, false // it stays on this host, and what guards that sees it
		}
	}
	m, _ := d.Addr.(map[string]any)
	if m, ok := m["map"].(map[string]any); ok {
		key, err := json.Marshal(m["key"])
		for _, pair := range f.elements(c, m["data"]) {
			if kv, ok := pair.([]any); ok && len(kv) == 2 && err == nil {
				ports = append(ports, portsOfKey(key, kv[0])...)
			}
		}
	}
	return ports, true
}

// portsOfMatch are the ports that a match asks for, nil where it asks for something else.
func (f *Filters) portsOfMatch(c *chain, raw json.RawMessage) (out []wire.PortWant) {
	var m struct {
		Op    string
		Left  json.RawMessage
		Right any
	}
	if json.Unmarshal(raw, &m) != nil || m.Op != "==" && m.Op != "in" && m.Op != "" {
		return nil
	}
	for _, e := range f.elements(c, m.Right) {
		out = append(out, portsOfKey(m.Left, e)...)
	}
	return out
}

// portsOfKey are the ports that one element stands for, where what it is compared with is a port.
func portsOfKey(left json.RawMessage, e any) []wire.PortWant {
	var l struct {
		Payload struct{ Protocol, Field string }
	}
	if json.Unmarshal(left, &l) != nil || l.Payload.Field != "dport" {
		return nil
	}
	if m, ok := e.(map[string]any); ok {
		if elem, ok := m["elem"].(map[string]any); ok {
			e = elem["val"]
		}
	}
	span := fmt.Sprint(e)
	if m, ok := e.(map[string]any); ok {
		r, ok := m["range"].([]any)
		if !ok || len(r) != 2 {
			return nil
		}
		span = fmt.Sprintf("%v-%v", r[0], r[1])
	}
	protocols := []string{l.Payload.Protocol}
	if l.Payload.Protocol == "th" {
		protocols = []string{"tcp", "udp"}
	}
	var out []wire.PortWant
	for _, p := range protocols {
		if w, ok := wire.ParsePorts(span + "/" + p); ok {
			out = append(out, w)
		}
	}
	return out
}

// orElse are some ports, or others where there are none.
func orElse(some, others []wire.PortWant) []wire.PortWant {
	if len(some) > 0 {
		return some
	}
	return others
}
