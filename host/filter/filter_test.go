package filter

import (
	"encoding/binary"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"northstake/core/stake/judge"
	"northstake/core/wire"
)

const ruleset = `{"nftables":[{"metainfo":{"version":"1.0.6"}},
{"table":{"family":"inet","name":"filter"}},
{"chain":{"family":"inet","table":"filter","name":"input","type":"filter","hook":"input","prio":0,"policy":"drop"}},
{"chain":{"family":"inet","table":"filter","name":"web"}},
{"set":{"family":"inet","table":"filter","name":"ports","elem":[{"range":[8000,8010]},443]}},
{"rule":{"family":"inet","table":"filter","chain":"input","expr":[{"match":{"op":"==","left":{"meta":{"key":"iifname"}},"right":"lo"}},{"accept":null}]}},
{"rule":{"family":"inet","table":"filter","chain":"input","expr":[{"match":{"op":"in","left":{"ct":{"key":"state"}},"right":["established","related"]}},{"accept":null}]}},
{"rule":{"family":"inet","table":"filter","chain":"input","expr":[{"match":{"op":"==","left":{"payload":{"protocol":"tcp","field":"dport"}},"right":22}},{"accept":null}]}},
{"rule":{"family":"inet","table":"filter","chain":"input","expr":[{"match":{"op":"==","left":{"payload":{"protocol":"ip","field":"saddr"}},"right":"10.0.0.1"}},{"match":{"op":"==","left":{"payload":{"protocol":"tcp","field":"dport"}},"right":9}},{"accept":null}]}},
{"rule":{"family":"inet","table":"filter","chain":"input","expr":[{"jump":{"target":"web"}}]}},
{"rule":{"family":"inet","table":"filter","chain":"web","expr":[{"match":{"op":"==","left":{"payload":{"protocol":"tcp","field":"dport"}},"right":{"set":[80,{"range":[90,95]}]}}},{"accept":null}]}},
{"rule":{"family":"inet","table":"filter","chain":"web","expr":[{"match":{"op":"==","left":{"payload":{"protocol":"tcp","field":"dport"}},"right":"@ports"}},{"accept":null}]}}]}`

// A port is open only when every input chain lets a new connection from outside
// through.
func TestFiltersDecideAsTheKernelDoes(t *testing.T) {
	f, err := ParseRuleset([]byte(ruleset))
	if err != nil {
		t.Fatal(err)
	}
	for port, open := range map[int]bool{22: true, 80: true, 89: false, 90: true, 95: true, 96: false, 443: true, 8005: true, 8011: false, 9: false} {
		if by := f.Closed(wire.PortWant{Port: port, Protocol: "tcp"}); (by == "") != open {
			t.Errorf("port %d is closed by %q", port, by)
		}
	}
	if by := f.Closed(wire.PortWant{Port: 80, Protocol: "udp"}); by != "table inet filter, chain input" {
		t.Errorf("udp port 80 is closed by %q", by)
	}
	// An accept ends only its own chain: a second one can still drop.
	two := strings.Replace(ruleset, `{"set":`, `{"chain":{"family":"inet","table":"second","name":"in","type":"filter","hook":"input","prio":5,"policy":"accept"}},
{"rule":{"family":"inet","table":"second","chain":"in","expr":[{"match":{"op":"==","left":{"payload":{"protocol":"tcp","field":"dport"}},"right":80}},{"drop":null}]}},{"set":`, 1)
	if f, err = ParseRuleset([]byte(two)); err != nil {
		t.Fatal(err)
	}
	if by := f.Closed(wire.PortWant{Port: 80, Protocol: "tcp"}); by != "table inet second, chain in" {
		t.Errorf("with a second chain port 80 is closed by %q", by)
	}
	if by := f.Closed(wire.PortWant{Port: 22, Protocol: "tcp"}); by != "" {
		t.Errorf("and port 22 by %q", by)
	}
}

// Every port of a range has to be open, and every address of a network.
func TestRangesAndNetworksAsTheKernelDecides(t *testing.T) {
	f, err := ParseRuleset([]byte(ruleset))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		want wire.PortWant
		open bool
	}{
		{wire.PortWant{Port: 90, To: 95, Protocol: "tcp"}, true},
		{wire.PortWant{Port: 80, To: 95, Protocol: "tcp"}, false},
		{wire.PortWant{Port: 8000, To: 8010, Protocol: "tcp"}, true},
		{wire.PortWant{Port: 8000, To: 60000, Protocol: "tcp"}, false},
		{wire.PortWant{Port: 9, Protocol: "tcp", From: []string{"10.0.0.1/32"}}, true},
		{wire.PortWant{Port: 9, Protocol: "tcp", From: []string{"10.0.0.0/24"}}, false},
		{wire.PortWant{Port: 80, Protocol: "tcp", From: []string{"fd00::/8"}}, true},
	} {
		if by := f.Closed(c.want); (by == "") != c.open {
			t.Errorf("%+v is closed by %q", c.want, by)
		}
	}
}

