package judge

import (
	"encoding/json"
	"strings"
	"testing"

	"northstake/core/stake"
	"northstake/core/wire"
)

// A connection from outside decides where something listens; else the verdict says that it
// rests on the rules, and what cannot be told counts against what is claimed.
func TestWhatAPortIsToldBy(t *testing.T) {
	all, some := wire.PortWant{Port: 80, Protocol: "tcp"}, wire.PortWant{Port: 80, Protocol: "tcp", From: []string{"10.0.0.0/8"}}
	open := wire.PortFound{Live: true, Kept: true}
	may := wire.PortFound{Kept: true, By: "table inet other, chain in", Maybe: true}
	met := func(let bool, from string) stake.Input {
		return stake.Input{Reached: map[int]bool{80: let}, Vantage: from}
	}
	for name, c := range map[string]struct {
		in     stake.Input
		want   wire.PortWant
		found  wire.PortFound
		attrs  string
		rests  bool
		blocks string
	}{
		"open by its rules":               {stake.Input{}, all, open, "", true, ""},
		"met":                             {met(true, "10.0.0.2/32"), all, open, "", false, ""},
		"open by its rules, and not met":  {met(false, "10.0.0.2/32"), all, open, "open now", false, "closed by something that is not among the host's own filters"},
		"cannot be told":                  {stake.Input{}, all, may, "open now", true, "cannot be told from its rules"},
		"cannot be told, and met":         {met(true, "10.0.0.2/32"), all, may, "", false, ""},
		"surely closed":                   {stake.Input{}, all, wire.PortFound{By: "table inet other, chain in"}, "open now, open after a restart", true, "closed by table inet other"},
		"closed after a restart":          {stake.Input{}, all, wire.PortFound{Live: true, KeptBy: "table inet boot, chain in"}, "open after a restart", true, "will be closed after a restart, by table inet boot"},
		"for some, and met by them":       {met(true, "10.0.0.2/32"), some, open, "", false, ""},
		"for some, and met by a stranger": {met(true, "192.0.2.2/32"), some, open, "open to others", false, "is open to others as well"},
		"for some, shut to a stranger":    {met(false, "192.0.2.2/32"), some, open, "", false, ""},
		"for some, open to all":           {stake.Input{}, some, wire.PortFound{Live: true, Kept: true, Wider: true}, "open to others", true, "is open to others as well"},
		"denied in a program":             {stake.Input{}, all, wire.PortFound{Filter: "ufw", Where: "ufw", Denied: "deny 80"}, "open now, open after a restart", true, "closed by a rule in ufw: deny 80"},
		"a program that does not start":   {stake.Input{}, some, wire.PortFound{Live: true, Kept: true, Filter: "ufw", NotAtBoot: true}, "filtered after a restart", true, "not started at boot"},
		"the same, open to everybody":     {stake.Input{}, all, wire.PortFound{Live: true, Kept: true, Filter: "ufw", NotAtBoot: true}, "", true, ""},
	} {
		v := judged(t, "port", c.in, c.want, c.found)
		blocks := ""
		if len(v.Blockers) > 0 {
			blocks = v.Blockers[0].What
		}
		if attributes(v) != c.attrs || (v.Rests != "") != c.rests || !strings.Contains(blocks, c.blocks) || (c.blocks == "") != (blocks == "") {
			t.Errorf("%s: differs in %q, rests on %q, blocked by %q", name, attributes(v), v.Rests, blocks)
		}
	}
}

