package hosts

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"northstake/core/plan"
	"northstake/e2e/stage"
	"northstake/lab"
)

// Who holds the package lock is named and waited for; a service that does not start
// brings its last lines into the run; of a name that no unit has the near ones are said.
func TestWhatTheSystemSaysIsPassedOn(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "[kit.base]\npackages = [\"tree\", \"cron\"]\n")
	g.Trust()
	host := g.Hosts[0]
	g.On(host, "systemd-run --quiet --collect --unit=locker perl -MFcntl -e 'open my $f, \"+<\", \"/var/lib/dpkg/lock-frontend\" or die; "+
		"my $l = pack(\"s s x4 q q i x4\", F_WRLCK, 0, 0, 0, 0); fcntl($f, F_SETLK, $l) or die; open my $d, \">\", \"/run/locked\"; sleep 1 until -e \"/run/release\"'; until [ -e /run/locked ]; do sleep 0.02; done")
	run := g.StartRun(g.Plan(1).Id)
	g.WaitFor(func() bool {
		now := g.RunState(run).Hosts
		said := ""
		if len(now) > 0 && len(now[0].Steps) > 0 {
			said = strings.Join(now[0].Steps[0].Said, "\n")
		}
		return strings.Contains(said, "waiting for perl (process ") && strings.Contains(said, "holds the lock of apt")
	})
	g.On(host, "touch /run/release")
	h := g.Ended(run).Hosts[0]
	if h.State != "done" {
		t.Fatalf("the host ended %s: %+v", h.State, h.Fault)
	}
	g.NothingToDo()

	g.On(host, "printf '[Service]\\nType=oneshot\\nRemainAfterExit=yes\\nExecStart=/bin/sh -c \"echo the tide gauge is not there >&2; exit 3\"\\n' > /etc/systemd/system/tidewatch.service; systemctl daemon-reload")
	g.DeclareText("[kit.base]\npackages = [\"tree\", \"cron\"]\nservice = { tidewatch = { running = true } }\n")
	g.Ns(0, "declare", g.Dir)
	if h = g.Apply(2).Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.Output, "the tide gauge is not there") {
		t.Errorf("the host ended %s: %+v", h.State, h.Fault)
	}
	g.On(host, "systemctl stop tidewatch; systemctl reset-failed tidewatch || true")
	for name, near := range map[string]string{"tidewach": "there is tidewatch", "httpd": "systems of this family call it apache2"} {
		g.DeclareText(fmt.Sprintf("[kit.base]\npackages = [\"tree\", \"cron\"]\nservice = { %s = { running = true } }\n", name))
		g.Ns(0, "declare", g.Dir)
		if b := g.Plan(2).Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, "no unit on this host is called "+name) || !strings.Contains(b[0].Fix, near) {
			t.Errorf("%s: %+v", name, b)
		}
	}
}

