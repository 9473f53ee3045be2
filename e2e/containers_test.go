package e2e

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"northstake/lab"
	"northstake/service/contract"
)

// registry starts a registry of images, which hosts reach without TLS, and returns its address.
func registry(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", labs.Here()+":0")
	if err != nil {
		t.Fatal(err)
	}
	addr := l.Addr().String()
	l.Close()
	r, err := lab.StartRegistry(t.Context(), t.TempDir(), addr)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.Close)
	return addr
}

// failingRegistry is a registry behind a door that can be made to fall shut in the midst of an
// image.
func failingRegistry(t *testing.T) (at string, fails *atomic.Bool) {
	t.Helper()
	behind := registry(t)
	l, err := net.Listen("tcp", labs.Here()+":0")
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

// pushed puts an image into a registry: a static shell with its tools, some files, and what it
// starts with.
func pushed(t *testing.T, registry, name, tag string, files map[string]string, command ...string) {
	t.Helper()
	pushedWith(t, registry, name, tag, nil, files, command...)
}

// pushedWith is pushed of an image that keeps some paths in volumes.
func pushedWith(t *testing.T, registry, name, tag string, volumes map[string]struct{}, files map[string]string, command ...string) {
	t.Helper()
	busybox, err := os.ReadFile("/bin/busybox")
	if err != nil {
		t.Fatalf("%v; install Debian's busybox-static", err)
	}
	var layer bytes.Buffer
	w := tar.NewWriter(&layer)
	put := func(h tar.Header, b []byte) {
		h.Size = int64(len(b))
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		w.Write(b)
	}
	put(tar.Header{Name: "bin/busybox", Mode: 0o755}, busybox)
	for _, tool := range []string{"sh", "httpd", "test", "cat", "sleep", "env"} {
		put(tar.Header{Name: "bin/" + tool, Typeflag: tar.TypeSymlink, Linkname: "busybox", Mode: 0o777}, nil)
	}
	for name, text := range files {
		put(tar.Header{Name: name, Mode: 0o644}, []byte(text))
	}
	w.Close()
	image := lab.Image{Layer: layer.Bytes(), Command: command, Env: []string{"PATH=/bin", "TIDE=" + tag}, Labels: map[string]string{"office": "north"}, StopSignal: "SIGKILL", Volumes: volumes}
	if err := lab.Push(t.Context(), registry, name, tag, image); err != nil {
		t.Fatal(err)
	}
}

// pushedServers puts an image of web servers into a registry, and returns its name.
func pushedServers(t *testing.T, registry, tag string) string {
	t.Helper()
	file, err := lab.WebServers(t.Context(), os.Stderr)
	if err != nil {
		t.Fatal(err)
	}
	layer, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := lab.Push(t.Context(), registry, "web", tag, lab.Image{Layer: layer, Env: []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin"}, Labels: map[string]string{"tag": tag}}); err != nil {
		t.Fatal(err)
	}
	return registry + "/web:" + tag
}

// engineKit declares a container engine that fetches from a registry without TLS.
func engineKit(registry string) string {
	return "[kit.base]\npackages = [\"podman\", \"netavark\", \"iptables\"]\n[kit.base.service]\n\"podman.socket\" = { running = true, at_boot = true }\n" +
		fmt.Sprintf("[kit.base.file.\"/etc/containers/registries.conf.d/lab.conf\"]\ntext = \"[[registry]]\\nlocation = \\\"%s\\\"\\ninsecure = true\\n\"\n", registry)
}

var serves = []string{"httpd", "-f", "-p", "80", "-h", "/www"}

// A run that brought the engine, and a container that does not answer, goes back whole: of the
// engine nothing is asked once it is gone.
func TestARunThatBroughtTheEngineGoesBack(t *testing.T) {
	t.Parallel()
	g := newGroundOf(t, shared, []lab.Family{lab.Debian.Able()}, bareKit)
	at := registry(t)
	pushed(t, at, "tides", "1", map[string]string{"www/index.html": "flood"}, serves...)
	g.declareText("# instead of [site.timetable]\n" + engineKit(at) + fmt.Sprintf("[kit.base.container.tides]\nimage = \"%s/tides:1\"\nreached_at = [{ outside = 8080, inside = 80 }]\n[[kit.base.container.tides.probe]]\npath = \"/\"\ncontains = \"neap\"\n", at))
	g.trust()
	r := g.apply(2)
	if h := r.Hosts[0]; h.State != "back" || h.Fault.What == "" || strings.Contains(h.Fault.What, "taken back") {
		t.Errorf("the run ends %s: %+v", h.State, h.Fault)
	}
	if out := g.on(g.hosts[0], "command -v podman || true"); out != "" {
		t.Errorf("the engine is still there: %s", out)
	}
}

// A container is declared, run, found broken whatever is done to it with the engine's own
// means, and put back; an image that has moved is fetched; a start that fails leaves the former
// container running; and what leaves the declaration goes.
func TestAHostRunsContainers(t *testing.T) {
	t.Parallel()
	g := newGroundOf(t, shared, []lab.Family{lab.Debian.Able()}, bareKit)
	at := registry(t) // whose address the hosts' network brings
	pushed(t, at, "tides", "1", map[string]string{"www/index.html": "flood"}, serves...)
	pushed(t, at, "tides", "broken", nil, "sh", "-c", "printf 'no \\033[2Jwater\\n'; exit 3")
	container := func(image, more string) string {
		return "# instead of [site.timetable]\n" + engineKit(at) + "[kit.base.directory.\"/srv/quays\"]\n" +
			fmt.Sprintf("[kit.base.container.tides]\nimage = \"%s/tides:%s\"\nreached_at = [{ outside = 8080, inside = 80 }]\nmounts = { \"/www/quays\" = { from = \"/srv/quays\" } }\nvariable_secrets = { TOKEN = \"tides-token\" }\nwell_when = [\"test\", \"-e\", \"/www/index.html\"]\n%s\n[[kit.base.container.tides.probe]]\npath = \"/\"\n", at, image, more)
	}
	g.declareText(container("1", "variables = { OFFICE = \"north\" }"))
	host := g.hosts[0]
	g.trust()
	if b := g.plan(2).Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, `there is no secret called "tides-token"`) {
		t.Errorf("without the secret the blockers are %+v", b)
	}
	file := filepath.Join(t.TempDir(), "token")
	write(t, file, "low-tide-77")
	g.ns(0, "secret", "keep", "tides-token", "--file", file)
	if out := g.ns(0, "secret", "keep", "tides-token", "--file", file); !strings.Contains(out, "in place of the one of this name that was kept") {
		t.Errorf("a secret that is kept anew: %s", out)
	}
	g.apply(0)
	g.nothingToDo()
	answers := func(want string) {
		t.Helper()
		if status, body, err := get("http://"+g.address(host)+":8080/", "tides.test"); err != nil || status != 200 || body != want {
			t.Errorf("it answers %d %q, %v; wanted %q", status, body, err, want)
		}
	}
	answers("flood")
	g.on(host, "echo ebb > /srv/quays/now")
	if status, body, err := get("http://"+g.address(host)+":8080/quays/now", "tides.test"); err != nil || status != 200 || body != "ebb\n" {
		t.Errorf("what it holds answers %d %q, %v", status, body, err)
	}
	if out := g.inside(host, "podman exec tides env"); !strings.Contains(out, "TOKEN=low-tide-77") || !strings.Contains(out, "OFFICE=north") {
		t.Errorf("its environment is %s", out)
	}
	// It starts with the host, which is what a container that restarts always does.
	g.restart(host)
	g.eventually("the container is back after a restart of its host", func() error {
		status, body, err := get("http://"+g.address(host)+":8080/", "tides.test")
		if err == nil && (status != 200 || body != "flood") {
			err = fmt.Errorf("it answers %d %q", status, body)
		}
		return err
	})
	g.ns(0, "drift", g.name) // what has been well since it was started is not waited for
	if dump := g.s.dump(t); strings.Contains(dump, "low-tide-77") {
		t.Error("the service's records have the secret")
	}
	ours := "--label northstake.by=" + g.name
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
		g.inside(host, hand+"; journalctl --sync")
		if out := g.ns(1, "drift", g.name); !strings.Contains(out, "tides") || strings.Contains(out, "low-tide-77") {
			t.Errorf("%s: drift says %s", what, out)
		}
		g.ns(0, "restore", g.name, "--yes")
		if p := g.survey(host)["container/tides"]; p.Standing != "set" {
			t.Errorf("%s: after restore it is %s: %+v", what, p.Standing, p.Differences)
		}
		answers("flood")
	}
	// A tag that has moved is drift, and both come anew.
	pushed(t, at, "tides", "1", map[string]string{"www/index.html": "slack"}, serves...)
	p := g.plan(1)
	if got := texts(p); len(got) != 2 || !strings.HasPrefix(got[0], "fetch image ") || !strings.HasPrefix(got[1], "make container tides anew") {
		t.Errorf("when the tag has moved the plan is to %s", strings.Join(got, "; "))
	}
	g.applyPlan(0, p.Id)
	g.nothingToDo()
	answers("slack")
	// What is declared otherwise is made anew, and said.
	g.declareText(container("1", "variables = { OFFICE = \"south\" }\nengine_labels = { team = \"tides\" }"))
	g.ns(0, "declare", g.dir)
	p = g.plan(1)
	if step := p.Hosts[0].Steps[0]; !strings.Contains(step.Because, "variable OFFICE") || !strings.Contains(step.Because, "engine labels") || len(p.Hosts[0].Cautions) == 0 {
		t.Errorf("the step is %+v, the cautions %+v", step, p.Hosts[0].Cautions)
	}
	g.applyPlan(0, p.Id)
	g.nothingToDo()
	// One that does not answer as its probe says is taken back.
	g.declareText(strings.Replace(container("1", "variables = { OFFICE = \"west\" }"), "path = \"/\"\n", "path = \"/\"\ncontains = \"storm\"\n", 1))
	g.ns(0, "declare", g.dir)
	if h := g.applyPlan(2, g.plan(1).Id).Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.What, "after the steps, container tides does not answer as declared") {
		t.Errorf("the run ended %s: %+v", h.State, h.Fault)
	}
	if out := g.inside(host, "podman exec tides env"); !strings.Contains(out, "OFFICE=south") {
		t.Errorf("after that its environment is %s", out)
	}
	g.declareText(container("1", "variables = { OFFICE = \"south\" }\nengine_labels = { team = \"tides\" }"))
	g.ns(0, "declare", g.dir)
	if out := g.ns(0, "probe", g.name); strings.Count(out, "container/tides") != 2 {
		t.Errorf("the probes say\n%s", out)
	}
	// One that does not stay up is said why, and the former one answers again.
	g.declareText(container("broken", "variables = { OFFICE = \"south\" }"))
	g.ns(0, "declare", g.dir)
	p = g.plan(1)
	r := g.applyPlan(2, p.Id)
	if h := r.Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.What, "it ended with status 3; its last words: no [2Jwater") {
		t.Errorf("the run ended %s: %+v", h.State, h.Fault)
	}
	answers("slack")
	if out := g.inside(host, "podman ps -a --format '{{.Names}}'"); strings.TrimSpace(out) != "tides" {
		t.Errorf("there are the containers %s", out)
	}
	// What a registry has not got, or cannot be asked for, stops the plan, each told apart.
	for tag, says := range map[string]string{at + "/tides:none": "has no image tides with none", labs.Here() + ":1/tides:1": "registry " + labs.Here() + ":1 does not answer"} {
		g.declareText(strings.Replace(container("1", ""), at+"/tides:1", tag, 1))
		g.ns(0, "declare", g.dir)
		if b := g.plan(2).Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, says) {
			t.Errorf("%s: the blockers are %+v", tag, b)
		}
	}
	// One of that name that somebody else made is left alone.
	g.declareText(container("1", "") + fmt.Sprintf("[kit.base.container.theirs]\nimage = \"%s/tides:1\"\n", at))
	g.ns(0, "declare", g.dir)
	g.inside(host, "podman run -d --name theirs "+at+"/tides:1")
	p = g.plan(2)
	if b := p.Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, "a container called theirs is there already, made by nobody") {
		t.Errorf("the blockers are %+v", b)
	}
	if out := g.ns(0, "show", host, "--ground", g.name); !strings.Contains(out, "theirs\t"+at+"/tides:1\trunning\tothers") || !strings.Contains(out, "running\tground "+g.name) {
		t.Errorf("show says\n%s", out)
	}
	// What leaves the declaration goes, and theirs stays.
	g.declareText("# instead of [site.timetable]\n" + engineKit(at))
	g.ns(0, "declare", g.dir)
	var clear contract.Plan
	decode(t, g.ns(1, "plan", g.name, "--clear", "--json"), &clear)
	g.applyPlan(0, clear.Id)
	if out := g.inside(host, "podman ps -a --format '{{.Names}}'"); strings.TrimSpace(out) != "theirs" {
		t.Errorf("there are the containers %s", out)
	}
}

