package runs

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"northstake/e2e/stage"
	"northstake/lab"
)

// harbourd is somebody's program, which takes the host's link down when it sees something.
const harbourd = `cat > /usr/local/bin/harbourd <<'X'
#!/bin/sh
while sleep 0.1; do
  if [ -e /etc/harbour ] || [ -e /srv/www/storm/down ] || [ -e /usr/bin/tree ] || grep -q ^storm: /etc/passwd
  then ip link set eth0 down
  else ip link set eth0 up
  fi
done
X
chmod 755 /usr/local/bin/harbourd; systemd-run --quiet --unit=harbourd /usr/local/bin/harbourd`

// A run that cuts the line to its own host, by whatever it declares, is taken back by the host itself
// when nobody has come back for as long as is declared: the service gets in again, and is told (X5).
func TestALineThatARunCutsComesBack(t *testing.T) {
	t.Parallel()
	unit := func(start, stop string) string {
		return fmt.Sprintf("[kit.base.file.\"/etc/systemd/system/tides.service\"]\ntext = '''\n[Service]\nType=oneshot\nRemainAfterExit=yes\nExecStart=/bin/sh -c \"%s\"\nExecStop=/bin/sh -c \"%s\"\n'''\n[kit.base.service]\ntides = { running = true }\n", start, stop)
	}
	ways := map[string]string{
		"a link taken down":   unit("ip link set eth0 down", "ip link set eth0 up"),
		"an address":          unit("ip -o -4 addr show eth0 | tr -s ' ' | cut -d' ' -f4 > /run/tides; ip addr flush dev eth0", "ip addr add $$(cat /run/tides) dev eth0"),
		"a route":             unit("ip route add prohibit "+stage.Lab().Here(), "ip route del prohibit "+stage.Lab().Here()),
		"a filter":            unit("nft 'add table inet tides; add chain inet tides in { type filter hook input priority 0; policy drop; }'", "nft delete table inet tides"),
		"the way in, and all": unit("systemctl stop ssh ssh.socket; pkill sshd", "systemctl start ssh"),
		"a file":              "[kit.base.file.\"/etc/harbour\"]\ntext = \"down\\n\"\n",
		"and a restart":       "[kit.base.file.\"/etc/harbour\"]\ntext = \"down\\n\"\n",
		"a link to a file":    "[kit.base.link.\"/etc/harbour\"]\npoints_to = \"/etc/hostname\"\n",
		"a package":           "[kit.base.package.tree]\nis = \"installed\"\n",
		"an account":          "[kit.base.account.storm]\n",
		"content":             "[kit.base.content.\"/srv/www/storm\"]\ndir = \"content\"\n",
	}
	const calm = "# instead of [site.timetable]\n[kit.base]\npackages = [\"nftables\"]\n[kit.base.file.\"/srv/notice\"]\ntext = \"x\"\n"
	g := stage.NewGroundOf(t, stage.Shared(), slices.Repeat([]lab.Family{lab.Debian}, len(ways)), calm)
	g.Content("down", "storm")
	g.Trust()
	g.Apply(0)
	cut := map[string]string{} // what is done to which host
	text := calm
	for what, declared := range ways {
		host := g.Hosts[len(cut)]
		cut[host] = what
		if !strings.Contains(declared, "/tides.service") {
			g.On(host, harbourd)
		}
		text += "[host." + host + ".reach]\ntaken_back_after = \"30s\"\n" + strings.ReplaceAll(declared, "kit.base", "host."+host)
	}
	g.DeclareText(text)
	g.Ns(0, "declare", g.Dir)
	for _, h := range g.ApplyPlan(2, g.Plan(1).Id).Hosts {
		if h.State != "interrupted" || !strings.Contains(h.Fault.Fix, "where nobody has come back to the run in 30s, the host takes it back by itself") {
			t.Errorf("%s: the host is %s: %+v", cut[h.Place], h.State, h.Fault)
		}
	}
	for host, what := range cut {
		if what == "and a restart" { // it watches over the line from then on again
			g.Restart(host)
		}
	}
	out := ""
	for began, status := time.Now(), 2; status == 2; out, _, status = g.Run("survey", g.Name) {
		if time.Since(began) > 3*time.Minute {
			t.Fatalf("not all hosts are back, of %v: %s", cut, out)
		}
	}
	for host, what := range cut {
		g.Eventually(what, func() error {
			if out := g.Ns(0, "journal", host, "--all", "--ground", g.Name); !strings.Contains(out, "nobody came back in 30s: this host took it back by itself") {
				return fmt.Errorf("the journal says\n%s", out)
			}
			return nil
		})
		g.Eventually(what, func() error { // the watcher ends when all is taken in again
			got := g.On(host, "ls /etc/systemd/system/tides.service /etc/harbour /usr/bin/tree /srv/www/storm /var/lib/northstake/lines 2>/dev/null; ls /etc/systemd/system | grep northstake; systemctl list-units --all --no-legend 'northstake-*'; cat /srv/notice")
			if got != "/var/lib/northstake/lines:\nx" {
				return fmt.Errorf("left on the host is\n%s", got)
			}
			return nil
		})
	}
}