// With a firewall program that filters by itself, inbound = "declared" is looked at there.
func TestWhatAFirewallProgramLetsIn(t *testing.T) {
	w := wire.FirewallWant{SSH: 22, Program: "ufw", Ports: []wire.PortWant{{Port: 80, Protocol: "tcp"}, {Port: 5432, Protocol: "tcp", From: []string{"10.0.0.0/8"}}, {Port: 8000, To: 8010, Protocol: "tcp"}}}
	w.Doors = w.Ports
	doors := &wire.FirewallLoader{Same: true, Mode: "0644", Wanted: "0644"}
	let := func(ports string, from ...string) wire.PortWant {
		p, ok := wire.ParsePorts(ports)
		if !ok {
			t.Fatal(ports)
		}
		p.From = from
		return p
	}
	if got := w.Besides([]wire.PortWant{let("22/tcp"), let("80/tcp"), let("8002-8004/tcp"), let("5432/tcp", "10.1.0.0/16"), let("80/tcp", "192.0.2.0/24")}); len(got) > 0 {
		t.Errorf("what is declared is besides: %v", got)
	}
	if got := strings.Join(w.Besides([]wire.PortWant{let("80/udp"), let("5432/tcp"), let("8000-8011/tcp"), let("22/udp")}), " "); got != "80/udp 5432/tcp 8000-8011/tcp 22/udp" {
		t.Errorf("%v", got)
	}
	for name, c := range map[string]struct {
		found  wire.FirewallFound
		attrs  string
		blocks bool
		moves  string
	}{
		"as declared":          {wire.FirewallFound{Program: "ufw"}, "", false, ""},
		"another port":         {wire.FirewallFound{Program: "ufw", Besides: []string{"9000/tcp"}}, "lets in besides", true, ""},
		"lets everything in":   {wire.FirewallFound{Program: "ufw", All: true}, "what no rule is about", true, ""},
		"not at boot":          {wire.FirewallFound{Program: "ufw", NotAtBoot: true}, "at boot", true, ""},
		"not active":           {wire.FirewallFound{}, "filtered by", true, ""},
		"our own table beside": {wire.FirewallFound{Program: "ufw", Live: "table", Kept: TableOf(w)}, "lets in now", false, "let only declared ports be led past ufw, into containers or elsewhere: 80/tcp, 5432/tcp from 10.0.0.0/8, 8000-8010/tcp"},
	} {
		if c.found.Live == "" {
			c.found.Live, c.found.Kept = TableOf(w), TableOf(w)
		}
		c.found.Boot, c.found.Loader = "enabled", doors
		v := judged(t, "firewall", stake.Input{}, w, c.found)
		if attributes(v) != c.attrs || len(v.Blockers) > 0 != c.blocks || moves(v) != c.moves {
			t.Errorf("%s: differs in %q, blockers %v, moves %q", name, attributes(v), v.Blockers, moves(v))
		}
	}
	ssh := wire.FirewallWant{SSH: 22, Ports: []wire.PortWant{{Port: 22, Protocol: "tcp", From: []string{"10.0.0.0/8"}}}}
	if table := TableOf(ssh); strings.Contains(table, "\t\ttcp dport 22 accept") || !strings.Contains(table, "ip saddr 10.0.0.0/8 tcp dport 22 accept") {
		t.Errorf("SSH for some networks alone:\n%s", table)
	}
}

// What earlier releases kept of the ports that are let in is read as it was meant.
func TestPortsOfEarlierReleases(t *testing.T) {
	was := `{"ports":["22/tcp","5432/tcp from 10.88.0.0/24","5432/tcp from fd00::/64","8000-8010/udp"],"ssh":22}`
	var w wire.FirewallWant
	if err := json.Unmarshal(stake.WantOfBefore("firewall", json.RawMessage(was)), &w); err != nil {
		t.Fatal(err)
	}
	want := []wire.PortWant{{Port: 22, Protocol: "tcp"}, {Port: 5432, Protocol: "tcp", From: []string{"10.88.0.0/24"}}, {Port: 5432, Protocol: "tcp", From: []string{"fd00::/64"}}, {Port: 8000, To: 8010, Protocol: "udp"}}
	if string(wire.JSON(w.Ports)) != string(wire.JSON(want)) || w.SSH != 22 {
		t.Errorf("%+v", w)
	}
	for _, now := range []string{`{"ssh":22,"ports":[]}`, `{"ports":null,"ssh":22}`, string(wire.JSON(w))} {
		if got := stake.WantOfBefore("firewall", json.RawMessage(now)); string(got) != now {
			t.Errorf("%s becomes %s", now, got)
		}
	}
}
