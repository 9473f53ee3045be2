package e2e

import (
	"context"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/plan"
	"northstake/core/render"
	"northstake/service/contract"
)

// A configuration that nginx refuses changes nothing: the host goes back to what
// it was, content and all, and the old site answers all the while.
func TestABrokenConfigurationIsTakenBack(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, "")
	g.trust()
	g.apply(0)
	host := g.hosts[0]
	// Somebody has broken another file; nginx still runs with what it read before.
	g.on(host, "echo 'harbour_depth 5;' > /etc/nginx/conf.d/harbour.conf")
	before := g.on(host, "cat /etc/nginx/sites-available/northstake-timetable.conf; ls -la /etc/nginx/sites-enabled; cat /srv/www/timetable/*")
	g.content("index.html", page("two"))
	g.declareText("[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\", \"www.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n" +
		"[site.timetable.path.\"/quay\"]\nroot = \"/srv/www/quay\"\n")
	g.ns(0, "declare", g.dir)
	g.content("linked.html", page("two"))
	g.ns(0, "declare", g.dir)
	watch := g.watchSite(host)
	r := g.apply(2)
	if bad := watch(); bad != "" {
		t.Errorf("while the configuration was refused: %s", bad)
	}
	h := r.Hosts[0]
	if h.State != "back" || !strings.Contains(h.Fault.What, "harbour_depth") || h.Fault.File != "/etc/nginx/conf.d/harbour.conf" || h.Fault.Line != 1 {
		t.Errorf("the host ended %s, with %+v", h.State, h.Fault)
	}
	if after := g.on(host, "cat /etc/nginx/sites-available/northstake-timetable.conf; ls -la /etc/nginx/sites-enabled; cat /srv/www/timetable/*"); after != before {
		t.Errorf("the host is not what it was:\n%s", difference(before, after))
	}
	if _, body := g.fetch(host, "/"); !strings.Contains(body, "version one") {
		t.Errorf("the site shows %q", body)
	}
	if left := g.on(host, "ls /var/lib/northstake/candidate"); strings.TrimSpace(left) != "" {
		t.Errorf("the candidate is left behind: %s", left)
	}
	g.on(host, "rm /etc/nginx/conf.d/harbour.conf")
	g.apply(0)
	if _, body := g.fetch(host, "/"); !strings.Contains(body, "version two") {
		t.Errorf("the site shows %q", body)
	}
}

// A site that does not answer as its probe says goes back to what it was.
func TestAFailedProbeTakesTheHostBack(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, "")
	g.trust()
	g.apply(0)
	host := g.hosts[0]
	g.content("index.html", "<p>No boats today.</p>\n")
	g.ns(0, "declare", g.dir)
	watch := g.watchSite(host)
	r := g.apply(2)
	watch()
	if h := r.Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.What, "Next sailing") {
		t.Errorf("the host ended %s: %s", h.State, h.Fault.What)
	}
	if _, body := g.fetch(host, "/"); !strings.Contains(body, "version one") {
		t.Errorf("the site shows %q", body)
	}
}

// Taken back, a first run leaves the host as it was before: packages, units,
// files and rules.
func TestAFirstRunIsTakenBackWhole(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, "")
	g.content("index.html", "<p>No boats today.</p>\n") // the probe will fail
	g.trust()
	host := g.hosts[0]
	state := "dpkg -l | grep ^ii | awk '{print $2}'; ls -d /srv/www /etc/nginx /etc/northstake 2>&1; nft list ruleset 2>&1 | head -3; systemctl list-unit-files --no-pager --no-legend | awk '{print $1, $2}' | grep -v '^run-\\|session'"
	before := g.on(host, state)
	r := g.apply(2)
	if r.Hosts[0].State != "back" {
		t.Fatalf("the host ended %s: %+v", r.Hosts[0].State, r.Hosts[0].Fault)
	}
	clean := func(s string) string { // nft says something else when it is not installed
		var out []string
		for _, l := range strings.Split(s, "\n") {
			if !strings.Contains(l, "nft: not found") {
				out = append(out, l)
			}
		}
		return strings.Join(out, "\n")
	}
	after := g.on(host, state)
	for began := time.Now(); clean(before) != clean(after) && time.Since(began) < 30*time.Second; { // what watched over the run ends by itself
		time.Sleep(200 * time.Millisecond)
		after = g.on(host, state)
	}
	if clean(before) != clean(after) {
		t.Errorf("the host is not what it was:\n%s", difference(before, after))
	}
}

// watchSite fetches the site's pages over and over; the returned function ends it
// and says what was wrong.
func (g *ground) watchSite(host string) func() string {
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	var bad atomic.Value
	bad.Store("")
	address := g.address(host)
	for range 2 {
		wg.Go(func() {
			newest := 0
			for ctx.Err() == nil {
				for _, path := range []string{"/", "/linked.html"} {
					status, body, err := get("http://"+address+path, "timetable.saltmarsh.test")
					if err != nil || status != 200 {
						bad.Store(fmt.Sprintf("%s answered %d, %v", path, status, err))
						continue
					}
					v := versionOf(body)
					if v < newest {
						bad.Store(fmt.Sprintf("after version %d, %s showed version %d", newest, path, v))
					}
					newest = max(newest, v)
				}
			}
		})
	}
	return func() string {
		cancel()
		wg.Wait()
		return bad.Load().(string)
	}
}

func versionOf(body string) int {
	_, rest, _ := strings.Cut(body, "version ")
	word, _, _ := strings.Cut(rest, "<")
	if n, ok := map[string]int{"one": 1, "two": 2}[word]; ok {
		return n
	}
	var n int
	fmt.Sscanf(word, "%d", &n)
	return n
}

