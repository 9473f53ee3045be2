package plan

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/resolve"
	"northstake/core/stake"
	"northstake/core/stake/judge"
	"northstake/core/wire"
)

const ground = `[ground]
name = "saltmarsh"
[reach]
user = "keeper"
key_secret = "keeper"
[host.quay1]
address = "10.88.0.11"
packages = ["curl"]
inbound = "declared"
service = { cron = { running = true, at_boot = true } }
[site.timetable]
on = ["quay1"]
server = "nginx"
names = ["timetable.saltmarsh.test"]
root = "/srv/www/timetable"
content = { dir = "content/timetable" }
`

var traits = wire.Traits{System: "Debian", SSHPort: 22}

var layouts = map[string]wire.Layout{"nginx": {Package: "nginx", Service: "nginx", Program: "nginx",
	Config: "/etc/nginx/nginx.conf", SitesDir: "/etc/nginx/sites-available", LinkDir: "/etc/nginx/sites-enabled", RootBase: "/var/www", Own: wire.Own{Links: []wire.Path{"/etc/nginx/sites-enabled/default"}}}}

func input(t *testing.T) Input {
	t.Helper()
	m := &declare.Manifest{Files: []declare.File{{Path: "content/timetable/index.html", Size: 4, SHA256: "aa"}}}
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: ground}}, m)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	h, err := resolve.OnePlace(d, "quay1", traits, layouts, nil)
	if err != nil {
		t.Fatal(err)
	}
	return Input{Place: "quay1", Stakes: h.Stakes, Readings: map[string]wire.Reading{}, Applied: map[string]Applied{}, Traits: traits}
}

func file(kind string) wire.Entry {
	return wire.Entry{Kind: kind, Owners: wire.Administrators, Mode: map[string]wire.Mode{"file": "0644", "directory": "0755"}[kind]}
}

// bare is a host with nothing on it, asDeclared one where all is right.
func bare(in Input) Input {
	for _, s := range in.Stakes {
		in.Readings[s.Local()] = wire.Reading{Name: s.Local(), Found: map[string]json.RawMessage{
			"package":   wire.JSON(wire.PackageFound{State: "absent", Candidate: "1.0"}),
			"service":   wire.JSON(wire.ServiceFound{}),
			"content":   wire.JSON(wire.ContentFound{Missing: []string{"index.html"}, Missings: 1}),
			"directory": wire.JSON(wire.Entry{}),
			"server":    wire.JSON(wire.ServerFound{}),
			"site":      wire.JSON(wire.SiteFound{}),
			"port":      wire.JSON(wire.PortFound{Live: true, Kept: true}),
			"firewall":  wire.JSON(wire.FirewallFound{}),
		}[s.Type]}
	}
	return in
}

func asDeclared(in Input) Input {
	yes := true
	for _, s := range in.Stakes {
		var found json.RawMessage
		switch s.Type {
		case "package":
			found = wire.JSON(wire.PackageFound{State: "installed", Version: "1.0"})
		case "service":
			found = wire.JSON(wire.ServiceFound{Known: true, Active: "active", Boot: "enabled"})
		case "content":
			found = wire.JSON(wire.ContentFound{Root: file("directory")})
		case "server":
			found = wire.JSON(wire.ServerFound{Installed: true})
		case "site":
			var w wire.SiteWant
			_ = json.Unmarshal(s.Want, &w)
			found = wire.JSON(wire.SiteFound{File: file("file"), Text: w.Text, Link: wire.Entry{Kind: "link", Target: string(w.File)}, Loaded: &yes})
		case "port":
			found = wire.JSON(wire.PortFound{Live: true, Kept: true})
		case "firewall":
			var w wire.FirewallWant
			_ = json.Unmarshal(s.Want, &w)
			found = wire.JSON(wire.FirewallFound{Live: judge.TableOf(w), Kept: judge.TableOf(w), Loader: &wire.FirewallLoader{Same: true, Mode: "0644", Wanted: "0644"}, Boot: "enabled", File: file("file")})
		}
		in.Readings[s.Local()] = wire.Reading{Name: s.Local(), Found: found}
	}
	return in
}

