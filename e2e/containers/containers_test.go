package containers

import (
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

// failingRegistry is a registry behind a door that can be made to fall shut in the midst of an
// image.
func failingRegistry(t *testing.T) (at string, fails *atomic.Bool) {
	t.Helper()
	behind := stage.Registry(t)
	l, err := net.Listen("tcp", stage.Lab().Here()+":0")
	if err != nil {
		t.Fatal(err)
	}
	fails = &atomic.Bool{}
	door := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: behind})
	door.ModifyResponse = func(r *http.Response) error {
		if fails.Load() && r.Request.Method == http.MethodGet && strings.Contains(r.Request.URL.Path, "/blobs/") && r.ContentLength > 10_000 {
			r.Body = io.NopCloser(io.LimitReader(r.Body, r.ContentLength/2))
		}
		return nil
	}
	door.ErrorLog = log.New(io.Discard, "", 0)
	s := &http.Server{Handler: door, ErrorLog: door.ErrorLog}
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
	return l.Addr().String(), fails
}

var serves = []string{"httpd", "-f", "-p", "80", "-h", "/www"}

// A run that brought the engine, and a container that does not answer, goes back whole: of the
// engine nothing is asked once it is gone.
func TestARunThatBroughtTheEngineGoesBack(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian.Able()}, stage.BareKit)
	at := stage.Registry(t)
	stage.Pushed(t, at, "tides", "1", map[string]string{"www/index.html": "flood"}, serves...)
	g.DeclareText("# instead of [site.timetable]\n" + stage.EngineKit(at) + fmt.Sprintf("[kit.base.container.tides]\nimage = \"%s/tides:1\"\nreached_at = [{ outside = 8080, inside = 80 }]\n[[kit.base.container.tides.probe]]\npath = \"/\"\ncontains = \"neap\"\n", at))
	g.Trust()
	r := g.Apply(2)
	if h := r.Hosts[0]; h.State != "back" || h.Fault.What == "" || strings.Contains(h.Fault.What, "taken back") {
		t.Errorf("the run ends %s: %+v", h.State, h.Fault)
	}
	if out := g.On(g.Hosts[0], "command -v podman || true"); out != "" {
		t.Errorf("the engine is still there: %s", out)
	}
}