// What is no lasting state is planned, recorded and run like the rest: services,
// lists, upgrades, and a restart of the host that the run waits for.
func TestActs(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "")
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	act := func(status int, words ...string) string {
		t.Helper()
		return g.Ns(status, append([]string{"act", "--ground", g.Name, "--on", "h*", "--yes"}, words...)...)
	}
	pid := func() string { return strings.TrimSpace(g.On(host, "systemctl show -P MainPID nginx")) }
	before := pid()
	if out := act(0, "reload", "nginx"); !strings.Contains(out, "reload nginx now") || pid() != before {
		t.Errorf("the reload: process %s, then %s:\n%s", before, pid(), out)
	}
	act(0, "restart", "nginx")
	if pid() == before {
		t.Error("after a restart it is the same process")
	}
	if out := act(2, "restart", "nginks"); !strings.Contains(out, "no unit on this host is called nginks") || !strings.Contains(out, "nginx") {
		t.Errorf("a name that is near:\n%s", out)
	}
	if out := act(2, "restart"); !strings.Contains(out, "no service is named") {
		t.Error(out)
	}
	if out := act(2, "dance"); !strings.Contains(out, "it is one of restart, reload, refresh-lists, upgrade, reboot") {
		t.Error(out)
	}
	if out := g.Ns(2, "act", "refresh-lists", "--ground", g.Name, "--yes"); !strings.Contains(out, "--on") {
		t.Error(out)
	}

	files, from := stage.Served(t)
	gpg, public := stage.SigningKey(t, "Tides <tides@saltmarsh.test>", "never", "")
	stage.DebSource(t, files, gpg, "", "1.0-1")
	g.Beside("files/ferries.asc", public)
	extra := fmt.Sprintf("[host.%s.source.ferries]\nurl = %q\nkey = \"files/ferries.asc\"\n[host.%s.package.tide-tables]\n", host, from, host)
	g.DeclareText(extra)
	g.Ns(0, "declare", g.Dir)
	g.Apply(0)
	stage.DebSource(t, files, gpg, "", "2.0-1")
	if out := act(0, "upgrade"); !strings.Contains(out, "nothing to do") {
		t.Errorf("before the lists are read:\n%s", out)
	}
	act(0, "refresh-lists")
	if out := act(0, "upgrade"); !strings.Contains(out, "upgrade 1 package") || !strings.Contains(out, "tide-tables 2.0-1 in place of 1.0-1") {
		t.Errorf("the upgrade:\n%s", out)
	}
	if got := strings.TrimSpace(g.On(host, "cat /usr/share/tides/version")); got != "2.0-1" {
		t.Errorf("upgraded to %s", got)
	}
	g.NothingToDo()

	began := g.On(host, "stat -c %Y /proc/1")
	act(0, "reboot")
	if now := g.On(host, "stat -c %Y /proc/1"); now == began {
		t.Error("the host was not restarted")
	}
	g.StandsAsDeclared(host)
	g.NothingToDo()
	var runs []struct{ State string }
	stage.Decode(t, g.Ns(0, "runs", g.Name, "--json"), &runs)
	for _, r := range runs {
		if r.State != "done" {
			t.Errorf("a run ended %s", r.State)
		}
	}
	if len(runs) != 7 {
		t.Errorf("%d runs are recorded", len(runs))
	}

	// A host that needs a restart says why; where the declaration permits it, a run
	// restarts it and carries on.
	g.On(host, "echo > /run/reboot-required; echo linux-image > /run/reboot-required.pkgs")
	g.NothingToDo()
	if out := g.Ns(0, "show", host, "--ground", g.Name); !strings.Contains(out, "the system asks for one since linux-image changed") {
		t.Errorf("the need is not shown:\n%s", out)
	}
	if out := g.Ns(0, "hosts", g.Name); !strings.Contains(out, "needs a restart: the system asks for one since linux-image changed") {
		t.Errorf("the list of hosts does not show the need:\n%s", out)
	}
	g.DeclareText(strings.Replace(extra, "[host", "[kit.base]\npackages = [\"cron\"]\ninbound = \"declared\"\nmay_restart = true\nservice = { cron = { running = true, at_boot = true } }\n[host", 1))
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(1)
	if s := p.Hosts[0].Steps[0]; s.Text != "restart the host, and wait for it" || !strings.Contains(s.Because, "linux-image") {
		t.Errorf("the step is %+v", s)
	}
	g.ApplyPlan(0, p.Id)
	g.NothingToDo()
	g.StandsAsDeclared(host)
}

