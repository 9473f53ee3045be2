package containers

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

// containedGround is a ground with a host that can run an engine, and a function that declares
// its one site with a server, in a container of an image or, with "", on the machine.
func containedGround(t *testing.T) (g *stage.Ground, at string, declare func(server, image, more string)) {
	g = stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian.Able()}, stage.BareKit)
	at = stage.Registry(t)
	stage.PushedServers(t, at, "1")
	declare = func(server, image, more string) {
		t.Helper()
		within := ""
		if image != "" {
			within = fmt.Sprintf("image = %q\n", image)
		}
		g.DeclareText(stage.EngineKit(at) + "[site.timetable]\non = [\"h*\"]\nserver = \"" + server + "\"\n" + within + "names = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n" + more)
		g.Ns(0, "declare", g.Dir)
	}
	declare("nginx", "", "")
	g.Trust()
	return g, at, declare
}

// One word in a site moves it from a machine into a container and back, under fifty requests a
// second. What is not answered lies in one gap, which the plan has told.
func TestASiteMovesIntoAContainer(t *testing.T) {
	t.Parallel()
	g, at, declare := containedGround(t)
	host := g.Hosts[0]
	g.Apply(0)
	for _, move := range [][2]string{{"nginx", at + "/web:1"}, {"httpd", at + "/web:1"}, {"httpd", ""}, {"httpd", at + "/web:1"}, {"nginx", ""}, {"caddy", at + "/web:1"}} {
		declare(move[0], move[1], "")
		p := g.Plan(1)
		if !strings.Contains(fmt.Sprint(p.Hosts[0].Cautions), "is down between steps ") {
			t.Errorf("to %v: the plan says of the gap %v", move, p.Hosts[0].Cautions)
		}
		asks := stage.Ask(g.Address(host))
		r := g.ApplyPlan(0, p.Id)
		failed := asks.End()
		told := 0.0
		for i, s := range r.Hosts[0].Steps {
			if i+1 < len(r.Hosts[0].Steps) && (strings.HasPrefix(s.Text, "stop ") || strings.HasPrefix(s.Text, "take away container")) {
				told = s.TookMs + r.Hosts[0].Steps[i+1].TookMs
			}
		}
		t.Logf("to %v: %d requests of %d not answered, in %s; the two steps took %.0f ms", move, len(failed), asks.Made, stage.Gap(failed), told)
		// Five seconds more are for what lies between steps, on a machine with other work to do.
		if told == 0 || stage.Gap(failed).Milliseconds() > int64(told)+5000 {
			t.Errorf("to %v: not answered for %s, while the steps took %.0f ms", move, stage.Gap(failed), told)
		}
		if status, body := g.Fetch(host, "/"); status != 200 || !strings.Contains(body, "Next sailing") {
			t.Errorf("to %v: it answers %d: %s", move, status, body)
		}
		g.NothingToDo()
		running := strings.Fields(inside(g, host, "podman ps --format '{{.Names}}'"))
		if within := move[1] != ""; within != (len(running) == 1 && running[0] == "sites-"+move[0]) {
			t.Errorf("to %v: there run the containers %v", move, running)
		}
	}
}