// A container is declared, run, found broken whatever is done to it with the engine's own
// means, and put back; an image that has moved is fetched; a start that fails leaves the former
// container running; and what leaves the declaration goes.
func TestAHostRunsContainers(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian.Able()}, stage.BareKit)
	at := stage.Registry(t) // whose address the hosts' network brings
	stage.Pushed(t, at, "tides", "1", map[string]string{"www/index.html": "flood"}, serves...)
	stage.Pushed(t, at, "tides", "broken", nil, "sh", "-c", "printf 'no \\033[2Jwater\\n'; exit 3")
	container := func(image, more string) string {
		return "# instead of [site.timetable]\n" + stage.EngineKit(at) + "[kit.base.directory.\"/srv/quays\"]\n" +
			fmt.Sprintf("[kit.base.container.tides]\nimage = \"%s/tides:%s\"\nreached_at = [{ outside = 8080, inside = 80 }]\nmounts = { \"/www/quays\" = { from = \"/srv/quays\" } }\nvariable_secrets = { TOKEN = \"tides-token\" }\nwell_when = [\"test\", \"-e\", \"/www/index.html\"]\n%s\n[[kit.base.container.tides.probe]]\npath = \"/\"\n", at, image, more)
	}
	g.DeclareText(container("1", "variables = { OFFICE = \"north\" }"))
	host := g.Hosts[0]
	g.Trust()
	if b := g.Plan(2).Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, `there is no secret called "tides-token"`) {
		t.Errorf("without the secret the blockers are %+v", b)
	}
	file := filepath.Join(t.TempDir(), "token")
	stage.Write(t, file, "low-tide-77")
	g.Ns(0, "secret", "keep", "tides-token", "--file", file)
	if out := g.Ns(0, "secret", "keep", "tides-token", "--file", file); !strings.Contains(out, "in place of the one of this name that was kept") {
		t.Errorf("a secret that is kept anew: %s", out)
	}
	g.Apply(0)
	g.NothingToDo()
	answers := func(want string) {
		t.Helper()
		if status, body, err := stage.Get("http://"+g.Address(host)+":8080/", "tides.test"); err != nil || status != 200 || body != want {
			t.Errorf("it answers %d %q, %v; wanted %q", status, body, err, want)
		}
	}
	answers("flood")
	g.On(host, "echo ebb > /srv/quays/now")
	if status, body, err := stage.Get("http://"+g.Address(host)+":8080/quays/now", "tides.test"); err != nil || status != 200 || body != "ebb\n" {
		t.Errorf("what it holds answers %d %q, %v", status, body, err)
	}
	if out := inside(g, host, "podman exec tides env"); !strings.Contains(out, "TOKEN=low-tide-77") || !strings.Contains(out, "OFFICE=north") {
		t.Errorf("its environment is %s", out)
	}
	// It starts with the host, which is what a container that restarts always does.
	g.Restart(host)
	g.Eventually("the container is back after a restart of its host", func() error {
		status, body, err := stage.Get("http://"+g.Address(host)+":8080/", "tides.test")
		if err == nil && (status != 200 || body != "flood") {
			err = fmt.Errorf("it answers %d %q", status, body)
		}
		return err
	})
	g.Ns(0, "drift", g.Name) // what has been well since it was started is not waited for
	if dump := g.Service.Dump(t); strings.Contains(dump, "low-tide-77") {
		t.Error("the service's records have the secret")
	}
	ours := "--label northstake.by=" + g.Name
	for what, hand := range map[string]string{
		"stopped":               "podman stop -t 1 tides",
		"removed":               "podman rm -f -t 1 tides",
		"another port":          "podman rm -f -t 1 tides; podman run -d --name tides " + ours + " -p 8081:80 " + at + "/tides:1",
		"another environment":   "podman rm -f -t 1 tides; podman run -d --name tides " + ours + " -p 8080:80 -v /srv/quays:/www/quays:ro -e OFFICE=south -e TOKEN=low-tide-77 --restart always " + at + "/tides:1",
		"another secret":        "podman rm -f -t 1 tides; podman run -d --name tides " + ours + " -p 8080:80 -v /srv/quays:/www/quays:ro -e OFFICE=north -e TOKEN=high --restart always " + at + "/tides:1",
		"all rights":            "podman rm -f -t 1 tides; podman run -d --name tides --privileged " + ours + " -p 8080:80 -v /srv/quays:/www/quays:ro -e OFFICE=north -e TOKEN=low-tide-77 --restart always " + at + "/tides:1",
		"a door for others":     "podman rm -f -t 1 tides; podman run -d --name tides -p 5353:53/udp " + ours + " -p 8080:80 -v /srv/quays:/www/quays:ro -e OFFICE=north -e TOKEN=low-tide-77 --restart always " + at + "/tides:1",
		"a volume":              "podman rm -f -t 1 tides; podman run -d --name tides -v theirs:/www/more " + ours + " -p 8080:80 -v /srv/quays:/www/quays:ro -e OFFICE=north -e TOKEN=low-tide-77 --restart always " + at + "/tides:1",
		"another network":       "podman network create more; podman network connect more tides",
		"not well":              "podman exec tides busybox mv /www/index.html /www/gone",
		"the image removed":     "podman rm -f -t 1 tides; podman rmi -f " + at + "/tides:1",
		"something more in it":  "podman rm -f -t 1 tides; podman run -d --name tides " + ours + " -p 8080:80 -v /srv/quays:/www/quays:ro -e OFFICE=north -e TOKEN=low-tide-77 -e PIRATE=yes --restart always " + at + "/tides:1",
		"another word to start": "podman rm -f -t 1 tides; podman run -d --name tides " + ours + " -p 8080:80 -v /srv/quays:/www/quays:ro -e OFFICE=north -e TOKEN=low-tide-77 --restart always " + at + "/tides:1 httpd -f -p 80 -h /www/quays",
	} {
		t.Log("by hand: " + what)
		// What an engine tells of a change goes through the journal, which takes a moment to have it.
		inside(g, host, hand+"; journalctl --sync")
		if out := g.Ns(1, "drift", g.Name); !strings.Contains(out, "tides") || strings.Contains(out, "low-tide-77") {
			t.Errorf("%s: drift says %s", what, out)
		}
		g.Ns(0, "restore", g.Name, "--yes")
		if p := g.Survey(host)["container/tides"]; p.Standing != "set" {
			t.Errorf("%s: after restore it is %s: %+v", what, p.Standing, p.Differences)
		}
		answers("flood")
	}
	// A tag that has moved is drift, and both come anew.
	stage.Pushed(t, at, "tides", "1", map[string]string{"www/index.html": "slack"}, serves...)
	p := g.Plan(1)
	if got := stage.Texts(p); len(got) != 2 || !strings.HasPrefix(got[0], "fetch image ") || !strings.HasPrefix(got[1], "make container tides anew") {
		t.Errorf("when the tag has moved the plan is to %s", strings.Join(got, "; "))
	}
	g.ApplyPlan(0, p.Id)
	g.NothingToDo()
	answers("slack")
	// What is declared otherwise is made anew, and said.
	g.DeclareText(container("1", "variables = { OFFICE = \"south\" }\nengine_labels = { team = \"tides\" }"))
	g.Ns(0, "declare", g.Dir)
	p = g.Plan(1)
	if step := p.Hosts[0].Steps[0]; !strings.Contains(step.Because, "variable OFFICE") || !strings.Contains(step.Because, "engine labels") || len(p.Hosts[0].Cautions) == 0 {
		t.Errorf("the step is %+v, the cautions %+v", step, p.Hosts[0].Cautions)
	}
	g.ApplyPlan(0, p.Id)
	g.NothingToDo()
	// One that does not answer as its probe says is taken back.
	g.DeclareText(strings.Replace(container("1", "variables = { OFFICE = \"west\" }"), "path = \"/\"\n", "path = \"/\"\ncontains = \"storm\"\n", 1))
	g.Ns(0, "declare", g.Dir)
	if h := g.ApplyPlan(2, g.Plan(1).Id).Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.What, "after the steps, container tides does not answer as declared") {
		t.Errorf("the run ended %s: %+v", h.State, h.Fault)
	}
	if out := inside(g, host, "podman exec tides env"); !strings.Contains(out, "OFFICE=south") {
		t.Errorf("after that its environment is %s", out)
	}
	g.DeclareText(container("1", "variables = { OFFICE = \"south\" }\nengine_labels = { team = \"tides\" }"))
	g.Ns(0, "declare", g.Dir)
	if out := g.Ns(0, "probe", g.Name); strings.Count(out, "container/tides") != 2 {
		t.Errorf("the probes say\n%s", out)
	}
	// One that does not stay up is said why, and the former one answers again.
	g.DeclareText(container("broken", "variables = { OFFICE = \"south\" }"))
	g.Ns(0, "declare", g.Dir)
	p = g.Plan(1)
	r := g.ApplyPlan(2, p.Id)
	if h := r.Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.What, "it ended with status 3; its last words: no [2Jwater") {
		t.Errorf("the run ended %s: %+v", h.State, h.Fault)
	}
	answers("slack")
	if out := inside(g, host, "podman ps -a --format '{{.Names}}'"); strings.TrimSpace(out) != "tides" {
		t.Errorf("there are the containers %s", out)
	}
	// What a registry has not got, or cannot be asked for, stops the plan, each told apart.
	for tag, says := range map[string]string{at + "/tides:none": "has no image tides with none", stage.Lab().Here() + ":1/tides:1": "registry " + stage.Lab().Here() + ":1 does not answer"} {
		g.DeclareText(strings.Replace(container("1", ""), at+"/tides:1", tag, 1))
		g.Ns(0, "declare", g.Dir)
		if b := g.Plan(2).Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, says) {
			t.Errorf("%s: the blockers are %+v", tag, b)
		}
	}
	// One of that name that somebody else made is left alone.
	g.DeclareText(container("1", "") + fmt.Sprintf("[kit.base.container.theirs]\nimage = \"%s/tides:1\"\n", at))
	g.Ns(0, "declare", g.Dir)
	inside(g, host, "podman run -d --name theirs "+at+"/tides:1")
	p = g.Plan(2)
	if b := p.Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, "a container called theirs is there already, made by nobody") {
		t.Errorf("the blockers are %+v", b)
	}
	if out := g.Ns(0, "show", host, "--ground", g.Name); !strings.Contains(out, "theirs\t"+at+"/tides:1\trunning\tothers") || !strings.Contains(out, "running\tground "+g.Name) {
		t.Errorf("show says\n%s", out)
	}
	// What leaves the declaration goes, and theirs stays.
	g.DeclareText("# instead of [site.timetable]\n" + stage.EngineKit(at))
	g.Ns(0, "declare", g.Dir)
	var clear contract.Plan
	stage.Decode(t, g.Ns(1, "plan", g.Name, "--clear", "--json"), &clear)
	g.ApplyPlan(0, clear.Id)
	if out := inside(g, host, "podman ps -a --format '{{.Names}}'"); strings.TrimSpace(out) != "theirs" {
		t.Errorf("there are the containers %s", out)
	}
}