func set(in Input, local string, found any) Input {
	in.Readings[local] = wire.Reading{Name: local, Found: wire.JSON(found)}
	return in
}

func build(t *testing.T, in Input) Place {
	t.Helper()
	h, err := Build(in, nil)
	if err != nil {
		t.Fatal(err)
	}
	return h
}

func texts(h Place) []string {
	var out []string
	for _, s := range h.Steps {
		out = append(out, s.Text)
	}
	return out
}

func standingOf(h Place, local string) Standing {
	for _, r := range h.Rows {
		if r.Address == "quay1/"+local {
			return r.Standing
		}
	}
	return ""
}

// remembered is a host where everything has been applied.
func remembered(t *testing.T) Input {
	in := asDeclared(input(t))
	h := build(t, in)
	in.Applied, _ = Remember(in, &h, nil, 1, time.Now())
	return in
}

func TestABareHostGetsEveryStepInOrder(t *testing.T) {
	h := build(t, bare(input(t)))
	want := []string{"install 3 packages: curl 1.0, nginx 1.0, nftables 1.0", "switch off the default site that nginx brings", "publish 1 file, 4 B, to /srv/www/timetable",
		"write the virtual host of site timetable", "start cron, make it start at boot", "start nginx, make it start at boot", "let in only 22/tcp, 80/tcp, and drop the rest"}
	got := texts(h)
	if len(got) != len(want) {
		t.Fatalf("%d steps: %q", len(got), got)
	}
	for i := range want {
		if !strings.HasPrefix(got[i], want[i]) || h.Steps[i].Number != i+1 {
			t.Errorf("step %d is %q, want %q", h.Steps[i].Number, got[i], want[i])
		}
	}
	for _, r := range h.Rows {
		if r.Standing != Due && r.Type != "port" {
			t.Errorf("%s is %s", r.Address, r.Standing)
		}
	}
}

// For every step, the stakes that its stake needs come first, whatever part of
// the host is as declared.
func TestNeedsComeFirst(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 11))
	for range 300 {
		in, done := bare(input(t)), asDeclared(input(t))
		for name := range in.Readings {
			if rnd.IntN(2) == 0 {
				in.Readings[name] = done.Readings[name]
			}
		}
		h := build(t, in)
		at := map[string]int{}
		for _, s := range h.Steps {
			at[wire.Local(s.Type, s.Name)] = s.Number
		}
		for _, s := range in.Stakes {
			for _, need := range s.Needs {
				if at[s.Local()] != 0 && at[need] > at[s.Local()] {
					t.Fatalf("%s is step %d and needs %s, step %d", s.Local(), at[s.Local()], need, at[need])
				}
			}
		}
	}
}

func TestAHostAsDeclaredNeedsNothing(t *testing.T) {
	h := build(t, asDeclared(input(t)))
	if len(h.Steps) > 0 || len(h.Blockers) > 0 {
		t.Errorf("steps %q, blockers %v", texts(h), h.Blockers)
	}
	for _, r := range h.Rows {
		if r.Standing != Set {
			t.Errorf("%s is %s: %v", r.Address, r.Standing, r.Differences)
		}
	}
}

