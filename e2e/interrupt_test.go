package e2e

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"northstake/core/stake"
	_ "northstake/core/stake/judge"
	_ "northstake/core/stake/kinds"
	"northstake/core/wire"
	"northstake/lab"
	"northstake/service/contract"
)

// boundaries are the places in a step where the journal is written or has just
// been.
var boundaries = []string{"before", "begun", "worked", "done"}

const holdFile = "/var/lib/northstake/hold"

// What stops in the middle of a step where a test says so is in the tests' rods alone.
func TestWhatIsSentToHostsRehearsesNothing(t *testing.T) {
	t.Parallel()
	for dir, rehearses := range map[string]bool{"rods": false, "rehearsal": true} {
		b, err := os.ReadFile(filepath.Join(root, "bin", dir, "rod-linux-"+runtime.GOARCH))
		if err != nil {
			t.Fatal(err)
		}
		if bytes.Contains(b, []byte("host/rehearse")) != rehearses {
			t.Errorf("the rods of bin/%s rehearse %v", dir, !rehearses)
		}
	}
}

// hold makes the rod stop at a boundary of a step, and returns when it has.
func (g *ground) hold(host string, step int, boundary string) {
	g.t.Helper()
	g.on(host, fmt.Sprintf("mkdir -p /var/lib/northstake; rm -f %s.reached; echo '%d %s' > %s", holdFile, step, boundary, holdFile))
}

