package plan

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"northstake/core/stake"
	"northstake/core/stake/judge"
	"northstake/core/wire"
)

// before is a host on which a site called former was applied by a run, at a file of its own,
// and is not declared any more; the site that is declared has its name.
func before(t *testing.T, server string, made bool) Input {
	t.Helper()
	in := asDeclared(input(t))
	was := wire.SiteWant{Server: server, Service: server, Program: server, File: wire.Path("/etc/" + server + "/northstake-former.conf"), Text: "server\n", Listen: wire.Listening{{Port: 80}}, Names: []string{"old.saltmarsh.test", "timetable.saltmarsh.test"}}
	in.Applied["site/former"] = Applied{Type: "site", Name: "former", Site: "former", Want: wire.JSON(was), Revision: 3, Made: made}
	in.Readings["site/former"] = wire.Reading{Name: "site/former", Found: wire.JSON(wire.SiteFound{File: file("file"), Text: "server\n"})}
	on := true
	in.Applied["service/"+server] = Applied{Type: "service", Name: server, Want: wire.JSON(wire.ServiceWant{Name: server, Running: &on, AtBoot: &on, Serves: server}), Revision: 3, Made: made}
	in.Readings["service/"+server] = wire.Reading{Name: "service/" + server, Found: wire.JSON(wire.ServiceFound{Known: true, Active: "active", Boot: "enabled"})}
	return set(in, "site/timetable", wire.SiteFound{Rivals: []wire.Rival{{Name: "timetable.saltmarsh.test", File: was.File}}})
}

// A site that is called otherwise by now goes before the one in its place is written, for
// that one's sake, with one reload; and only if a run made it, nobody restores, and the one
// in its place is not held up.
func TestAFormerSiteGoes(t *testing.T) {
	in := before(t, "nginx", true)
	h := build(t, in)
	if got := texts(h); len(got) != 3 || got[0] != "take away the virtual host of site former, /etc/nginx/northstake-former.conf" || !strings.HasPrefix(got[1], "write the virtual host of site timetable") || got[2] != "reload nginx" {
		t.Fatalf("the plan is to %s; %+v", strings.Join(got, "; "), h.Blockers)
	}
	if why := h.Steps[0].Because; why != "site timetable has its name timetable.saltmarsh.test now" {
		t.Errorf("it goes because %s", why)
	}
	if standingOf(h, "site/former") != Stray {
		t.Errorf("it is %s until then", standingOf(h, "site/former"))
	}
	if moved := Moved(h, build(t, in), false); moved != "" {
		t.Errorf("the same plan twice: %s", moved)
	}
	rest := h
	rest.Steps = h.Steps[1:]
	if moved := Moved(h, rest, true); moved != "" {
		t.Errorf("resumed behind its first step: %s", moved)
	}
	for name, change := range map[string]func(*Input){
		"somebody else made it": func(in *Input) { *in = before(t, "nginx", false) },
		"a restore":             func(in *Input) { in.Restores = true },
		"its port is taken": func(in *Input) {
			in.Traits.Listeners = []wire.Listener{{Protocol: "tcp", Port: 80, Program: "other", PID: 7}}
		},
		"another name": func(in *Input) { rename(t, in, "other.saltmarsh.test") },
	} {
		in := before(t, "nginx", true)
		change(&in)
		h, err := Build(in, nil)
		if err != nil {
			t.Fatal(err)
		}
		if got := texts(h); slices.ContainsFunc(got, func(s string) bool { return strings.HasPrefix(s, "take away") }) {
			t.Errorf("%s: the plan is to %s", name, strings.Join(got, "; "))
		}
	}
}

// rename gives the former site another name.
func rename(t *testing.T, in *Input, name string) {
	t.Helper()
	a := in.Applied["site/former"]
	a.Want = wire.JSON(wire.SiteWant{Server: "nginx", Service: "nginx", File: "/etc/nginx/northstake-former.conf", Listen: wire.Listening{{Port: 80}}, Names: []string{name}})
	in.Applied["site/former"] = a
}

// A site's former server lets its port go, if runs made it; what holds the port otherwise
// stays a blocker.
func TestAFormerServerStops(t *testing.T) {
	listens := []wire.Listener{{Protocol: "tcp", Port: 80, Program: "harbourd", PID: 7}}
	in := before(t, "harbourd", true)
	in.Traits.Listeners = listens
	h := build(t, in)
	if got := texts(h); len(got) != 4 || !strings.HasPrefix(got[0], "write the virtual host of site timetable") || got[2] != "stop harbourd, keep it from starting at boot" || got[3] != "reload nginx" || h.Steps[2].Because != "site timetable listens on port 80 with nginx now" || len(h.Blockers) > 0 {
		t.Errorf("the plan is to %s; %+v", strings.Join(got, "; "), h.Blockers)
	}
	if len(h.Cautions) == 0 || !strings.Contains(h.Cautions[0].What, "is down between steps 3 and 4, a few seconds") {
		t.Errorf("cautions %+v", h.Cautions)
	}
	planned := h
	delete(in.Applied, "site/former") // it has gone, and the server was started again by somebody, or by what was taken back
	delete(in.Readings, "site/former")
	in = set(in, "site/timetable", wire.SiteFound{})
	h = build(t, in)
	if got := texts(h); len(got) != 3 || got[1] != "stop harbourd, keep it from starting at boot" || len(h.Blockers) > 0 {
		t.Errorf("with its site gone the plan is to %s; %+v", strings.Join(got, "; "), h.Blockers)
	}
	if moved := Moved(planned, h, true); moved != "" {
		t.Errorf("resumed with its site gone: %s", moved)
	}
	in = before(t, "harbourd", false)
	in.Traits.Listeners = listens
	if h := build(t, in); len(h.Blockers) == 0 || len(h.Steps) > 0 {
		t.Errorf("somebody else's server: %+v, %s", h.Blockers, strings.Join(texts(h), "; "))
	}
}