func TestStandingsAreToldApart(t *testing.T) {
	in := remembered(t)
	set(in, "service/cron", wire.ServiceFound{Known: true, Active: "inactive", Boot: "enabled"})
	h := build(t, in)
	if s := standingOf(h, "service/cron"); s != Shifted {
		t.Errorf("a stopped service that was applied is %s", s)
	}
	delete(in.Applied, "service/cron")
	if s := standingOf(build(t, in), "service/cron"); s != Due {
		t.Errorf("one that was never applied is %s", s)
	}
	in.Readings["service/cron"] = wire.Reading{Name: "service/cron", Unread: "systemd does not answer"}
	h = build(t, in)
	if s := standingOf(h, "service/cron"); s != Unread {
		t.Errorf("one that cannot be read is %s", s)
	}
	// A change of the declaration makes a stake due, and not shifted; what a host was
	// changed in besides has shifted, and is told by itself.
	in = remembered(t)
	a := in.Applied["content/srv/www/timetable"]
	a.Want = json.RawMessage(strings.Replace(string(a.Want), `"aa"`, `"bb"`, 1))
	in.Applied["content/srv/www/timetable"] = a
	off := func(path string) wire.FileOff {
		return wire.FileOff{Path: path, Difference: wire.Difference{Attribute: "text", Wanted: "as declared", Found: "different"}}
	}
	now := wire.ContentFound{Root: file("directory"), Offs: 1, Off: []wire.FileOff{off("index.html")}, Sum: "now"}
	set(in, "content/srv/www/timetable", now)
	in.Readings["content/srv/www/timetable"] = wire.Reading{Name: "content/srv/www/timetable", Found: wire.JSON(now), Was: wire.JSON(wire.ContentFound{Root: file("directory")})}
	h = build(t, in)
	if s := standingOf(h, "content/srv/www/timetable"); s != Due {
		t.Errorf("content that is only declared anew is %s", s)
	}
	in.Readings["content/srv/www/timetable"] = wire.Reading{Name: "content/srv/www/timetable", Found: wire.JSON(now), Was: wire.JSON(wire.ContentFound{Root: file("directory"), Offs: 1, Off: []wire.FileOff{off("hacked.html")}, Sum: "was"})}
	for _, restores := range []bool{false, true} {
		in.Restores = restores
		h = build(t, in)
		for _, r := range h.Rows {
			if r.Name == "/srv/www/timetable" && r.Type == "content" && (r.Standing != Shifted || !r.NewlyDeclared || len(r.Differences) != 1 || r.Differences[0].Attribute != "text of hacked.html") {
				t.Errorf("what was changed on the host is told as %+v", r)
			}
		}
		if n := strings.Count(string(h.Steps[0].Work), `"bb"`); (n == 1) != restores {
			t.Errorf("restores %t, and publishes %s", restores, h.Steps[0].Work)
		}
	}
	// What was declared and no longer is, and is still there, is stray.
	in = remembered(t)
	in.Applied["package/telnetd"] = Applied{Type: "package", Name: "telnetd", Want: wire.JSON(wire.PackageWant{Name: "telnetd"}), Revision: 1}
	set(in, "package/telnetd", wire.PackageFound{State: "installed"})
	h = build(t, in)
	if s := standingOf(h, "package/telnetd"); s != "" {
		t.Errorf("a package that was there before, and is no longer declared, is %q", s)
	}
	if now, changed := Remember(in, &h, nil, 2, time.Now()); !changed || now["package/telnetd"].Type != "" {
		t.Errorf("it is remembered: %+v", now["package/telnetd"])
	}
	a = in.Applied["package/telnetd"]
	a.Made = true
	in.Applied["package/telnetd"] = a
	h = build(t, in)
	if s := standingOf(h, "package/telnetd"); s != Stray || len(h.Steps) > 0 {
		t.Errorf("a package no longer declared is %q, with steps %q", s, texts(h))
	}
	set(in, "package/telnetd", wire.PackageFound{State: "absent"})
	if s := standingOf(build(t, in), "package/telnetd"); s != "" {
		t.Errorf("once it is gone it is %q", s)
	}
}

func TestRememberNotesWhenAStakeWasFirstSeenToDiffer(t *testing.T) {
	in := remembered(t)
	set(in, "service/cron", wire.ServiceFound{Known: true, Active: "inactive", Boot: "enabled"})
	first := time.Date(2026, 5, 1, 8, 0, 0, 0, time.UTC)
	h := build(t, in)
	var changed bool
	if in.Applied, changed = Remember(in, &h, nil, 1, first); !changed {
		t.Error("a first difference is no change")
	}
	h = build(t, in)
	if _, changed = Remember(in, &h, nil, 1, first.Add(time.Hour)); changed {
		t.Error("the same difference is noted twice")
	}
	for _, r := range h.Rows {
		if r.Name == "cron" && r.Type == "service" && !r.ShiftedAt.Equal(first) {
			t.Errorf("first seen at %v", r.ShiftedAt)
		}
	}
}

