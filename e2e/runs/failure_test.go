package runs

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"northstake/e2e/stage"
	"northstake/service/contract"
)

// A configuration that nginx refuses changes nothing: the host goes back to what
// it was, content and all, and the old site answers all the while.
func TestABrokenConfigurationIsTakenBack(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "")
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	// Somebody has broken another file; nginx still runs with what it read before.
	g.On(host, "echo 'harbour_depth 5;' > /etc/nginx/conf.d/harbour.conf")
	before := g.On(host, "cat /etc/nginx/sites-available/northstake-timetable.conf; ls -la /etc/nginx/sites-enabled; cat /srv/www/timetable/*")
	g.Content("index.html", stage.Page("two"))
	g.DeclareText("[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\", \"www.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n" +
		"[site.timetable.path.\"/quay\"]\nroot = \"/srv/www/quay\"\n")
	g.Ns(0, "declare", g.Dir)
	g.Content("linked.html", stage.Page("two"))
	g.Ns(0, "declare", g.Dir)
	watch := g.WatchSite(host)
	r := g.Apply(2)
	if bad := watch(); bad != "" {
		t.Errorf("while the configuration was refused: %s", bad)
	}
	h := r.Hosts[0]
	if h.State != "back" || !strings.Contains(h.Fault.What, "harbour_depth") || h.Fault.File != "/etc/nginx/conf.d/harbour.conf" || h.Fault.Line != 1 {
		t.Errorf("the host ended %s, with %+v", h.State, h.Fault)
	}
	if after := g.On(host, "cat /etc/nginx/sites-available/northstake-timetable.conf; ls -la /etc/nginx/sites-enabled; cat /srv/www/timetable/*"); after != before {
		t.Errorf("the host is not what it was:\n%s", stage.Difference(before, after))
	}
	if _, body := g.Fetch(host, "/"); !strings.Contains(body, "version one") {
		t.Errorf("the site shows %q", body)
	}
	if left := g.On(host, "ls /var/lib/northstake/candidate"); strings.TrimSpace(left) != "" {
		t.Errorf("the candidate is left behind: %s", left)
	}
	g.On(host, "rm /etc/nginx/conf.d/harbour.conf")
	g.Apply(0)
	if _, body := g.Fetch(host, "/"); !strings.Contains(body, "version two") {
		t.Errorf("the site shows %q", body)
	}
}

// A site that does not answer as its probe says goes back to what it was.
func TestAFailedProbeTakesTheHostBack(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "")
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	g.Content("index.html", "<p>No boats today.</p>\n")
	g.Ns(0, "declare", g.Dir)
	watch := g.WatchSite(host)
	r := g.Apply(2)
	watch()
	if h := r.Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.What, "Next sailing") {
		t.Errorf("the host ended %s: %s", h.State, h.Fault.What)
	}
	if _, body := g.Fetch(host, "/"); !strings.Contains(body, "version one") {
		t.Errorf("the site shows %q", body)
	}
}

// Taken back, a first run leaves the host as it was before: packages, units,
// files and rules.
func TestAFirstRunIsTakenBackWhole(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "")
	g.Content("index.html", "<p>No boats today.</p>\n") // the probe will fail
	g.Trust()
	host := g.Hosts[0]
	state := "dpkg -l | grep ^ii | awk '{print $2}'; ls -d /srv/www /etc/nginx /etc/northstake 2>&1; nft list ruleset 2>&1 | head -3; systemctl list-unit-files --no-pager --no-legend | awk '{print $1, $2}' | grep -v '^run-\\|session'"
	before := g.On(host, state)
	r := g.Apply(2)
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
	after := g.On(host, state)
	for began := time.Now(); clean(before) != clean(after) && time.Since(began) < 30*time.Second; { // what watched over the run ends by itself
		time.Sleep(200 * time.Millisecond)
		after = g.On(host, state)
	}
	if clean(before) != clean(after) {
		t.Errorf("the host is not what it was:\n%s", stage.Difference(before, after))
	}
}