func (g *ground) reached(host string, step int, boundary string) {
	g.t.Helper()
	want := fmt.Sprintf("%d %s", step, boundary)
	deadline := time.Now().Add(4 * time.Minute)
	for n := 1; time.Now().Before(deadline); n++ {
		out, err := labs.Shell(context.Background(), host, "cat "+holdFile+".reached 2>/dev/null || true")
		if err == nil && strings.TrimSpace(out) == want {
			return
		}
		if n%100 == 0 && g.allEnded() {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	_, runs := g.get("/grounds/" + g.name + "/runs")
	var list []contract.Run
	decode(g.t, runs, &list)
	g.t.Fatalf("step %d was not reached at %q by %+v", step, boundary, g.runState(list[0].Id))
}

// allEnded says whether no run of the ground is under way.
func (g *ground) allEnded() bool {
	_, runs := g.get("/grounds/" + g.name + "/runs")
	var list []contract.Run
	decode(g.t, runs, &list)
	return !slices.ContainsFunc(list, func(r contract.Run) bool { return r.State == "queued" || r.State == "running" })
}

func (g *ground) unhold(host string) { g.on(host, "rm -f "+holdFile+" "+holdFile+".reached") }

// everyKind declares one stake of every kind in a kit, but for those that want a
// source of packages where url is "".
func everyKind(url string) string {
	text := "[kit.base]\n"
	for _, k := range stake.InOrder() {
		if !strings.Contains(k.Rehearsal, "{url}") || url != "" {
			text += strings.ReplaceAll(k.Rehearsal, "{url}", url) + "\n"
		}
	}
	return text
}

// withEveryKind is a ground of one host that declares a stake of every kind, with the source
// of packages that one of them wants.
func withEveryKind(t *testing.T, s *service) *ground {
	t.Helper()
	g := newGround(t, s, 1, everyKind(""))
	files, url := served(t)
	gpg, public := signingKey(t, "Tides <tides@saltmarsh.test>", "never", "")
	debSource(t, files, gpg, "", "1.0-1")
	g.beside("files/ferries.asc", public)
	g.declareText(everyKind(url))
	g.trust()
	return g
}

// rehearsed are the types of stake of which a plan of everyKind has steps.
func rehearsed() []string {
	out := []string{"site", "server"} // every ground of these tests has one
	for _, k := range stake.InOrder() {
		if k.Rehearsal != "" {
			out = append(out, k.Type)
		}
	}
	return out
}

// Every kind of stake is interrupted: by its own rehearsal, as a part of a site, or in
// the test of rare steps.
func TestEveryKindIsRehearsed(t *testing.T) {
	t.Parallel()
	rare := []string{"port", "act", "restart", "image", "container"}
	for _, typ := range stake.Types() {
		if !slices.Contains(rehearsed(), typ) && !slices.Contains(rare, typ) {
			t.Errorf("no test interrupts the steps of kind %s", typ)
		}
	}
}

// startRun starts a run without waiting for its end. Removing is what is confirmed to go.
func (g *ground) startRun(plan int64, removing ...string) int64 {
	g.t.Helper()
	status, body := g.post("/grounds/"+g.name+"/runs", string(wire.JSON(contract.NewRun{Plan: plan, Removing: removing})))
	if status != 202 {
		g.t.Fatalf("%d %s", status, body)
	}
	var r contract.Run
	decode(g.t, body, &r)
	return r.Id
}

func (g *ground) runState(id int64) contract.Run {
	g.t.Helper()
	var r contract.Run
	_, body := g.get(fmt.Sprintf("/grounds/%s/runs/%d", g.name, id))
	decode(g.t, body, &r)
	return r
}

// ended waits until a run has ended.
func (g *ground) ended(id int64) contract.Run {
	g.t.Helper()
	var r contract.Run
	deadline := time.Now().Add(4 * time.Minute)
	for time.Now().Before(deadline) {
		if r = g.runState(id); r.State != "queued" && r.State != "running" {
			return r
		}
		time.Sleep(30 * time.Millisecond)
	}
	g.t.Fatalf("run %d has not ended: %+v", id, r)
	return r
}

// interrupted runs a plan with every kind of step that changes what is declared,
// kills something at every boundary of every step, and resumes each time. At the
// end the host is as if nothing had happened.
func interrupted(t *testing.T, s *service, at []string, kill func(g *ground, host string), resume func(g *ground, run int64)) {
	g := withEveryKind(t, s)
	host := g.hosts[0]
	g.ns(1, "survey", g.name)
	p := g.plan(1)
	// One step of each kind; of services the one that no package enables.
	g.killed(p, rehearsed(), func(st contract.Step) bool {
		return st.Type == "service" && st.Name != "nftables"
	}, at, kill, resume)
	g.standsAsDeclared(host)
	g.nothingToDo()
	if left := strings.TrimSpace(g.on(host, "ls -d /srv/www/.northstake/*.part /var/lib/northstake/candidate/* 2>/dev/null || true; systemctl list-timers --no-legend --no-pager | grep northstake-revert || true")); left != "" {
		t.Errorf("left behind: %s", left)
	}
}

// confirmed are the stakes of a plan that go only when they are confirmed by name.
func confirmed(p contract.Plan) []string {
	var out []string
	for _, h := range p.Hosts {
		for _, st := range h.Steps {
			if len(st.Removes) > 0 {
				out = append(out, st.Address)
			}
		}
	}
	return out
}

// killed runs a plan, and at every boundary of a step of each kind kills something and
// resumes, until the run is done.
func (g *ground) killed(p contract.Plan, kinds []string, skip func(contract.Step) bool, at []string, kill func(g *ground, host string), resume func(g *ground, run int64)) {
	g.t.Helper()
	host := g.hosts[0]
	var run int64
	seen := map[string]bool{}
	for _, st := range p.Hosts[0].Steps {
		if seen[st.Type] || skip(st) {
			continue
		}
		seen[st.Type] = true
		for _, b := range at {
			g.hold(host, st.Number, b)
			if run == 0 {
				run = g.startRun(p.Id, confirmed(p)...)
			} else {
				resume(g, run)
			}
			g.reached(host, st.Number, b)
			kill(g, host)
			g.unhold(host)
		}
	}
	for _, k := range kinds {
		if !seen[k] {
			g.t.Fatalf("the plan has no step of kind %s", k)
		}
	}
	resume(g, run)
	r := g.ended(run)
	if r.State != "done" {
		g.t.Fatalf("the run ended %s: %+v", r.State, r.Hosts)
	}
}

func resumeByHand(g *ground, run int64) {
	g.t.Helper()
	r := g.ended(run)
	if r.State == "done" {
		return
	}
	if st := r.Hosts[0].State; st != "interrupted" {
		g.t.Fatalf("the host's part of the run is %s, not interrupted: %+v", st, r.Hosts[0].Fault)
	}
	status, body := g.post(fmt.Sprintf("/grounds/%s/runs/%d/resume", g.name, run), "{}")
	if status != 202 {
		g.t.Fatalf("%d %s", status, body)
	}
}

func killRod(g *ground, host string) {
	g.on(host, "pkill -KILL -f '[r]od/[0-9a-f]* serve' || true; while pgrep -f '[r]od/[0-9a-f]* serve' >/dev/null; do sleep 0.02; done")
}

func killHost(g *ground, host string) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	if err := labs.Kill(ctx, host); err != nil {
		g.t.Fatal(err)
	}
	if err := labs.Start(ctx, host); err != nil {
		g.t.Fatal(err)
	}
	if err := labs.WaitSSH(ctx, g.n[host]); err != nil {
		g.t.Fatal(err)
	}
	g.on(host, started) // while it boots it lets nobody in
}

func TestTheRodKilledAtEveryBoundary(t *testing.T) {
	t.Parallel()
	interrupted(t, shared, boundaries, killRod, resumeByHand)
}

func TestTheHostKilledAtEveryBoundary(t *testing.T) {
	t.Parallel()
	interrupted(t, shared, boundaries, killHost, resumeByHand)
}

// Steps that a plan has only where another firewall is active, and only as an act: the
// rod and the host are killed at each boundary of theirs. Of the restart of a host the
// rod is killed before the host itself goes down.
func TestRareStepsKilled(t *testing.T) {
	t.Parallel()
	for name, kill := range map[string]func(*ground, string){"rod": killRod, "host": killHost} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			g := newGround(t, shared, 1, "[kit.base]\npackages = [\"ufw\"]\n")
			g.trust()
			host := g.hosts[0]
			g.apply(0)
			g.on(host, "ufw allow ssh >/dev/null; ufw allow 80/tcp >/dev/null; ufw --force enable >/dev/null")
			all := func(contract.Step) bool { return false }
			g.declareText("[kit.base]\npackages = [\"ufw\"]\nports = [\"8000/tcp\"]\nmay_restart = true\n")
			g.ns(0, "declare", g.dir)
			g.killed(g.plan(1), []string{"port"}, all, boundaries, kill, resumeByHand)
			if out := g.on(host, "ufw status"); !strings.Contains(out, "8000/tcp") {
				t.Errorf("the port is not open:\n%s", out)
			}
			g.nothingToDo()

			status, body := g.post("/grounds/"+g.name+"/plans", `{"act":{"do":"restart","service":"nginx"}}`)
			if status != 202 {
				t.Fatalf("%d %s", status, body)
			}
			var p contract.Plan
			decode(t, body, &p)
			g.waitFor(func() bool {
				_, body := g.get(fmt.Sprintf("/grounds/%s/plans/%d", g.name, p.Id))
				decode(t, body, &p)
				return len(p.Hosts) > 0
			})
			g.killed(p, []string{"act"}, all, boundaries, kill, resumeByHand)
			g.nothingToDo()

			if name == "host" {
				return // it has had its restart
			}
			// After these two boundaries the host goes down by itself, which TestActs waits for.
			g.on(host, "echo > /run/reboot-required")
			began := g.on(host, "stat -c %Y /proc/1")
			g.declareText("[kit.base]\npackages = [\"ufw\", \"tree\"]\nports = [\"8000/tcp\"]\nmay_restart = true\n")
			g.ns(0, "declare", g.dir)
			g.killed(g.plan(1), []string{"restart"}, func(st contract.Step) bool { return st.Type != "restart" }, boundaries[:2], kill, resumeByHand)
			if g.on(host, "stat -c %Y /proc/1") == began {
				t.Error("the host was not restarted")
			}
			g.nothingToDo()
		})
	}
}