// A run that has ended as done stays so: where the line breaks after its last step, and before the host is
// told that it has ended, the host is told over a new line. Else nobody would have come back to the run, and
// the host would take back in the end what the service has called done.
func TestARunThatIsDoneStaysDone(t *testing.T) {
	t.Parallel()
	declared := func(n int) string {
		return fmt.Sprintf("# instead of [site.timetable]\n[kit.base.file.\"/srv/notice\"]\ntext = \"notice %d\\n\"\n[kit.base.content.\"/srv/www/storm\"]\ndir = \"content\"\n", n)
	}
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, declared(0))
	for i := range 400 { // so that a look takes a moment
		g.Content(fmt.Sprintf("d%d/f%d.html", i%20, i), stage.Page(fmt.Sprint(i)))
	}
	g.Trust()
	g.Apply(0)
	host, broken, last := g.Hosts[0], 0, time.Now()
	for n := 1; n <= 15; n++ {
		g.DeclareText(declared(n) + "[host." + host + ".reach]\ntaken_back_after = \"30s\"\n")
		g.Ns(0, "declare", g.Dir)
		p := g.Plan(1)
		g.On(host, fmt.Sprintf("setsid sh -c 'while ! grep -q \"notice %d\" /srv/notice; do :; done; sleep 0.%03d; pkill -KILL -f \"[r]od/.* serve\"' >/dev/null 2>&1 &", n, n*10))
		run := g.StartRun(p.Id)
		r := g.Ended(run)
		for again := 0; r.State != "done" && again < 3; again++ {
			broken++
			if status, body := g.Post(fmt.Sprintf("/grounds/%s/runs/%d/resume", g.Name, run), "{}"); status != 202 {
				t.Fatalf("round %d: the run is %s, and cannot be carried on with: %s", n, r.State, body)
			}
			r = g.Ended(run)
		}
		last = time.Now()
		if r.State != "done" {
			t.Fatalf("round %d: %+v", n, r)
		}
		for _, h := range r.Hosts {
			for _, note := range h.Notes {
				t.Logf("round %d: %s", n, note)
			}
		}
		if left := g.On(host, "ls /var/lib/northstake/lines; ls /etc/systemd/system | grep northstake-revert || true"); left != "" {
			t.Errorf("round %d: the run is done, and the host watches over its line still:\n%s", n, left)
		}
	}
	t.Logf("%d parts of runs were cut off", broken)
	time.Sleep(time.Until(last.Add(35 * time.Second)))
	if got := g.On(host, "cat /srv/notice"); got != "notice 15\n" {
		t.Errorf("half a minute later the host has %q", got)
	}
}