// A site in a container is found broken whatever is done to it by hand, and put back; what is
// declared otherwise is tested by the server inside, and taken in without a restart; and content
// is published without the container noticing.
func TestASiteInAContainerIsKept(t *testing.T) {
	t.Parallel()
	g, at, declare := containedGround(t)
	host := g.Hosts[0]
	image := at + "/web:1"
	declare("nginx", image, "")
	g.Apply(0)
	g.NothingToDo()
	began := func() string { return inside(g, host, "podman inspect -f '{{.State.StartedAt}} {{.Id}}' sites-nginx") }
	for what, hand := range map[string]string{
		"configuration": "sed -i 's/timetable.saltmarsh/tides.saltmarsh/' /etc/northstake/nginx/sites/northstake-timetable.conf",
		"main file":     "sed -i 's/sendfile on/sendfile off/' /etc/northstake/nginx/nginx.conf",
		"not loaded":    "cp -a /etc/northstake/nginx/sites/northstake-timetable.conf /run/kept; sed -i 's/nosniff/sniff/; s/return 200 \"northstake /return 200 \"northstake 0/' /etc/northstake/nginx/sites/northstake-timetable.conf; podman exec sites-nginx nginx -s reload -c /etc/northstake/nginx/nginx.conf; sleep 1; cp -a /run/kept /etc/northstake/nginx/sites/northstake-timetable.conf",
		"stopped":       "podman stop -t 1 sites-nginx",
		"no engine":     "systemctl stop podman.socket podman.service; sed -i 's/timetable.saltmarsh/tides.saltmarsh/' /etc/northstake/nginx/sites/northstake-timetable.conf",
		"removed":       "podman rm -f -t 1 sites-nginx",
		"opened":        "chmod 0755 /etc/northstake",
		"a page":        "echo changed > /srv/www/timetable/index.html",
	} {
		inside(g, host, hand)
		g.Ns(1, "drift", g.Name)
		g.Ns(0, "restore", g.Name, "--yes")
		g.Ns(0, "drift", g.Name)
		if status, body := g.Fetch(host, "/"); status != 200 || !strings.Contains(body, "Next sailing") {
			t.Errorf("%s: after restore it answers %d: %s", what, status, body)
		}
	}
	// New content, and another configuration, are taken in by the container that runs.
	before := began()
	g.Content("index.html", stage.Page("two"))
	declare("nginx", image, "headers = { X-Office = \"north\" }\n")
	p := g.Plan(1)
	if got := strings.Join(stage.Texts(p), "; "); !strings.Contains(got, "reload container sites-nginx") || strings.Contains(got, "anew") {
		t.Errorf("the plan is to %s", got)
	}
	g.ApplyPlan(0, p.Id)
	if _, body := g.Fetch(host, "/"); !strings.Contains(body, "version two") {
		t.Errorf("it answers %s", body)
	}
	if _, header := asked(t, g.Address(host), ""); header.Get("X-Office") != "north" {
		t.Errorf("it answers %v", header)
	}
	if now := began(); now != before {
		t.Errorf("the container was %s and is %s", before, now)
	}
	// What the server inside refuses is said with the line of the declaration, and changes nothing.
	declare("nginx", image, "raw = { nginx = \"no_such_word on;\" }\n")
	r := g.ApplyPlan(2, g.Plan(1).Id)
	if f := r.Hosts[0].Fault; !strings.Contains(f.What, `unknown directive "no_such_word"`) || f.From == nil || f.From.File != "ground.toml" {
		t.Errorf("the run says %+v", f)
	}
	if now := began(); now != before {
		t.Errorf("the container was %s and is %s", before, now)
	}
	if got := g.On(host, "ls -A /etc/northstake/nginx; podman ps -a --format '{{.Names}}'"); strings.Contains(got, "candidate") || strings.Contains(got, "test") {
		t.Errorf("the test left %s", got)
	}
	// An account's hash is nobody's but root's on the host, and the server's inside.
	declare("nginx", image, "passwords = { purser = \"$2a$05$wnIedQZoBK./fT8HLKmSs.LW1uMPoinJt0UyarYIBtdkC0Et.e6YS\" }\n[[site.timetable.probe]]\npath = \"/\"\nstatus = 401\n")
	g.Apply(0)
	if got := g.On(host, "su -s /bin/sh nobody -c 'cat /etc/northstake/nginx/*.accounts /etc/northstake/nginx/northstake-timetable.accounts' 2>&1; true"); strings.Contains(got, "$2y$") {
		t.Errorf("nobody reads %s", got)
	}
	without, _ := asked(t, g.Address(host), "")
	if with, _ := asked(t, g.Address(host), "low water"); without != 401 || with != 200 {
		t.Errorf("without and with the password it answers %d and %d", without, with)
	}
	// Its port is another's: said, with the process.
	declare("nginx", image, "listen = [8090]\n")
	g.On(host, "systemd-run -q --collect --unit pirate perl -MIO::Socket::INET -e 'my $s=IO::Socket::INET->new(LocalPort=>8090,Listen=>9); sleep 600'; until ss -ltn | grep -q ':8090 '; do sleep 0.02; done")
	if b := g.Plan(2).Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, "port 8090 is taken by ") {
		t.Errorf("the blockers are %+v", b)
	}
	g.On(host, "systemctl stop pirate")
	// Another image: the container is made anew, and the gap is told.
	stage.PushedServers(t, at, "2")
	declare("nginx", at+"/web:2", "")
	p = g.Plan(1)
	if got := fmt.Sprint(stage.Texts(p), p.Hosts[0].Cautions); !strings.Contains(got, "make container sites-nginx anew") || !strings.Contains(got, "does not answer from when the former one stops") {
		t.Errorf("the plan is %s", got)
	}
	g.ApplyPlan(0, p.Id)
	g.NothingToDo()
	// What leaves the declaration goes, container and all.
	g.DeclareText("# instead of [site.timetable]\n" + stage.EngineKit(at))
	g.Ns(0, "declare", g.Dir)
	var clear contract.Plan
	stage.Decode(t, g.Ns(1, "plan", g.Name, "--clear", "--json"), &clear)
	g.ApplyPlan(0, clear.Id)
	if got := inside(g, host, "podman ps -a --format '{{.Names}}'; ls -A /etc/northstake 2>&1"); strings.Contains(got, "sites-nginx") || strings.Contains(got, "timetable") {
		t.Errorf("there is still %s", got)
	}
}

