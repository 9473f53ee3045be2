package containers

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"northstake/core/plan"
	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

// What a container holds it goes on seeing: content is published below its eyes, without a
// restart; a file that is replaced, or a directory that somebody has put in the place of another,
// is seen after a restart, which the plan says; and a run that is taken back leaves it seeing what
// was there before.
func TestWhatAContainerHoldsIsSeen(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian.Able()}, stage.BareKit)
	at := stage.Registry(t)
	stage.Pushed(t, at, "tides", "1", map[string]string{"www/index.html": "flood"}, serves...)
	declared := func(notice, contains string) string {
		return "# instead of [site.timetable]\n" + stage.EngineKit(at) + fmt.Sprintf(`
[kit.base.content."/srv/quays"]
dir = "content"
[kit.base.file."/srv/notice"]
text = "%s"
[kit.base.container.tides]
image = "%s/tides:1"
reached_at = [{ outside = 8080, inside = 80 }]
mounts = { "/www/quays" = { from = "/srv/quays" }, "/www/notice" = { from = "/srv/notice" } }
[[kit.base.container.tides.probe]]
path = "/notice"
contains = "%s"
`, notice, at, contains)
	}
	page := func(name, text string) {
		t.Helper()
		file := filepath.Join(g.Dir, "content", name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		stage.Write(t, file, text)
	}
	page("low/now.html", "ebb")
	g.DeclareText(declared("no ferry", "ferry"))
	host := g.Hosts[0]
	g.Trust()
	g.Apply(0)
	g.NothingToDo()
	answers := func(path, want string) {
		t.Helper()
		if status, body, err := stage.Get("http://"+g.Address(host)+":8080"+path, "tides.test"); err != nil || status != 200 || body != want {
			t.Errorf("%s answers %d %q, %v; wanted %q", path, status, body, err, want)
		}
	}
	began := func() string {
		return inside(g, host, "podman inspect --format '{{.Id}} {{.State.StartedAt}}' tides")
	}
	answers("/quays/low/now.html", "ebb")
	answers("/notice", "no ferry")
	first := began()

	// Content, with more than one file, so that it is no single file that is put into place.
	page("low/now.html", "slack")
	page("more/later.html", "flood")
	g.On(host, "echo theirs > /srv/quays/low/theirs")
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(1)
	if got := stage.Texts(p); len(got) != 1 || !strings.Contains(got[0], "to /srv/quays, file by file, as container tides sees it") {
		t.Errorf("the plan is to %s", strings.Join(got, "; "))
	}
	g.ApplyPlan(0, p.Id)
	answers("/quays/low/now.html", "slack")
	answers("/quays/more/later.html", "flood")
	answers("/quays/low/theirs", "theirs\n")
	g.NothingToDo()
	// By hand, and back.
	g.On(host, "echo pirate > /srv/quays/low/now.html; rm -r /srv/quays/more")
	answers("/quays/low/now.html", "pirate\n")
	g.Ns(1, "drift", g.Name)
	g.Ns(0, "restore", g.Name, "--yes")
	answers("/quays/low/now.html", "slack")
	answers("/quays/more/later.html", "flood")
	if now := began(); now != first {
		t.Errorf("it was started anew: %s, %s", first, now)
	}

	// A file.
	g.DeclareText(declared("one ferry", "ferry"))
	g.Ns(0, "declare", g.Dir)
	p = g.Plan(1)
	if got := stage.Texts(p); len(got) != 2 || got[1] != "restart container tides" || p.Hosts[0].Steps[1].Because != "its file /srv/notice changed" {
		t.Errorf("the plan is to %s, because %s", strings.Join(got, "; "), p.Hosts[0].Steps[1].Because)
	}
	// With the rod killed at each boundary, and content in the same plan.
	page("low/now.html", "ebb again")
	g.Ns(0, "declare", g.Dir)
	isContainer := func(st contract.Step) bool { return st.Type == "container" }
	g.Killed(g.Plan(1), []string{"content", "file"}, isContainer, stage.Boundaries, stage.KillRod, stage.ResumeByHand)
	answers("/notice", "one ferry")
	answers("/quays/low/now.html", "ebb again")
	answers("/quays/low/theirs", "theirs\n")
	g.NothingToDo()
	// Once it was started anew there is nothing left to do.
	page("low/now.html", "slack")
	g.DeclareText(declared("a ferry", "ferry"))
	g.Ns(0, "declare", g.Dir)
	g.Killed(g.Plan(1), []string{"container"}, func(st contract.Step) bool { return !isContainer(st) }, []string{"before", "begun"}, stage.KillRod, stage.ResumeByHand)
	answers("/notice", "a ferry")
	answers("/quays/low/now.html", "slack")
	g.NothingToDo()
	// One that goes back.
	g.DeclareText(declared("two boats", "ferry"))
	g.Ns(0, "declare", g.Dir)
	if h := g.ApplyPlan(2, g.Plan(1).Id).Hosts[0]; h.State != "back" {
		t.Errorf("the run ended %s: %+v", h.State, h.Fault)
	}
	answers("/notice", "a ferry")
	g.DeclareText(declared("a ferry", "ferry"))
	g.Ns(0, "declare", g.Dir)
	g.NothingToDo()

	// What somebody puts in the place of what it holds.
	for what, hand := range map[string]string{
		"a directory": "cp -a /srv/quays /srv/other && mv /srv/quays /srv/away && mv /srv/other /srv/quays && rm -r /srv/away",
		"a file":      "cp -a /srv/notice /srv/other && mv /srv/other /srv/notice",
	} {
		g.On(host, hand)
		if out := g.Ns(1, "drift", g.Name); !strings.Contains(out, "what lay there before") {
			t.Errorf("%s: drift says %s", what, out)
		}
		g.Ns(0, "restore", g.Name, "--yes")
		g.NothingToDo()
		answers("/quays/low/now.html", "slack")
		answers("/notice", "a ferry")
	}

	// What would leave a server with nothing to serve is said.
	g.On(host, "mkdir /srv/none")
	stage.Pushed(t, at, "web", "1", nil, "nginx")
	g.DeclareText(declared("a ferry", "ferry") + fmt.Sprintf("[kit.base.container.web]\nimage = \"%s/web:1\"\nreached_at = [{ outside = 8081, inside = 80 }]\nmounts = { \"/data\" = { from = \"/srv/none\" } }\n", at))
	g.Ns(0, "declare", g.Dir)
	inside(g, host, "podman pull "+at+"/web:1")
	var said []string
	for _, c := range g.Plan(1).Hosts[0].Cautions {
		said = append(said, c.What)
	}
	for _, want := range []string{"/srv/none, which container web is to see, is empty", "looks by itself at /usr/share/nginx/html or /var/www/html for what it serves, and container web holds nothing there"} {
		if !strings.Contains(strings.Join(said, "\n"), want) {
			t.Errorf("nobody says %q: %q", want, said)
		}
	}
}