// The service carries on by itself: a run that lost its replica is taken over
// after the next start. The rod ends the step that it is at, so each boundary
// needs a run of its own.
func TestTheServiceKilledAtEveryBoundary(t *testing.T) {
	t.Parallel()
	for _, b := range boundaries {
		t.Run(b, func(t *testing.T) {
			t.Parallel()
			p, err := lab.OpenPostgres(context.Background(), home+"/pg-killed-"+b)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { p.Stop(context.Background()) })
			s, err := startService(home+"/service-killed-"+b, p.URL())
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { s.end(syscall.SIGTERM) })
			interrupted(t, s, []string{b}, func(g *ground, host string) {
				s.end(syscall.SIGKILL)
				g.unhold(host)
			}, func(g *ground, _ int64) {
				if s.cmd.Process.Signal(syscall.Signal(0)) != nil {
					if err := s.start(); err != nil {
						g.t.Fatal(err)
					}
				}
			})
		})
	}
}

// PostgreSQL restarts while a run is under way: nothing of it is lost.
func TestPostgresRestartedDuringARun(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p, err := lab.OpenPostgres(ctx, home+"/pg-restarted")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Stop(ctx) })
	s, err := startService(home+"/service-restarted", p.URL())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.end(syscall.SIGTERM) })
	g := newGround(t, s, 1, everyKind(""))
	g.trust()
	host := g.hosts[0]
	pl := g.plan(1)
	g.hold(host, 2, "worked")
	g.on(host, "mkdir -p /var/lib/northstake")
	run := g.startRun(pl.Id)
	g.reached(host, 2, "worked")
	if err := p.Stop(ctx); err != nil {
		t.Fatal(err)
	}
	g.unhold(host) // the host goes on while the database is away
	g.eventually("the step ends on the host", func() error {
		if out := g.on(host, "cat /var/lib/northstake/journal/*/0002.json"); !strings.Contains(out, `"state":"done"`) {
			return fmt.Errorf("the journal says %s", out)
		}
		return nil
	})
	if err := p.Start(ctx); err != nil {
		t.Fatal(err)
	}
	g.waitFor(func() bool { status, _ := g.get("/grounds"); return status == 200 })
	if r := g.ended(run); r.State != "done" {
		t.Fatalf("the run ended %s: %+v", r.State, r.Hosts)
	}
	g.standsAsDeclared(host)
	g.nothingToDo()
}