// Content appears at once: a client that fetches linked pages all the while sees
// no page missing and never an old page after a new one.
func TestContentSwitchesAtOnce(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, "")
	for i := range 200 {
		g.content(fmt.Sprintf("pages/%d.html", i), page("one"))
	}
	g.trust()
	g.apply(0)
	host := g.hosts[0]
	watch := g.watchSite(host)
	for v := 3; v < 8; v++ {
		g.content("index.html", page(fmt.Sprint(v)))
		g.content("linked.html", page(fmt.Sprint(v)))
		g.content("pages/0.html", page(fmt.Sprint(v)))
		g.ns(0, "declare", g.dir)
		p := g.plan(1)
		r := g.applyPlan(0, p.Id)
		said := strings.Join(r.Hosts[0].Steps[0].Said, " ")
		if !strings.Contains(said, "sent 1 of the files") {
			t.Errorf("more than what is missing was sent: %q", said)
		}
	}
	if bad := watch(); bad != "" {
		t.Error(bad)
	}
	g.nothingToDo()
}

// A full disk leaves the old content whole.
func TestAFullDiskLeavesTheOldContent(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, "")
	g.trust()
	host := g.hosts[0]
	g.on(host, "mkdir -p /srv/www")
	if err := labs.MountSmall(context.Background(), host, "/srv/www", 1<<20); err != nil {
		t.Fatal(err)
	}
	g.apply(0)
	before := g.on(host, "find /srv/www/timetable -type f | sort | xargs sha256sum")
	g.content("index.html", page("two"))
	g.content("a.bin", strings.Repeat("a", 700_000))
	g.ns(0, "declare", g.dir)
	p := g.plan(1)
	g.on(host, "head -c 600000 /dev/zero > /srv/www/filler") // after the plan has looked
	r := g.applyPlan(2, p.Id)
	if h := r.Hosts[0]; h.State != "back" && h.State != "moved" || h.State == "back" && !strings.Contains(h.Fault.What, "disk is full") {
		t.Errorf("the host ended %s: %+v", h.State, h.Fault)
	}
	if after := g.on(host, "find /srv/www/timetable -type f | sort | xargs sha256sum"); after != before {
		t.Errorf("the old content is not whole:\n%s", difference(before, after))
	}
	if status, body := g.fetch(host, "/"); status != 200 || !strings.Contains(body, "version one") {
		t.Errorf("the site answers %d %q", status, body)
	}
	g.on(host, "rm /srv/www/filler")
	if p := g.plan(1); p.Blockers != 0 {
		t.Errorf("with room again the plan is blocked: %+v", p.Hosts[0].Blockers)
	}
}

// What stands in the way on a real host is said before anything is done, with what
// to do about it; the rest of the plan is not held up.
func TestWhatStandsInTheWayIsSaidBefore(t *testing.T) {
	t.Parallel()
	site := func(name, root string) string {
		return fmt.Sprintf("[site.%s]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"%[1]s.saltmarsh.test\"]\nroot = %q\ncontent = { dir = \"content\" }\n", name, root)
	}
	g := newGround(t, shared, 1, "[kit.base]\npackages = [\"cron\", \"cron-daemon\", \"tide-tables\"]\nservice = { cron = { running = true, at_boot = true } }\n"+
		site("timetable", "/srv/www/timetable")+site("mounted", "/srv/mounted")+site("private", "/srv/private/www")+site("linked", "/srv/linked"))
	g.trust()
	host := g.hosts[0]
	g.on(host, "mkdir -p /srv/mounted /srv/real; mkdir -m 700 /srv/private; ln -s /srv/real /srv/linked; systemctl mask -q cron; apt-get update -q >/dev/null 2>&1; "+
		"printf 'Types: deb\\nURIs: http://packages.saltmarsh.test/\\nSuites: ./\\nEnabled: no\\n' > /etc/apt/sources.list.d/harbour.sources")
	if err := labs.MountSmall(context.Background(), host, "/srv/mounted", 1<<20); err != nil {
		t.Fatal(err)
	}
	p := g.plan(2)
	out := g.ns(2, "plan", g.name)
	for _, want := range []string{
		"content/srv/mounted: a file system is mounted at /srv/mounted, which cannot be switched as a whole",
		"account www-data of nginx cannot get to /srv/private/www: /srv/private (0700, owner root, group root) does not let it through",
		"/srv/linked is a link to /srv/real; the link is replaced with a directory",
		"cron is masked: somebody has made sure that it does not start",
		"no package source of this host offers tide-tables",
		"cron-daemon is no package: it is what others bring, cron",
		"http://packages.saltmarsh.test/ (harbour.sources) is off",
	} {
		if !strings.Contains(strings.Join(strings.Fields(out), " "), want) {
			t.Errorf("the plan does not say %q", want)
		}
	}
	if t.Failed() {
		t.Log(out)
	}
	if h := g.applyPlan(2, p.Id).Hosts[0]; h.State != "partly" {
		t.Errorf("the host ended %s: %+v", h.State, h.Fault)
	}
	if status, body := g.fetch(host, "/"); status != 200 || !strings.Contains(body, "version one") {
		t.Errorf("the site that nothing stands in the way of answers %d %q", status, body)
	}
	if left := strings.TrimSpace(g.on(host, "ls /srv/mounted /srv/private")); left != "/srv/mounted:\n\n/srv/private:" {
		t.Errorf("something was done all the same:\n%s", left)
	}
}