func TestWhatARunBroughtAboutIsRemembered(t *testing.T) {
	in := remembered(t)
	h := build(t, in)
	made := func() (out []string) {
		for name, a := range in.Applied {
			if a.Made {
				out = append(out, name)
			}
		}
		return out
	}
	if got := made(); len(got) > 0 {
		t.Errorf("what was found as declared is taken for made: %q", got)
	}
	var changed bool
	if in.Applied, changed = Remember(in, &h, map[string]bool{"quay1/service/cron": true}, 1, time.Now()); !changed {
		t.Error("a stake that was brought about is no change")
	}
	h = build(t, in)
	if _, changed = Remember(in, &h, nil, 1, time.Now()); changed || fmt.Sprint(made()) != "[service/cron]" {
		t.Errorf("made are %q, changed again: %t", made(), changed)
	}
}

func TestAReloadComesOnceAndSaysWhy(t *testing.T) {
	in := remembered(t)
	no := false
	var w wire.SiteWant
	for _, s := range in.Stakes {
		if s.Type == "site" {
			_ = json.Unmarshal(s.Want, &w)
		}
	}
	set(in, "site/timetable", wire.SiteFound{File: file("file"), Text: "old", Link: wire.Entry{Kind: "link", Target: string(w.File)}, Loaded: &no})
	h := build(t, in)
	if len(h.Steps) != 2 || h.Steps[1].Text != "reload nginx" || h.Steps[1].Because != "its site timetable changed" {
		t.Fatalf("%q", texts(h))
	}
	set(in, "site/timetable", wire.SiteFound{File: file("file"), Text: w.Text, Link: wire.Entry{Kind: "link", Target: string(w.File)}, Loaded: &no})
	h = build(t, in)
	if len(h.Steps) != 1 || !strings.Contains(h.Steps[0].Because, "written and not loaded") {
		t.Errorf("%q", texts(h))
	}
	// A service that is started anyway is not reloaded as well.
	set(in, "service/nginx", wire.ServiceFound{Known: true, Active: "failed", Boot: "enabled"})
	set(in, "site/timetable", wire.SiteFound{})
	for _, text := range texts(build(t, in)) {
		if strings.HasPrefix(text, "reload") {
			t.Errorf("%q", text)
		}
	}
}

// One transaction brings several packages; its step is known by all of them.
func TestOneStepInstallsSeveralPackages(t *testing.T) {
	h := build(t, bare(input(t)))
	first := h.Steps[0]
	if got := strings.Join(first.Addresses(), " "); got != "quay1/package/curl quay1/package/nginx quay1/package/nftables" {
		t.Errorf("the step brings about %s", got)
	}
	var w wire.PackageWork
	if err := json.Unmarshal(first.Work, &w); err != nil || len(w.Install) != 3 || w.Install[1] != (wire.PackageGoal{Name: "nginx", Version: "1.0"}) {
		t.Errorf("it does %s (%v)", first.Work, err)
	}
	// After a part of it is done, what is left is no more than was planned.
	part := build(t, set(bare(input(t)), "package/curl", wire.PackageFound{State: "installed", Version: "1.0"}))
	if why := Moved(h, part, true); why != "" {
		t.Errorf("resumed: %s", why)
	}
	if !h.Steps[0].Shares(part.Steps[0]) || h.Steps[0].Shares(part.Steps[1]) {
		t.Error("a step does not know what it has in common with what is left of it")
	}
	if why := Moved(part, h, true); why == "" {
		t.Error("another package than was planned is no news")
	}
}