// Content appears at once: a client that fetches linked pages all the while sees
// no page missing and never an old page after a new one.
func TestContentSwitchesAtOnce(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "")
	for i := range 200 {
		g.Content(fmt.Sprintf("pages/%d.html", i), stage.Page("one"))
	}
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	watch := g.WatchSite(host)
	for v := 3; v < 8; v++ {
		g.Content("index.html", stage.Page(fmt.Sprint(v)))
		g.Content("linked.html", stage.Page(fmt.Sprint(v)))
		g.Content("pages/0.html", stage.Page(fmt.Sprint(v)))
		g.Ns(0, "declare", g.Dir)
		p := g.Plan(1)
		r := g.ApplyPlan(0, p.Id)
		said := strings.Join(r.Hosts[0].Steps[0].Said, " ")
		if !strings.Contains(said, "sent 1 of the files") {
			t.Errorf("more than what is missing was sent: %q", said)
		}
	}
	if bad := watch(); bad != "" {
		t.Error(bad)
	}
	g.NothingToDo()
}

// A full disk leaves the old content whole.
func TestAFullDiskLeavesTheOldContent(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "")
	g.Trust()
	host := g.Hosts[0]
	g.On(host, "mkdir -p /srv/www")
	if err := stage.Lab().MountSmall(context.Background(), host, "/srv/www", 1<<20); err != nil {
		t.Fatal(err)
	}
	g.Apply(0)
	before := g.On(host, "find /srv/www/timetable -type f | sort | xargs sha256sum")
	g.Content("index.html", stage.Page("two"))
	g.Content("a.bin", strings.Repeat("a", 700_000))
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(1)
	g.On(host, "head -c 600000 /dev/zero > /srv/www/filler") // after the plan has looked
	r := g.ApplyPlan(2, p.Id)
	if h := r.Hosts[0]; h.State != "back" && h.State != "moved" || h.State == "back" && !strings.Contains(h.Fault.What, "disk is full") {
		t.Errorf("the host ended %s: %+v", h.State, h.Fault)
	}
	if after := g.On(host, "find /srv/www/timetable -type f | sort | xargs sha256sum"); after != before {
		t.Errorf("the old content is not whole:\n%s", stage.Difference(before, after))
	}
	if status, body := g.Fetch(host, "/"); status != 200 || !strings.Contains(body, "version one") {
		t.Errorf("the site answers %d %q", status, body)
	}
	g.On(host, "rm /srv/www/filler")
	if p := g.Plan(1); p.Blockers != 0 {
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
	g := stage.NewGround(t, stage.Shared(), 1, "[kit.base]\npackages = [\"cron\", \"cron-daemon\", \"tide-tables\"]\nservice = { cron = { running = true, at_boot = true } }\n"+
		site("timetable", "/srv/www/timetable")+site("mounted", "/srv/mounted")+site("private", "/srv/private/www")+site("linked", "/srv/linked"))
	g.Trust()
	host := g.Hosts[0]
	g.On(host, "mkdir -p /srv/mounted /srv/real; mkdir -m 700 /srv/private; ln -s /srv/real /srv/linked; systemctl mask -q cron; apt-get update -q >/dev/null 2>&1; "+
		"printf 'Types: deb\\nURIs: http://packages.saltmarsh.test/\\nSuites: ./\\nEnabled: no\\n' > /etc/apt/sources.list.d/harbour.sources")
	if err := stage.Lab().MountSmall(context.Background(), host, "/srv/mounted", 1<<20); err != nil {
		t.Fatal(err)
	}
	p := g.Plan(2)
	out := g.Ns(2, "plan", g.Name)
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
	if h := g.ApplyPlan(2, p.Id).Hosts[0]; h.State != "partly" {
		t.Errorf("the host ended %s: %+v", h.State, h.Fault)
	}
	if status, body := g.Fetch(host, "/"); status != 200 || !strings.Contains(body, "version one") {
		t.Errorf("the site that nothing stands in the way of answers %d %q", status, body)
	}
	if left := strings.TrimSpace(g.On(host, "ls /srv/mounted /srv/private")); left != "/srv/mounted:\n\n/srv/private:" {
		t.Errorf("something was done all the same:\n%s", left)
	}
}

