package filter

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"northstake/core/wire"
	"northstake/host/system"
)

// ufw is ufw(8). What it keeps is read from its own files, because its program is
// slow to start and says nothing of what is loaded; what is loaded, from the chain
// that it fills.
type ufw struct{ m *system.Machine }

const (
	ufwConf  = "/etc/ufw/ufw.conf"
	ufwRules = "/etc/ufw/user.rules"
	ufwChain = "ufw-user-input"
)

func activeUFW(_ context.Context, m *system.Machine) (Program, error) {
	b, err := m.Read(ufwConf)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, line := range strings.Split(string(b), "\n") {
		if k, v, ok := strings.Cut(strings.TrimSpace(line), "="); ok && k == "ENABLED" && strings.EqualFold(strings.Trim(v, `"`), "yes") {
			return ufw{m}, nil
		}
	}
	return nil, nil
}

func (ufw) Name() string { return "ufw" }

// UFWRule is one rule for connections that come in, in the order in which they
// decide.
type UFWRule struct {
	Allow    bool
	Protocol string // "tcp", "udp" or "any"
	Ports    string // numbers and ranges with a colon, with commas between, or "any"
	From     string // a network, "" for all
	Some     bool   // it is about some interface or address of the host alone
	Words    string // the rule as it is written
}

// ParseUFW reads what ufw keeps: the lines in which it notes its rules for itself.
func ParseUFW(b []byte) []UFWRule {
	var out []UFWRule
	for _, line := range strings.Split(string(b), "\n") {
		rest, ok := strings.CutPrefix(line, "### tuple ### ")
		f := strings.Fields(rest)
		if !ok || len(f) < 7 || !strings.HasPrefix(f[len(f)-1], "in") {
			continue
		}
		action, _, _ := strings.Cut(f[0], "_")
		some := network(f[3]) != "" || strings.Contains(f[len(f)-1], "_")
		out = append(out, UFWRule{action == "allow" || action == "limit", f[1], f[2], network(f[5]), some, strings.Join(f, " ")})
	}
	return out
}

// ParseUFWChain reads the rules of ufw's chain as iptables(8) -S lists them.
func ParseUFWChain(b []byte) []UFWRule {
	var out []UFWRule
	for _, line := range strings.Split(string(b), "\n") {
		f := strings.Fields(line)
		if len(f) < 4 || f[0] != "-A" {
			continue
		}
		r := UFWRule{Protocol: "any", Ports: "any", Words: line}
		known := true
		for i := 2; i+1 < len(f); i += 2 {
			switch f[i] {
			case "-p":
				r.Protocol = f[i+1]
			case "-s":
				r.From = network(f[i+1])
			case "--dport", "--dports":
				r.Ports = f[i+1]
			case "-i", "-d":
				r.Some = r.Some || network(f[i+1]) != ""
			case "-m":
			case "-j":
				r.Allow = f[i+1] == "ACCEPT" || f[i+1] == "ufw-user-limit-accept"
				known = known && (r.Allow || f[i+1] == "DROP" || f[i+1] == "REJECT")
				i = len(f)
			default:
				known = false // it decides about some of the connections alone
			}
		}
		if known {
			out = append(out, r)
		}
	}
	return out
}

func network(s string) string {
	if s == "0.0.0.0/0" || s == "::/0" || s == "any" {
		return ""
	}
	if !strings.Contains(s, "/") {
		if strings.Contains(s, ":") {
			return s + "/128"
		}
		return s + "/32"
	}
	return s
}

// UFWLets says whether rules let in all of some ports for a network, and whether a
// rule for these very ports does. Denied is a rule that shuts some of them for some who are
// to be let in; decided says that every port is decided by a rule. A rule for some
// interface or address of the host alone lets in nobody for sure, and may shut.
func UFWLets(rules []UFWRule, w wire.PortWant, from string) (open, own, decided bool, denied string) {
	span := strings.ReplaceAll(w.Span(), "-", ":")
	open, decided = true, true
	for port := w.Port; port <= w.Last(); port++ {
		lets, hit := false, false
		for _, r := range rules {
			if r.Protocol != w.Protocol && r.Protocol != "any" || !ufwHas(r.Ports, port) {
				continue
			}
			all := !r.Some && (r.From == "" || from != "" && wire.Within(from, r.From))
			if !r.Allow && (r.From == "" || from == "" || overlaps(r.From, from)) {
				denied, hit = r.Words, true
				break
			}
			if r.Allow && all {
				lets, hit = true, true
				break
			}
		}
		open, decided = open && lets, decided && hit
	}
	own = slices.ContainsFunc(rules, func(r UFWRule) bool {
		return r.Allow && r.Protocol == w.Protocol && r.Ports == span && r.From == from && !r.Some
	})
	return open, own, decided, denied
}

func ufwHas(ports string, port int) bool {
	if ports == "any" {
		return true
	}
	for _, p := range strings.Split(ports, ",") {
		first, last, ranged := strings.Cut(p, ":")
		if !ranged {
			last = first
		}
		a, err := strconv.Atoi(first)
		b, err2 := strconv.Atoi(last)
		if err == nil && err2 == nil && a <= port && port <= b {
			return true
		}
	}
	return false
}

// lets says whether ufw lets in whatever no rule is about.
func (u ufw) lets() bool {
	b, err := u.m.Read("/etc/default/ufw")
	return err == nil && strings.Contains(string(b), `DEFAULT_INPUT_POLICY="ACCEPT"`)
}

// ufwFiles are where rules for one version of IP are kept, and the program that lists
// what is loaded of them.
var ufwFiles = map[bool][2]string{false: {ufwRules, "iptables"}, true: {"/etc/ufw/user6.rules", "ip6tables"}}