// A document root that lies in a lower layer of an overlay cannot be exchanged in
// one instant: it is published into file by file, each at once, and goes back to
// what it was when a probe fails.
func TestADocumentRootInALowerLayer(t *testing.T) {
	t.Parallel()
	site := func(contains string) string {
		return bareKit + fmt.Sprintf("[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/opt/harbour/www\"\ncontent = { dir = \"content\" }\n[[site.timetable.probe]]\npath = \"/\"\ncontains = %q\n", contains)
	}
	g := newGround(t, shared, 1, site("No such words"))
	g.content("deep/er/page.html", page("one"))
	g.trust()
	host := g.hosts[0]
	const state = "cd /opt/harbour/www && find . -printf '%p %y %m %U\\n' | sort && cat index.html"
	before := g.on(host, state)
	if h := g.apply(2).Hosts[0]; h.State != "back" {
		t.Errorf("the host ended %s: %+v", h.State, h.Fault)
	}
	if after := g.on(host, state); after != before {
		t.Errorf("it is not what came with the image:\n%s", difference(before, after))
	}
	g.declareText(site("Next sailing"))
	g.ns(0, "declare", g.dir)
	g.apply(0)
	for _, path := range []string{"/", "/linked.html", "/deep/er/page.html"} {
		if status, body := g.fetch(host, path); status != 200 || !strings.Contains(body, "version one") {
			t.Errorf("%s answers %d: %s", path, status, body)
		}
	}
	g.content("index.html", page("two"))
	g.ns(0, "declare", g.dir)
	g.apply(0)
	if status, body := g.fetch(host, "/"); status != 200 || !strings.Contains(body, "version two") {
		t.Errorf("it answers %d: %s", status, body)
	}
	g.nothingToDo()
}

// A host that moved after it was planned is left alone and asked about again.
func TestAHostThatMovedIsNotTouched(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, bareKit)
	g.trust()
	g.apply(0)
	host := g.hosts[0]
	g.content("index.html", page("two"))
	g.ns(0, "declare", g.dir)
	p := g.plan(1)
	g.on(host, "systemctl stop nginx")
	r := g.applyPlan(2, p.Id)
	if h := r.Hosts[0]; h.State != "moved" || !strings.Contains(h.Fault.What, "start nginx") {
		t.Errorf("the host ended %s: %+v", h.State, h.Fault)
	}
	if out := g.on(host, "cat /srv/www/timetable/index.html"); !strings.Contains(out, "version one") {
		t.Error("something was done on a host that moved")
	}
}

// A port that another program holds is named, with the program; the site that
// listens there is left with all it calls for, and everything else is done.
func TestATakenPortBlocksItsSiteAlone(t *testing.T) {
	t.Parallel()
	const other = "[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n" +
		"[site.freight]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"freight.saltmarsh.test\"]\nlisten = [8080]\nroot = \"/srv/www/freight\"\ncontent = { dir = \"content\" }\n"
	g := newGround(t, shared, 1, other)
	g.trust()
	host := g.hosts[0]
	hold := func(port int) {
		g.on(host, fmt.Sprintf("systemd-run --quiet --collect --unit=other%d perl -MIO::Socket::INET -e 'my $s=IO::Socket::INET->new(LocalPort=>%d,Listen=>900,ReuseAddr=>1); sleep 600'; until ss -ltn | grep -q ':%d '; do sleep 0.02; done", port, port, port))
	}
	hold(80)
	hold(8080)
	out := g.ns(2, "plan", g.name)
	for _, want := range []string{"port 80 is taken by perl (process ", "port 8080 is taken by perl (process ", "package/nginx waits for "} {
		if !strings.Contains(out, want) {
			t.Errorf("the plan does not say %q:\n%s", want, out)
		}
	}
	g.on(host, "systemctl stop other80")
	p := g.plan(2)
	r := g.applyPlan(2, p.Id)
	if h := r.Hosts[0]; h.State != "partly" || !strings.Contains(h.Fault.What, "port 8080 is taken by perl") {
		t.Errorf("the host ended %s: %s", h.State, h.Fault.What)
	}
	if status, body := g.fetch(host, "/"); status != 200 || !strings.Contains(body, "version one") {
		t.Errorf("the site beside the blocked one answers %d: %s", status, body)
	}
	// Nothing is let in for what waits (Y3, V10).
	if dialable(g.address(host) + ":8080") {
		t.Error("port 8080, whose site waits, was opened to what another program serves there")
	}
	if rules := g.on(host, "nft list table inet northstake"); strings.Contains(rules, "8080") || !strings.Contains(rules, "dport 80 accept") {
		t.Errorf("the rules are\n%s", rules)
	}
	if left := g.on(host, "ls -d /srv/www/freight /etc/nginx/*/northstake-freight.conf 2>/dev/null || true"); strings.TrimSpace(left) != "" {
		t.Errorf("there is something of the blocked site: %s", left)
	}
	g.on(host, "systemctl stop other8080")
	g.apply(0)
	if status, body, err := get("http://"+g.address(host)+":8080/", "freight.saltmarsh.test"); err != nil || status != 200 || !strings.Contains(body, "version one") {
		t.Errorf("the site answers %d: %s, %v", status, body, err)
	}
	g.nothingToDo()
}

// Where nginx refuses a line that was rendered, the run names that line and the
// line of the declaration it comes from. Lint lets nothing through that nginx
// refuses, so a stand-in goes before the real nginx: one that lacks a directive.
func TestARefusedLineLeadsToTheDeclaration(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, "")
	g.trust()
	g.apply(0)
	host := g.hosts[0]
	before := g.on(host, "cat /etc/nginx/sites-available/northstake-timetable.conf")
	g.on(host, `cat > /usr/local/sbin/nginx <<'END'
#!/bin/sh
# A stand-in for an nginx without the directive "index".
for last; do :; done
sed -i 's/^ *index /    index_of_harbours /' "$(dirname "$last")"/sites-available/northstake-*.conf
exec /usr/sbin/nginx "$@"
END
chmod 755 /usr/local/sbin/nginx`)
	g.declareText("[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\nindex = [\"linked.html\"]\ncontent = { dir = \"content\" }\n")
	g.ns(0, "declare", g.dir)
	text, err := os.ReadFile(filepath.Join(g.dir, "ground.toml"))
	if err != nil {
		t.Fatal(err)
	}
	line := 1 + strings.Count(strings.Split(string(text), "index = ")[0], "\n")
	p := g.plan(1)
	out := g.ns(2, "apply", fmt.Sprint(p.Id), "--ground", g.name, "--yes")
	for _, want := range []string{`unknown directive "index_of_harbours"`, "/etc/nginx/sites-available/northstake-timetable.conf:", `index "linked.html";`, fmt.Sprintf("from ground.toml:%d", line)} {
		if !strings.Contains(out, want) {
			t.Errorf("the run does not say %q:\n%s", want, out)
		}
	}
	if after := g.on(host, "cat /etc/nginx/sites-available/northstake-timetable.conf"); after != before {
		t.Errorf("the live tree changed:\n%s", difference(before, after))
	}
}