// inside runs a script on a host from within its own first process, where an engine that is
// called as its command has no more rights than one that was started there.
func (g *ground) inside(host, script string) string {
	g.t.Helper()
	write(g.t, filepath.Join(g.t.TempDir(), "script"), script)
	return g.on(host, "cat > /run/script <<'END-OF-SCRIPT'\n"+script+"\nEND-OF-SCRIPT\nsystemd-run -q --wait --pipe -p KillMode=process sh /run/script")
}

// A run that makes containers and fetches images is killed at every boundary of its steps.
func TestContainersKilled(t *testing.T) {
	t.Parallel()
	g := newGroundOf(t, shared, []lab.Family{lab.Debian.Able()}, bareKit)
	at, fails := failingRegistry(t)
	pushed(t, at, "tides", "1", map[string]string{"www/index.html": "flood"}, serves...)
	pushed(t, at, "tides", "2", map[string]string{"www/index.html": "ebb"}, serves...)
	container := func(tag string) string {
		return "# instead of [site.timetable]\n" + engineKit(at) + fmt.Sprintf("[kit.base.container.tides]\nimage = \"%s/tides:%s\"\nreached_at = [{ outside = 8080, inside = 80 }]\n", at, tag)
	}
	g.declareText(container("1"))
	g.trust()
	g.apply(0)
	g.declareText(container("2"))
	g.ns(0, "declare", g.dir)
	g.killed(g.plan(1), []string{"image", "container"}, func(contract.Step) bool { return false }, boundaries, killRod, resumeByHand)
	if status, body, err := get("http://"+g.address(g.hosts[0])+":8080/", "tides.test"); err != nil || status != 200 || body != "ebb" {
		t.Errorf("it answers %d %q, %v", status, body, err)
	}
	if out := g.inside(g.hosts[0], "podman ps -a --format '{{.Names}}'"); strings.TrimSpace(out) != "tides" {
		t.Errorf("there are the containers %s", out)
	}
	g.nothingToDo()
	// An engine that ends in the midst of a run is started again by its socket, and asked again.
	host := g.hosts[0]
	g.declareText(container("1"))
	g.ns(0, "declare", g.dir)
	p := g.plan(1)
	step := p.Hosts[0].Steps[len(p.Hosts[0].Steps)-1]
	g.hold(host, step.Number, "begun")
	run := g.startRun(p.Id)
	g.reached(host, step.Number, "begun")
	g.on(host, "systemctl kill -s KILL podman.service")
	g.unhold(host)
	if r := g.ended(run); r.State != "done" {
		t.Errorf("the run ended %s: %+v", r.State, r.Hosts)
	}
	g.nothingToDo()
	// An image that nothing here can run is told apart from one that ends.
	if err := lab.Push(t.Context(), at, "tides", "other", lab.Image{Layer: make([]byte, 1024), Architecture: "arm64", Command: serves}); err != nil {
		t.Fatal(err)
	}
	g.declareText(container("other"))
	g.ns(0, "declare", g.dir)
	if h := g.applyPlan(2, g.plan(1).Id).Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.What, "tides:other is made for arm64, and this host is amd64") {
		t.Errorf("the run ended %s: %+v", h.State, h.Fault)
	}
	// A registry that is away in the midst of an image costs the run, and nothing else.
	pushed(t, at, "tides", "3", map[string]string{"www/index.html": "slack"}, serves...)
	g.declareText(container("3"))
	g.ns(0, "declare", g.dir)
	p = g.plan(1)
	fails.Store(true)
	r := g.applyPlan(2, p.Id)
	if h := r.Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.What, "fetch image "+at+"/tides:3") {
		t.Errorf("the run ended %s: %+v", h.State, h.Fault)
	}
	if status, body, err := get("http://"+g.address(host)+":8080/", "tides.test"); err != nil || status != 200 || body != "flood" {
		t.Errorf("it answers %d %q, %v", status, body, err)
	}
	fails.Store(false)
	g.apply(0)
	if status, body, err := get("http://"+g.address(host)+":8080/", "tides.test"); err != nil || status != 200 || body != "slack" {
		t.Errorf("it answers %d %q, %v", status, body, err)
	}
	g.nothingToDo()
}