// One thing is brought about without files, on one host and then on many, with the
// same checks and records; what is not kept is stray.
func TestOneThingIsBroughtAbout(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 2, stage.BareKit+"[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\ncontent = { dir = \"content\" }\n")
	g.Trust()
	g.Apply(0)
	a, b := g.Hosts[0], g.Hosts[1]
	bring := func(status int, words ...string) string {
		t.Helper()
		return g.Ns(status, append(append([]string{"bring"}, words...), "--ground", g.Name, "--yes")...)
	}
	has := func(host, script string) bool {
		return strings.TrimSpace(g.On(host, script+" >/dev/null 2>&1 && echo yes || true")) == "yes"
	}
	if out := bring(0, "package", "tree", "--on", a); !strings.Contains(out, "install package tree 2.") || !has(a, "which tree") || has(b, "which tree") {
		t.Errorf("on one host:\n%s", out)
	}
	if row := g.Survey(a)["package/tree"]; row.Standing != plan.Stray || row.Reason != "it was brought about once, and is not declared" {
		t.Errorf("what was not declared is %q: %s", row.Standing, row.Reason)
	}
	bring(0, "package", "tree", "--on", "h*", "--write", g.Dir)
	if !has(b, "which tree") {
		t.Error("not on the other host")
	}
	if row := g.Survey(a)["package/tree"]; row.Standing != plan.Set {
		t.Errorf("what was kept is %q", row.Standing)
	}
	g.NothingToDo()
	bring(0, "package", "tree", "--on", "h*")
	if out := bring(2, "package", "treee", "--on", a); !strings.Contains(out, "there is tree") {
		t.Errorf("a name that is near:\n%s", out)
	}
	// The lists have been read anew by that, and the plan knows it.
	if out := bring(2, "package", "treee", "--on", a); !strings.Contains(out, "there is tree") || strings.Count(out, "can do nothing") != 1 {
		t.Errorf("a plan that is blocked, said once:\n%s", out)
	}
	if out := bring(2, "file", "etc/motd", "--text", "x", "--on", a); !strings.Contains(out, "begin it with /") {
		t.Errorf("it is not linted:\n%s", out)
	}
	bring(0, "file", "/etc/harbour.txt", "--text", "low tide\n", "--mode", "0640", "--on", a)
	if got := g.On(a, "stat -c '%a' /etc/harbour.txt; cat /etc/harbour.txt"); got != "640\nlow tide\n" {
		t.Errorf("the file is %q", got)
	}
	// What sudo would not take in is not put there, and what is not to be there goes when it is named (M11, V16).
	if out := bring(2, "file", "/etc/sudoers.d/tides", "--text", "tides ALL=(ALL NOPASSWD\n", "--mode", "0440", "--on", a); !strings.Contains(out, "sudo does not understand what is declared for /etc/sudoers.d/tides") || has(a, "test -e /etc/sudoers.d/tides") {
		t.Errorf("a mistake for sudo:\n%s", out)
	}
	bring(0, "file", "/etc/sudoers.d/tides", "--text", "Defaults:tides !lecture\n", "--mode", "0440", "--on", a)
	g.On(a, "test -e /etc/sudoers.d/tides && ln -s /etc/harbour.txt /etc/harbour.link")
	bring(0, "file", "/etc/sudoers.d/tides", "--gone", "--on", a)
	bring(0, "file", "/etc/harbour.link", "--gone", "--on", a)
	if has(a, "ls /etc/sudoers.d/tides") || has(a, "ls /etc/harbour.link") || !has(a, "ls /etc/harbour.txt") {
		t.Error("what was named did not go, or something else did")
	}
	if out := bring(2, "file", "/etc/harbour.txt", "--gone", "--text", "x", "--on", a); !strings.Contains(out, "give --gone, or those") {
		t.Errorf("both at once:\n%s", out)
	}
	for _, mode := range []string{"2775", "1777", "0755"} { // M12
		bring(0, "directory", "/srv/shared", "--mode", mode, "--on", a)
		if got := g.On(a, "stat -c %04a /srv/shared"); strings.TrimSpace(got) != mode {
			t.Errorf("a directory of mode %s has %s", mode, got)
		}
	}
	// What nobody can write to is told before anything is done (K11).
	g.On(a, "mkdir -p /srv/fixed/kept; echo x > /srv/fixed/x")
	if err := stage.Lab().ReadOnly(t.Context(), a, "/srv/fixed"); err != nil {
		t.Fatal(err)
	}
	for _, words := range [][]string{{"file", "/srv/fixed/new/y", "--text", "y"}, {"file", "/srv/fixed/x", "--gone"}, {"directory", "/srv/fixed/kept", "--mode", "0700"}, {"link", "/srv/fixed/l", "--points-to", "/srv"}} {
		if out := bring(2, append(words, "--on", a)...); !strings.Contains(out, words[1]+" lies on a file system that is mounted read-only") || strings.Contains(out, "run ") {
			t.Errorf("%v:\n%s", words, out)
		}
	}
	long := strings.Repeat("tides-", 5) + "me" // as long as the system takes (M11)
	if bring(0, "account", long, "--on", a); !has(a, "getent passwd "+long) {
		t.Error("an account of 32 characters is not there")
	}
	if out := bring(2, "directory", "/srv/shared", "--mode", "4755", "--on", a); !strings.Contains(out, "is not a mode of a directory") {
		t.Errorf("a directory that runs as its owner:\n%s", out)
	}
	g.Beside("tides/index.txt", "ebb\n")
	g.Beside("tides/deep/b.txt", "flood\n")
	bring(0, "content", "/srv/tides", "--from", filepath.Join(g.Dir, "tides"), "--on", a)
	if got := g.On(a, "cat /srv/tides/index.txt /srv/tides/deep/b.txt"); got != "ebb\nflood\n" {
		t.Errorf("the content is %q", got)
	}
	bring(0, "package", "cron", "--on", a)
	bring(0, "service", "cron", "--stopped", "--not-at-boot", "--on", a)
	if got := strings.TrimSpace(g.On(a, "systemctl is-active cron; systemctl is-enabled cron || true")); got != "inactive\ndisabled" {
		t.Errorf("the service is %s", got)
	}
	if out := bring(0, "port", "8000-8010/tcp", "--on", a); !strings.Contains(out, "nothing to do") {
		t.Errorf("a port where nothing filters:\n%s", out)
	}
	if row := g.Survey(b)["content/var/www/timetable"]; row.Standing != plan.Set {
		t.Errorf("the declared content is %s", row.Standing)
	}
	// What is brought about can go over what is declared, and the plan says it again.
	g.DeclareText("[kit.base]\ninbound = \"declared\"\nservice = { cron = { running = true } }\npackages = [\"cron\"]\n")
	g.Ns(0, "declare", g.Dir)
	g.Apply(0)
	bring(0, "port", "9443/tcp", "--on", b)
	bring(0, "service", "cron", "--stopped", "--on", b)
	if rules := g.On(b, "nft list table inet northstake; systemctl is-active cron || true"); !strings.Contains(rules, "dport 9443 accept") || !strings.HasSuffix(rules, "inactive\n") {
		t.Errorf("after both were brought about:\n%s", rules)
	}
	g.Apply(0)
	if rules := g.On(b, "nft list table inet northstake; systemctl is-active cron"); strings.Contains(rules, "9443") || !strings.HasSuffix(rules, "\nactive\n") {
		t.Errorf("after what is declared was applied again:\n%s", rules)
	}
}