// inside runs a script on a host from within its own first process, where an engine that is
// called as its command has no more rights than one that was started there.
func inside(g *stage.Ground, host, script string) string {
	g.T.Helper()
	stage.Write(g.T, filepath.Join(g.T.TempDir(), "script"), script)
	return g.On(host, "cat > /run/script <<'END-OF-SCRIPT'\n"+script+"\nEND-OF-SCRIPT\nsystemd-run -q --wait --pipe -p KillMode=process sh /run/script")
}

// A run that makes containers and fetches images is killed at every boundary of its steps.
func TestContainersKilled(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian.Able()}, stage.BareKit)
	at, fails := failingRegistry(t)
	stage.Pushed(t, at, "tides", "1", map[string]string{"www/index.html": "flood"}, serves...)
	stage.Pushed(t, at, "tides", "2", map[string]string{"www/index.html": "ebb"}, serves...)
	container := func(tag string) string {
		return "# instead of [site.timetable]\n" + stage.EngineKit(at) + fmt.Sprintf("[kit.base.container.tides]\nimage = \"%s/tides:%s\"\nreached_at = [{ outside = 8080, inside = 80 }]\n", at, tag)
	}
	g.DeclareText(container("1"))
	g.Trust()
	g.Apply(0)
	g.DeclareText(container("2"))
	g.Ns(0, "declare", g.Dir)
	g.Killed(g.Plan(1), []string{"image", "container"}, func(contract.Step) bool { return false }, stage.Boundaries, stage.KillRod, stage.ResumeByHand)
	if status, body, err := stage.Get("http://"+g.Address(g.Hosts[0])+":8080/", "tides.test"); err != nil || status != 200 || body != "ebb" {
		t.Errorf("it answers %d %q, %v", status, body, err)
	}
	if out := inside(g, g.Hosts[0], "podman ps -a --format '{{.Names}}'"); strings.TrimSpace(out) != "tides" {
		t.Errorf("there are the containers %s", out)
	}
	g.NothingToDo()
	// An engine that ends in the midst of a run is started again by its socket, and asked again.
	host := g.Hosts[0]
	g.DeclareText(container("1"))
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(1)
	step := p.Hosts[0].Steps[len(p.Hosts[0].Steps)-1]
	g.Hold(host, step.Number, "begun")
	run := g.StartRun(p.Id)
	g.Reached(host, step.Number, "begun")
	g.On(host, "systemctl kill -s KILL podman.service")
	g.Unhold(host)
	if r := g.Ended(run); r.State != "done" {
		t.Errorf("the run ended %s: %+v", r.State, r.Hosts)
	}
	g.NothingToDo()
	// An image that nothing here can run is told apart from one that ends.
	if err := lab.Push(t.Context(), at, "tides", "other", lab.Image{Layer: make([]byte, 1024), Architecture: "arm64", Command: serves}); err != nil {
		t.Fatal(err)
	}
	g.DeclareText(container("other"))
	g.Ns(0, "declare", g.Dir)
	if h := g.ApplyPlan(2, g.Plan(1).Id).Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.What, "tides:other is made for arm64, and this host is amd64") {
		t.Errorf("the run ended %s: %+v", h.State, h.Fault)
	}
	// A registry that is away in the midst of an image costs the run, and nothing else.
	stage.Pushed(t, at, "tides", "3", map[string]string{"www/index.html": "slack"}, serves...)
	g.DeclareText(container("3"))
	g.Ns(0, "declare", g.Dir)
	p = g.Plan(1)
	fails.Store(true)
	r := g.ApplyPlan(2, p.Id)
	if h := r.Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.What, "fetch image "+at+"/tides:3") {
		t.Errorf("the run ended %s: %+v", h.State, h.Fault)
	}
	if status, body, err := stage.Get("http://"+g.Address(host)+":8080/", "tides.test"); err != nil || status != 200 || body != "flood" {
		t.Errorf("it answers %d %q, %v", status, body, err)
	}
	fails.Store(false)
	g.Apply(0)
	if status, body, err := stage.Get("http://"+g.Address(host)+":8080/", "tides.test"); err != nil || status != 200 || body != "slack" {
		t.Errorf("it answers %d %q, %v", status, body, err)
	}
	g.NothingToDo()
}