const ufwKept = `*filter
### RULES ###

### tuple ### deny tcp 90 0.0.0.0/0 any 0.0.0.0/0 in
-A ufw-user-input -p tcp --dport 90 -j DROP
### tuple ### allow tcp 80,443 0.0.0.0/0 any 0.0.0.0/0 Nginx%20Full - in
### tuple ### allow tcp 5432 0.0.0.0/0 any 10.0.0.0/8 in
### tuple ### limit udp 8000:8100 0.0.0.0/0 any 0.0.0.0/0 in
### tuple ### allow any 53 0.0.0.0/0 any 0.0.0.0/0 in
### tuple ### allow tcp 90 0.0.0.0/0 any 0.0.0.0/0 in
### tuple ### allow tcp 99 0.0.0.0/0 any 0.0.0.0/0 out
`

const ufwLive = `-N ufw-user-input
-A ufw-user-input -p tcp -m tcp --dport 90 -j DROP
-A ufw-user-input -p tcp -m multiport --dports 80,443 -m comment --comment "'dapp_Nginx%20Full'" -j ACCEPT
-A ufw-user-input -p tcp -m multiport --dports 80,443 -j ACCEPT
-A ufw-user-input -s 10.0.0.0/8 -p tcp -m tcp --dport 5432 -j ACCEPT
-A ufw-user-input -p udp -m multiport --dports 8000:8100 -j ACCEPT
-A ufw-user-input -p udp -m udp --dport 53 -j ACCEPT
-A ufw-user-input -p tcp -m tcp --dport 53 -j ACCEPT
-A ufw-user-input -p tcp -m tcp --dport 90 -j ACCEPT
`

// What ufw keeps and what it has loaded decide in order.
func TestUFWDecidesInOrder(t *testing.T) {
	for name, rules := range map[string][]UFWRule{"kept": ParseUFW([]byte(ufwKept)), "live": ParseUFWChain([]byte(ufwLive))} {
		for _, c := range []struct {
			ports, from string
			open, own   bool
		}{
			{"80/tcp", "", true, false}, {"443/tcp", "10.0.0.0/8", true, false}, {"90/tcp", "", false, true}, {"99/tcp", "", false, false},
			{"5432/tcp", "", false, false}, {"5432/tcp", "10.0.0.0/8", true, true}, {"5432/tcp", "10.1.0.0/16", true, false},
			{"8000-8100/udp", "", true, true}, {"8050/udp", "", true, false}, {"8000-8101/udp", "", false, false}, {"53/udp", "", true, false},
		} {
			w, ok := wire.ParsePorts(c.ports)
			if !ok {
				t.Fatal(c.ports)
			}
			open, own, _, _ := UFWLets(rules, w, c.from)
			if open != c.open || name == "kept" && own != c.own {
				t.Errorf("%s, %s from %q: open %t, own %t", name, c.ports, c.from, open, own)
			}
		}
	}
}

func FuzzUFW(f *testing.F) {
	f.Add([]byte(ufwKept))
	f.Add([]byte(ufwLive))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, rules := range [][]UFWRule{ParseUFW(b), ParseUFWChain(b)} {
			w := wire.PortWant{Port: 80, Protocol: "tcp"}
			everybody, _, _, _ := UFWLets(rules, w, "")
			some, _, _, _ := UFWLets(rules, w, "10.0.0.0/8")
			if everybody && !some && !strings.Contains(string(b), "10.") {
				t.Fatal("what is open to everybody is closed to some that no rule names")
			}
		}
	})
}

// What is said of many ports at once is what is said of each of them.
func FuzzRuleset(f *testing.F) {
	f.Add([]byte(ruleset))
	f.Add([]byte(`{"nftables":[{"chain":{"family":"inet","table":"t","name":"c","type":"filter","hook":"input"}},{"rule":{"family":"inet","table":"t","chain":"c","expr":[{"jump":{"target":"c"}}]}}]}`))
	otherNumbers := regexp.MustCompile(`\\|[0-9.][eE]|[0-9]\.|-[0-9]`) // which nft does not write of ports
	f.Fuzz(func(t *testing.T, b []byte) {
		r, err := ParseRuleset(b)
		if err != nil {
			return
		}
		r.Led() // whatever nft says, it ends
		many := r.Closed(wire.PortWant{Port: 80, To: 300, Protocol: "tcp", From: []string{"10.0.0.0/8"}})
		if otherNumbers.Match(b) {
			return
		}
		one := ""
		for p := 80; p <= 300 && one == ""; p++ {
			one = r.Closed(wire.PortWant{Port: p, Protocol: "tcp", From: []string{"10.0.0.0/8"}})
		}
		if many != one {
			t.Errorf("80-300 are closed by %q, and one of them by %q", many, one)
		}
	})
}

