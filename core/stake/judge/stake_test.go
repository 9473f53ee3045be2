package judge

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"northstake/core/declare"
	"northstake/core/stake"
	_ "northstake/core/stake/kinds" // whose readings are judged
	"northstake/core/wire"
)

func judged(t *testing.T, typ string, in stake.Input, want, found any) stake.Verdict {
	t.Helper()
	k, err := stake.KindOf(typ)
	if err != nil {
		t.Fatal(err)
	}
	in.Stake.Place, in.Stake.Type = "quay1", typ
	in.Stake.Want, in.Found = wire.JSON(want), wire.JSON(found)
	v, err := k.Judge(in)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

func attributes(v stake.Verdict) string {
	var out []string
	for _, d := range v.Differences {
		out = append(out, d.Attribute)
	}
	return strings.Join(out, ", ")
}

func moves(v stake.Verdict) string {
	var out []string
	for _, m := range v.Moves {
		if !strings.HasPrefix(m.Text, m.Verb) {
			out = append(out, "the text does not begin with the verb "+m.Verb)
		}
		out = append(out, m.Text)
	}
	return strings.Join(out, "; ")
}

func TestPackages(t *testing.T) {
	for _, c := range []struct {
		found   wire.PackageFound
		moves   string
		blocked bool
		gone    bool
	}{
		{wire.PackageFound{State: "installed", Version: "1"}, "", false, false},
		{wire.PackageFound{State: "absent", Candidate: "1.22.1"}, "install package nginx 1.22.1", false, true},
		{wire.PackageFound{State: "config-files", Candidate: "2"}, "install package nginx 2", false, true},
		{wire.PackageFound{State: "half-configured"}, "finish installing package nginx, which is half-configured", false, false},
		{wire.PackageFound{State: "absent"}, "", true, true},
		{wire.PackageFound{State: "half-installed", Version: "1", Candidate: "1"}, "finish installing package nginx, which is half-installed", false, false},
		{wire.PackageFound{State: "half-installed", Version: "1", Candidate: "2"}, "finish installing package nginx, which is half-installed, in version 2", false, false},
		{wire.PackageFound{State: "installed", Version: "1", Candidate: "1", Lacks: []string{"/usr/sbin/nginx"}}, "install package nginx 1 again: /usr/sbin/nginx is gone", false, false},
		{wire.PackageFound{State: "installed", Version: "1", Lists: wire.ListsOld, Lacks: []string{"/usr/sbin/a", "/usr/sbin/b"}}, "install package nginx 1 again: 2 of its files are gone, /usr/sbin/a among them", false, false},
		{wire.PackageFound{State: "installed", Version: "1", Lists: wire.ListsFresh, Lacks: []string{"/usr/sbin/nginx"}}, "", true, false},
		{wire.PackageFound{State: "installed", Version: "1", Unmet: true, Candidate: "2", Lacks: []string{"/usr/sbin/nginx"}}, "install package nginx 2 in place of 1", false, false},
	} {
		v := judged(t, "package", stake.Input{}, wire.PackageWant{Name: "nginx"}, c.found)
		if moves(v) != c.moves || len(v.Blockers) > 0 != c.blocked || v.Gone != c.gone {
			t.Errorf("%+v gives %q, blockers %v, gone %t", c.found, moves(v), v.Blockers, v.Gone)
		}
	}
}

func TestServices(t *testing.T) {
	yes, no := true, false
	both := wire.ServiceWant{Name: "nginx", Running: &yes, AtBoot: &yes}
	for _, c := range []struct {
		name  string
		want  wire.ServiceWant
		found wire.ServiceFound
		attrs string
		moves string
	}{
		{"as declared", both, wire.ServiceFound{Known: true, Active: "active", Boot: "enabled"}, "", ""},
		{"stopped", both, wire.ServiceFound{Known: true, Active: "inactive", Boot: "enabled"}, "running", "start nginx"},
		{"failed", both, wire.ServiceFound{Known: true, Active: "failed", Boot: "enabled"}, "running", "start nginx"},
		{"not at boot", both, wire.ServiceFound{Known: true, Active: "active", Boot: "disabled"}, "at boot", "make nginx start at boot"},
		{"only until the restart", both, wire.ServiceFound{Known: true, Active: "active", Boot: "enabled-runtime"}, "at boot", "make nginx start at boot"},
		{"neither", both, wire.ServiceFound{Known: true, Active: "inactive", Boot: "disabled"}, "at boot, running", "start nginx, make it start at boot"},
		{"masked", both, wire.ServiceFound{Known: true, Active: "inactive", Boot: "masked"}, "masked, at boot, running", "unmask nginx, start it, make it start at boot"},
		{"static", wire.ServiceWant{Name: "nginx", Running: &yes, AtBoot: &yes}, wire.ServiceFound{Known: true, Active: "active", Boot: "static", Wanted: true}, "", ""},
		{"static, and nothing starts it", both, wire.ServiceFound{Known: true, Active: "active", Boot: "static"}, "at boot", ""},
		{"only linked", both, wire.ServiceFound{Known: true, Active: "active", Boot: "linked"}, "at boot", "make nginx start at boot"},
		{"ends and is started again", both, wire.ServiceFound{Known: true, Active: "activating", Boot: "enabled"}, "running", "start nginx"},
		{"has just been started again", both, wire.ServiceFound{Known: true, Active: "active", Unsteady: true, Boot: "enabled"}, "running", "restart nginx"},
		{"to be stopped, and starting over", wire.ServiceWant{Name: "nginx", Running: &no}, wire.ServiceFound{Known: true, Active: "activating", Boot: "enabled"}, "running", "stop nginx"},
		{"does its work and ends", both, wire.ServiceFound{Known: true, Active: "inactive", Boot: "enabled", Ends: true}, "running", ""},
		{"one half alone", wire.ServiceWant{Name: "nginx", AtBoot: &no}, wire.ServiceFound{Known: true, Active: "active", Boot: "enabled"}, "at boot", "keep nginx from starting at boot"},
		{"to be stopped", wire.ServiceWant{Name: "nginx", Running: &no}, wire.ServiceFound{Known: true, Active: "active", Boot: "enabled"}, "running", "stop nginx"},
	} {
		v := judged(t, "service", stake.Input{}, c.want, c.found)
		if attributes(v) != c.attrs || moves(v) != c.moves {
			t.Errorf("%s: differs in %q, moves %q", c.name, attributes(v), moves(v))
		}
	}
	for _, c := range []struct {
		want  wire.ServiceWant
		found wire.ServiceFound
		says  string
	}{
		{both, wire.ServiceFound{Known: true, Active: "inactive", Boot: "enabled", Ends: true}, "does its work and ends"},
		{both, wire.ServiceFound{Known: true, Active: "active", Boot: "static"}, "has no state at boot that could be set (it is static)"},
		{wire.ServiceWant{Name: "nginx", Running: &no}, wire.ServiceFound{Known: true, Active: "inactive", Boot: "enabled", Starters: []string{"nginx.socket"}}, "nginx.socket is up, and starts nginx"},
	} {
		v := judged(t, "service", stake.Input{}, c.want, c.found)
		if notes := append(v.Blockers, v.Cautions...); len(notes) != 1 || !strings.Contains(notes[0].What, c.says) {
			t.Errorf("%+v: %+v", c.found, notes)
		}
	}
	kind, err := stake.KindOf("service")
	if err != nil {
		t.Fatal(err)
	}
	for _, noReload := range []bool{false, true} {
		m, err := kind.Nudged(stake.Input{Stake: stake.Stake{Name: "cron"}, Found: wire.JSON(wire.ServiceFound{Known: true, Active: "active", NoReload: noReload}), Nudges: []stake.Nudge{{How: "reload", Reason: "its file changed"}}})
		if want := map[bool]string{false: "reload cron", true: "restart cron"}[noReload]; err != nil || m.Text != want {
			t.Errorf("told of a change: %q, want %q, %v", m.Text, want, err)
		}
	}
	v := judged(t, "service", stake.Input{}, both, wire.ServiceFound{Near: []string{"nginx-debug"}})
	if len(v.Blockers) != 1 || !strings.Contains(v.Blockers[0].Fix, "nginx-debug") {
		t.Errorf("an unknown unit: %+v", v)
	}
	v = judged(t, "service", stake.Input{}, both, wire.ServiceFound{Here: "webd", Near: []string{"nginx-debug"}})
	if len(v.Blockers) != 1 || !strings.Contains(v.Blockers[0].Fix, "systems of this family call it webd") {
		t.Errorf("a unit that is called otherwise here: %+v", v)
	}
	if v := judged(t, "service", stake.Input{Pending: true}, both, wire.ServiceFound{}); len(v.Blockers) > 0 || moves(v) == "" {
		t.Errorf("a unit that a package will bring: %+v", v)
	}
	// Nudges become part of the move that the service needs anyway.
	in := stake.Input{Nudges: []stake.Nudge{{How: "reload", Reason: "its site changed"}}}
	v = judged(t, "service", in, both, wire.ServiceFound{Known: true, Active: "active", Boot: "disabled"})
	if moves(v) != "reload nginx, make it start at boot" || v.Moves[0].Because != "its site changed" {
		t.Errorf("nudged: %q because %q", moves(v), v.Moves[0].Because)
	}
	var w wire.ServiceWork
	v = judged(t, "service", in, both, wire.ServiceFound{Known: true, Active: "inactive", Boot: "enabled"})
	if err := json.Unmarshal(v.Moves[0].Work, &w); err != nil || w.Now != "start" || w.Nudge != "reload" {
		t.Errorf("a service that may run by then: %+v, %v", w, err)
	}
}

func TestDirectories(t *testing.T) {
	want := wire.DirectoryWant{Path: "/srv/a", Owners: wire.Administrators, Mode: "0755"}
	as := func(kind string) wire.Entry {
		return wire.Entry{Kind: kind, Owners: wire.Administrators, Mode: "0755", Target: "/tmp"}
	}
	loose := as("directory")
	loose.Owner, loose.Mode = "keeper", "0777"
	for _, c := range []struct {
		found   wire.Entry
		attrs   string
		moves   string
		blocked bool
	}{
		{as("directory"), "", "", false},
		{wire.Entry{}, "what it is", "make directory /srv/a", false},
		{loose, "owner, mode", "set directory /srv/a to owner root, group root, mode 0755", false},
		{as("link"), "what it is", "replace the link /srv/a (to /tmp) with a directory", false},
		{as("file"), "what it is", "", true},
	} {
		v := judged(t, "directory", stake.Input{}, want, c.found)
		if attributes(v) != c.attrs || moves(v) != c.moves || len(v.Blockers) > 0 != c.blocked {
			t.Errorf("%+v: differs in %q, moves %q, blockers %v", c.found, attributes(v), moves(v), v.Blockers)
		}
	}
}

func TestContent(t *testing.T) {
	want := wire.ContentWant{Root: "/srv/www/a", Owners: wire.Administrators, Modes: wire.Modes{Files: "0644", Directories: "0755"}, Files: []declare.File{{Path: "index.html", Size: 48_000, SHA256: "a"}, {Path: "b.css", Size: 500, SHA256: "b"}}}
	root := wire.Entry{Kind: "directory", Owners: wire.Administrators, Mode: "0755"}
	v := judged(t, "content", stake.Input{}, want, wire.ContentFound{Missing: []string{"index.html", "b.css"}, Missings: 2})
	if moves(v) != "publish 2 files, 48 KB, to /srv/www/a" || !v.Gone || !v.Moves[0].Blobs {
		t.Errorf("%q, %+v", moves(v), v)
	}
	if text := v.Moves[0].Details[0].Text; !strings.Contains(text, "new      b.css") {
		t.Errorf("the details are %q", text)
	}
	var many []string
	for i := range 30 {
		many = append(many, fmt.Sprint("f", i))
	}
	v = judged(t, "content", stake.Input{}, want, wire.ContentFound{Root: root, Missing: many, Missings: 700})
	if text := v.Moves[0].Details[0].Text; strings.Count(text, "\n") > 25 || !strings.Contains(text, "and 680 more") {
		t.Errorf("the details of many are %q", text)
	}
	if !strings.Contains(v.Differences[len(v.Differences)-1].Found, "670 more missing") {
		t.Errorf("the differences end with %+v", v.Differences[len(v.Differences)-1])
	}
	full := stake.Input{Traits: wire.Traits{Disks: []wire.Disk{{Mount: "/", Free: 1 << 40}, {Mount: "/srv", Size: 1 << 20, Free: 4000}}}}
	if v := judged(t, "content", full, want, wire.ContentFound{Missings: 2}); len(v.Blockers) != 1 || !strings.Contains(v.Blockers[0].What, "/srv has 4.0 KB free, and the content takes 48 KB") {
		t.Errorf("a full disk: %+v", v.Blockers)
	}
	if v := judged(t, "content", stake.Input{}, want, wire.ContentFound{Root: wire.Entry{Kind: "file"}}); len(v.Blockers) != 1 || len(v.Moves) > 0 {
		t.Errorf("a file at the root: %+v", v)
	}
	if v := judged(t, "content", stake.Input{}, want, wire.ContentFound{Root: root, Extra: []string{"theirs"}, Extras: 1}); len(v.Differences) > 0 || fmt.Sprint(v.Strays) != "[/srv/www/a/theirs]" {
		t.Errorf("a file that nobody declared: %+v", v)
	}
}

func TestPorts(t *testing.T) {
	if v := judged(t, "port", stake.Input{}, wire.PortWant{Port: 80, Protocol: "tcp"}, wire.PortFound{Live: true, Kept: true}); len(v.Differences) > 0 {
		t.Errorf("an open port differs: %+v", v)
	}
	v := judged(t, "port", stake.Input{}, wire.PortWant{Port: 80, Protocol: "tcp"}, wire.PortFound{By: "table ip filter, chain INPUT"})
	if len(v.Blockers) != 1 || !strings.Contains(v.Blockers[0].What, "closed by table ip filter, chain INPUT") {
		t.Errorf("a foreign filter: %+v", v)
	}
	if v := judged(t, "port", stake.Input{}, wire.PortWant{Port: 80, Protocol: "tcp", Firewall: true}, wire.PortFound{By: wire.FirewallTable}); len(v.Blockers) > 0 || len(v.Moves) > 0 || len(v.Differences) != 2 {
		t.Errorf("our own table: %+v", v)
	}
	if v := judged(t, "port", stake.Input{}, wire.PortWant{Port: 80, Protocol: "tcp", Firewall: true}, wire.PortFound{By: "table ip filter, chain INPUT"}); len(v.Blockers) != 1 {
		t.Errorf("our table and a foreign one: %+v", v)
	}
	ranged := wire.PortWant{Port: 8000, To: 8100, Protocol: "udp", From: []string{"10.0.0.0/8"}}
	if v := judged(t, "port", stake.Input{}, ranged, wire.PortFound{Filter: "ufw", Where: "ufw", Kept: true}); moves(v) != "open ports 8000-8100/udp for 10.0.0.0/8 in ufw now; it is kept there already" {
		t.Errorf("a range for a network: %q", moves(v))
	}
	if v := judged(t, "port", stake.Input{Pending: true}, ranged, wire.PortFound{Live: true, Kept: true}); moves(v) != "open ports 8000-8100/udp for 10.0.0.0/8 in the firewall that is active by then" {
		t.Errorf("a firewall that the plan brings: %q", moves(v))
	}
}

// opened are ports as they are gathered of a host: "80/tcp", "5432/tcp from 10.0.0.0/8".
func opened(written ...string) []wire.PortWant {
	var out []wire.PortWant
	for _, p := range slices.Compact(slices.Sorted(slices.Values(written))) {
		span, network, limited := strings.Cut(p, " from ")
		w, _ := wire.ParsePorts(span)
		if limited {
			w.From = []string{network}
		}
		out = append(out, w)
	}
	slices.SortStableFunc(out, func(a, b wire.PortWant) int { return a.Ports().Compare(b.Ports()) })
	return out
}

// The table lets in what is declared, for whom it is declared, and says so when it
// is read back.
func TestTheTableOfPortsAndNetworks(t *testing.T) {
	table := TableOf(wire.FirewallWant{SSH: 22, Ports: opened("8000-8100/udp", "80/tcp", "5432/tcp from fd00::/8", "5432/tcp from 10.0.0.0/8", "80/tcp")})
	for _, line := range []string{"\t\ttcp dport 80 accept\n", "\t\tudp dport 8000-8100 accept\n", "\t\tip saddr 10.0.0.0/8 tcp dport 5432 accept\n", "\t\tip6 saddr fd00::/8 tcp dport 5432 accept\n"} {
		if strings.Count(table, line) != 1 {
			t.Errorf("%q is not there once:\n%s", line, table)
		}
	}
	kept := wire.KeptTable(table)
	for _, c := range []struct {
		want wire.PortWant
		lets bool
	}{
		{wire.PortWant{Port: 80, Protocol: "tcp"}, true},
		{wire.PortWant{Port: 80, Protocol: "udp"}, false},
		{wire.PortWant{Port: 8001, To: 8099, Protocol: "udp"}, true},
		{wire.PortWant{Port: 8001, To: 8101, Protocol: "udp"}, false},
		{wire.PortWant{Port: 5432, Protocol: "tcp"}, false},
		{wire.PortWant{Port: 5432, Protocol: "tcp", From: []string{"10.1.0.0/16"}}, true},
		{wire.PortWant{Port: 5432, Protocol: "tcp", From: []string{"10.0.0.0/8", "fd00::/8"}}, true},
		{wire.PortWant{Port: 5432, Protocol: "tcp", From: []string{"10.0.0.0/7"}}, false},
		{wire.PortWant{Port: 80, Protocol: "tcp", From: []string{"192.0.2.0/24"}}, true},
	} {
		if kept.Lets(c.want) != c.lets {
			t.Errorf("%+v: %t", c.want, !c.lets)
		}
	}
}

// What is led elsewhere is guarded, too, whether a container is declared or none: what is declared is
// let in, and said.
func TestTheTableOfDoors(t *testing.T) {
	w := wire.FirewallWant{SSH: 22, Ports: opened("80/tcp", "9090/tcp from 10.0.0.0/8")}
	w.Doors = append(opened("80/tcp", "9090/tcp from 10.0.0.0/8"), wire.PortWant{Port: 8080, Protocol: "tcp"})
	table := TableOf(w)
	for _, line := range []string{
		"type filter hook forward priority filter; policy accept;\n\t\tct state established,related accept\n",
		"\t\tct status dnat meta l4proto tcp ct original proto-dst 8080 accept\n",
		"\t\tip saddr 10.0.0.0/8 ct status dnat meta l4proto tcp ct original proto-dst 9090 accept\n",
		"\t\tct status dnat drop\n\t}\n}\n",
	} {
		if strings.Count(table, line) != 1 {
			t.Errorf("%q is not there once:\n%s", line, table)
		}
	}
	if got := portWords(table); got != "22/tcp, 80/tcp, 9090/tcp from 10.0.0.0/8, 8080/tcp to a container" {
		t.Errorf("it lets in %s", got)
	}
	if wire.KeptTable(table).Lets(wire.PortWant{Port: 8080, Protocol: "tcp"}) {
		t.Error("a door lets in to the host itself")
	}
	// Beside a firewall program the table guards the doors alone.
	beside := w
	beside.Program = "firewalld"
	if table := TableOf(beside); strings.Contains(table, "hook input") || !strings.Contains(table, "chain doors") {
		t.Errorf("beside a program it is\n%s", table)
	}
	found := wire.FirewallFound{Program: "firewalld"}
	if v := judged(t, "firewall", stake.Input{}, beside, found); moves(v) != "let only declared ports be led past firewalld, into containers or elsewhere: 80/tcp, 9090/tcp from 10.0.0.0/8, 8080/tcp" {
		t.Errorf("beside a program: %q, %+v", moves(v), v.Blockers)
	}
	found.Live, found.Kept, found.Boot, found.Loader = TableOf(beside), TableOf(beside), "enabled", &wire.FirewallLoader{Same: true, Mode: "0644", Wanted: "0644"}
	if v := judged(t, "firewall", stake.Input{}, beside, found); len(v.Differences) > 0 {
		t.Errorf("as declared beside a program: %+v", v.Differences)
	}
	// What was wanted by a release before, which knew of doors where there were containers alone.
	var before wire.FirewallWant
	for kept, found := range map[string]wire.FirewallFound{
		`{"ssh":22,"ports":[{"port":80,"protocol":"tcp"}],"program":"firewalld"}`: {Program: "firewalld"},
		`{"ssh":22,"ports":[{"port":80,"protocol":"tcp"}]}`:                       {Live: TableOf(wire.FirewallWant{SSH: 22, Ports: opened("80/tcp")}), Kept: TableOf(wire.FirewallWant{SSH: 22, Ports: opened("80/tcp")}), Boot: "enabled", Loader: &wire.FirewallLoader{Same: true, Mode: "0644", Wanted: "0644"}},
	} {
		before = wire.FirewallWant{}
		if err := json.Unmarshal([]byte(kept), &before); err != nil {
			t.Fatal(err)
		}
		if v := judged(t, "firewall", stake.Input{}, before, found); len(v.Differences) > 0 {
			t.Errorf("%s, as it was left, differs: %+v", kept, v.Differences)
		}
	}
	v := judged(t, "firewall", stake.Input{}, w, wire.FirewallFound{Denied: true})
	if len(v.Moves) > 0 || len(v.Blockers) != 1 || !strings.Contains(v.Blockers[0].What, "NET_ADMIN") {
		t.Errorf("without the right: %+v", v)
	}
}

// What the table will lead on no more is said before: what is declared is led on, and what is shut
// already is shut no further.
func TestWhatIsLedNoMore(t *testing.T) {
	span := func(s string) wire.PortWant {
		w, ok := wire.ParsePorts(s)
		if !ok {
			t.Fatal(s)
		}
		return w
	}
	led := []wire.Led{{Ports: []wire.PortWant{span("9090/tcp"), span("8000-8010/tcp")}, By: "table ip nat, chain NV"}, {Ports: []wire.PortWant{span("80/tcp")}, By: "table ip mine, chain pre"}, {Ports: nil, By: "table ip mine, chain all"}}
	for _, c := range []struct {
		doors []wire.PortWant
		live  string
		want  string
	}{
		{opened("80/tcp"), "", "port 9090/tcp, port 8000-8010/tcp (led elsewhere by table ip nat, chain NV); ports that it does not name (led elsewhere by table ip mine, chain all)"},
		{opened("80/tcp", "9090/tcp", "8000-8010/tcp"), "", "ports that it does not name (led elsewhere by table ip mine, chain all)"},
		{opened("80/tcp"), TableOf(wire.FirewallWant{SSH: 22, Doors: opened("80/tcp")}), ""},
		{opened("80/tcp"), TableOf(wire.FirewallWant{SSH: 22, Doors: opened("80/tcp", "9090/tcp")}), "port 9090/tcp (led elsewhere by table ip nat, chain NV)"},
		{opened("80/tcp"), TableOf(wire.FirewallWant{SSH: 22}), "port 9090/tcp, port 8000-8010/tcp (led elsewhere by table ip nat, chain NV); ports that it does not name (led elsewhere by table ip mine, chain all)"},
	} {
		if got := strings.Join(ledNoMore(wire.FirewallWant{SSH: 22, Doors: c.doors}, wire.FirewallFound{Live: c.live, Led: led}), "; "); got != c.want {
			t.Errorf("with %v: %s", c.doors, got)
		}
	}
	v := judged(t, "firewall", stake.Input{}, wire.FirewallWant{SSH: 22, Program: "ufw", Doors: []wire.PortWant{}}, wire.FirewallFound{Program: "ufw", Led: led})
	if len(v.Cautions) != 1 || !strings.Contains(v.Cautions[0].What, "port 9090/tcp, port 8000-8010/tcp (led elsewhere by table ip nat, chain NV)") {
		t.Errorf("beside a program: %v", v.Cautions)
	}
}

func TestAccounts(t *testing.T) {
	want := wire.AccountWant{Name: "tides", Home: "/srv/tides", Shell: "/usr/sbin/nologin", Groups: []string{"adm"}}
	there := wire.AccountFound{Known: true, ID: 120, System: true, Group: "tides", Home: "/srv/tides", Shell: "/usr/sbin/nologin", Groups: []string{"adm"}}
	other := there
	other.Home, other.Groups = "/", nil
	person := other
	person.System = false
	for _, c := range []struct {
		in    stake.Input
		found wire.AccountFound
		attrs string
		moves string
		block string
	}{
		{stake.Input{}, there, "", "", ""},
		{stake.Input{}, wire.AccountFound{}, "account", "make system account tides, in group adm", ""},
		{stake.Input{}, other, "home, group adm", "set system account tides: home, group adm", ""},
		{stake.Input{}, person, "home, group adm", "", "the account of a person"},
		{stake.Input{}, wire.AccountFound{Missing: []string{"adm"}}, "account", "", "no group adm"},
		{stake.Input{Pending: true}, wire.AccountFound{Missing: []string{"adm"}}, "account", "make system account tides, in group adm", ""},
	} {
		v := judged(t, "account", c.in, want, c.found)
		if attributes(v) != c.attrs || moves(v) != c.moves || (len(v.Blockers) > 0) != (c.block != "") || !strings.Contains(fmt.Sprint(v.Blockers), c.block) {
			t.Errorf("%+v: %q, %q, %v", c.found, attributes(v), moves(v), v.Blockers)
		}
	}
}

func TestFirewall(t *testing.T) {
	want := wire.FirewallWant{SSH: 22, Ports: opened("8080/tcp", "53/udp", "80/tcp", "80/tcp", "22/tcp")}
	var words []string
	for _, p := range want.Ports {
		words = append(words, p.Words())
	}
	if fmt.Sprint(words) != "[22/tcp 80/tcp 8080/tcp 53/udp]" {
		t.Errorf("sorted: %v", words)
	}
	table := TableOf(want)
	if strings.Count(table, "dport 22 ") != 1 || !strings.Contains(table, "policy drop") || !strings.Contains(table, "ct state established,related accept") || !strings.Contains(table, `iifname "lo" accept`) {
		t.Errorf("the table is\n%s", table)
	}
	good := wire.FirewallFound{Live: table, Kept: table, Loader: &wire.FirewallLoader{Same: true, Mode: "0644", Wanted: "0644"}, Boot: "enabled", File: wire.Entry{Kind: "file", Owners: wire.Administrators, Mode: "0644"}}
	if v := judged(t, "firewall", stake.Input{}, want, good); len(v.Differences) > 0 {
		t.Errorf("as declared it differs: %+v", v.Differences)
	}
	spaced := good
	spaced.Live = strings.ReplaceAll(table, "\t", "    ")
	if v := judged(t, "firewall", stake.Input{}, want, spaced); len(v.Differences) > 0 {
		t.Error("other spaces are a difference")
	}
	for name, change := range map[string]func(*wire.FirewallFound){
		"lets in now": func(f *wire.FirewallFound) {
			f.Live = strings.Replace(table, "tcp dport 80 accept", "tcp dport 81 accept", 1)
		},
		"rules now":        func(f *wire.FirewallFound) { f.Live = "" },
		"kept rules":       func(f *wire.FirewallFound) { f.Kept = "" },
		"mode":             func(f *wire.FirewallFound) { f.File.Mode = "0600" },
		"unit":             func(f *wire.FirewallFound) { f.Loader = nil },
		"mode of the unit": func(f *wire.FirewallFound) { f.Loader = &wire.FirewallLoader{Same: true, Mode: "0600", Wanted: "0644"} },
		"at boot":          func(f *wire.FirewallFound) { f.Boot = "disabled" },
	} {
		f := good
		change(&f)
		v := judged(t, "firewall", stake.Input{}, want, f)
		if attributes(v) != name || len(v.Moves) != 1 || !v.Moves[0].Confirm {
			t.Errorf("%s: differs in %q: %+v", name, attributes(v), v.Moves)
		}
	}
	script := good
	script.Loader = &wire.FirewallLoader{Same: true, Mode: "0755", Wanted: "0755"}
	if v := judged(t, "firewall", stake.Input{Traits: wire.Traits{ServiceManager: "init scripts"}}, want, script); len(v.Differences) > 0 {
		t.Errorf("loaded by a script it differs: %+v", v.Differences)
	}
	if v := judged(t, "firewall", stake.Input{Traits: wire.Traits{ServiceManager: "none"}}, want, wire.FirewallFound{}); len(v.Blockers) != 1 || len(v.Moves) > 0 {
		t.Errorf("nothing can load it: %+v", v)
	}
	if !wire.KeptTable(table).Lets(wire.PortWant{Port: 53, Protocol: "udp"}) || wire.KeptTable(table).Lets(wire.PortWant{Port: 53, Protocol: "tcp"}) {
		t.Error("the kept table is misread")
	}
}

// What differs in a package's version, what is done about it, and what is in the way.
func TestPackagesOfAVersion(t *testing.T) {
	for _, c := range []struct {
		want  wire.PackageWant
		found wire.PackageFound
		moves string
		note  string
	}{
		{wire.PackageWant{Version: "1.22.1"}, wire.PackageFound{State: "installed", Version: "1.22.1-9"}, "", ""},
		{wire.PackageWant{Version: "1.22.1"}, wire.PackageFound{State: "installed", Version: "1.24", Unmet: true, Older: true, Candidate: "1.22.1-9"}, "install package nginx 1.22.1-9 in place of 1.24", "goes back"},
		{wire.PackageWant{Version: "1.23"}, wire.PackageFound{State: "absent", Lists: wire.ListsFresh, Offered: []string{"1.22.1-9"}}, "", "offers nginx 1.23: there is 1.22.1-9"},
		{wire.PackageWant{AtLeast: "1.24"}, wire.PackageFound{State: "installed", Version: "1.20", Unmet: true, Older: true, Candidate: "1.22", Lists: wire.ListsFresh}, "", "1.22 at most"},
		{wire.PackageWant{Newest: true}, wire.PackageFound{State: "installed", Version: "1.20", Unmet: true, Candidate: "1.22", Lists: wire.ListsOld}, "install package nginx 1.22 in place of 1.20", ""},
		{wire.PackageWant{}, wire.PackageFound{State: "absent", Lists: wire.ListsNone}, "install package nginx", ""},
		{wire.PackageWant{}, wire.PackageFound{State: "absent", Lists: wire.ListsFresh, Near: []string{"nginx-light"}, Disabled: []string{"tides"}}, "", "check the name: there is nginx-light; or switch a source on: tides is off"},
		{wire.PackageWant{}, wire.PackageFound{State: "absent", Lists: wire.ListsFresh, Here: "webd", Near: []string{"nginx-light"}}, "", "systems of this family call it webd"},
		{wire.PackageWant{}, wire.PackageFound{State: "absent", Lists: wire.ListsNone, Short: &wire.Short{Path: "/usr", Free: 5 << 20, Takes: 0}}, "install package nginx", "/usr has only 5.2 MB free"},
		{wire.PackageWant{}, wire.PackageFound{State: "absent", Candidate: "2", Short: &wire.Short{Path: "/usr", Free: 5 << 20, Takes: 9 << 20}}, "", "/usr has 5.2 MB free, and the packages of this plan take 9.4 MB"},
	} {
		c.want.Name = "nginx"
		v := judged(t, "package", stake.Input{}, c.want, c.found)
		said := fmt.Sprint(v.Blockers, v.Cautions)
		if moves(v) != c.moves || (c.note == "") != (said == "[] []") || !strings.Contains(said, c.note) {
			t.Errorf("%+v found %+v: %q, %s", c.want, c.found, moves(v), said)
		}
		if len(v.Moves) == 1 {
			w, _ := stake.Decoded[wire.PackageWork](v.Moves[0].Work)
			if w.Refresh != (c.found.Lists == wire.ListsOld || c.found.Lists == wire.ListsNone) {
				t.Errorf("%+v found %+v: refresh is %t", c.want, c.found, w.Refresh)
			}
		}
	}
	pending := judged(t, "package", stake.Input{Pending: true}, wire.PackageWant{Name: "nginx"}, wire.PackageFound{State: "absent", Lists: wire.ListsFresh})
	if moves(pending) != "install package nginx" {
		t.Errorf("a package that a source of the same plan brings: %+v", pending)
	}
}

func TestSources(t *testing.T) {
	want := wire.SourceWant{Name: "ferries", URL: "http://tides.test/d", Key: []byte("k")}
	file := wire.Entry{Kind: "file", Owners: wire.Administrators, Mode: "0644"}
	loose := file
	loose.Mode = "0666"
	for _, c := range []struct {
		found wire.SourceFound
		attrs string
		moves string
	}{
		{wire.SourceFound{Files: []wire.SourceFileFound{{Path: "/k", Entry: file, Same: true}, {Path: "/s", Entry: file, Same: true}}}, "", ""},
		{wire.SourceFound{Files: []wire.SourceFileFound{{Path: "/k", Entry: wire.Entry{}, Same: false}, {Path: "/s", Entry: wire.Entry{}, Same: false}}}, "/k, /s", "add package source ferries, http://tides.test/d, with its key"},
		{wire.SourceFound{Files: []wire.SourceFileFound{{Path: "/k", Entry: file, Same: false}, {Path: "/s", Entry: loose, Same: true}}}, "text of /k, mode of /s", "write package source ferries, http://tides.test/d, and its key again"},
	} {
		v := judged(t, "source", stake.Input{}, want, c.found)
		if attributes(v) != c.attrs || moves(v) != c.moves {
			t.Errorf("%+v: %q, %q", c.found, attributes(v), moves(v))
		}
	}
}

// What makes a step unwise or impossible is said before it is done.
func TestWhatIsInTheWay(t *testing.T) {
	root := wire.Entry{Kind: "directory", Owners: wire.Administrators, Mode: "0755"}
	shut := wire.Shut{Root: "/srv/private/www", At: "/srv/private", Entry: wire.Entry{Kind: "directory", Owners: wire.Administrators, Mode: "0700"}}
	site := wire.SiteWant{User: "www-data", Service: "nginx", Roots: []wire.Path{"/srv/private/www"}}
	minded := site
	minded.Dirs = []wire.Path{"/srv/private"}
	yes := true
	for _, c := range []struct {
		what, typ   string
		in          stake.Input
		want, found any
		blocker     string
		caution     string
	}{
		{"a directory that shuts the server out", "site", stake.Input{}, site, wire.SiteFound{Shut: []wire.Shut{shut}}, "account www-data of nginx cannot get to /srv/private/www: /srv/private (0700", ""},
		{"one whose mode is declared", "site", stake.Input{}, minded, wire.SiteFound{Shut: []wire.Shut{shut}}, "", ""},
		{"a root with a label of homes", "site", stake.Input{}, site, wire.SiteFound{Labels: []string{"user_home_t"}}, "", "SELinux is enforcing, and /srv/private/www has the label user_home_t"},
		{"one with a label of sites", "site", stake.Input{}, site, wire.SiteFound{Labels: []string{"httpd_sys_content_t"}}, "", ""},
		{"one without a label", "site", stake.Input{}, site, wire.SiteFound{Labels: []string{""}}, "", ""},
		{"a mount", "content", stake.Input{}, wire.ContentWant{Root: "/srv/www", Files: []declare.File{{Path: "a", Size: 1}}}, wire.ContentFound{Root: root, Mounted: true, Missing: []string{"a"}, Missings: 1}, "a file system is mounted at /srv/www", ""},
		{"what a filter shuts out", "firewall", stake.Input{Traits: wire.Traits{Listeners: []wire.Listener{{Protocol: "tcp", Address: "0.0.0.0", Port: 22, Program: "sshd", PID: 1}, {Protocol: "tcp", Address: "::", Port: 5432, Program: "postgres", PID: 2}, {Protocol: "tcp", Address: "0.0.0.0", Port: 5432, Program: "postgres", PID: 2}, {Protocol: "tcp", Address: "127.0.0.1", Port: 6379, Program: "redis", PID: 3}, {Protocol: "udp", Address: "0.0.0.0", Port: 68, Program: "dhclient", PID: 4}, {Protocol: "tcp", Address: "0.0.0.0", Port: 80, Program: "nginx", PID: 5}}}}, wire.FirewallWant{SSH: 22, Ports: []wire.PortWant{{Port: 80, Protocol: "tcp"}}}, wire.FirewallFound{}, "", "this shuts out what answers on this host: port 5432/tcp (postgres)"},
		{"a filter that shuts it out already", "firewall", stake.Input{Traits: wire.Traits{Listeners: []wire.Listener{{Protocol: "tcp", Address: "::", Port: 5432, Program: "postgres", PID: 2}}}}, wire.FirewallWant{SSH: 22}, wire.FirewallFound{Live: TableOf(wire.FirewallWant{SSH: 2222})}, "", ""},
		{"the table of another ground", "port", stake.Input{}, wire.PortWant{Port: 8085, Protocol: "tcp"}, wire.PortFound{By: wire.FirewallTable, KeptBy: wire.FirewallTable}, "by which North Stake lets in what another ground on this machine declares", "nothing listens on it"},
		{"directories nested without an end", "content", stake.Input{}, wire.ContentWant{Root: "/srv/www", Files: []declare.File{{Path: "a", Size: 1}}}, wire.ContentFound{Root: root, TooDeep: []string{"deep"}, Missing: []string{"a"}, Missings: 1}, "directories that nobody declared are nested in /srv/www/deep until no path leads to them", ""},
		{"a link", "content", stake.Input{}, wire.ContentWant{Root: "/srv/www", Files: []declare.File{{Path: "a", Size: 1}}}, wire.ContentFound{Root: wire.Entry{Kind: "link", Target: "/x"}, Missing: []string{"a"}, Missings: 1}, "", "is a link to /x"},
		{"a masked service", "service", stake.Input{}, wire.ServiceWant{Name: "cron", Running: &yes}, wire.ServiceFound{Known: true, Active: "inactive", Boot: "masked"}, "", "cron is masked"},
		{"a wrong clock", "package", stake.Input{Traits: wire.Traits{ClockSkew: "-26h0m0s"}}, wire.PackageWant{Name: "tree"}, wire.PackageFound{State: "absent", Candidate: "2"}, "", "clock is 26h0m0s behind"},
		{"a clock that is nearly right", "package", stake.Input{Traits: wire.Traits{ClockSkew: "5s"}}, wire.PackageWant{Name: "tree"}, wire.PackageFound{State: "absent", Candidate: "2"}, "", ""},
	} {
		v := judged(t, c.typ, c.in, c.want, c.found)
		if (len(v.Blockers) > 0) != (c.blocker != "") || !strings.Contains(fmt.Sprint(v.Blockers), c.blocker) || (len(v.Cautions) > 0) != (c.caution != "") || !strings.Contains(fmt.Sprint(v.Cautions), c.caution) {
			t.Errorf("%s: blockers %v, cautions %v", c.what, v.Blockers, v.Cautions)
		}
	}
}

func TestActsAreWorkedOut(t *testing.T) {
	for _, c := range []struct {
		want  wire.ActWant
		found wire.ActFound
		moves string
		block string
	}{
		{wire.ActWant{Do: "restart", Service: "nginx"}, wire.ActFound{Known: true, Running: true}, "restart nginx now", ""},
		{wire.ActWant{Do: "reload", Service: "nginx"}, wire.ActFound{Known: true}, "", "nginx does not run"},
		{wire.ActWant{Do: "reload", Service: "nginks"}, wire.ActFound{Near: []string{"nginx"}}, "", "no unit on this host is called nginks"},
		{wire.ActWant{Do: "refresh-lists"}, wire.ActFound{Manager: "dnf"}, "read the lists of what the package sources offer anew, with dnf", ""},
		{wire.ActWant{Do: "upgrade"}, wire.ActFound{}, "", ""},
		{wire.ActWant{Do: "upgrade"}, wire.ActFound{Upgrades: []wire.PackageGoal{{Name: "b", Version: "2", From: "1"}, {Name: "a", Version: "3", From: "2"}}}, "upgrade 2 packages", ""},
		{wire.ActWant{Do: "reboot"}, wire.ActFound{}, "restart the host, and wait for it", ""},
		{wire.ActWant{Do: "dance"}, wire.ActFound{}, "", "nothing is known"},
	} {
		v := judged(t, "act", stake.Input{}, c.want, c.found)
		if moves(v) != c.moves || (len(v.Blockers) > 0) != (c.block != "") || !strings.Contains(fmt.Sprint(v.Blockers), c.block) {
			t.Errorf("%+v: %q, %v", c.want, moves(v), v.Blockers)
		}
		if len(v.Moves) == 1 && v.Moves[0].Returns != (c.want.Do == "reboot") {
			t.Errorf("%+v: the host goes down: %t", c.want, v.Moves[0].Returns)
		}
	}
	if v := judged(t, "restart", stake.Input{}, wire.RestartWant{}, wire.RestartFound{Needed: "a new kernel"}); moves(v) != "restart the host, and wait for it" || v.Moves[0].Because != "a new kernel" {
		t.Errorf("%+v", v)
	}
	if v := judged(t, "restart", stake.Input{}, wire.RestartWant{}, wire.RestartFound{}); len(v.Differences)+len(v.Moves) > 0 {
		t.Errorf("%+v", v)
	}
}

func TestPackagesThatShouldBeGone(t *testing.T) {
	want := wire.PackageWant{Name: "telnet", Gone: true}
	for _, state := range []string{"absent", "config-files"} {
		if v := judged(t, "package", stake.Input{}, want, wire.PackageFound{State: state}); len(v.Differences)+len(v.Moves)+len(v.Blockers) > 0 {
			t.Errorf("%s: %+v", state, v)
		}
	}
	v := judged(t, "package", stake.Input{}, want, wire.PackageFound{State: "installed", Version: "1.0", With: []string{"telnet-menus"}})
	if attributes(v) != "state" || moves(v) != "remove package telnet 1.0, and with it telnet-menus" {
		t.Errorf("%q, %q", attributes(v), moves(v))
	}
}

// What a host will not do is said before: a package that is held does not go, and a host without systemd
// is not told to restart (M11).
func TestWhatAHostWillNotDo(t *testing.T) {
	held := wire.PackageFound{State: "installed", Version: "1.0", Held: true}
	v := judged(t, "package", stake.Input{}, wire.PackageWant{Name: "telnet", Gone: true}, held)
	if len(v.Moves) > 0 || len(v.Blockers) != 1 || !strings.Contains(v.Blockers[0].What, "is held on this host") {
		t.Errorf("a held package: %+v", v)
	}
	kind, err := stake.KindOf("package")
	if err != nil {
		t.Fatal(err)
	}
	v, err = kind.Away(stake.Input{Stake: stake.Stake{Place: "quay1", Type: "package", Name: "telnet", Want: wire.JSON(wire.PackageWant{Name: "telnet"})}, Found: wire.JSON(held)})
	if err != nil || len(v.Moves) > 0 || len(v.Cautions) != 1 || !strings.Contains(v.Cautions[0].What, "telnet stays: it is held") {
		t.Errorf("a held package that leaves: %+v, %v", v, err)
	}
	for manager, moves := range map[string]int{"systemd": 1, "": 1, "init scripts": 0, "none": 0} {
		if v := judged(t, "act", stake.Input{Traits: wire.Traits{ServiceManager: manager}}, wire.ActWant{Do: "reboot"}, wire.ActFound{}); len(v.Moves) != moves || len(v.Blockers) != 1-moves {
			t.Errorf("with %q a restart is %+v", manager, v)
		}
	}
}

func TestUnknownKindsAreNamed(t *testing.T) {
	if _, err := stake.KindOf("tide"); err == nil || !strings.Contains(err.Error(), "package") {
		t.Errorf("%v", err)
	}
	for _, typ := range stake.Types() {
		k, err := stake.KindOf(typ)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := k.Judge(stake.Input{Stake: stake.Stake{Type: typ, Want: json.RawMessage("{")}}); err == nil {
			t.Errorf("%s judges a want that cannot be read", typ)
		}
		if _, err := k.Judge(stake.Input{Stake: stake.Stake{Type: typ, Want: json.RawMessage("{}")}, Found: json.RawMessage("{")}); err == nil {
			t.Errorf("%s judges a reading that cannot be read", typ)
		}
	}
}

// Readings come from a host: whatever bytes it sends, judging them ends, says the same
// again, and has nothing done where nothing differs.
func FuzzJudge(f *testing.F) {
	f.Add("site", `{"file":{"kind":"file"},"text":"x"}`)
	f.Add("content", `{"root":{"kind":"link"},"missings":-1,"offs":3}`)
	f.Fuzz(func(t *testing.T, typ, found string) {
		k, err := stake.KindOf(typ)
		if err != nil {
			return
		}
		in := stake.Input{Stake: stake.Stake{Type: typ, Want: json.RawMessage(`{}`)}, Found: json.RawMessage(found)}
		v, err := k.Judge(in)
		if err != nil {
			return
		}
		if again, err := k.Judge(in); err != nil || string(wire.JSON(again)) != string(wire.JSON(v)) {
			t.Errorf("judged again it is %s, %v, and not %s", wire.JSON(again), err, wire.JSON(v))
		}
		if len(v.Moves) > 0 && len(v.Differences) == 0 && !v.Gone {
			t.Errorf("nothing differs, and there are moves: %s", wire.JSON(v))
		}
	})
}

// Two sites of one ground may exchange their names: what is another's now, and is written anew with
// the same plan, is in nobody's way; what somebody else claims is (V9).
func TestSitesExchangeTheirNames(t *testing.T) {
	kind, err := stake.KindOf("site")
	if err != nil {
		t.Fatal(err)
	}
	site := func(name, host string) stake.Stake {
		return stake.Stake{Place: "quay1", Type: "site", Name: name, Site: name, Want: wire.JSON(wire.SiteWant{Server: "nginx", Service: "nginx", File: wire.Path("/etc/nginx/sites/" + name), Names: []string{host}, Text: "text"})}
	}
	ebb, flood := site("ebb", "flood.test"), site("flood", "ebb.test")
	judge := func(file string) stake.Verdict {
		t.Helper()
		v, err := kind.Judge(stake.Input{Stake: ebb, Found: wire.JSON(wire.SiteFound{Rivals: []wire.Rival{{Name: "flood.test", File: wire.Path(file)}}}), Declared: []stake.Stake{ebb, flood}})
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	if v := judge("/etc/nginx/sites/flood"); len(v.Blockers) > 0 || len(v.Moves) != 1 {
		t.Errorf("what the other site gives up blocks: %+v", v.Blockers)
	}
	if v := judge("/etc/nginx/sites/theirs"); len(v.Blockers) != 1 {
		t.Errorf("what somebody else claims blocks nothing: %+v", v)
	}
	flood = site("flood", "flood.test")
	if v := judge("/etc/nginx/sites/flood"); len(v.Blockers) != 1 {
		t.Errorf("what the other site keeps blocks nothing: %+v", v)
	}
}

// What is claimed by lists of packages has the age of the lists, and what they have not is told with what
// reads them anew (M4).
func TestListsOfPackagesHaveAnAge(t *testing.T) {
	at := time.Date(2026, 5, 1, 12, 30, 0, 0, time.UTC)
	v := judged(t, "package", stake.Input{}, wire.PackageWant{Name: "nginx", Newest: true}, wire.PackageFound{State: "installed", Version: "1.22", ListsAt: at})
	if v.Rests != "the newest by lists of 2026-05-01 12:30 UTC" || len(v.Differences) > 0 {
		t.Errorf("the newest rests on %q: %+v", v.Rests, v.Differences)
	}
	v = judged(t, "package", stake.Input{}, wire.PackageWant{Name: "nginx", Version: "1.23"}, wire.PackageFound{State: "installed", Version: "1.22", Unmet: true, Offered: []string{"1.22"}, Lists: wire.ListsFresh, ListsAt: at})
	if len(v.Blockers) != 1 || !strings.Contains(v.Blockers[0].What, "there is 1.22 (its lists are of 2026-05-01 12:30 UTC)") || !strings.Contains(v.Blockers[0].Fix, "northstake act refresh-lists --on quay1") {
		t.Errorf("the blockers are %+v", v.Blockers)
	}
}

// A plan foresees whom its own directories will let change what lies below them (M8).
func TestWhatADeclaredDirectoryWillLetOthersDo(t *testing.T) {
	dir := func(path, owner, group string, mode wire.Mode) stake.Stake {
		return stake.Stake{Place: "quay1", Type: "directory", Name: path, Want: wire.JSON(wire.DirectoryWant{Path: wire.Path(path), Owners: wire.Owners{Owner: owner, Group: group}, Mode: mode})}
	}
	for name, c := range map[string]struct {
		dirs   []stake.Stake
		owner  string
		there  string
		blocks string
	}{
		"root's own":             {[]stake.Stake{dir("/srv/tides", "root", "root", "0755")}, "root", "", ""},
		"a user's":               {[]stake.Stake{dir("/srv/tides", "tides", "tides", "0755")}, "root", "", "tides can change /srv/tides, and so what lies at /srv/tides/low/x"},
		"a user's, for the user": {[]stake.Stake{dir("/srv/tides", "tides", "tides", "0755")}, "tides", "", ""},
		"a group's":              {[]stake.Stake{dir("/srv/tides", "root", "tides", "0775")}, "root", "", "group tides can change /srv/tides"},
		"root's group":           {[]stake.Stake{dir("/srv/tides", "root", "root", "0775")}, "root", "", ""},
		"everybody's":            {[]stake.Stake{dir("/srv/tides", "root", "root", "0777")}, "root", "", "everybody can change /srv/tides"},
		"sticky, new":            {[]stake.Stake{dir("/srv/tides", "root", "root", "1777")}, "root", "", "everybody can change /srv/tides"},
		"sticky, there":          {[]stake.Stake{dir("/srv/tides", "root", "root", "1777")}, "root", "file", ""},
		"the outermost":          {[]stake.Stake{dir("/srv/tides/low", "low", "low", "0755"), dir("/srv/tides", "tides", "tides", "0755")}, "low", "", "tides can change /srv/tides,"},
		"another's beside":       {[]stake.Stake{dir("/srv/tid", "tides", "tides", "0755"), dir("/srv/tides/low/x/y", "tides", "tides", "0755")}, "root", "", ""},
		"content":                {[]stake.Stake{{Place: "quay1", Type: "content", Name: "/srv/tides", Want: wire.JSON(wire.ContentWant{Root: "/srv/tides", Owners: wire.Owners{Owner: "www-data", Group: "www-data"}})}}, "root", "", "www-data can change /srv/tides"},
	} {
		in := stake.Input{Declared: c.dirs}
		in.Stake.Name = "/srv/tides/low/x"
		v := judged(t, "file", in, wire.FileWant{Path: "/srv/tides/low/x", Text: "x\n", Owners: wire.Owners{Owner: c.owner, Group: c.owner}, Mode: "0644"}, wire.FileFound{Entry: wire.Entry{Kind: c.there, Owners: wire.Administrators, Mode: "0644"}})
		blocks := ""
		for _, b := range v.Blockers {
			blocks += b.What
		}
		if (c.blocks == "") != (blocks == "") || !strings.Contains(blocks, c.blocks) {
			t.Errorf("%s: blocked by %q, want %q", name, blocks, c.blocks)
		}
	}
}