func TestATakenPortBlocks(t *testing.T) {
	in := bare(input(t))
	in.Traits.Listeners = []wire.Listener{{Protocol: "tcp", Address: "0.0.0.0", Port: 80, Program: "perl", PID: 4242}}
	h := build(t, in)
	if len(h.Blockers) != 1 || !strings.Contains(h.Blockers[0].What, "perl (process 4242)") {
		t.Fatalf("%v", h.Blockers)
	}
	// The whole site is left, with what it alone calls for, its port among it (Y3); the rest is done.
	if got := strings.Join(texts(h), "; "); strings.Contains(got, "80") || strings.Contains(got, "nginx") || strings.Contains(got, "timetable") || !strings.Contains(got, "curl 1.0") || !strings.Contains(got, "start cron") {
		t.Errorf("steps beside a blocked site: %s", got)
	}
	var left []string
	for _, l := range h.Left {
		if l.Behind != "quay1/site/timetable" {
			t.Errorf("%s is left behind %s", l.Address, l.Behind)
		}
		left = append(left, l.Address)
	}
	if got := strings.Join(left, " "); got != "quay1/package/nginx quay1/server/nginx quay1/content/srv/www/timetable quay1/service/nginx quay1/firewall/inbound quay1/port/80-tcp" {
		t.Errorf("left as they are: %s", got)
	}
	if fmt.Sprint(h.LeftSites) != "[timetable]" {
		t.Errorf("sites left: %v", h.LeftSites)
	}
	free := build(t, bare(input(t)))
	if why := Moved(free, h, false); !strings.Contains(why, "perl") {
		t.Errorf("a port taken since the plan: %q", why)
	}
	if why := Moved(h, h, false); why != "" {
		t.Errorf("the same blocker as planned: %q", why)
	}
	// What cannot be read any more is in the way, and nothing that has changed.
	unread := bare(input(t))
	unread.Readings["package/curl"] = wire.Reading{Unread: "the lists are locked"}
	if n := InTheWay(free, build(t, unread)); n.Address != "quay1/package/curl" || n.What != "the lists are locked" {
		t.Errorf("of what cannot be read: %+v", n)
	}
	if n := InTheWay(build(t, unread), build(t, unread)); n.What != "" {
		t.Errorf("what the plan could not read either: %+v", n)
	}
	if why := Moved(h, free, false); !strings.Contains(why, "also need") && !strings.Contains(why, "would now need") {
		t.Errorf("a blocker that went away: %q", why)
	}
	in.Traits.Listeners[0].Program = "nginx"
	if h := build(t, in); len(h.Blockers) != 1 || !strings.Contains(h.Blockers[0].What, "outside of the service manager (process 4242)") {
		t.Errorf("its own server, which nothing has started: %v", h.Blockers)
	}
	if h := build(t, set(in, "service/nginx", wire.ServiceFound{Known: true, Active: "active", Boot: "enabled"})); len(h.Blockers) > 0 {
		t.Errorf("its own server blocks it: %v", h.Blockers)
	}
}