// The same site elsewhere leaves what it was before.
func TestASiteThatMovesIsTakenFromWhereItWas(t *testing.T) {
	in := before(t, "harbourd", true)
	a, r := in.Applied["site/former"], in.Readings["site/former"]
	a.Name, a.Site = "timetable", "timetable"
	in.Applied["site/timetable"] = a
	now := in.Readings["site/timetable"]
	now.Was = r.Found
	in.Readings["site/timetable"] = now
	delete(in.Applied, "site/former")
	delete(in.Readings, "site/former")
	h := build(t, in)
	if got := texts(h); len(got) != 4 || got[1] != "take away the virtual host of site timetable, /etc/harbourd/northstake-former.conf" || h.Steps[0].Address == h.Steps[1].Address {
		t.Errorf("the plan is to %s", strings.Join(got, "; "))
	}
}

// A port that is open to other networks than before is closed to those that are not named any
// more, and to nobody else.
func TestFormerNetworksAreShutOut(t *testing.T) {
	kind, err := stake.KindOf("port")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ was, now, left []string }{
		{[]string{"10.0.0.0/8", "192.0.2.0/24"}, []string{"192.0.2.0/24"}, []string{"10.0.0.0/8"}},
		{[]string{"10.0.0.0/8"}, []string{"192.0.2.0/24", "10.0.0.0/8"}, nil},
		{nil, []string{"10.0.0.0/8"}, []string{""}},
		{[]string{"10.0.0.0/8"}, nil, nil},
		{nil, nil, nil},
	} {
		got := kind.Elsewhere(wire.JSON(wire.PortWant{Port: 5432, Protocol: "tcp", From: c.was}), wire.JSON(wire.PortWant{Port: 5432, Protocol: "tcp", From: c.now}))
		var w wire.PortWant
		if len(got) > 0 {
			if err := json.Unmarshal(got, &w); err != nil {
				t.Fatal(err)
			}
		}
		if (got == nil) != (c.left == nil) || got != nil && !slices.Equal(w.Sources(), c.left) {
			t.Errorf("from %v to %v: %s, want %v", c.was, c.now, got, c.left)
		}
	}
}

// What is down is down until something else serves it again, whatever comes in between.
func TestBetweenWhichStepsASiteIsDown(t *testing.T) {
	step := func(n int, address, typ, verb string) wire.Step {
		return wire.Step{Number: n, Address: address, Type: typ, Move: wire.Move{Verb: verb}}
	}
	note := []stake.Note{{Address: "q/site/a", What: "site a is down between " + judge.BetweenSteps}, {Address: "q/x", What: "another matter"}, {Address: "q/none", What: "down between " + judge.BetweenSteps}}
	between(note, []wire.Step{step(1, "q/container/c", "container", "make"), step(2, "q/site/a", "site", "take"), step(3, "q/service/caddy", "service", "reload"), step(4, "q/container/c", "container", "start")})
	if note[0].What != "site a is down between steps 2 and 4" || note[1].What != "another matter" || note[2].What != "down between the step that stops it and the next" {
		t.Errorf("%+v", note)
	}
	note[0].What = judge.BetweenSteps
	between(note, []wire.Step{step(7, "q/site/a", "site", "take"), step(8, "q/port/x", "port", "open"), step(9, "q/service/nginx", "service", "reload")})
	if note[0].What != "steps 7 and 9" {
		t.Errorf("%+v", note)
	}
}

// A server that serves sites of another ground as well goes on, and is nothing of this ground's any more when
// the last site of this one is gone; as long as that is there, it is.
func TestAServerOfAnotherGroundsSitesIsLeft(t *testing.T) {
	for _, c := range []struct {
		served []wire.Path
		want   Standing
	}{
		{[]wire.Path{"/etc/httpd/northstake-welcome.conf"}, ""},
		{[]wire.Path{"/etc/httpd/northstake-welcome.conf", "/etc/httpd/northstake-former.conf"}, Stray},
		{[]wire.Path{"/etc/httpd/theirs.conf"}, ""},
		{nil, Stray}, // it serves nobody, and was not stopped
	} {
		in := before(t, "httpd", true)
		in = set(in, "site/timetable", wire.SiteFound{})
		if !slices.Contains(c.served, "/etc/httpd/northstake-former.conf") {
			delete(in.Applied, "site/former")
		}
		server := wire.WebServer{Name: "httpd", Program: "httpd"}
		for _, file := range c.served {
			server.VirtualHosts = append(server.VirtualHosts, wire.Served{File: file, Ports: []int{80}})
		}
		in.Traits.WebServers = append(in.Traits.WebServers, server)
		if got := standingOf(build(t, in), "service/httpd"); got != c.want {
			t.Errorf("where it serves %v its service is %q, want %q", c.served, got, c.want)
		}
	}
}
