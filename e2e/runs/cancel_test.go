package runs

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

// slowUnit is a service whose start takes minutes.
const slowUnit = `[kit.base.file."/etc/systemd/system/slow.service"]
text = """
[Service]
Type=oneshot
RemainAfterExit=yes
ExecStart=/bin/sleep %d
"""
[kit.base.file."/srv/notice"]
text = "no ferry"
[kit.base.service]
slow = { running = true }
`

// A run that is cancelled ends the command that is under way, takes back what it has done, and says
// so; hosts where it has ended are left as they are; it can be resumed.
func TestARunIsCancelled(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian, lab.Debian}, stage.BareKit)
	host, other := g.Hosts[0], g.Hosts[1]
	text := func(seconds int) string {
		return "# instead of [site.timetable]\n[kit.base]\n" + fmt.Sprintf(slowUnit, seconds)
	}
	g.DeclareText(text(300))
	g.Trust()
	// On the other host the service starts at once.
	g.On(other, "mkdir -p /etc/systemd/system/slow.service.d; printf '[Service]\\nExecStart=\\nExecStart=/bin/true\\n' > /etc/systemd/system/slow.service.d/fast.conf")
	run := g.StartRun(g.Plan(1).Id)
	g.Eventually("the start is under way", func() error {
		if out, err := stage.Lab().Shell(context.Background(), host, "systemctl is-active slow || true"); err != nil || strings.TrimSpace(out) != "activating" {
			return fmt.Errorf("%q, %v", out, err)
		}
		return nil
	})
	g.Eventually("the other host is done", func() error {
		if h := hostOf(g, run, other); h.State != "done" && h.State != "unmet" {
			return fmt.Errorf("%s", h.State)
		}
		return nil
	})
	began := time.Now()
	out := g.Ns(2, "cancel", fmt.Sprint(run), "--ground", g.Name)
	if !strings.Contains(out, "cancelled by admin") || !strings.Contains(out, "1 host cancelled, and left as it was before") {
		t.Errorf("cancel says\n%s", out)
	}
	if took := time.Since(began); took > time.Minute {
		t.Errorf("it took %s", took)
	}
	r := g.Ended(run)
	if r.State != "cancelled" || r.CancelledBy != "admin" {
		t.Errorf("the run is %s, cancelled by %q", r.State, r.CancelledBy)
	}
	if steps := hostOf(g, run, host).Steps; steps[len(steps)-1].State != "cancelled" || !strings.Contains(out, "ended by the cancel") {
		t.Errorf("its steps are %+v", steps)
	}
	if got := g.On(host, "ls /srv /etc/systemd/system/slow.service 2>&1 || true; systemctl is-active slow || true; pgrep -x sleep || true"); strings.Contains(got, "notice") || !strings.Contains(got, "No such file") || !strings.Contains(got, "inactive") || strings.Count(got, "\n") > 3 {
		t.Errorf("on the host there is\n%s", got)
	}
	if got := g.On(other, "cat /srv/notice"); got != "no ferry" {
		t.Errorf("on the other host there is %q", got)
	}
	if out := g.Ns(2, "cancel", fmt.Sprint(run), "--ground", g.Name); !strings.Contains(out, "has ended") {
		t.Errorf("a run that has ended: %s", out)
	}
	if out := g.Ns(0, "journal", host, "--ground", g.Name); !strings.Contains(out, "taken back") || strings.Contains(out, "could not") {
		t.Errorf("the journal says\n%s", out)
	}
	// It is resumed once the start takes no time any more.
	g.On(host, "mkdir -p /etc/systemd/system/slow.service.d; printf '[Service]\\nExecStart=\\nExecStart=/bin/true\\n' > /etc/systemd/system/slow.service.d/fast.conf; systemctl daemon-reload")
	g.Run("resume", fmt.Sprint(run), "--ground", g.Name)
	if got := g.On(host, "cat /srv/notice; systemctl is-active slow"); !strings.HasPrefix(got, "no ferry") || !strings.Contains(got, "active") {
		t.Errorf("resumed there is %q", got)
	}
}

// hostOf is how a host stands in a run.
func hostOf(g *stage.Ground, run int64, host string) contract.RunPlace {
	g.T.Helper()
	var r contract.Run
	status, body := g.Get(fmt.Sprintf("/grounds/%s/runs/%d", g.Name, run))
	if status != 200 {
		g.T.Fatalf("%d %s", status, body)
	}
	stage.Decode(g.T, body, &r)
	for _, h := range r.Hosts {
		if h.Place == host {
			return h
		}
	}
	g.T.Fatalf("run %d has no host %s", run, host)
	return contract.RunPlace{}
}