// A document root that lies in a lower layer of an overlay cannot be exchanged in
// one instant: it is published into file by file, each at once, and goes back to
// what it was when a probe fails.
func TestADocumentRootInALowerLayer(t *testing.T) {
	t.Parallel()
	site := func(contains string) string {
		return stage.BareKit + fmt.Sprintf("[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/opt/harbour/www\"\ncontent = { dir = \"content\" }\n[[site.timetable.probe]]\npath = \"/\"\ncontains = %q\n", contains)
	}
	g := stage.NewGround(t, stage.Shared(), 1, site("No such words"))
	g.Content("deep/er/page.html", stage.Page("one"))
	g.Trust()
	host := g.Hosts[0]
	const state = "cd /opt/harbour/www && find . -printf '%p %y %m %U\\n' | sort && cat index.html"
	before := g.On(host, state)
	if h := g.Apply(2).Hosts[0]; h.State != "back" {
		t.Errorf("the host ended %s: %+v", h.State, h.Fault)
	}
	if after := g.On(host, state); after != before {
		t.Errorf("it is not what came with the image:\n%s", stage.Difference(before, after))
	}
	g.DeclareText(site("Next sailing"))
	g.Ns(0, "declare", g.Dir)
	g.Apply(0)
	for _, path := range []string{"/", "/linked.html", "/deep/er/page.html"} {
		if status, body := g.Fetch(host, path); status != 200 || !strings.Contains(body, "version one") {
			t.Errorf("%s answers %d: %s", path, status, body)
		}
	}
	g.Content("index.html", stage.Page("two"))
	g.Ns(0, "declare", g.Dir)
	g.Apply(0)
	if status, body := g.Fetch(host, "/"); status != 200 || !strings.Contains(body, "version two") {
		t.Errorf("it answers %d: %s", status, body)
	}
	g.NothingToDo()
}

// A host that moved after it was planned is left alone and asked about again.
func TestAHostThatMovedIsNotTouched(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	g.Content("index.html", stage.Page("two"))
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(1)
	g.On(host, "systemctl stop nginx")
	r := g.ApplyPlan(2, p.Id)
	if h := r.Hosts[0]; h.State != "moved" || !strings.Contains(h.Fault.What, "start nginx") {
		t.Errorf("the host ended %s: %+v", h.State, h.Fault)
	}
	if out := g.On(host, "cat /srv/www/timetable/index.html"); !strings.Contains(out, "version one") {
		t.Error("something was done on a host that moved")
	}
}

// A port that another program holds is named, with the program; the site that
// listens there is left with all it calls for, and everything else is done.
func TestATakenPortBlocksItsSiteAlone(t *testing.T) {
	t.Parallel()
	const other = "[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n" +
		"[site.freight]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"freight.saltmarsh.test\"]\nlisten = [8080]\nroot = \"/srv/www/freight\"\ncontent = { dir = \"content\" }\n"
	g := stage.NewGround(t, stage.Shared(), 1, other)
	g.Trust()
	host := g.Hosts[0]
	hold := func(port int) {
		g.On(host, fmt.Sprintf("systemd-run --quiet --collect --unit=other%d perl -MIO::Socket::INET -e 'my $s=IO::Socket::INET->new(LocalPort=>%d,Listen=>900,ReuseAddr=>1); sleep 600'; until ss -ltn | grep -q ':%d '; do sleep 0.02; done", port, port, port))
	}
	hold(80)
	hold(8080)
	out := g.Ns(2, "plan", g.Name)
	for _, want := range []string{"port 80 is taken by perl (process ", "port 8080 is taken by perl (process ", "package/nginx waits for "} {
		if !strings.Contains(out, want) {
			t.Errorf("the plan does not say %q:\n%s", want, out)
		}
	}
	g.On(host, "systemctl stop other80")
	p := g.Plan(2)
	r := g.ApplyPlan(2, p.Id)
	if h := r.Hosts[0]; h.State != "partly" || !strings.Contains(h.Fault.What, "port 8080 is taken by perl") {
		t.Errorf("the host ended %s: %s", h.State, h.Fault.What)
	}
	if status, body := g.Fetch(host, "/"); status != 200 || !strings.Contains(body, "version one") {
		t.Errorf("the site beside the blocked one answers %d: %s", status, body)
	}
	// Nothing is let in for what waits (Y3, V10).
	if stage.Dialable(g.Address(host) + ":8080") {
		t.Error("port 8080, whose site waits, was opened to what another program serves there")
	}
	if rules := g.On(host, "nft list table inet northstake"); strings.Contains(rules, "8080") || !strings.Contains(rules, "dport 80 accept") {
		t.Errorf("the rules are\n%s", rules)
	}
	if left := g.On(host, "ls -d /srv/www/freight /etc/nginx/*/northstake-freight.conf 2>/dev/null || true"); strings.TrimSpace(left) != "" {
		t.Errorf("there is something of the blocked site: %s", left)
	}
	g.On(host, "systemctl stop other8080")
	g.Apply(0)
	if status, body, err := stage.Get("http://"+g.Address(host)+":8080/", "freight.saltmarsh.test"); err != nil || status != 200 || !strings.Contains(body, "version one") {
		t.Errorf("the site answers %d: %s, %v", status, body, err)
	}
	g.NothingToDo()
}