// What a blocker holds up is what could not work without it, and no more: an
// unknown package of a kit holds up nothing of a site, the server's package all of
// it, and a blocked site leaves another one alone when the server runs already.
func TestABlockerHoldsUpWhatTakesItAndNoMore(t *testing.T) {
	cases := []struct {
		what    string
		change  func(in Input) Input
		blocked string // addresses of the blockers
		left    string
		steps   string
	}{
		{"a package that nothing of the site needs", func(in Input) Input {
			return set(bare(in), "package/curl", wire.PackageFound{State: "absent"})
		}, "quay1/package/curl", "", "install 2 packages: nginx|publish|write|start cron|start nginx"},
		{"the server's package", func(in Input) Input {
			return set(bare(in), "package/nginx", wire.PackageFound{State: "absent"})
		}, "quay1/package/nginx", "server/nginx content/srv/www/timetable site/timetable service/nginx firewall/inbound port/80-tcp", "install 2 packages: curl|start cron"},
		{"a document root that is a file", func(in Input) Input {
			in = set(asDeclared(in), "content/srv/www/timetable", wire.ContentFound{Root: file("file"), Missings: 1})
			return set(in, "service/cron", wire.ServiceFound{Known: true, Active: "inactive", Boot: "enabled"})
		}, "quay1/content/srv/www/timetable", "", "start cron"},
		{"the port of a site that is there, while the server is down", func(in Input) Input {
			in = set(asDeclared(in), "service/nginx", wire.ServiceFound{Known: true, Active: "failed", Boot: "enabled"})
			in = set(in, "service/cron", wire.ServiceFound{Known: true, Active: "inactive", Boot: "enabled"})
			in.Traits.Listeners = []wire.Listener{{Protocol: "tcp", Port: 80, Program: "perl", PID: 7}}
			return in
		}, "quay1/site/timetable", "service/nginx", "start cron"},
		{"the port of a new site, which others shut (V10)", func(in Input) Input {
			in = set(set(asDeclared(in), "site/timetable", wire.SiteFound{}), "content/srv/www/timetable", wire.ContentFound{Missings: 1})
			in = set(in, "service/cron", wire.ServiceFound{Known: true, Active: "inactive", Boot: "enabled"})
			return set(in, "port/80-tcp", wire.PortFound{Live: false, Filter: "inet others", Denied: "tcp dport 80 drop"})
		}, "quay1/port/80-tcp", "content/srv/www/timetable site/timetable", "start cron"},
		{"a unit that is not there", func(in Input) Input {
			return set(set(asDeclared(in), "service/cron", wire.ServiceFound{}), "site/timetable", wire.SiteFound{})
		}, "quay1/service/cron", "", "write|reload nginx"},
	}
	for _, c := range cases {
		h := build(t, c.change(input(t)))
		var blocked, left, steps []string
		for _, b := range h.Blockers {
			blocked = append(blocked, b.Address)
		}
		for _, l := range h.Left {
			left = append(left, strings.TrimPrefix(l.Address, "quay1/"))
		}
		for _, want := range strings.Split(c.steps, "|") {
			for _, got := range texts(h) {
				if strings.HasPrefix(got, want) {
					steps = append(steps, want)
					break
				}
			}
		}
		if got := strings.Join(blocked, " "); got != c.blocked {
			t.Errorf("%s: blockers of %s", c.what, got)
		}
		if got := strings.Join(left, " "); got != c.left {
			t.Errorf("%s: left %s, want %s", c.what, got, c.left)
		}
		if got := strings.Join(steps, "|"); got != c.steps {
			t.Errorf("%s: steps %q, want %s", c.what, texts(h), c.steps)
		}
		if strings.Contains(c.what, "server's") && strings.Contains(strings.Join(texts(h), " "), "publish") {
			t.Errorf("%s: a part of the site is put up: %q", c.what, texts(h))
		}
	}
}

func TestADropInIsShiftedOnlyWhenItIsNew(t *testing.T) {
	in := asDeclared(input(t))
	set(in, "service/cron", wire.ServiceFound{Known: true, Active: "active", Boot: "enabled", DropIns: map[string]string{"/etc/systemd/system/cron.service.d/a.conf": "1"}})
	h := build(t, in)
	if s := standingOf(h, "service/cron"); s != Set {
		t.Errorf("a drop-in that was always there makes it %s", s)
	}
	in.Applied, _ = Remember(in, &h, nil, 1, time.Now())
	set(in, "service/cron", wire.ServiceFound{Known: true, Active: "active", Boot: "enabled", DropIns: map[string]string{"/etc/systemd/system/cron.service.d/a.conf": "2"}})
	h = build(t, in)
	if s := standingOf(h, "service/cron"); s != Shifted || len(h.Steps) != 1 || !strings.Contains(h.Steps[0].Text, "drop-ins of cron back") {
		t.Errorf("a changed one makes it %s: %q", s, texts(h))
	}
}

func TestOnlyNarrowsStepsAndNotRows(t *testing.T) {
	in := bare(input(t))
	h, err := Build(in, func(r Row) bool { return r.Standing == Shifted })
	if err != nil || len(h.Steps) > 0 || len(h.Rows) != len(in.Stakes) {
		t.Errorf("%d steps, %d rows, %v", len(h.Steps), len(h.Rows), err)
	}
}

func TestMovedNamesWhatIsNew(t *testing.T) {
	planned := build(t, bare(input(t)))
	if why := Moved(planned, build(t, bare(input(t))), false); why != "" {
		t.Errorf("the same host has moved: %s", why)
	}
	in := bare(input(t))
	set(in, "package/curl", wire.PackageFound{State: "installed"})
	fresh := build(t, in)
	if why := Moved(planned, fresh, false); !strings.Contains(why, "curl") {
		t.Errorf("says %q", why)
	}
	if why := Moved(planned, fresh, true); why != "" {
		t.Errorf("when resumed, what is done is no change: %s", why)
	}
	if why := Moved(Place{}, fresh, true); why == "" {
		t.Error("a step that was never planned is let through")
	}
}