// Of twenty hosts, one that refuses, one that hangs and one that drops the line
// do not delay the others, and can be resumed alone.
func TestTwentyHosts(t *testing.T) {
	t.Parallel()
	// Plain directories: what is tested is who waits for whom.
	g := newGround(t, shared, 20, "[kit.base]\npackages = [\"cron\"]\n[site.timetable]\non = [\"none\"]\nserver = \"nginx\"\nnames = [\"x.test\"]\n")
	text, err := os.ReadFile(filepath.Join(g.dir, "ground.toml"))
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(g.dir, "ground.toml"), strings.Split(string(text), "[site.timetable]")[0])
	g.trust()
	p := g.plan(1)
	refuses, hangs, drops := g.hosts[0], g.hosts[1], g.hosts[2]
	g.on(refuses, "systemctl stop ssh; pkill sshd || true")
	g.hold(hangs, 1, "begun")
	g.hold(drops, 1, "begun")
	run := g.startRun(p.Id)
	g.reached(drops, 1, "begun")
	g.on(drops, "pkill -KILL -f '[s]shd: keeper'; rm -f "+holdFile)
	g.reached(hangs, 1, "begun")
	deadline := time.Now().Add(8 * time.Minute)
	for {
		states := map[contract.RunPlaceState]int{}
		for _, h := range g.runState(run).Hosts {
			states[h.State]++
		}
		if states["done"] == 17 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("the others are not done while one hangs: %v", states)
		}
		time.Sleep(200 * time.Millisecond)
	}
	if r := g.runState(run); r.State != "running" {
		t.Errorf("with one host hanging the run is %s", r.State)
	}
	g.on(hangs, "pkill -KILL -f '[s]shd: keeper'")
	g.unhold(hangs)
	r := g.ended(run)
	for _, h := range r.Hosts {
		want := contract.RunPlaceState("done")
		switch h.Place {
		case refuses:
			want = "failed"
		case hangs, drops:
			want = "interrupted"
		}
		if h.State != want {
			t.Errorf("host %s ended %s, want %s: %s", h.Place, h.State, want, h.Fault.What)
		}
	}
	g.on(refuses, "systemctl start ssh")
	g.ns(2, "resume", fmt.Sprint(run), "--ground", g.name, "--on", drops)
	out := g.ns(0, "resume", fmt.Sprint(run), "--ground", g.name)
	if !strings.Contains(out, "20 hosts done") {
		t.Errorf("after the resume:\n%s", out)
	}
	g.nothingToDo()
}

// Whatever lint accepts, the real nginx accepts.
func TestNginxAcceptsWhatLintAccepts(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, bareKit)
	g.trust()
	g.apply(0)
	g.acceptsWhatLintAccepts("nginx", "/etc/nginx/conf.d/many.conf", "nginx -t 2>&1 || true", "test is successful")
}

// acceptsWhatLintAccepts makes many odd sites up, puts those that lint accepts
// into a file of the server's configuration, and lets the server test it.
func (g *ground) acceptsWhatLintAccepts(server, file, test, good string) {
	host := g.hosts[0]
	rnd := rand.New(rand.NewPCG(3, 5))
	pick := func(alphabet string, n int) string {
		var b strings.Builder
		r := []rune(alphabet)
		for range n {
			b.WriteRune(r[rnd.IntN(len(r))])
		}
		return b.String()
	}
	const odd = "ab-_.~!@%^()+=:, é漢#\"'\\$;{}*?[]|<>&\t/"
	mild := func(n int) string {
		if rnd.IntN(6) == 0 {
			return pick(odd, n)
		}
		return pick("ab-_.~!@^()+=:,é漢", n)
	}
	var all strings.Builder
	sites := 0
	for i := range 4000 {
		var names []string
		for range 1 + rnd.IntN(3) {
			names = append(names, fmt.Sprintf("%q", pick("abc0-_", 1+rnd.IntN(60))+"."+pick("xyz9", 1+rnd.IntN(40))+".test"))
		}
		if rnd.IntN(4) == 0 {
			names[0] = fmt.Sprintf("%q", "*."+strings.Trim(names[0], `"`))
		}
		root := "/srv/" + mild(1+rnd.IntN(12))
		text := fmt.Sprintf("[ground]\nname=\"g\"\n[reach]\nuser=\"k\"\nkey_secret=\"k\"\n[host.a]\naddress=\"10.0.0.1\"\n[site.s%d]\non=[\"a\"]\nserver=%q\nnames=[%s]\nlisten=[%d]\nroot=%q\nindex=[%q]\n[site.s%d.path.%q]\nroot=%q\n",
			i, server, strings.Join(names, ","), 1+rnd.IntN(65535), root, mild(1+rnd.IntN(10)), i, "/"+mild(1+rnd.IntN(10)), root+"2")
		d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
		if len(problems) > 0 {
			continue
		}
		out, err := render.VirtualHost(d, render.Site{Name: fmt.Sprintf("s%d", i), Root: root, IPv6: true})
		if err != nil {
			g.t.Fatal(err)
		}
		all.WriteString(out.Text)
		if sites++; sites == 120 {
			break
		}
	}
	if sites < 60 {
		g.t.Fatalf("lint accepted only %d of the sites", sites)
	}
	if err := labs.Put(context.Background(), host, file, []byte(all.String())); err != nil {
		g.t.Fatal(err)
	}
	if out := g.on(host, test); !strings.Contains(out, good) {
		g.t.Errorf("of %d sites that lint accepts, %s says:\n%s", sites, server, out)
	}
	g.on(host, "rm "+file)
}