// The engine itself is declared on the Red Hat family as on Debian: its package, its socket, its
// being up; and what it runs is found broken and put back.
func TestTheEngineOfTheRedHatFamily(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.RedHat.Able()}, stage.BareKit)
	at := stage.Registry(t)
	stage.Pushed(t, at, "tides", "1", map[string]string{"www/index.html": "flood"}, serves...)
	g.DeclareText("# instead of [site.timetable]\n" + strings.Replace(stage.EngineKit(at), `["podman", "netavark", "iptables"]`, "[\"podman\"]\ninbound = \"declared\"", 1) +
		fmt.Sprintf("[kit.base.container.tides]\nimage = \"%s/tides:1\"\nreached_at = [{ outside = 8080, inside = 80 }]\n[[kit.base.container.tides.probe]]\npath = \"/\"\ncontains = \"flood\"\n", at))
	host := g.Hosts[0]
	g.Trust()
	g.Apply(0)
	g.NothingToDo()
	// firewalld does not see who is led into containers: that is guarded beside it.
	inside(g, host, "podman run -d --name theirs -p 9090:80 "+at+"/tides:1")
	for port, open := range map[string]bool{":8080": true, ":9090": false, ":22": true} {
		if stage.Dialable(g.Address(host)+port) != open {
			t.Errorf("port %s can be reached: %t; rules\n%s", port, !open, g.On(host, "nft list table inet northstake; firewall-cmd --state"))
		}
	}
	g.NothingToDo()
	inside(g, host, "podman rm -f -t 1 theirs")
	for what, hand := range map[string]string{
		"the container is gone":    "podman rm -f -t 1 tides",
		"nothing listens":          "systemctl disable --now podman.socket; podman stop -t 1 tides",
		"the package is taken off": "podman rm -f -t 1 tides; systemctl stop podman.socket podman.service; rpm -e --nodeps podman",
	} {
		inside(g, host, hand)
		if out := g.Ns(1, "drift", g.Name); !strings.Contains(out, "tides") {
			t.Errorf("%s: drift says %s", what, out)
		}
		g.Ns(0, "restore", g.Name, "--yes")
		g.NothingToDo()
		if status, body, err := stage.Get("http://"+g.Address(host)+":8080/", "tides.test"); err != nil || status != 200 || body != "flood" {
			t.Errorf("%s: it answers %d %q, %v", what, status, body, err)
		}
	}
	if out := g.On(host, "systemctl is-enabled podman.socket && rpm -q podman"); !strings.Contains(out, "enabled") || !strings.Contains(out, "podman-4") {
		t.Errorf("the engine is %s", out)
	}
}