func FuzzInRange(f *testing.F) {
	f.Add("80", 80)
	f.Add("8000-8100", 8050)
	f.Add("-", 0)
	f.Fuzz(func(t *testing.T, ports string, port int) {
		in := InRange(ports, port)
		if ports == fmt.Sprint(port) && !in {
			t.Fatalf("%d is not in %q", port, ports)
		}
		if in && !strings.ContainsAny(ports, "0123456789") {
			t.Fatalf("%d is in %q", port, ports)
		}
	})
}

func FuzzGeneration(f *testing.F) {
	f.Add(make([]byte, 28))
	f.Fuzz(func(t *testing.T, b []byte) {
		if _, err := parseGeneration(b, 1); err == nil && len(b) < 28 {
			t.Fatal("a generation in too few bytes")
		}
		if none, err := parseNoTables(b); err == nil && none && binary.NativeEndian.Uint16(b[4:]) != syscall.NLMSG_DONE {
			t.Fatal("no tables, and the kernel has not said so")
		}
	})
}

// What the file of North Stake's own table holds is read back as the table, and other
// text stays what it is.
func TestTheTableThatIsKept(t *testing.T) {
	table := judge.TableOf(wire.FirewallWant{SSH: 22, Ports: []wire.PortWant{{Port: 80, Protocol: "tcp"}}})
	if got := KeptIn(FileText(table)); got != table {
		t.Errorf("kept as %q, read as %q", table, got)
	}
	for _, other := range []string{"", "table inet other {}\n", "#" + FileText(table)} {
		if got := KeptIn(other); got != other {
			t.Errorf("%q is read as %q", other, got)
		}
	}
	for _, manager := range []string{"systemd", "init scripts"} {
		if l := LoaderFor(manager); !strings.Contains(l.Text, "nft -f "+File) {
			t.Errorf("what %s loads is\n%s", manager, l.Text)
		}
	}
}

func TestTheGenerationIsRead(t *testing.T) {
	if n, err := parseGeneration(append(make([]byte, 20), 8, 0, 2, 0, 0, 0, 0, 9, 8, 0, 1, 0, 0, 0, 1, 7), 1); n != 263 || err != nil {
		t.Errorf("%d, %v", n, err)
	}
	if n, err := Generation(); err == nil {
		again, err := Generation()
		if err != nil || again < n {
			t.Errorf("%d, then %d, %v", n, again, err)
		}
	}
}

// A rule of ufw for some interface or address lets in nobody for sure, and may shut; a deny
// that stands before is named; what no rule is about is not decided.
func TestUFWCountsWhatCannotBeToldAgainst(t *testing.T) {
	for name, c := range map[string]struct {
		rules         string
		open, decided bool
		denied        bool
	}{
		"an interface":           {"### tuple ### allow tcp 80 0.0.0.0/0 any 0.0.0.0/0 in_eth1\n", false, false, false},
		"an address of the host": {"### tuple ### allow tcp 80 10.0.0.5 any 0.0.0.0/0 in\n", false, false, false},
		"shut on an interface":   {"### tuple ### deny tcp 80 0.0.0.0/0 any 0.0.0.0/0 in_eth1\n### tuple ### allow tcp 80 0.0.0.0/0 any 0.0.0.0/0 in\n", false, true, true},
		"shut for some":          {"### tuple ### deny any any 0.0.0.0/0 any 10.0.0.9 in\n### tuple ### allow tcp 80 0.0.0.0/0 any 0.0.0.0/0 in\n", false, true, true},
		"shut for some, after":   {"### tuple ### allow tcp 80 0.0.0.0/0 any 0.0.0.0/0 in\n### tuple ### deny any any 0.0.0.0/0 any 10.0.0.9 in\n", true, true, false},
		"of something else":      {"### tuple ### allow tcp 81 0.0.0.0/0 any 0.0.0.0/0 in\n", false, false, false},
		"open":                   {"### tuple ### allow tcp 80 0.0.0.0/0 any 0.0.0.0/0 in\n", true, true, false},
	} {
		open, _, decided, denied := UFWLets(ParseUFW([]byte(c.rules)), wire.PortWant{Port: 80, Protocol: "tcp"}, "")
		if open != c.open || decided != c.decided || (denied != "") != c.denied {
			t.Errorf("%s: open %t, decided %t, denied by %q", name, open, decided, denied)
		}
	}
}

// A kernel that refuses to tell its rules is told from one that has none.
func TestAKernelThatRefuses(t *testing.T) {
	refusal := make([]byte, 36)
	binary.NativeEndian.PutUint32(refusal, 36)
	binary.NativeEndian.PutUint16(refusal[4:], syscall.NLMSG_ERROR)
	errno := -int32(syscall.EPERM)
	binary.NativeEndian.PutUint32(refusal[16:], uint32(errno))
	if _, err := parseGeneration(refusal, 10); !errors.Is(err, syscall.EPERM) {
		t.Errorf("it is said that %v", err)
	}
	if _, err := parseGeneration(nil, 10); err == nil {
		t.Error("nothing is taken for an answer")
	}
}