// A firewall that nobody confirms over a new connection takes itself down: a
// machine is never locked out.
func TestAnUnconfirmedFirewallTakesItselfBack(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, everyKind(""))
	g.trust()
	host := g.hosts[0]
	g.unconfirmed("ls /etc/northstake /etc/systemd/system/northstake-firewall.service 2>/dev/null || true; systemctl is-enabled northstake-firewall 2>/dev/null || true")
	g.standsAsDeclared(host)
}

// unconfirmed runs a plan whose last step puts a firewall up, and cuts the line before
// that is confirmed: the host takes it back, of which left lists what is left. Then the
// run is resumed.
func (g *ground) unconfirmed(left string) {
	g.t.Helper()
	host := g.hosts[0]
	p := g.plan(1)
	last := p.Hosts[0].Steps[len(p.Hosts[0].Steps)-1]
	if last.Type != "firewall" || !last.Confirm {
		g.t.Fatalf("the last step is %+v", last)
	}
	g.hold(host, last.Number, "worked")
	run := g.startRun(p.Id)
	g.reached(host, last.Number, "worked")
	if out := g.on(host, "nft list ruleset"); !strings.Contains(out, "policy drop") {
		g.t.Fatalf("the rules are not up:\n%s", out)
	}
	// The rod dies, and with it the only line to the host.
	g.on(host, "pkill -KILL -f '[r]od/[0-9a-f]* serve'; rm -f "+holdFile)
	deadline := time.Now().Add(3 * time.Minute)
	for strings.Contains(g.on(host, "nft list ruleset"), "northstake") {
		if time.Now().After(deadline) {
			g.t.Fatal("the rules are still up after three minutes")
		}
		time.Sleep(500 * time.Millisecond)
	}
	g.eventually("after the rules their files go", func() error {
		if out := strings.TrimSpace(g.on(host, left)); out != "" {
			return fmt.Errorf("left behind: %s", out)
		}
		return nil
	})
	resumeByHand(g, run)
	if r := g.ended(run); r.State != "done" {
		g.t.Fatalf("the resumed run ended %s: %+v", r.State, r.Hosts)
	}
}

// A host that goes down before the rules of its firewall are confirmed comes up without them: they are
// put up for the boot only when somebody has come in through them (C1).
func TestUnconfirmedRulesAreGoneAfterARestart(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, "# instead of [site.timetable]\n[kit.base]\ninbound = \"declared\"\n")
	g.trust()
	host := g.hosts[0]
	p := g.plan(1)
	last := p.Hosts[0].Steps[len(p.Hosts[0].Steps)-1]
	if last.Type != "firewall" || !last.Confirm {
		t.Fatalf("the last step is %+v", last)
	}
	g.hold(host, last.Number, "worked")
	run := g.startRun(p.Id)
	g.reached(host, last.Number, "worked")
	if out := g.on(host, "nft list ruleset"); !strings.Contains(out, "policy drop") {
		t.Fatalf("the rules are not up:\n%s", out)
	}
	killHost(g, host)
	g.unhold(host)
	if out := g.on(host, "nft list ruleset; ls /etc/northstake 2>/dev/null || true; systemctl is-enabled northstake-firewall 2>/dev/null || true"); strings.TrimSpace(strings.ReplaceAll(out, "not-found", "")) != "" {
		t.Errorf("after a restart there is\n%s", out)
	}
	resumeByHand(g, run)
	if r := g.ended(run); r.State != "done" {
		t.Fatalf("resumed the run is %s: %+v", r.State, r.Hosts)
	}
	killHost(g, host)
	if out := g.on(host, "nft list ruleset"); !strings.Contains(out, "policy drop") {
		t.Errorf("once confirmed they are not up after a restart:\n%s", out)
	}
	g.nothingToDo()
}