// The engine itself is declared on the Red Hat family as on Debian: its package, its socket, its
// being up; and what it runs is found broken and put back.
func TestTheEngineOfTheRedHatFamily(t *testing.T) {
	t.Parallel()
	g := newGroundOf(t, shared, []lab.Family{lab.RedHat.Able()}, bareKit)
	at := registry(t)
	pushed(t, at, "tides", "1", map[string]string{"www/index.html": "flood"}, serves...)
	g.declareText("# instead of [site.timetable]\n" + strings.Replace(engineKit(at), `["podman", "netavark", "iptables"]`, "[\"podman\"]\ninbound = \"declared\"", 1) +
		fmt.Sprintf("[kit.base.container.tides]\nimage = \"%s/tides:1\"\nreached_at = [{ outside = 8080, inside = 80 }]\n[[kit.base.container.tides.probe]]\npath = \"/\"\ncontains = \"flood\"\n", at))
	host := g.hosts[0]
	g.trust()
	g.apply(0)
	g.nothingToDo()
	// firewalld does not see who is led into containers: that is guarded beside it.
	g.inside(host, "podman run -d --name theirs -p 9090:80 "+at+"/tides:1")
	for port, open := range map[string]bool{":8080": true, ":9090": false, ":22": true} {
		if dialable(g.address(host)+port) != open {
			t.Errorf("port %s can be reached: %t; rules\n%s", port, !open, g.on(host, "nft list table inet northstake; firewall-cmd --state"))
		}
	}
	g.nothingToDo()
	g.inside(host, "podman rm -f -t 1 theirs")
	for what, hand := range map[string]string{
		"the container is gone":    "podman rm -f -t 1 tides",
		"nothing listens":          "systemctl disable --now podman.socket; podman stop -t 1 tides",
		"the package is taken off": "podman rm -f -t 1 tides; systemctl stop podman.socket podman.service; rpm -e --nodeps podman",
	} {
		g.inside(host, hand)
		if out := g.ns(1, "drift", g.name); !strings.Contains(out, "tides") {
			t.Errorf("%s: drift says %s", what, out)
		}
		g.ns(0, "restore", g.name, "--yes")
		g.nothingToDo()
		if status, body, err := get("http://"+g.address(host)+":8080/", "tides.test"); err != nil || status != 200 || body != "flood" {
			t.Errorf("%s: it answers %d %q, %v", what, status, body, err)
		}
	}
	if out := g.on(host, "systemctl is-enabled podman.socket && rpm -q podman"); !strings.Contains(out, "enabled") || !strings.Contains(out, "podman-4") {
		t.Errorf("the engine is %s", out)
	}
}

