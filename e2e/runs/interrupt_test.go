package runs

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

	"northstake/core/stake"
	_ "northstake/core/stake/judge"
	_ "northstake/core/stake/kinds"
	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

// What stops in the middle of a step where a test says so is in the tests' rods alone.
func TestWhatIsSentToHostsRehearsesNothing(t *testing.T) {
	t.Parallel()
	for dir, rehearses := range map[string]bool{"rods": false, "rehearsal": true} {
		b, err := os.ReadFile(filepath.Join(stage.Root, "bin", dir, "rod-linux-"+runtime.GOARCH))
		if err != nil {
			t.Fatal(err)
		}
		if bytes.Contains(b, []byte("host/rehearse")) != rehearses {
			t.Errorf("the rods of bin/%s rehearse %v", dir, !rehearses)
		}
	}
}

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
func withEveryKind(t *testing.T, s *stage.Service) *stage.Ground {
	t.Helper()
	g := stage.NewGround(t, s, 1, everyKind(""))
	files, url := stage.Served(t)
	gpg, public := stage.SigningKey(t, "Tides <tides@saltmarsh.test>", "never", "")
	stage.DebSource(t, files, gpg, "", "1.0-1")
	g.Beside("files/ferries.asc", public)
	g.DeclareText(everyKind(url))
	g.Trust()
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

// interrupted runs a plan with every kind of step that changes what is declared,
// kills something at every boundary of every step, and resumes each time. At the
// end the host is as if nothing had happened.
func interrupted(t *testing.T, s *stage.Service, at []string, kill func(g *stage.Ground, host string), resume func(g *stage.Ground, run int64)) {
	g := withEveryKind(t, s)
	host := g.Hosts[0]
	g.Ns(1, "survey", g.Name)
	p := g.Plan(1)
	// One step of each kind; of services the one that no package enables.
	g.Killed(p, rehearsed(), func(st contract.Step) bool {
		return st.Type == "service" && st.Name != "nftables"
	}, at, kill, resume)
	g.StandsAsDeclared(host)
	g.NothingToDo()
	if left := strings.TrimSpace(g.On(host, "ls -d /srv/www/.northstake/*.part /var/lib/northstake/candidate/* 2>/dev/null || true; systemctl list-timers --no-legend --no-pager | grep northstake-revert || true")); left != "" {
		t.Errorf("left behind: %s", left)
	}
}

func TestTheRodKilledAtEveryBoundary(t *testing.T) {
	t.Parallel()
	interrupted(t, stage.Shared(), stage.Boundaries, stage.KillRod, stage.ResumeByHand)
}

func TestTheHostKilledAtEveryBoundary(t *testing.T) {
	t.Parallel()
	interrupted(t, stage.Shared(), stage.Boundaries, stage.KillHost, stage.ResumeByHand)
}

// Steps that a plan has only where another firewall is active, and only as an act: the
// rod and the host are killed at each boundary of theirs. Of the restart of a host the
// rod is killed before the host itself goes down.
func TestRareStepsKilled(t *testing.T) {
	t.Parallel()
	for name, kill := range map[string]func(*stage.Ground, string){"rod": stage.KillRod, "host": stage.KillHost} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			g := stage.NewGround(t, stage.Shared(), 1, "[kit.base]\npackages = [\"ufw\"]\n")
			g.Trust()
			host := g.Hosts[0]
			g.Apply(0)
			g.On(host, "ufw allow ssh >/dev/null; ufw allow 80/tcp >/dev/null; ufw --force enable >/dev/null")
			all := func(contract.Step) bool { return false }
			g.DeclareText("[kit.base]\npackages = [\"ufw\"]\nports = [\"8000/tcp\"]\nmay_restart = true\n")
			g.Ns(0, "declare", g.Dir)
			g.Killed(g.Plan(1), []string{"port"}, all, stage.Boundaries, kill, stage.ResumeByHand)
			if out := g.On(host, "ufw status"); !strings.Contains(out, "8000/tcp") {
				t.Errorf("the port is not open:\n%s", out)
			}
			g.NothingToDo()

			status, body := g.Post("/grounds/"+g.Name+"/plans", `{"act":{"do":"restart","service":"nginx"}}`)
			if status != 202 {
				t.Fatalf("%d %s", status, body)
			}
			var p contract.Plan
			stage.Decode(t, body, &p)
			g.WaitFor(func() bool {
				_, body := g.Get(fmt.Sprintf("/grounds/%s/plans/%d", g.Name, p.Id))
				stage.Decode(t, body, &p)
				return len(p.Hosts) > 0
			})
			g.Killed(p, []string{"act"}, all, stage.Boundaries, kill, stage.ResumeByHand)
			g.NothingToDo()

			if name == "host" {
				return // it has had its restart
			}
			// After these two boundaries the host goes down by itself, which TestActs waits for.
			g.On(host, "echo > /run/reboot-required")
			began := g.On(host, "stat -c %Y /proc/1")
			g.DeclareText("[kit.base]\npackages = [\"ufw\", \"tree\"]\nports = [\"8000/tcp\"]\nmay_restart = true\n")
			g.Ns(0, "declare", g.Dir)
			g.Killed(g.Plan(1), []string{"restart"}, func(st contract.Step) bool { return st.Type != "restart" }, stage.Boundaries[:2], kill, stage.ResumeByHand)
			if g.On(host, "stat -c %Y /proc/1") == began {
				t.Error("the host was not restarted")
			}
			g.NothingToDo()
		})
	}
}