// recorded holds a stake against how the service's record says that it stands.
func (g *ground) recorded(host, name string, want plan.Standing) {
	g.t.Helper()
	_, body := g.get("/grounds/" + g.name + "/hosts/" + host)
	var h contract.PlaceView
	decode(g.t, body, &h)
	for _, r := range h.Rows {
		if r.Address == host+"/"+name && r.Standing == want {
			return
		}
	}
	g.t.Errorf("%s/%s is not %s in the record: %s", host, name, want, body)
}

// A run is as good as what visitors get at its end: a site that answers as little as before is never
// told as done (V4). A check that could not be made is no answer: it takes nothing back, and says
// nothing of filters (K8, V18).
func TestARunIsJudgedByWhatIsAnswered(t *testing.T) {
	t.Parallel()
	const site = "[site.timetable]\non = [\"%s\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n[[site.timetable.probe]]\npath = \"/\"\ncontains = \"%s\"\nfrom = [\"inside\", \"%s\"]\n"
	g := newGround(t, shared, 2, bareKit)
	host, other := g.hosts[0], g.hosts[1]
	g.declareText("[kit.base]\n" + fmt.Sprintf(site, host, "Next sailing", other))
	g.trust()
	g.apply(0)

	// The other host lets nobody in while the site's content changes.
	g.on(other, "systemctl stop ssh.socket 2>/dev/null; systemctl stop ssh; pkill -f '[s]shd: keeper' || true")
	g.content("index.html", page("two"))
	g.ns(0, "declare", g.dir)
	var p contract.Plan
	decode(t, g.ns(1, "plan", g.name, "--on", host, "--json"), &p)
	r := g.applyPlan(0, p.Id)
	if notes := strings.Join(r.Hosts[0].Notes, "; "); r.Hosts[0].State != "done" || !strings.Contains(notes, "site timetable was not checked from "+other) {
		t.Errorf("the host ended %s: %+v, %s", r.Hosts[0].State, r.Hosts[0].Fault, notes)
	}
	if _, body := g.fetch(host, "/"); !strings.Contains(body, "version two") {
		t.Errorf("the site shows %q", body)
	}
	if out := g.ns(2, "probe", g.name, "--on", host); !strings.Contains(out, "not checked") || strings.Contains(out, "filters the port") {
		t.Errorf("probe says\n%s", out)
	}
	g.on(other, "systemctl start ssh")

	// What a run has nothing to do with, and answers wrongly before and after.
	g.declareText("[kit.base]\npackages = [\"tree\"]\n" + fmt.Sprintf(site, host, "No such sailing", other))
	g.ns(0, "declare", g.dir)
	decode(t, g.ns(1, "plan", g.name, "--on", host, "--json"), &p)
	r = g.applyPlan(1, p.Id)
	if h := r.Hosts[0]; h.State != "unmet" || !strings.Contains(h.Fault.What, "site timetable answers as little as before") {
		t.Errorf("the host ended %s: %+v", h.State, h.Fault)
	}
	g.recorded(host, "site/timetable", plan.Shifted)
	if got := g.on(host, "dpkg-query -W -f '${Status}' tree"); got != "install ok installed" {
		t.Errorf("what the run was for is taken back: %s", got)
	}
}