// asked asks a site for its first page, with a password where one is given.
func asked(t *testing.T, address, password string) (status int, header http.Header) {
	t.Helper()
	req, err := http.NewRequest(http.MethodGet, "http://"+address+"/", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Host = "timetable.saltmarsh.test"
	if password != "" {
		req.SetBasicAuth("purser", password)
	}
	r, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	r.Body.Close()
	return r.StatusCode, r.Header
}

// A move into a container, or out of it, that is cut off at any boundary goes on where it was.
func TestAMoveIntoAContainerKilled(t *testing.T) {
	t.Parallel()
	g, at, declare := containedGround(t)
	moves := [][2][2]string{{{"nginx", ""}, {"nginx", at + "/web:1"}}, {{"httpd", at + "/web:1"}, {"httpd", ""}}, {{"caddy", ""}, {"nginx", at + "/web:1"}}, {{"nginx", at + "/web:1"}, {"caddy", at + "/web:1"}}}
	move := moves[rand.IntN(len(moves))] // another one in each run of the tests
	if n, err := strconv.Atoi(os.Getenv("MOVE")); err == nil {
		move = moves[n]
	}
	t.Logf("from %v to %v", move[0], move[1])
	declare(move[0][0], move[0][1], "")
	g.Apply(0)
	declare(move[1][0], move[1][1], "")
	p := g.Plan(1)
	kinds := slices.DeleteFunc([]string{"site", "service", "container", "image"}, func(kind string) bool {
		return !slices.ContainsFunc(p.Hosts[0].Steps, func(s contract.Step) bool { return s.Type == kind })
	})
	g.Killed(p, kinds, func(contract.Step) bool { return false }, stage.Boundaries, stage.KillRod, stage.ResumeByHand)
	if status, body := g.Fetch(g.Hosts[0], "/"); status != 200 || !strings.Contains(body, "Next sailing") {
		t.Errorf("the site answers %d: %s", status, body)
	}
	g.NothingToDo()
}

// One of a server's sites moves to another server while the first goes on with the others: it is
// told to let go of the site's port before the other one takes that.
func TestOneOfSeveralSitesMoves(t *testing.T) {
	t.Parallel()
	g, at, _ := containedGround(t)
	host := g.Hosts[0]
	site := func(server, image string) {
		t.Helper()
		within := ""
		if image != "" {
			within = fmt.Sprintf("image = %q\n", image)
		}
		g.DeclareText(stage.EngineKit(at) + "[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n" +
			"[site.fares]\non = [\"h*\"]\nserver = \"" + server + "\"\n" + within + "names = [\"fares.saltmarsh.test\"]\nlisten = [8070]\nroot = \"/srv/www/fares\"\ncontent = { dir = \"content\" }\n")
		g.Ns(0, "declare", g.Dir)
	}
	site("nginx", "")
	g.Apply(0)
	for _, move := range [][2]string{{"caddy", ""}, {"nginx", ""}, {"nginx", at + "/web:1"}, {"nginx", ""}} {
		site(move[0], move[1])
		p := g.Plan(1)
		g.ApplyPlan(0, p.Id)
		g.NothingToDo()
		for url, name := range map[string]string{"http://" + g.Address(host) + "/": "timetable.saltmarsh.test", "http://" + g.Address(host) + ":8070/": "fares.saltmarsh.test"} {
			if status, body, err := stage.Get(url, name); err != nil || status != 200 || !strings.Contains(body, "Next sailing") {
				t.Errorf("to %v: %s answers %d %q, %v, after\n%s", move, name, status, body, err, strings.Join(stage.Texts(p), "\n"))
			}
		}
	}
}