// A container in a network of its own is as declared once it is there (K4); what its image keeps in a
// volume of the engine goes along when it is made anew (K2); and one whose processes were killed
// together with what watches them is found, though the engine says that it runs, and put back (K3).
func TestAContainerKeepsItsNetworkAndWhatItWrote(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian.Able()}, stage.BareKit)
	at := stage.Registry(t)
	stage.PushedWith(t, at, "tides", "1", map[string]struct{}{"/data": {}}, map[string]string{"www/index.html": "flood"}, serves...)
	declared := func(office string) string {
		return "# instead of [site.timetable]\n" + stage.EngineKit(at) + fmt.Sprintf("[kit.base.container.tides]\nimage = \"%s/tides:1\"\nnetwork = \"harbour\"\nreached_at = [{ outside = 8080, inside = 80 }]\nvariables = { OFFICE = %q }\n", at, office)
	}
	g.DeclareText("# instead of [site.timetable]\n" + stage.EngineKit(at))
	host := g.Hosts[0]
	g.Trust()
	g.Apply(0)
	inside(g, host, "podman network create harbour >/dev/null")
	g.DeclareText(declared("north"))
	g.Ns(0, "declare", g.Dir)
	g.Apply(0)
	g.NothingToDo()
	if out := inside(g, host, "podman inspect -f '{{range $k, $v := .NetworkSettings.Networks}}{{$k}} {{end}}' tides"); strings.TrimSpace(out) != "harbour" {
		t.Errorf("it is in %s", out)
	}
	inside(g, host, "podman exec tides sh -c 'echo 7 fathoms > /data/depth'")
	g.DeclareText(declared("south"))
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(1)
	said := false
	for _, n := range p.Hosts[0].Cautions {
		said = said || strings.Contains(n.What, "what container tides wrote at /data lies in a volume of the engine: the new one goes on with it")
	}
	if !said {
		t.Errorf("the plan says nothing of what it wrote: %+v", p.Hosts[0].Cautions)
	}
	g.ApplyPlan(0, p.Id)
	if out := inside(g, host, "podman exec tides cat /data/depth"); strings.TrimSpace(out) != "7 fathoms" {
		t.Errorf("what it wrote is %q", out)
	}
	g.NothingToDo()
	// Its processes are killed, with what watches them.
	inside(g, host, "P=$(podman inspect -f '{{.State.Pid}}' tides); C=$(podman inspect -f '{{.State.ConmonPid}}' tides); kill -9 $C $P; sleep 1")
	if out := inside(g, host, "podman inspect -f '{{.State.Status}}' tides"); strings.TrimSpace(out) != "running" {
		t.Logf("the engine has noticed by itself: %s", out)
	}
	if out := g.Ns(1, "drift", g.Name); !strings.Contains(out, "container/tides") {
		t.Errorf("drift says\n%s", out)
	}
	g.Ns(0, "restore", g.Name, "--yes")
	if out := inside(g, host, "podman exec tides cat /data/depth"); strings.TrimSpace(out) != "7 fathoms" {
		t.Errorf("put back, what it wrote is %q", out)
	}
	if status, body, err := stage.Get("http://"+g.Address(host)+":8080/", "tides"); err != nil || status != 200 || body != "flood" {
		t.Errorf("put back it answers %d, %q, %v", status, body, err)
	}
	g.Ns(0, "drift", g.Name)
}
