package filter

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"northstake/core/stake"
	"northstake/host/system"
)

// Filters is the host's loaded nftables rule set as far as it decides which
// ports can be reached.
type Filters struct {
	chains map[string]*chain // by "family table name"
	sets   map[string][]any
	base   []*chain

	numbers []int // all that could be ports in the rules
}

type chain struct {
	family, table, name string
	hook                string
	policy              string
	rules               [][]map[string]json.RawMessage
}

// Generation is the number by which the kernel counts changes of the rule set
// (NFT_MSG_GETGEN in linux/netfilter/nf_tables.h). It costs one message.
func Generation() (uint32, error) {
	const getGen, nftables, genID = 16, 10, 1
	fd, err := syscall.Socket(syscall.AF_NETLINK, syscall.SOCK_RAW|syscall.SOCK_CLOEXEC, syscall.NETLINK_NETFILTER)
	if err != nil {
		return 0, fmt.Errorf("ask the kernel for its rules: %w", err)
	}
	defer syscall.Close(fd)
	limit := syscall.Timeval{Sec: 1}
	if err := syscall.SetsockoptTimeval(fd, syscall.SOL_SOCKET, syscall.SO_RCVTIMEO, &limit); err != nil {
		return 0, err
	}
	msg := make([]byte, 20)
	binary.NativeEndian.PutUint32(msg[0:], 20)
	binary.NativeEndian.PutUint16(msg[4:], nftables<<8|getGen)
	binary.NativeEndian.PutUint16(msg[6:], syscall.NLM_F_REQUEST)
	if err := syscall.Sendto(fd, msg, 0, &syscall.SockaddrNetlink{Family: syscall.AF_NETLINK}); err != nil {
		return 0, fmt.Errorf("ask the kernel for its rules: %w", err)
	}
	buf := make([]byte, 4096)
	n, _, err := syscall.Recvfrom(fd, buf, 0)
	if err != nil {
		return 0, fmt.Errorf("ask the kernel for its rules: %w", err)
	}
	return parseGeneration(buf[:n], genID)
}

func parseGeneration(b []byte, want uint16) (uint32, error) {
	for at := 20; at+8 <= len(b); {
		size := int(binary.NativeEndian.Uint16(b[at:]))
		if size < 4 || at+size > len(b) {
			break
		}
		if binary.NativeEndian.Uint16(b[at+2:])&0x3fff == want && size >= 8 {
			return binary.BigEndian.Uint32(b[at+4:]), nil
		}
		at += (size + 3) &^ 3
	}
	return 0, errors.New("ask the kernel for its rules: no generation in its answer")
}

// Rules is what is loaded: the whole rule set for reading, and the text of
// North Stake's own table.
type Rules struct {
	Filters *Filters
	Own     string
}

// ReadRules reads the loaded rules; they are remembered until the kernel counts a
// change.
func ReadRules(ctx context.Context, m *system.Machine) (Rules, error) {
	key := ""
	gen, err := Generation()
	if err == nil {
		key = fmt.Sprint("generation ", gen)
	}
	return system.Cached(m, "rules", key, func() (Rules, error) {
		if _, err := exec.LookPath("/usr/sbin/nft"); err != nil {
			if key != "" && gen <= 1 {
				return Rules{Filters: &Filters{}}, nil
			}
			return Rules{}, errors.New("the kernel has packet filter rules, and nft is not installed to read them: install package nftables")
		}
		b, err := m.Run(ctx, nil, "nft", "-j", "list", "ruleset")
		if err != nil {
			return Rules{}, err
		}
		f, err := ParseRuleset(b)
		if err != nil {
			return Rules{}, err
		}
		r := Rules{Filters: f}
		if f.has("inet", "northstake") {
			own, err := m.Run(ctx, nil, "nft", "-s", "list", "table", "inet", "northstake")
			if err != nil {
				return Rules{}, err
			}
			r.Own = string(own)
		}
		return r, nil
	})
}

func (f *Filters) has(family, table string) bool {
	for _, c := range f.chains {
		if c.family == family && c.table == table {
			return true
		}
	}
	return false
}

