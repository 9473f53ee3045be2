package filter

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"northstake/core/stake"
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
		out = append(out, UFWRule{action == "allow" || action == "limit", f[1], f[2], network(f[5])})
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
		r := UFWRule{Protocol: "any", Ports: "any"}
		known := true
		for i := 2; i+1 < len(f); i += 2 {
			switch f[i] {
			case "-p":
				r.Protocol = f[i+1]
			case "-s":
				r.From = network(f[i+1])
			case "--dport", "--dports":
				r.Ports = f[i+1]
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
// rule for these very ports does.
func UFWLets(rules []UFWRule, w stake.PortWant, from string) (open, own bool) {
	span := strings.ReplaceAll(w.Span(), "-", ":")
	open = true
	for port := w.Port; port <= w.Last() && open; port++ {
		open = false
		for _, r := range rules {
			if (r.Protocol == w.Protocol || r.Protocol == "any") && ufwHas(r.Ports, port) && (r.From == "" || from != "" && stake.Within(from, r.From)) {
				open = r.Allow
				break
			}
		}
	}
	own = slices.ContainsFunc(rules, func(r UFWRule) bool {
		return r.Allow && r.Protocol == w.Protocol && r.Ports == span && r.From == from
	})
	return open, own
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

func (u ufw) Read(ctx context.Context, w stake.PortWant, from string) (PortState, error) {
	s := PortState{Where: "ufw"}
	file, tool := ufwRules, "iptables"
	if strings.Contains(from, ":") {
		file, tool = "/etc/ufw/user6.rules", "ip6tables"
	}
	b, err := u.m.Read(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return s, fmt.Errorf("read what ufw keeps: %w", err)
	}
	r := PortRule{Place: "ufw"}
	r.OpenKept, r.Kept = UFWLets(ParseUFW(b), w, from)
	rules, err := ReadRules(ctx, u.m)
	if err != nil {
		return s, err
	}
	if b, err = u.m.Run(ctx, nil, tool, "-S", ufwChain); err != nil {
		var failed *system.Failed
		if !errors.As(err, &failed) {
			return s, err
		}
		r.OpenLive = rules.Filters.Closed(stake.PortWant{Port: w.Port, To: w.To, Protocol: w.Protocol}) == "" // it is not loaded
	} else {
		r.OpenLive, r.Live = UFWLets(ParseUFWChain(b), w, from)
	}
	if u.lets() {
		r.OpenLive, r.OpenKept = true, true
	}
	s.Live, s.Kept, s.Rules = r.OpenLive, r.OpenKept, []PortRule{r}
	return s, nil
}

func (u ufw) Set(ctx context.Context, w stake.PortWant, from string, rules []PortRule) error {
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
		// A rule that is to let in comes before those that shut out.
		if is.Kept {
			if err := do(append([]string{"delete"}, words...)...); err != nil {
				return err
			}
		}
		if err := do(append([]string{"prepend"}, words...)...); err != nil {
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