// A container in a network of its own is as declared once it is there (K4); what its image keeps in a
// volume of the engine goes along when it is made anew (K2); and one whose processes were killed
// together with what watches them is found, though the engine says that it runs, and put back (K3).
func TestAContainerKeepsItsNetworkAndWhatItWrote(t *testing.T) {
	t.Parallel()
	g := newGroundOf(t, shared, []lab.Family{lab.Debian.Able()}, bareKit)
	at := registry(t)
	pushedWith(t, at, "tides", "1", map[string]struct{}{"/data": {}}, map[string]string{"www/index.html": "flood"}, serves...)
	declared := func(office string) string {
		return "# instead of [site.timetable]\n" + engineKit(at) + fmt.Sprintf("[kit.base.container.tides]\nimage = \"%s/tides:1\"\nnetwork = \"harbour\"\nreached_at = [{ outside = 8080, inside = 80 }]\nvariables = { OFFICE = %q }\n", at, office)
	}
	g.declareText("# instead of [site.timetable]\n" + engineKit(at))
	host := g.hosts[0]
	g.trust()
	g.apply(0)
	g.inside(host, "podman network create harbour >/dev/null")
	g.declareText(declared("north"))
	g.ns(0, "declare", g.dir)
	g.apply(0)
	g.nothingToDo()
	if out := g.inside(host, "podman inspect -f '{{range $k, $v := .NetworkSettings.Networks}}{{$k}} {{end}}' tides"); strings.TrimSpace(out) != "harbour" {
		t.Errorf("it is in %s", out)
	}
	g.inside(host, "podman exec tides sh -c 'echo 7 fathoms > /data/depth'")
	g.declareText(declared("south"))
	g.ns(0, "declare", g.dir)
	p := g.plan(1)
	said := false
	for _, n := range p.Hosts[0].Cautions {
		said = said || strings.Contains(n.What, "what container tides wrote at /data lies in a volume of the engine: the new one goes on with it")
	}
	if !said {
		t.Errorf("the plan says nothing of what it wrote: %+v", p.Hosts[0].Cautions)
	}
	g.applyPlan(0, p.Id)
	if out := g.inside(host, "podman exec tides cat /data/depth"); strings.TrimSpace(out) != "7 fathoms" {
		t.Errorf("what it wrote is %q", out)
	}
	g.nothingToDo()
	// Its processes are killed, with what watches them.
	g.inside(host, "P=$(podman inspect -f '{{.State.Pid}}' tides); C=$(podman inspect -f '{{.State.ConmonPid}}' tides); kill -9 $C $P; sleep 1")
	if out := g.inside(host, "podman inspect -f '{{.State.Status}}' tides"); strings.TrimSpace(out) != "running" {
		t.Logf("the engine has noticed by itself: %s", out)
	}
	if out := g.ns(1, "drift", g.name); !strings.Contains(out, "container/tides") {
		t.Errorf("drift says\n%s", out)
	}
	g.ns(0, "restore", g.name, "--yes")
	if out := g.inside(host, "podman exec tides cat /data/depth"); strings.TrimSpace(out) != "7 fathoms" {
		t.Errorf("put back, what it wrote is %q", out)
	}
	if status, body, err := get("http://"+g.address(host)+":8080/", "tides"); err != nil || status != 200 || body != "flood" {
		t.Errorf("put back it answers %d, %q, %v", status, body, err)
	}
	g.ns(0, "drift", g.name)
}