var wholeNumber = regexp.MustCompile(`[0-9]+`)

// ParseRuleset reads the output of nft -j list ruleset (libnftables-json(5)).
func ParseRuleset(b []byte) (*Filters, error) {
	var doc struct {
		Nftables []map[string]json.RawMessage `json:"nftables"`
	}
	if err := json.Unmarshal(b, &doc); err != nil {
		return nil, fmt.Errorf("read nft's answer: %w", err)
	}
	f := &Filters{chains: map[string]*chain{}, sets: map[string][]any{}}
	for _, n := range wholeNumber.FindAllString(string(b), -1) {
		if port, err := strconv.Atoi(n); err == nil && port <= 65535 {
			f.numbers = append(f.numbers, port)
		}
	}
	slices.Sort(f.numbers)
	f.numbers = slices.Compact(f.numbers)
	for _, item := range doc.Nftables {
		if raw, ok := item["chain"]; ok {
			var c struct {
				Family, Table, Name, Type, Hook, Policy string
			}
			if err := json.Unmarshal(raw, &c); err != nil {
				return nil, fmt.Errorf("read nft's answer: %w", err)
			}
			ch := &chain{family: c.Family, table: c.Table, name: c.Name, hook: c.Hook, policy: c.Policy}
			f.chains[c.Family+" "+c.Table+" "+c.Name] = ch
			if c.Hook == "input" && c.Type == "filter" {
				f.base = append(f.base, ch)
			}
		}
		for _, sort := range []string{"set", "map"} {
			if raw, ok := item[sort]; ok {
				var s struct {
					Family, Table, Name string
					Elem                []any
				}
				if err := json.Unmarshal(raw, &s); err != nil {
					return nil, fmt.Errorf("read nft's answer: %w", err)
				}
				f.sets[s.Family+" "+s.Table+" @"+s.Name] = s.Elem
			}
		}
	}
	for _, item := range doc.Nftables {
		if raw, ok := item["rule"]; ok {
			var r struct {
				Family, Table, Chain string
				Expr                 []map[string]json.RawMessage
			}
			if err := json.Unmarshal(raw, &r); err != nil {
				return nil, fmt.Errorf("read nft's answer: %w", err)
			}
			if c := f.chains[r.Family+" "+r.Table+" "+r.Chain]; c != nil {
				c.rules = append(c.rules, r.Expr)
			}
		}
	}
	return f, nil
}

// Asked is a new connection from another machine: to a port, from any address of a
// network, or from wherever where that is "".
type Asked struct {
	Protocol string
	Port     int
	From     string
}

// Closed says which chain keeps some of these connections out, "" when every
// input chain lets them all through.
func (f *Filters) Closed(w stake.PortWant) string {
	for _, network := range w.Sources() {
		for _, port := range f.edges(w) {
			if by := f.closed(Asked{w.Protocol, port, network}); by != "" {
				return by
			}
		}
	}
	return ""
}

// edges are those of some ports at which rules may begin to decide otherwise.
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

// closed says which chain keeps a connection out: an accept ends only its own base
// chain, and a drop anywhere is final.
func (f *Filters) closed(a Asked) string {
	for _, c := range f.base {
		v6 := strings.Contains(a.From, ":")
		if c.family == "ip6" && !v6 || c.family == "ip" && v6 || c.family == "bridge" || c.family == "netdev" || c.family == "arp" {
			continue
		}
		switch f.verdict(c, a, 0) {
		case "drop":
			return c.where()
		case "":
			if c.policy == "drop" {
				return c.where()
			}
		}
	}
	return ""
}

func (c *chain) where() string {
	table := "table " + c.family + " " + c.table
	if table == stake.FirewallTable {
		return table
	}
	return table + ", chain " + c.name
}