func TestPublishDropsWhatItPublishedAndKeepsTheRest(t *testing.T) {
	in := remembered(t)
	a := in.Applied["content/srv/www/timetable"]
	a.Want = json.RawMessage(strings.Replace(string(a.Want), `"files":[`, `"files":[{"path":"old.html","size":1,"sha256":"cc"},`, 1))
	in.Applied["content/srv/www/timetable"] = a
	set(in, "content/srv/www/timetable", wire.ContentFound{Root: file("directory"), Extra: []string{"notes.txt"}, Extras: 1, Former: []wire.FormerFile{{Path: "old.html"}}})
	h := build(t, in)
	if len(h.Steps) != 1 {
		t.Fatalf("%q", texts(h))
	}
	var work wire.ContentWork
	if err := json.Unmarshal(h.Steps[0].Work, &work); err != nil || fmt.Sprint(work.Drop) != "[old.html]" {
		t.Errorf("drops %v, %v", work.Drop, err)
	}
	stray := false
	for _, r := range h.Rows {
		stray = stray || r.Standing == Stray && strings.HasSuffix(r.Address, "/notes.txt")
	}
	if !stray {
		t.Error("a file that nobody declared is not reported as stray")
	}
}

// What steps would take along although it is declared is in their way, and so are two
// names of one thing.
func TestWhatIsDeclaredIsNotTakenAlong(t *testing.T) {
	in := remembered(t)
	gone := stake.Stake{Place: "quay1", Type: "package", Name: "libtide", Want: wire.JSON(wire.PackageWant{Name: "libtide", Gone: true}), From: declare.Position{File: "g.toml", Line: 30}}
	in.Stakes = append([]stake.Stake{gone}, in.Stakes...)
	set(in, "package/libtide", wire.PackageFound{State: "installed", Version: "1", With: []string{"nginx"}, Services: []string{"cron"}})
	h := build(t, in)
	if len(h.Blockers) != 2 || !strings.Contains(h.Blockers[0].What, "would take along quay1/package/nginx, which is declared") || !strings.Contains(h.Blockers[1].What, "quay1/service/cron") || len(h.Steps) > 0 {
		t.Errorf("%+v, %q", h.Blockers, texts(h))
	}
	in = remembered(t)
	yes := true
	in.Stakes = append(in.Stakes, stake.Stake{Place: "quay1", Type: "service", Name: "crond", Want: wire.JSON(wire.ServiceWant{Name: "crond", Running: &yes})})
	set(in, "service/crond", wire.ServiceFound{Known: true, Is: "cron", Active: "active", Boot: "enabled"})
	if h = build(t, in); len(h.Blockers) != 1 || !strings.Contains(h.Blockers[0].What, "quay1/service/cron and quay1/service/crond are one thing") {
		t.Errorf("%+v", h.Blockers)
	}
}

// A host moved when anything that its plan showed or rests on is another value by now;
// not when somebody touched a thing without changing it.
func TestAHostMovesInValues(t *testing.T) {
	in := remembered(t)
	off := func(sum string) wire.ContentFound {
		return wire.ContentFound{Root: file("directory"), Offs: 1, Off: []wire.FileOff{{Path: "index.html", Difference: wire.Difference{Attribute: "text", Wanted: "as declared", Found: "different"}}}, Sum: sum}
	}
	set(in, "content/srv/www/timetable", off("one"))
	planned := build(t, in)
	touched := off("one")
	touched.Root.Touched, touched.Off[0].Touched = wire.Touch{At: time.Now()}, wire.Touch{At: time.Now(), Owner: "keeper"}
	set(in, "content/srv/www/timetable", touched)
	if why := Moved(planned, build(t, in), false); why != "" {
		t.Errorf("touched: %s", why)
	}
	set(in, "package/curl", wire.PackageFound{State: "absent", Candidate: "1.0", Lists: wire.ListsFresh, Short: &wire.Short{Path: "/usr", Free: 100}})
	short := build(t, in)
	set(in, "package/curl", wire.PackageFound{State: "absent", Candidate: "1.0", Lists: wire.ListsFresh, Short: &wire.Short{Path: "/usr", Free: 90}})
	if why := Moved(short, build(t, in), false); why != "" {
		t.Errorf("with less room: %s", why)
	}
	set(in, "package/curl", wire.PackageFound{State: "installed", Version: "1.0"})
	set(in, "content/srv/www/timetable", off("two"))
	for _, resumed := range []bool{false, true} {
		if why := Moved(planned, build(t, in), resumed); !strings.Contains(why, "quay1/content/srv/www/timetable is no longer as the plan found it") {
			t.Errorf("edited once more: %q", why)
		}
	}
}