// Drift is of what visitors get, not of what lies there: a text that was loaded and put back (V2), a
// virtual host of somebody's at the host's own address (V3) or by an include of another directory are
// seen though every file of North Stake's is as it was written; a slow answer is no older text (V8).
func TestDriftIsOfWhatVisitorsGet(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, bareKit)
	g.trust()
	g.apply(0)
	host := g.hosts[0]
	conf := "/etc/nginx/sites-available/northstake-timetable.conf"
	says := func(what string, want ...string) {
		t.Helper()
		out := g.ns(1, "drift", g.name)
		for _, w := range want {
			if !strings.Contains(out, w) {
				t.Errorf("%s: drift does not say %q:\n%s", what, w, out)
			}
		}
	}
	// Somebody has the server answer 503 to all, and puts the file back with its times.
	g.on(host, "cp -p "+conf+" /tmp/conf; sed -i 's|^\\( *\\)index .*|&\\n\\1return 503;|' "+conf+"; nginx -t -q && systemctl reload nginx; sleep 1; cat /tmp/conf > "+conf+"; touch -r /tmp/conf "+conf)
	if status, _ := g.fetch(host, "/"); status != 503 {
		t.Fatalf("the site answers %d", status)
	}
	says("loaded and put back", "site/timetable", "its file was changed after nginx had read it", "503")
	g.ns(0, "restore", g.name, "--yes")
	g.ns(0, "drift", g.name)
	if status, _ := g.fetch(host, "/"); status != 200 {
		t.Errorf("restored, the site answers %d", status)
	}
	// Another virtual host of the same name, at the address that visitors come to.
	g.on(host, "mkdir -p /etc/nginx/elsewhere; echo 'server { listen "+g.address(host)+":80; server_name timetable.saltmarsh.test; return 200 \"theirs\\n\"; }' > /etc/nginx/elsewhere/their.conf; sed -i 's|include /etc/nginx/sites-enabled|include /etc/nginx/elsewhere/*.conf;\\n\\t&|' /etc/nginx/nginx.conf; nginx -t -q && systemctl reload nginx; sleep 1")
	if _, body := g.fetch(host, "/"); body != "theirs\n" {
		t.Fatalf("the site says %q", body)
	}
	says("at the host's address", "site/timetable", "from outside")
	// A plan says so as well, and leaves it in the record.
	if out := g.ns(2, "plan", g.name); !strings.Contains(out, "visitors of timetable.saltmarsh.test at "+g.address(host)+":80 are answered by another virtual host, /etc/nginx/elsewhere/their.conf:1") {
		t.Errorf("plan says\n%s", out)
	}
	g.recorded(host, "site/timetable", plan.Shifted)
	g.on(host, "rm /etc/nginx/elsewhere/their.conf; systemctl reload nginx; sleep 1")
	g.ns(0, "drift", g.name)
	// The line by which the server takes sites in is gone, which shows with its next reload (V14).
	g.on(host, "cp -p /etc/nginx/nginx.conf /tmp/main; sed -i '/sites-enabled/d' /etc/nginx/nginx.conf")
	says("taken in by nothing", "site/timetable", "taken in by nginx", "/etc/nginx/nginx.conf takes nothing in")
	if out := g.ns(2, "restore", g.name, "--yes"); !strings.Contains(out, "takes in nothing from /etc/nginx/sites-enabled") {
		t.Errorf("restore says\n%s", out)
	}
	g.on(host, "cat /tmp/main > /etc/nginx/nginx.conf")
	g.ns(0, "drift", g.name)
	// An access list shuts the server's account out, where the mode lets it through (V13).
	g.on(host, "setfacl -m u:www-data:--- /srv/www")
	says("shut by an access list", "site/timetable", "way to /srv/www/timetable", "shut at /srv/www")
	g.on(host, "setfacl -b /srv/www; chmod 755 /srv/www")
	g.ns(0, "drift", g.name)
	// A server that is stopped for a while says nothing.
	g.on(host, "pkill -STOP nginx")
	if out := g.ns(2, "drift", g.name); strings.Contains(out, "older configuration") || !strings.Contains(out, "has not said within") {
		t.Errorf("of a server that does not answer drift says\n%s", out)
	}
	g.on(host, "pkill -CONT nginx")
	g.ns(0, "drift", g.name)
	g.nothingToDo()
}

// A look at a site asks as its visitors do, without a probe: by each of its names, at each address of the
// host. Whatever a site asks of visitors or answers itself, it says its mark to who knows it, and to nobody
// else; and no visit stands in its log (V3).
func TestWhoAnswersTheVisitorsOfASite(t *testing.T) {
	t.Parallel()
	site := "[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\n"
	servers := []struct {
		name, conf, their string
		port              int
	}{
		{"nginx", "/etc/nginx/sites-enabled/their.conf", "server { listen ADDRESS:PORT; server_name other.test; return 200 \"theirs\\n\"; }", 8181},
		{"httpd", "/etc/apache2/sites-enabled/their.conf", "<VirtualHost ADDRESS:PORT>\nServerName other.test\nRedirect 410 /\n</VirtualHost>", 8182},
		{"caddy", "/etc/caddy/conf.d/their.conf", "http://moved.caddy.saltmarsh.test:PORT {\n\tbind ADDRESS\n\trespond \"theirs\"\n}", 8183},
	}
	reload := map[string]string{"nginx": "nginx", "httpd": "apache2", "caddy": "caddy"}
	var b strings.Builder
	b.WriteString("[kit.base]\npackages = [\"curl\"]\n" + site)
	for _, s := range servers {
		fmt.Fprintf(&b, `[site.%[1]s]
on = ["h*"]
server = %[1]q
listen = [%[2]d]
names = ["wall.%[1]s.saltmarsh.test", "*.wide.%[1]s.saltmarsh.test"]
redirected_names = ["old.%[1]s.saltmarsh.test"]
catch_all = true
from = ["192.0.2.0/24"]
log = { access = "%[3]s/wall.log" }
[site.%[1]s.passwords]
ferry = "$2y$05$abcdefghijklmnopqrstuuqNOqZb8zGWnHEBkoOrqBMsD9y8tVjH2"
[site.%[1]s-moved]
on = ["h*"]
server = %[1]q
listen = [%[2]d]
names = ["moved.%[1]s.saltmarsh.test"]
[site.%[1]s-moved.path."/"]
moved_to = "https://saltmarsh.test/"
`, s.name, s.port, "/var/log/"+reload[s.name])
	}
	g := newGround(t, shared, 1, b.String())
	g.trust()
	g.apply(0)
	host := g.hosts[0]
	g.ns(0, "drift", g.name)
	for _, s := range servers {
		if got := g.on(host, fmt.Sprintf("cat /var/log/%s/wall.log | grep -c northstake || true", reload[s.name])); strings.TrimSpace(got) != "0" {
			t.Errorf("%s: %s visits stand in the log", s.name, got)
		}
		for path, want := range map[string]string{"/.well-known/northstake/": "403", "/.well-known/northstake/000000000000000000000000": "403"} {
			if got := g.on(host, fmt.Sprintf("curl -s -o /dev/null -w '%%{http_code}' -H 'Host: wall.%s.saltmarsh.test' http://127.0.0.1:%d%s", s.name, s.port, path)); got != want {
				t.Errorf("%s: %s of who does not know the mark: %s", s.name, path, got)
			}
		}
	}
	// Who listens at the loopback address alone takes nobody's visitors.
	g.on(host, "echo 'server { listen 127.0.0.1:80; listen 127.0.0.1:8181; server_name 127.0.0.1; return 204; }' > /etc/nginx/conf.d/status.conf; nginx -t -q && systemctl reload nginx; sleep 1")
	g.ns(0, "drift", g.name)
	g.on(host, "rm /etc/nginx/conf.d/status.conf; systemctl reload nginx; sleep 1")
	for _, s := range servers {
		g.on(host, fmt.Sprintf("cat > %s <<'X'\n%s\nX\nsystemctl reload %s; sleep 1", s.conf, strings.NewReplacer("ADDRESS", g.address(host), "PORT", strconv.Itoa(s.port)).Replace(s.their), reload[s.name]))
		out := g.ns(1, "drift", g.name)
		for _, want := range []string{"site/" + s.name, "another virtual host, " + s.conf + ":1", fmt.Sprintf("%s:%d", g.address(host), s.port)} {
			if !strings.Contains(out, want) {
				t.Errorf("%s: drift does not say %q:\n%s", s.name, want, out)
			}
		}
		if out := g.ns(2, "restore", g.name, "--yes"); !strings.Contains(out, "are answered by another virtual host, "+s.conf+":1") {
			t.Errorf("%s: restore says\n%s", s.name, out)
		}
		// It goes when it is named, as the message says (V16).
		out = g.ns(2, "plan", g.name)
		advice := fmt.Sprintf("northstake bring file %s --gone --reload %s --on %s", s.conf, reload[s.name], host)
		if !strings.Contains(out, advice) {
			t.Errorf("%s: plan does not say %q:\n%s", s.name, advice, out)
		}
		out = g.ns(0, append(strings.Fields(strings.TrimPrefix(advice, "northstake ")), "--ground", g.name, "--yes")...)
		if !strings.Contains(out, "take away "+s.conf) {
			t.Errorf("%s: bring says\n%s", s.name, out)
		}
		g.eventually("visitors come to the site again", func() error {
			if out, errs, code := g.run("drift", g.name); code != 0 {
				return fmt.Errorf("%d %s%s", code, out, errs)
			}
			return nil
		})
	}
}