func (f *Filters) verdict(c *chain, a Asked, depth int) string {
	if depth > 16 {
		return ""
	}
	for _, rule := range c.rules {
		for _, e := range rule {
			if raw, ok := e["match"]; ok {
				if !f.matches(c, raw, a) {
					break
				}
				continue
			}
			if _, ok := e["accept"]; ok {
				return "accept"
			}
			if _, ok := e["drop"]; ok {
				return "drop"
			}
			if _, ok := e["reject"]; ok {
				return "drop"
			}
			if _, ok := e["return"]; ok {
				return ""
			}
			for _, word := range []string{"jump", "goto"} {
				raw, ok := e[word]
				if !ok {
					continue
				}
				var to struct{ Target string }
				if json.Unmarshal(raw, &to) != nil {
					continue
				}
				next := f.chains[c.family+" "+c.table+" "+to.Target]
				if next == nil {
					continue
				}
				if v := f.verdict(next, a, depth+1); v != "" {
					return v
				}
				if word == "goto" {
					return ""
				}
			}
		}
	}
	return ""
}

// matches says whether every connection that is asked about fits a match. What
// cannot be told is taken not to fit.
func (f *Filters) matches(c *chain, raw json.RawMessage, a Asked) bool {
	var m struct {
		Op    string
		Left  map[string]json.RawMessage
		Right any
	}
	if json.Unmarshal(raw, &m) != nil {
		return false
	}
	not := m.Op == "!="
	if p, ok := m.Left["payload"]; ok {
		var pay struct{ Protocol, Field string }
		if json.Unmarshal(p, &pay) != nil {
			return false
		}
		switch {
		case pay.Field == "dport" && (pay.Protocol == a.Protocol || pay.Protocol == "th"):
			return f.holds(c, m.Right, a.Port) != not
		case pay.Field == "saddr" && a.From != "" && !not:
			return f.covers(c, m.Right, a.From)
		}
		return false
	}
	if ct, ok := m.Left["ct"]; ok {
		var key struct{ Key string }
		if json.Unmarshal(ct, &key) != nil || key.Key != "state" {
			return false
		}
		return strings.Contains(fmt.Sprint(m.Right), "new") != not
	}
	if meta, ok := m.Left["meta"]; ok {
		var key struct{ Key string }
		if json.Unmarshal(meta, &key) != nil {
			return false
		}
		switch key.Key {
		case "iif", "iifname":
			return fmt.Sprint(m.Right) != "lo" && not
		case "l4proto":
			return strings.Contains(" "+strings.Trim(fmt.Sprint(m.Right), "map[set:]")+" ", " "+a.Protocol+" ") != not
		}
	}
	return false
}

// holds says whether a right-hand side has the port: a number, a range, a set
// written in place, or the name of a set.
func (f *Filters) holds(c *chain, v any, port int) bool {
	switch v := v.(type) {
	case float64:
		return int(v) == port
	case string:
		for _, e := range f.sets[c.family+" "+c.table+" "+v] {
			if f.holds(c, e, port) {
				return true
			}
		}
	case []any:
		for _, e := range v {
			if f.holds(c, e, port) {
				return true
			}
		}
	case map[string]any:
		if set, ok := v["set"]; ok {
			return f.holds(c, set, port)
		}
		if e, ok := v["elem"].(map[string]any); ok {
			return f.holds(c, e["val"], port)
		}
		if r, ok := v["range"].([]any); ok && len(r) == 2 {
			lo, _ := r[0].(float64)
			hi, _ := r[1].(float64)
			return port >= int(lo) && port <= int(hi)
		}
	}
	return false
}

// covers says whether a right-hand side has all addresses of a network: an address,
// a prefix, a set written in place, or the name of a set.
func (f *Filters) covers(c *chain, v any, network string) bool {
	switch v := v.(type) {
	case string:
		if set, ok := f.sets[c.family+" "+c.table+" "+v]; ok {
			return f.covers(c, set, network)
		}
		if strings.Contains(v, ":") {
			v += "/128"
		} else {
			v += "/32"
		}
		return stake.Within(network, v)
	case []any:
		return slices.ContainsFunc(v, func(e any) bool { return f.covers(c, e, network) })
	case map[string]any:
		if set, ok := v["set"]; ok {
			return f.covers(c, set, network)
		}
		if p, ok := v["prefix"].(map[string]any); ok {
			return stake.Within(network, fmt.Sprintf("%v/%v", p["addr"], p["len"]))
		}
	}
	return false
}
