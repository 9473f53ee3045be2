package filter

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"northstake/host/system"
)

// Filters is the host's loaded nftables rule set as far as it decides which
// ports can be reached.
type Filters struct {
	chains map[string]*chain // by "family table name"
	sets   map[string][]any
	base   []*chain

	numbers []int // all that could be ports in the rules
	here    here
}

type chain struct {
	family, table, name string
	hook                string
	policy              string
	rules               [][]map[string]json.RawMessage
}

// Messages of the packet filter (linux/netfilter/nf_tables.h, nfnetlink.h).
const (
	subsystem   = 10 << 8
	newTable    = subsystem
	getTable    = subsystem | 1
	getGen      = subsystem | 16
	genID       = 1
	netlinkWait = time.Second
)

// Generation is the number by which the kernel counts changes of the rule set. It costs one message.
func Generation() (uint32, error) {
	b, err := askKernel(getGen, 0)
	if err != nil {
		return 0, err
	}
	return parseGeneration(b, genID)
}

// noTables says whether the kernel's rule set has no table, and so no rule.
func noTables() (bool, error) {
	b, err := askKernel(getTable, syscall.NLM_F_DUMP)
	if err != nil {
		return false, err
	}
	return parseNoTables(b)
}

func parseNoTables(b []byte) (bool, error) {
	if len(b) < 16 {
		return false, errors.New("ask the kernel for its rules: its answer is cut off")
	}
	switch binary.NativeEndian.Uint16(b[4:]) {
	case syscall.NLMSG_DONE:
		return true, nil
	case newTable:
		return false, nil
	}
	return false, fmt.Errorf("ask the kernel for its rules: it answers %x", b[4:6])
}

// askKernel sends one message to the packet filter and returns the first of what it answers.
func askKernel(what, flags uint16) ([]byte, error) {
	fd, err := syscall.Socket(syscall.AF_NETLINK, syscall.SOCK_RAW|syscall.SOCK_CLOEXEC, syscall.NETLINK_NETFILTER)
	if err != nil {
		return nil, fmt.Errorf("ask the kernel for its rules: %w", err)
	}
	defer syscall.Close(fd)
	limit := syscall.NsecToTimeval(netlinkWait.Nanoseconds())
	if err := syscall.SetsockoptTimeval(fd, syscall.SOL_SOCKET, syscall.SO_RCVTIMEO, &limit); err != nil {
		return nil, err
	}
	msg := make([]byte, 20)
	binary.NativeEndian.PutUint32(msg[0:], 20)
	binary.NativeEndian.PutUint16(msg[4:], what)
	binary.NativeEndian.PutUint16(msg[6:], syscall.NLM_F_REQUEST|flags)
	if err := syscall.Sendto(fd, msg, 0, &syscall.SockaddrNetlink{Family: syscall.AF_NETLINK}); err != nil {
		return nil, fmt.Errorf("ask the kernel for its rules: %w", err)
	}
	buf := make([]byte, 64<<10)
	n, _, err := syscall.Recvfrom(fd, buf, 0)
	if err != nil {
		return nil, fmt.Errorf("ask the kernel for its rules: %w", err)
	}
	return buf[:n], nil
}

func parseGeneration(b []byte, want uint16) (uint32, error) {
	if len(b) >= 20 && binary.NativeEndian.Uint16(b[4:]) == syscall.NLMSG_ERROR {
		return 0, fmt.Errorf("ask the kernel for its rules: %w", syscall.Errno(-int32(binary.NativeEndian.Uint32(b[16:]))))
	}
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
	Denied  bool // this host may set no rules
}

// ReadRules reads the loaded rules; they are remembered until the kernel counts a
// change.
func ReadRules(ctx context.Context, m *system.Machine) (Rules, error) {
	key := ""
	gen, err := Generation()
	if err == nil {
		key = fmt.Sprint("generation ", gen)
	}
	if errors.Is(err, syscall.EPERM) {
		// A container without the right to filter: nobody inside can have set rules.
		if m.OwnNetwork() {
			return Rules{Filters: &Filters{}, Denied: true}, nil
		}
		return Rules{}, errors.New("this container shares the network of its machine, and has no right to read that one's packet filter; ask the machine, or give the container a network of its own")
	}
	return system.Cached(m, "rules", key, func() (Rules, error) {
		if _, err := exec.LookPath("/usr/sbin/nft"); err != nil {
			if none, err := noTables(); err == nil && none {
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
		f.here = lookAround()
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

// Without leaves out the tables that another way of reading knows better.
func (f *Filters) Without(known func(family, table string) bool) *Filters {
	out := *f
	out.base = slices.DeleteFunc(slices.Clone(f.base), func(c *chain) bool { return known(c.family, c.table) })
	return &out
}

// hasChain says whether a table has a chain whose name begins so.
func (f *Filters) hasChain(family, table, begins string) bool {
	for _, c := range f.chains {
		if c.family == family && c.table == table && strings.HasPrefix(c.name, begins) {
			return true
		}
	}
	return false
}

// lookAround notes the host's interfaces and addresses.
func lookAround() (h here) {
	interfaces, err := net.Interfaces()
	if err != nil {
		return h // what cannot be told counts against what is claimed
	}
	for _, i := range interfaces {
		if i.Flags&net.FlagLoopback != 0 {
			continue
		}
		h.interfaces = append(h.interfaces, i.Name)
		addresses, err := i.Addrs()
		if err != nil {
			continue
		}
		for _, a := range addresses {
			if p, err := netip.ParsePrefix(a.String()); err == nil {
				h.addresses = append(h.addresses, p.Addr())
				h.v6 = h.v6 || p.Addr().Is6() && !p.Addr().IsLinkLocalUnicast()
			}
		}
	}
	return h
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
			// A packet to the host goes through all of these; of chains that translate
			// addresses, only those that send it elsewhere end its way.
			if c.Type == "filter" && slices.Contains([]string{"ingress", "prerouting", "input"}, c.Hook) || c.Type == "nat" && c.Hook == "prerouting" {
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