// A rule that leads visitors from outside elsewhere is found, though the site answers on its host by each name
// (V3): the site has shifted beside its port, and the plan says what to look for.
func TestVisitorsWhoAreLedElsewhere(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, "[kit.base]\npackages = [\"nftables\"]\n[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\", \"*.wide.saltmarsh.test\"]\n[site.charts]\non = [\"h*\"]\nserver = \"nginx\"\nlisten = [8081]\nnames = [\"charts.saltmarsh.test\"]\n")
	g.trust()
	g.apply(0)
	host := g.hosts[0]
	g.ns(0, "drift", g.name)
	g.on(host, `echo 'server { listen 8099; return 200 "theirs\n"; }' > /etc/nginx/conf.d/theirs.conf; nginx -t -q && systemctl reload nginx; sleep 1
nft 'table ip led { chain in { type nat hook prerouting priority -100; tcp dport 80 redirect to :8099; }; }'`)
	if status, body, err := get("http://"+g.address(host)+"/", "timetable.saltmarsh.test"); err != nil || body != "theirs\n" {
		t.Fatalf("the visitors are not led elsewhere: %d %q %v", status, body, err)
	}
	out := g.ns(1, "drift", g.name)
	for _, want := range []string{"site/timetable", "who answers timetable.saltmarsh.test at port 80 from outside", "somebody else, with 200"} {
		if !strings.Contains(out, want) {
			t.Errorf("drift does not say %q:\n%s", want, out)
		}
	}
	if strings.Contains(out, "site/charts") {
		t.Errorf("a site on another port is named:\n%s", out)
	}
	if out := g.ns(2, "plan", g.name); !strings.Contains(out, "port 80/tcp is closed by table ip led") || !strings.Contains(out, "timetable.saltmarsh.test answers on the host itself, and from outside somebody else does at port 80, with 200") || !strings.Contains(out, "nft list ruleset") {
		t.Errorf("plan says\n%s", out)
	}
	// Who stands there may pass on all names but one.
	g.on(host, `echo 'server { listen 8099 default_server; location / { proxy_pass http://127.0.0.1:80; proxy_set_header Host $host; } }
server { listen 8099; server_name *.wide.saltmarsh.test; return 200 "theirs\n"; }' > /etc/nginx/conf.d/theirs.conf; nginx -t -q && systemctl reload nginx; sleep 1`)
	out = g.ns(1, "drift", g.name)
	if !strings.Contains(out, ".wide.saltmarsh.test at port 80 from outside") || strings.Contains(out, "who answers timetable.saltmarsh.test") {
		t.Errorf("of one name that is led elsewhere drift says\n%s", out)
	}
	g.on(host, "nft delete table ip led")
	g.ns(0, "drift", g.name)
	g.nothingToDo()
}