// A step that was cut off and cannot be taken back holds up what has to do with the same thing, and
// nothing else, until somebody sets it aside with a reason (C4).
func TestAStepThatCannotBeTakenBackIsDismiss(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, stage.BareKit)
	host := g.Hosts[0]
	text := func(running bool, notice string) string {
		return "# instead of [site.timetable]\n" + fmt.Sprintf("[kit.base]\npackages = [\"cron\"]\n[kit.base.service]\ncron = { running = %t }\n[kit.base.file.\"/srv/notice\"]\ntext = %q\n", running, notice)
	}
	g.DeclareText(text(true, "one ferry"))
	g.Trust()
	g.Apply(0)
	g.DeclareText(text(false, "one ferry"))
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(1)
	g.Hold(host, 1, "worked")
	run := g.StartRun(p.Id)
	g.Reached(host, 1, "worked")
	stage.KillRod(g, host)
	g.Unhold(host)
	g.Ended(run)
	// Somebody breaks what it would go back to.
	g.On(host, "mkdir -p /run/systemd/system/cron.service.d; printf '[Service]\\nExecStart=\\nExecStart=/bin/false\\nRestart=no\\n' > /run/systemd/system/cron.service.d/broken.conf; systemctl daemon-reload; systemctl stop cron")
	g.DeclareText(text(false, "two ferries"))
	g.Ns(0, "declare", g.Dir)
	// The next run tries to take it back, which changes the host: what was planned before is left.
	if h := g.ApplyPlan(2, g.Plan(1).Id).Hosts[0]; !strings.Contains(strings.Join(h.Notes, " "), "step 1 of run ") {
		t.Errorf("the first run after it is %s: %q", h.State, h.Notes)
	}
	p = g.Plan(2)
	if b := p.Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, `"stop cron", was cut off and could not be taken back`) || !strings.Contains(b[0].Fix, "northstake journal "+host) {
		t.Errorf("the blockers are %+v", b)
	}
	g.ApplyPlan(2, p.Id)
	if got := g.On(host, "cat /srv/notice"); got != "two ferries" {
		t.Errorf("it holds up what it has nothing to do with: %q", got)
	}
	out := g.Ns(0, "journal", host, "--ground", g.Name)
	if !strings.Contains(out, "could not be taken back") || !strings.Contains(out, "stop cron") {
		t.Errorf("the journal says\n%s", out)
	}
	step := fmt.Sprintf("%d/1", run)
	if out := g.Ns(2, "journal", host, "--ground", g.Name, "--dismiss", step, "--reason", " "); !strings.Contains(out, "no reason is given") {
		t.Errorf("without a reason: %s", out)
	}
	g.Ns(2, "journal", host, "--ground", g.Name, "--dismiss", "999/1", "--reason", "none")
	g.DeclareText(text(true, "two ferries"))
	g.Ns(0, "declare", g.Dir)
	g.On(host, "rm -r /run/systemd/system/cron.service.d; systemctl daemon-reload; systemctl reset-failed cron || true")
	g.Ns(0, "journal", host, "--ground", g.Name, "--dismiss", step, "--reason", "cron was mended by hand")
	if out := g.Ns(0, "journal", host, "--ground", g.Name); !strings.Contains(out, "dismissed") || !strings.Contains(out, "cron was mended by hand (admin)") {
		t.Errorf("the journal says\n%s", out)
	}
	g.Apply(0)
	if got := g.On(host, "systemctl is-active cron"); strings.TrimSpace(got) != "active" {
		t.Errorf("cron is %s", got)
	}
}

// The lock of a host ends within a minute of its service vanishing without a word (C5).
func TestTheLockEndsWithItsService(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, stage.BareKit)
	host := g.Hosts[0]
	g.DeclareText("# instead of [site.timetable]\n[kit.base]\npackages = [\"nftables\"]\n[kit.base.file.\"/srv/notice\"]\ntext = \"no ferry\"\n[kit.base.file.\"/srv/other\"]\ntext = \"none\"\n")
	g.Trust()
	p := g.Plan(1)
	last := p.Hosts[0].Steps[len(p.Hosts[0].Steps)-1].Number
	g.Hold(host, last, "before")
	run := g.StartRun(p.Id)
	g.Reached(host, last, "before")
	g.On(host, "nft 'add table inet cable; add chain inet cable cut { type filter hook input priority -300; policy drop; }'")
	g.Unhold(host)
	began := time.Now()
	g.Eventually("the lock ends", func() error {
		_, err := stage.Lab().Shell(context.Background(), host, "flock -n /var/lib/northstake/lock true")
		return err
	})
	t.Logf("it took %s", time.Since(began).Round(time.Second))
	g.On(host, "nft delete table inet cable")
	// What the host says last may have come through, or not: the run ends either way, and is carried on
	// with when the host can be reached again.
	r := g.Ended(run)
	if r.State != "done" {
		if status, body := g.Post(fmt.Sprintf("/grounds/%s/runs/%d/resume", g.Name, run), "{}"); status != 202 {
			t.Fatalf("%d %s: %+v", status, body, r.Hosts)
		}
		r = g.Ended(run)
	}
	if r.State != "done" {
		t.Errorf("the run is %s: %+v", r.State, r.Hosts)
	}
	g.NothingToDo()
}