// versions are those of IP that rules count for: both for everybody, where ufw keeps IPv6
// and the host has it.
func (u ufw) versions(from string, v6 bool) []bool {
	switch {
	case from != "":
		return []bool{strings.Contains(from, ":")}
	case v6 && u.keepsV6():
		return []bool{false, true}
	}
	return []bool{false}
}

func (u ufw) keepsV6() bool {
	b, err := u.m.Read("/etc/default/ufw")
	return err == nil && regexp.MustCompile(`(?mi)^\s*IPV6="?yes`).Match(b)
}

func (u ufw) Read(ctx context.Context, w wire.PortWant, from string) (PortState, error) {
	s := PortState{Where: "ufw"}
	rules, err := ReadRules(ctx, u.m)
	if err != nil {
		return s, err
	}
	r := PortRule{Place: "ufw", OpenLive: true, OpenKept: true, Live: true, Kept: true}
	for _, v6 := range u.versions(from, rules.Filters.here.v6) {
		if err := u.readVersion(ctx, w, from, v6, &r, &s); err != nil {
			return s, err
		}
	}
	s.Live, s.Kept, s.Rules = r.OpenLive, r.OpenKept, []PortRule{r}
	return s, nil
}

func (u ufw) readVersion(ctx context.Context, w wire.PortWant, from string, v6 bool, r *PortRule, s *PortState) error {
	b, err := u.m.Read(wire.Path(ufwFiles[v6][0]))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("read what ufw keeps: %w", err)
	}
	wide := wire.PortWant{Port: w.Port, To: w.To, Protocol: w.Protocol}
	half := func(rules []UFWRule, open, own *bool) {
		lets, has, decided, denied := UFWLets(rules, w, from)
		*open, *own = *open && (lets || !decided && denied == "" && u.lets()), *own && has
		s.Denied = cmp.Or(s.Denied, denied)
		if from != "" {
			all, _, decided, _ := UFWLets(rules, wide, "")
			s.Wider = s.Wider || all || !decided && u.lets()
		}
	}
	half(ParseUFW(b), &r.OpenKept, &r.Kept)
	if b, err = u.m.Run(ctx, nil, ufwFiles[v6][1], "-S", strings.Replace(ufwChain, "ufw", map[bool]string{false: "ufw", true: "ufw6"}[v6], 1)); err != nil {
		var failed *system.Failed
		if !errors.As(err, &failed) {
			return err
		}
		r.OpenLive, r.Live = false, false // it is not loaded, and nobody knows what is
		return nil
	}
	half(ParseUFWChain(b), &r.OpenLive, &r.Live)
	return nil
}

// Keeps says that ufw's tables are those that its chains are in.
func (ufw) Keeps(rules *Filters, family, table string) bool {
	return table == "filter" && (rules.hasChain(family, table, "ufw-") || rules.hasChain(family, table, "ufw6-"))
}

// LetsIn lists the ports that ufw keeps open.
func (u ufw) LetsIn(ctx context.Context) (in Inbound, err error) {
	in.AtBoot, in.All = startsAtBoot(u.m, "ufw"), u.lets()
	for _, v6 := range []bool{false, true} {
		b, err := u.m.Read(wire.Path(ufwFiles[v6][0]))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return in, fmt.Errorf("read what ufw keeps: %w", err)
		}
		for _, r := range ParseUFW(b) {
			if !r.Allow {
				continue
			}
			protocols := []string{r.Protocol}
			if r.Protocol == "any" {
				protocols = []string{"tcp", "udp"}
			}
			for _, ports := range strings.Split(r.Ports, ",") {
				for _, protocol := range protocols {
					w, ok := wire.ParsePorts(strings.ReplaceAll(ports, ":", "-") + "/" + protocol)
					switch {
					case !ok:
						if !slices.Contains(in.Others, r.Words) {
							in.Others = append(in.Others, r.Words)
						}
						continue
					case r.From != "":
						w.From = []string{r.From}
					}
					if !slices.ContainsFunc(in.Ports, func(o wire.PortWant) bool { return o.Words() == w.Words() }) {
						in.Ports = append(in.Ports, w)
					}
				}
			}
		}
	}
	return in, nil
}

func (u ufw) Set(ctx context.Context, w wire.PortWant, from string, rules []PortRule) error {
	words := []string{"allow", "proto", w.Protocol, "from", from, "to", "any", "port", strings.ReplaceAll(w.Span(), "-", ":")}
	if from == "" {
		words[4] = "any"
	}
	now, err := u.Read(ctx, w, from)
	if err != nil {
		return err
	}
	want, is := rules[0], now.Rules[0]
	do := func(args ...string) error {
		if _, err := u.m.Run(ctx, nil, "ufw", args...); err != nil {
			return fmt.Errorf("set %s/%s in ufw: %w", w.Span(), w.Protocol, err)
		}
		return nil
	}
	switch {
	case want.Kept && !(is.Kept && is.OpenKept):
		// It comes after those that shut out, which somebody has put there.
		if is.Kept {
			if err := do(append([]string{"delete"}, words...)...); err != nil {
				return err
			}
		}
		if err := do(words...); err != nil {
			return err
		}
	case !want.Kept && is.Kept:
		if err := do(append([]string{"delete"}, words...)...); err != nil {
			return err
		}
	}
	if now, err = u.Read(ctx, w, from); err != nil || now.Rules[0].Live == want.Live || now.Rules[0].Live == now.Rules[0].Kept {
		return err
	}
	return do("reload")
}