// A file may be any bytes, a program say: one byte that is changed is found, and what was there comes back when
// a run goes back (M12).
func TestAFileOfAnyBytes(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, "[kit.base]\npackages = [\"cron\"]\n[kit.base.file.\"/usr/local/bin/tide\"]\nfrom = \"files/tide\"\nmode = \"0755\"\n[kit.base.file.\"/etc/harbour/key store\"]\nfrom = \"files/store\"\nmode = \"0600\"\n")
	program, err := os.ReadFile("/bin/true") // of this machine's family
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(7, 7))
	store := make([]byte, 1<<20) // as large as it may be
	for i := range store {
		store[i] = byte(random.Uint32())
	}
	g.content("index.html", "Next sailing at six")
	g.beside("files/tide", string(program))
	g.beside("files/store", string(store))
	g.trust()
	g.apply(0)
	host := g.hosts[0]
	lies := func(path string, want []byte) {
		t.Helper()
		if got := g.on(host, "sha256sum < '"+path+"' | cut -d' ' -f1"); strings.TrimSpace(got) != fmt.Sprintf("%x", sha256.Sum256(want)) {
			t.Errorf("%s holds other bytes", path)
		}
	}
	lies("/usr/local/bin/tide", program)
	lies("/etc/harbour/key store", store)
	g.on(host, "/usr/local/bin/tide")
	g.nothingToDo()
	g.handEdits(host, []edit{
		{"file/usr/local/bin/tide", "text", "cp -p /usr/local/bin/tide /tmp/t; printf '\\377' | dd of=/usr/local/bin/tide bs=1 seek=100 conv=notrunc status=none; touch -r /tmp/t /usr/local/bin/tide"},
		{"file/usr/local/bin/tide", "text", "echo text > /usr/local/bin/tide"},
		{"file/usr/local/bin/tide", "mode", "chmod 644 /usr/local/bin/tide"},
		{"file/etc/harbour/key store", "text", "truncate -s 1048575 '/etc/harbour/key store'"},
	})
	lies("/usr/local/bin/tide", program)
	// A text in place of bytes, and bytes in place of bytes, go back with the run.
	g.beside("files/tide", "#!/bin/sh\n")
	other := slices.Clone(store)
	other[1<<19] ^= 0xff
	g.beside("files/store", string(other))
	g.content("index.html", "nothing sails")
	g.ns(0, "declare", g.dir)
	if r := g.apply(2); r.Hosts[0].State != "back" {
		t.Errorf("the host ended %s", r.Hosts[0].State)
	}
	lies("/usr/local/bin/tide", program)
	lies("/etc/harbour/key store", store)
	g.content("index.html", "Next sailing at six")
	g.ns(0, "declare", g.dir)
	g.apply(0)
	lies("/usr/local/bin/tide", []byte("#!/bin/sh\n"))
	lies("/etc/harbour/key store", other)
	// One byte more is refused, with its place.
	g.beside("files/store", string(store)+"x")
	if _, errs, status := g.run("lint", g.dir); status != 2 || !strings.Contains(errs, "files/store is larger than 1024 KB") {
		t.Errorf("lint ends with %d: %s", status, errs)
	}
}

// A site that listens at all addresses of one port and at one address of another is asked at both, on each
// server: it answers there and nowhere else, and who takes its visitors at either is found (V3).
func TestASiteThatListensHereAndThere(t *testing.T) {
	t.Parallel()
	servers := []struct {
		name, conf, service, their string
		wide, narrow               int
	}{
		{"nginx", "/etc/nginx/conf.d/a-their.conf", "nginx", "server { listen ADDRESS:PORT; server_name here.nginx.saltmarsh.test; return 410; }", 8281, 8381},
		{"httpd", "/etc/apache2/sites-enabled/a-their.conf", "apache2", "<VirtualHost ADDRESS:PORT>\nServerName other.test\nServerAlias *.httpd.saltmarsh.test\nRedirect 410 /\n</VirtualHost>", 8282, 8382},
		{"caddy", "/etc/caddy/conf.d/a-their.conf", "caddy", "http://here.caddy.saltmarsh.test:PORT {\n\tbind ADDRESS\n\trespond 410\n}", 8283, 8383},
	}
	var b strings.Builder
	b.WriteString("[kit.base]\npackages = [\"curl\"]\n[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\n")
	for _, s := range servers {
		fmt.Fprintf(&b, "[site.%[1]s]\non = [\"h*\"]\nserver = %[1]q\nlisten = [%[2]d, { port = %[3]d, address = \"127.0.0.1\" }]\nnames = [\"here.%[1]s.saltmarsh.test\"]\n[site.%[1]s.path.\"/\"]\nsays = \"%[1]s is here\"\n", s.name, s.wide, s.narrow)
	}
	g := newGround(t, shared, 1, b.String())
	g.trust()
	g.apply(0)
	host := g.hosts[0]
	ask := func(server, address string, port int) string {
		t.Helper()
		return g.on(host, fmt.Sprintf("curl -s -m 5 -w ' %%{http_code}' -H 'Host: here.%s.saltmarsh.test' http://%s:%d/ || true", server, address, port))
	}
	for _, s := range servers {
		for _, at := range []struct {
			address string
			port    int
			want    string
		}{{g.address(host), s.wide, s.name + " is here 200"}, {"127.0.0.1", s.wide, s.name + " is here 200"}, {"127.0.0.1", s.narrow, s.name + " is here 200"}, {g.address(host), s.narrow, " 000"}} {
			if got := ask(s.name, at.address, at.port); got != at.want {
				t.Errorf("%s: at %s:%d it is answered %q, not %q", s.name, at.address, at.port, got, at.want)
			}
		}
	}
	g.ns(0, "drift", g.name)
	g.nothingToDo()
	for _, s := range servers {
		for _, at := range []struct {
			address string
			port    int
		}{{g.address(host), s.wide}, {"127.0.0.1", s.narrow}} {
			if s.name == "caddy" && at.port == s.narrow {
				continue // it takes no second one of the same address and name
			}
			g.on(host, fmt.Sprintf("cat > %s <<'X'\n%s\nX\nsystemctl reload %s; sleep 1", s.conf, strings.NewReplacer("ADDRESS", at.address, "PORT", strconv.Itoa(at.port)).Replace(s.their), s.service))
			if got := ask(s.name, at.address, at.port); !strings.HasSuffix(got, " 410") {
				t.Errorf("%s: the other virtual host does not answer at %s:%d: %q", s.name, at.address, at.port, got)
			}
			out := g.ns(1, "drift", g.name)
			for _, want := range []string{"site/" + s.name, s.conf + ":1", fmt.Sprintf("%s:%d", at.address, at.port)} {
				if !strings.Contains(out, want) {
					t.Errorf("%s: drift does not say %q:\n%s", s.name, want, out)
				}
			}
			g.on(host, fmt.Sprintf("rm %s; systemctl reload %s; sleep 1", s.conf, s.service))
		}
	}
	g.eventually("all visitors come to the sites again", func() error {
		if out, errs, code := g.run("drift", g.name); code != 0 {
			return fmt.Errorf("%d %s%s", code, out, errs)
		}
		return nil
	})
}