// The service carries on by itself: a run that lost its replica is taken over
// after the next start. The rod ends the step that it is at, so each boundary
// needs a run of its own.
func TestTheServiceKilledAtEveryBoundary(t *testing.T) {
	t.Parallel()
	for _, b := range stage.Boundaries {
		t.Run(b, func(t *testing.T) {
			t.Parallel()
			p, err := lab.OpenPostgres(context.Background(), stage.Home+"/pg-killed-"+b)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { p.Stop(context.Background()) })
			s, err := stage.StartService(stage.Home+"/service-killed-"+b, p.URL())
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { s.End(syscall.SIGTERM) })
			interrupted(t, s, []string{b}, func(g *stage.Ground, host string) {
				s.End(syscall.SIGKILL)
				g.Unhold(host)
			}, func(g *stage.Ground, _ int64) {
				if s.Cmd.Process.Signal(syscall.Signal(0)) != nil {
					if err := s.Start(); err != nil {
						g.T.Fatal(err)
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
	p, err := lab.OpenPostgres(ctx, stage.Home+"/pg-restarted")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Stop(ctx) })
	s, err := stage.StartService(stage.Home+"/service-restarted", p.URL())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.End(syscall.SIGTERM) })
	g := stage.NewGround(t, s, 1, everyKind(""))
	g.Trust()
	host := g.Hosts[0]
	pl := g.Plan(1)
	g.Hold(host, 2, "worked")
	g.On(host, "mkdir -p /var/lib/northstake")
	run := g.StartRun(pl.Id)
	g.Reached(host, 2, "worked")
	if err := p.Stop(ctx); err != nil {
		t.Fatal(err)
	}
	g.Unhold(host) // the host goes on while the database is away
	g.Eventually("the step ends on the host", func() error {
		if out := g.On(host, "cat /var/lib/northstake/journal/*/0002.json"); !strings.Contains(out, `"state":"done"`) {
			return fmt.Errorf("the journal says %s", out)
		}
		return nil
	})
	if err := p.Start(ctx); err != nil {
		t.Fatal(err)
	}
	g.WaitFor(func() bool { status, _ := g.Get("/grounds"); return status == 200 })
	if r := g.Ended(run); r.State != "done" {
		t.Fatalf("the run ended %s: %+v", r.State, r.Hosts)
	}
	g.StandsAsDeclared(host)
	g.NothingToDo()
}

// A firewall that nobody confirms over a new connection takes itself down: a
// machine is never locked out.
func TestAnUnconfirmedFirewallTakesItselfBack(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, everyKind(""))
	g.Trust()
	host := g.Hosts[0]
	g.Unconfirmed("ls /etc/northstake /etc/systemd/system/northstake-firewall.service 2>/dev/null || true; systemctl is-enabled northstake-firewall 2>/dev/null || true")
	g.StandsAsDeclared(host)
}

// A host that goes down before the rules of its firewall are confirmed comes up without them: they are
// put up for the boot only when somebody has come in through them (C1).
func TestUnconfirmedRulesAreGoneAfterARestart(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "# instead of [site.timetable]\n[kit.base]\ninbound = \"declared\"\n")
	g.Trust()
	host := g.Hosts[0]
	p := g.Plan(1)
	last := p.Hosts[0].Steps[len(p.Hosts[0].Steps)-1]
	if last.Type != "firewall" || !last.Confirm {
		t.Fatalf("the last step is %+v", last)
	}
	g.Hold(host, last.Number, "worked")
	run := g.StartRun(p.Id)
	g.Reached(host, last.Number, "worked")
	if out := g.On(host, "nft list ruleset"); !strings.Contains(out, "policy drop") {
		t.Fatalf("the rules are not up:\n%s", out)
	}
	stage.KillHost(g, host)
	g.Unhold(host)
	if out := g.On(host, "nft list ruleset; ls /etc/northstake 2>/dev/null || true; systemctl is-enabled northstake-firewall 2>/dev/null || true"); strings.TrimSpace(strings.ReplaceAll(out, "not-found", "")) != "" {
		t.Errorf("after a restart there is\n%s", out)
	}
	stage.ResumeByHand(g, run)
	if r := g.Ended(run); r.State != "done" {
		t.Fatalf("resumed the run is %s: %+v", r.State, r.Hosts)
	}
	stage.KillHost(g, host)
	if out := g.On(host, "nft list ruleset"); !strings.Contains(out, "policy drop") {
		t.Errorf("once confirmed they are not up after a restart:\n%s", out)
	}
	g.NothingToDo()
}