// relay makes a loopback address of this machine reachable for lab hosts.
func relay(t *testing.T, to string) string {
	t.Helper()
	l, err := net.Listen("tcp", stage.Lab().Here()+":0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				d, err := net.Dial("tcp", to)
				if err != nil {
					return
				}
				defer d.Close()
				go io.Copy(d, c)
				io.Copy(c, d)
			}()
		}
	}()
	return l.Addr().String()
}

// The machine that the service runs on is a host too, without SSH: here the service
// runs on a lab host.
func TestTheServicesOwnMachine(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "")
	ctx, host := context.Background(), g.Hosts[0]
	p, err := lab.OpenPostgres(ctx, stage.Home+"/pg-local")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Stop(ctx) })
	u, err := url.Parse(p.URL())
	if err != nil {
		t.Fatal(err)
	}
	u.Host = relay(t, u.Host)
	for from, to := range map[string]string{"northstaked": "/opt/northstaked", "rods/rod-linux-amd64": "/opt/rods/rod-linux-amd64"} {
		b, err := os.ReadFile(filepath.Join(stage.Root, "bin", from))
		if err != nil {
			t.Fatal(err)
		}
		g.On(host, "mkdir -p /opt/rods")
		if err := stage.Lab().Put(ctx, host, to, b); err != nil {
			t.Fatal(err)
		}
		g.On(host, "chmod 755 "+to)
	}
	g.On(host, fmt.Sprintf("systemd-run --quiet --unit=northstaked --setenv=NORTHSTAKE_DATABASE='%s' --setenv=PATH=/usr/bin:/bin /opt/northstaked --listen 0.0.0.0:7311 --state /var/lib/northstaked --rods /opt/rods", u))
	state := t.TempDir()
	g.Eventually("the service on the host", func() error {
		token, err := stage.Lab().Shell(ctx, host, "cat /var/lib/northstaked/admin.token")
		if err == nil {
			err = os.WriteFile(filepath.Join(state, "admin.token"), []byte(token), 0o600)
		}
		return err
	})
	g.Service = &stage.Service{Address: "http://" + g.Address(host) + ":7311", State: state}
	g.Eventually("an answer", func() error {
		if _, errs, code := g.Run("grounds"); code != 0 {
			return fmt.Errorf("%s", errs)
		}
		return nil
	})
	name := host
	declared := fmt.Sprintf("[ground]\nname = %q\n[host.%s]\nvia = \"service-machine\"\npackages = [\"cron\"]\n[site.timetable]\non = [%q]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n", g.Name, name, name)
	stage.Write(t, filepath.Join(g.Dir, "ground.toml"), declared)
	g.Ns(0, "declare", g.Dir)
	if out := g.Ns(0, "hosts", g.Name); !strings.Contains(out, "the service's machine") || strings.Contains(out, "not trusted") {
		t.Errorf("it is not said which machine that is:\n%s", out)
	}
	if out := g.Ns(1, "plan", g.Name); !strings.Contains(out, "the machine that the service runs on ("+host+")") {
		t.Errorf("the plan does not say which machine that is:\n%s", out)
	}
	g.Apply(0)
	if status, body := g.Fetch(host, "/"); status != 200 || !strings.Contains(body, "Next sailing") {
		t.Errorf("it answers %d: %s", status, body)
	}
	if log := g.On(host, "journalctl -u ssh --no-pager"); strings.Contains(log, "Accepted") {
		t.Errorf("it was reached over SSH:\n%s", log)
	}
	g.NothingToDo()
	g.On(host, "systemctl stop nginx")
	g.Ns(1, "drift", g.Name)
	g.Ns(0, "restore", g.Name, "--yes")
	if out := g.Ns(0, "show", host, "--ground", g.Name); !strings.Contains(out, "it is the machine that the service runs on, "+host) {
		t.Errorf("show does not say which machine it is:\n%s", out)
	}
	if out := g.Ns(2, "declare", func() string {
		stage.Write(t, filepath.Join(g.Dir, "more.toml"), "[host.other]\nvia = \"service-machine\"\n")
		return g.Dir
	}()); !strings.Contains(out, "the service's own machine") {
		t.Errorf("one machine is two hosts:\n%s", out)
	}
}