// A resumed run removes nothing that was not shown.
func TestAResumedRunRemovesWhatWasNamed(t *testing.T) {
	want := wire.ContentWant{Root: "/srv/x", Rest: wire.Removed}
	made := func(drop ...string) Place {
		return Place{Name: "quay1", Steps: []wire.Step{{Address: "quay1/content/srv/x", Type: "content", Move: wire.Move{Verb: "publish", Text: "publish", Work: wire.JSON(wire.ContentWork{ContentWant: want, Drop: drop})}}}}
	}
	if why := Moved(made("a", "b"), made("b"), true); why != "" {
		t.Errorf("less than was shown: %s", why)
	}
	if why := Moved(made("a"), made("a", "b"), true); why == "" {
		t.Error("a file goes that was not shown")
	}
}

// What would have a service take notice, and cannot since it does not run, is said (U5).
func TestAServiceThatDoesNotRunIsNotTold(t *testing.T) {
	boot := true
	in := asDeclared(input(t))
	for i, s := range in.Stakes {
		if s.Local() == "service/cron" {
			in.Stakes[i].Want = wire.JSON(wire.ServiceWant{Name: "cron", AtBoot: &boot})
		}
	}
	set(in, "service/cron", wire.ServiceFound{Known: true, Active: "inactive", Boot: "enabled"})
	in.Stakes = append(in.Stakes, stake.Stake{Place: "quay1", Type: "file", Name: "/etc/cron.d/x", Want: wire.JSON(wire.FileWant{Path: "/etc/cron.d/x", Text: "x\n", Owners: wire.Administrators, Mode: "0644", Restart: []string{"cron"}})})
	set(in, "file/etc/cron.d/x", wire.FileFound{})
	h := build(t, in)
	if len(h.Steps) != 1 || len(h.Cautions) != 1 || h.Cautions[0].What != "cron does not run, and is not told that its file /etc/cron.d/x changed" {
		t.Errorf("the steps are %v, the cautions %v", texts(h), h.Cautions)
	}
	set(in, "service/cron", wire.ServiceFound{Known: true, Active: "active", Boot: "enabled"})
	if h := build(t, in); len(h.Steps) != 2 || len(h.Cautions) != 0 {
		t.Errorf("of one that runs the steps are %v, the cautions %v", texts(h), h.Cautions)
	}
}

// Before a server is put back to serving, it is said who has its port by now (V17).
func TestRestoringSaysWhoHasThePort(t *testing.T) {
	in := remembered(t)
	in.Restores = true
	restored := func() Place {
		h, err := Build(in, func(r Row) bool { return r.Standing == Shifted })
		if err != nil {
			t.Fatal(err)
		}
		return h
	}
	set(in, "service/nginx", wire.ServiceFound{Known: true, Active: "inactive", Boot: "enabled"})
	if h := restored(); len(h.Steps) != 1 || len(h.Blockers) > 0 {
		t.Errorf("with nobody there: %v, %v", texts(h), h.Blockers)
	}
	in.Traits.Listeners = []wire.Listener{{Protocol: "tcp", Address: "0.0.0.0", Port: 80, Program: "perl", PID: 77}}
	if h := restored(); len(h.Steps) != 0 || len(h.Blockers) != 1 || h.Blockers[0].What != "port 80, on which nginx serves site timetable, is taken by perl (process 77)" {
		t.Errorf("with another there: %v, %v", texts(h), h.Blockers)
	}
}