// Where only what is declared is let in, that counts for what leads into containers, too: what the
// engine would lead past the host's filter is let in where it is declared, from where it is
// declared, and nowhere else.
func TestDoorsOfContainersAreGuarded(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian.Able()}, stage.BareKit)
	at := stage.Registry(t)
	stage.Pushed(t, at, "tides", "1", map[string]string{"www/index.html": "flood"}, serves...)
	declared := func(more string) string {
		return "# instead of [site.timetable]\n" + strings.Replace(stage.EngineKit(at), "[kit.base]\n", "[kit.base]\ninbound = \"declared\"\n", 1) + fmt.Sprintf(`
[kit.base.container.tides]
image = "%[1]s/tides:1"
address = "10.88.7.7"
reached_at = [{ outside = 8080, inside = 80 }]
[kit.base.container.office]
image = "%[1]s/tides:1"
reached_at = [{ outside = 8090, inside = 80, at = "127.0.0.1" }]
%[2]s`, at, more)
	}
	g.DeclareText(declared(""))
	host := g.Hosts[0]
	g.Trust()
	g.Apply(0)
	g.NothingToDo()
	inside(g, host, "podman run -d --name theirs -p 9090:80 "+at+"/tides:1")
	stands := func(port int, want bool) {
		t.Helper()
		c, err := net.DialTimeout("tcp", fmt.Sprintf("%s:%d", g.Address(host), port), 2*time.Second)
		if err == nil {
			c.Close()
		}
		if (err == nil) != want {
			t.Errorf("port %d: %v; rules\n%s", port, err, g.On(host, "nft list table inet northstake"))
		}
	}
	if out := inside(g, host, "podman exec tides busybox ip -4 addr show eth0"); !strings.Contains(out, "10.88.7.7/") {
		t.Errorf("its addresses are %s", out)
	}
	stands(8080, true)
	stands(8090, false)
	stands(9090, false)
	for _, port := range []int{8080, 8090, 9090} { // the host itself gets to all of them
		if out := g.On(host, fmt.Sprintf("bash -c 'exec 3<>/dev/tcp/127.0.0.1/%d; printf \"GET / HTTP/1.0\\r\\n\\r\\n\" >&3; tail -n 1 <&3'", port)); out != "flood" {
			t.Errorf("from the host port %d answers %q", port, out)
		}
	}
	// What a container asks of the world goes out, and the answer comes back.
	if out := inside(g, host, fmt.Sprintf("podman exec tides busybox wget -q -O - http://%s/v2/", at)); strings.TrimSpace(out) != "{}" {
		t.Errorf("from inside the registry answers %q", out)
	}
	g.NothingToDo() // the rules are as nft lists them

	// From some networks alone, and a door of somebody else's that is declared as a port.
	g.DeclareText(declared("[kit.base.port.\"8080/tcp\"]\nfrom = [\"192.0.2.0/24\"]\n[kit.base.port.\"9090/tcp\"]\n"))
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(1)
	if got := strings.Join(stage.Texts(p), "; "); !strings.Contains(got, "let in only 22/tcp") || !strings.Contains(got, "9090/tcp") {
		t.Errorf("the plan is to %s", got)
	}
	g.ApplyPlan(0, p.Id)
	stands(8080, false)
	stands(9090, true)
	g.NothingToDo()
	// One that ends again and again is not as declared, at whatever moment it is looked at, and keeps
	// nothing from being mended (K5, K6).
	bell := "[kit.base.container.bell]\nimage = \"" + at + "/tides:1\"\nmounts = { \"/flag\" = { from = \"/srv/flag\" } }\ncommand = [\"busybox\", \"sh\", \"-c\", \"[ ! -e /flag/crash ] || { busybox sleep 2; exit 3; }; exec busybox sleep 100000\"]\nwell_when = [\"busybox\", \"sh\", \"-c\", \"[ ! -e /unwell ] || { busybox date +%N; exit 1; }\"]\n[kit.base.directory.\"/srv/flag\"]\n"
	g.DeclareText(declared("[kit.base.port.\"8080/tcp\"]\nfrom = [\"192.0.2.0/24\"]\n[kit.base.port.\"9090/tcp\"]\n" + bell))
	g.Ns(0, "declare", g.Dir)
	g.ApplyPlan(0, g.Plan(1).Id)
	g.NothingToDo()
	g.On(host, "touch /srv/flag/crash /srv/flag/other")
	inside(g, host, "kill -9 $(podman inspect --format '{{.State.Pid}}' bell)")
	for range 8 {
		time.Sleep(700 * time.Millisecond)
		if row := g.Survey(host)["container/bell"]; row.Standing != plan.Shifted {
			t.Errorf("a container that crashes is %s: %s %+v", row.Standing, row.Reason, row.Differences)
		}
	}
	p = g.Plan(1)
	if got := strings.Join(stage.Texts(p), "; "); got != "make container bell anew, because it does not stay up" {
		t.Errorf("the plan is to %s", got)
	}
	g.On(host, "rm /srv/flag/crash")
	g.ApplyPlan(0, p.Id)
	g.NothingToDo()
	inside(g, host, "podman exec bell busybox touch /unwell") // and says something else each time
	if p = g.Plan(1); strings.Join(stage.Texts(p), "; ") != "make container bell anew, because it is not well" {
		t.Errorf("the plan is to %s", strings.Join(stage.Texts(p), "; "))
	}
	g.ApplyPlan(0, p.Id)
	g.NothingToDo()
	inside(g, host, "podman rename bell gong")
	if b := fmt.Sprint(g.Plan(2).Hosts[0].Blockers); !strings.Contains(b, "container bell was renamed to gong") { // K9
		t.Errorf("the blockers are %s", b)
	}
	inside(g, host, "podman rename gong bell")
	g.NothingToDo()
	// Without the rule about them nothing is as declared.
	g.On(host, "nft delete chain inet northstake doors")
	stands(8080, true)
	g.Ns(1, "drift", g.Name)
	g.Ns(0, "restore", g.Name, "--yes")
	stands(8080, false)
}