// Where nginx refuses a line that was rendered, the run names that line and the
// line of the declaration it comes from. Lint lets nothing through that nginx
// refuses, so a stand-in goes before the real nginx: one that lacks a directive.
func TestARefusedLineLeadsToTheDeclaration(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "")
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	before := g.On(host, "cat /etc/nginx/sites-available/northstake-timetable.conf")
	g.On(host, `cat > /usr/local/sbin/nginx <<'END'
#!/bin/sh
# A stand-in for an nginx without the directive "index".
for last; do :; done
sed -i 's/^ *index /    index_of_harbours /' "$(dirname "$last")"/sites-available/northstake-*.conf
exec /usr/sbin/nginx "$@"
END
chmod 755 /usr/local/sbin/nginx`)
	g.DeclareText("[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\nindex = [\"linked.html\"]\ncontent = { dir = \"content\" }\n")
	g.Ns(0, "declare", g.Dir)
	text, err := os.ReadFile(filepath.Join(g.Dir, "ground.toml"))
	if err != nil {
		t.Fatal(err)
	}
	line := 1 + strings.Count(strings.Split(string(text), "index = ")[0], "\n")
	p := g.Plan(1)
	out := g.Ns(2, "apply", fmt.Sprint(p.Id), "--ground", g.Name, "--yes")
	for _, want := range []string{`unknown directive "index_of_harbours"`, "/etc/nginx/sites-available/northstake-timetable.conf:", `index "linked.html";`, fmt.Sprintf("from ground.toml:%d", line)} {
		if !strings.Contains(out, want) {
			t.Errorf("the run does not say %q:\n%s", want, out)
		}
	}
	if after := g.On(host, "cat /etc/nginx/sites-available/northstake-timetable.conf"); after != before {
		t.Errorf("the live tree changed:\n%s", stage.Difference(before, after))
	}
}

// Of twenty hosts, one that refuses, one that hangs and one that drops the line
// do not delay the others, and can be resumed alone.
func TestTwentyHosts(t *testing.T) {
	t.Parallel()
	// Plain directories: what is tested is who waits for whom.
	g := stage.NewGround(t, stage.Shared(), 20, "[kit.base]\npackages = [\"cron\"]\n[site.timetable]\non = [\"none\"]\nserver = \"nginx\"\nnames = [\"x.test\"]\n")
	text, err := os.ReadFile(filepath.Join(g.Dir, "ground.toml"))
	if err != nil {
		t.Fatal(err)
	}
	stage.Write(t, filepath.Join(g.Dir, "ground.toml"), strings.Split(string(text), "[site.timetable]")[0])
	g.Trust()
	p := g.Plan(1)
	refuses, hangs, drops := g.Hosts[0], g.Hosts[1], g.Hosts[2]
	g.On(refuses, "systemctl stop ssh; pkill sshd || true")
	g.Hold(hangs, 1, "begun")
	g.Hold(drops, 1, "begun")
	run := g.StartRun(p.Id)
	g.Reached(drops, 1, "begun")
	g.On(drops, "pkill -KILL -f '[s]shd: keeper'; rm -f "+stage.HoldFile)
	g.Reached(hangs, 1, "begun")
	deadline := time.Now().Add(8 * time.Minute)
	for {
		states := map[contract.RunPlaceState]int{}
		for _, h := range g.RunState(run).Hosts {
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
	if r := g.RunState(run); r.State != "running" {
		t.Errorf("with one host hanging the run is %s", r.State)
	}
	g.On(hangs, "pkill -KILL -f '[s]shd: keeper'")
	g.Unhold(hangs)
	r := g.Ended(run)
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
	g.On(refuses, "systemctl start ssh")
	g.Ns(2, "resume", fmt.Sprint(run), "--ground", g.Name, "--on", drops)
	out := g.Ns(0, "resume", fmt.Sprint(run), "--ground", g.Name)
	if !strings.Contains(out, "20 hosts done") {
		t.Errorf("after the resume:\n%s", out)
	}
	g.NothingToDo()
}
