package hosts

import (
	"context"
	"fmt"
	"strings"
	"syscall"
	"testing"
	"time"

	"northstake/e2e/stage"
	"northstake/lab"
)

// Whatever a run does to the way in to a host, by whichever kind of stake, is found by a new connection,
// login and root's rights included, and goes again; the host can be reached as before (C0, G2, H9).
func TestTheWayInIsGuarded(t *testing.T) {
	t.Parallel()
	for what, declared := range map[string]string{
		"another port":      "[kit.base]\n[kit.base.file.\"/etc/ssh/sshd_config.d/00-port.conf\"]\ntext = \"Port 2222\\n\"\nrestart = [\"ssh\"]\n",
		"nobody may log in": "[kit.base]\n[kit.base.file.\"/etc/ssh/sshd_config.d/00-users.conf\"]\ntext = \"AllowUsers nobody\\n\"\nreload = [\"ssh\"]\n",
		"nobody, untold":    "[kit.base]\n[kit.base.file.\"/etc/ssh/sshd_config.d/00-users.conf\"]\ntext = \"AllowUsers nobody\\n\"\n", // the SSH server takes it in all the same
		"no sudo":           "[kit.base]\n[kit.base.file.\"/etc/sudoers.d/zz\"]\ntext = \"keeper ALL=(ALL) !ALL\\n\"\nmode = \"0440\"\n",
		"nologin":           "[kit.base]\n[kit.base.file.\"/etc/nologin\"]\ntext = \"closed\\n\"\n",
		"programs shut":     "[kit.base]\n[kit.base.directory.\"/usr/bin\"]\nmode = \"0700\"\n",
		"a service":         "[kit.base.file.\"/etc/systemd/system/tides.service\"]\ntext = \"\"\"\n[Service]\nType=oneshot\nRemainAfterExit=yes\nExecStart=/usr/sbin/nft 'add table inet tides; add chain inet tides in { type filter hook input priority 0; }; add rule inet tides in tcp dport 22 ct state new drop'\nExecStop=/usr/sbin/nft 'delete table inet tides'\n\"\"\"\n[kit.base]\npackages = [\"nftables\"]\nservice = { tides = { running = true } }\n",
		"a home of all":     "[kit.base]\n[kit.base.directory.\"/home/keeper\"]\nowner = \"keeper\"\ngroup = \"keeper\"\nmode = \"0777\"\n",
	} {
		t.Run(strings.ReplaceAll(what, " ", "-"), func(t *testing.T) {
			t.Parallel()
			g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, "# instead of [site.timetable]\n"+declared+"[kit.base.file.\"/srv/notice\"]\ntext = \"x\"\n")
			g.Trust()
			host := g.Hosts[0]
			p := g.Plan(1)
			held := 0
			if what == "a service" { // nobody can tell by its name what it does
				held++
			}
			for _, s := range p.Hosts[0].Steps {
				if s.Confirm {
					held++
				}
			}
			if held == 0 {
				t.Errorf("no step is held: %s", strings.Join(stage.Texts(p), "; "))
			}
			h := g.ApplyPlan(2, p.Id).Hosts[0]
			if h.State != "back" || !strings.Contains(h.Fault.What, "no new connection can be made") {
				t.Errorf("the run is %s: %+v", h.State, h.Fault)
			}
			// Over a new connection, and not the one that is kept.
			if out := g.Ns(1, "plan", g.Name); !strings.Contains(out, "/srv/notice") {
				t.Errorf("the next plan says\n%s", out)
			}
			if got := g.On(host, "ls /srv /etc/nologin /etc/sudoers.d/zz /etc/ssh/sshd_config.d/00-* 2>/dev/null; stat -c %a /usr/bin /home/keeper; systemctl list-units --all --no-legend 'northstake-revert*'"); strings.TrimSpace(got) != "/srv:\n755\n755" && strings.TrimSpace(got) != "/srv:\n755\n700" {
				t.Errorf("left on the host is\n%s", got)
			}
		})
	}
}

// Where a host keeps the keys, and what it asks, elsewhere than others do, what lies there is guarded as
// well; what lies beside it is not.
func TestTheWayInIsAskedOfTheHost(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, "# instead of [site.timetable]\n[kit.base]\n[kit.base.file.\"/srv/keys/keeper\"]\ntext = \"\"\n[kit.base.file.\"/srv/keys/other\"]\ntext = \"\"\n[kit.base.file.\"/srv/closed\"]\ntext = \"keeper\\n\"\n")
	host := g.Hosts[0]
	g.On(host, `mkdir -p /srv/keys && cp /home/keeper/.ssh/authorized_keys /srv/keys/keeper && chmod 644 /srv/keys/keeper && rm -r /home/keeper/.ssh
		echo 'AuthorizedKeysFile /srv/keys/%u' > /etc/ssh/sshd_config.d/01-keys.conf && systemctl restart ssh
		sed -i '1i account required pam_listfile.so item=user sense=deny onerr=succeed file=/srv/closed' /etc/pam.d/sshd`)
	g.Trust()
	p := g.Plan(1)
	held := map[string]bool{}
	for _, s := range p.Hosts[0].Steps {
		if s.Confirm {
			held[s.Address] = true
		}
	}
	if len(held) != 2 || !held[host+"/file/srv/keys/keeper"] || !held[host+"/file/srv/closed"] {
		t.Errorf("held are %v, of %s", held, strings.Join(stage.Texts(p), "; "))
	}
	h := g.ApplyPlan(2, p.Id).Hosts[0]
	if h.State != "back" || !strings.Contains(h.Fault.What, "no new connection can be made") {
		t.Errorf("the run is %s: %+v", h.State, h.Fault)
	}
	if got := strings.TrimSpace(g.On(host, "ls /srv /srv/keys; wc -l < /srv/keys/keeper")); got != "/srv:\nkeys\n\n/srv/keys:\nkeeper\n1" {
		t.Errorf("left on the host is\n%s", got)
	}
	g.On(host, "pkill -f '[s]shd: keeper'")
	g.Plan(1) // over a new connection
}

// What would take the way in away for good is done when it is named, and not before; what is harmless to
// it is confirmed and done.
func TestWhatKeepsTheWayIn(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, "# instead of [site.timetable]\n[kit.base]\npackage = { sudo = { is = \"gone\" } }\n")
	g.Trust()
	host := g.Hosts[0]
	p := g.Plan(1)
	if c := p.Hosts[0].Cautions; len(c) != 1 || !strings.Contains(c[0].What, "takes the way in to this host off for good") {
		t.Errorf("the cautions are %+v", c)
	}
	if out := g.Ns(2, "apply", fmt.Sprint(p.Id), "--ground", g.Name, "--yes"); !strings.Contains(out, "removed by the steps of "+host+"/package/sudo") {
		t.Errorf("unnamed it is answered by\n%s", out)
	}
	if got := g.On(host, "dpkg-query -Wf '${Status}' sudo"); got != "install ok installed" {
		t.Errorf("sudo is %s", got)
	}
	g.DeclareText("# instead of [site.timetable]\n[kit.base]\n[kit.base.file.\"/etc/ssh/sshd_config.d/50-banner.conf\"]\ntext = \"PrintMotd no\\n\"\nreload = [\"ssh\"]\n")
	g.Ns(0, "declare", g.Dir)
	p = g.Plan(1)
	r := g.ApplyPlan(0, p.Id)
	for _, s := range r.Hosts[0].Steps {
		if !strings.Contains(strings.Join(s.Said, " "), "confirmed over a new connection") {
			t.Errorf("%s says %q", s.Text, s.Said)
		}
	}
	g.NothingToDo()
	if got := g.On(host, "systemctl list-units --all --no-legend 'northstake-revert*'; cat /etc/ssh/sshd_config.d/50-banner.conf"); strings.TrimSpace(got) != "PrintMotd no" {
		t.Errorf("there is\n%s", got)
	}
	g.DeclareText("# instead of [site.timetable]\n[kit.base]\npackage = { sudo = { is = \"gone\" } }\n")
	g.Ns(0, "declare", g.Dir)
	g.On(host, "echo root:tide-table | chpasswd") // Debian's sudo does not go while nobody can become root otherwise
	out := g.Ns(0, "apply", fmt.Sprint(g.Plan(1).Id), "--ground", g.Name, "--yes", "--removing", host+"/package/sudo")
	if !strings.Contains(out, "the plan takes the way in off, as was named") || strings.TrimSpace(g.On(host, "command -v sudo || echo gone")) != "gone" {
		t.Errorf("named it is answered by\n%s", out)
	}
}

// A run that has shut the way in, and lost its service before anybody could tell, goes back by itself
// on the host, with what the service took in.
func TestTheWayInComesBackByItself(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, "# instead of [site.timetable]\n[kit.base]\n[kit.base.file.\"/etc/ssh/sshd_config.d/00-port.conf\"]\ntext = \"Port 2222\\n\"\nrestart = [\"ssh\"]\n")
	g.Trust()
	host := g.Hosts[0]
	p := g.Plan(1)
	last := p.Hosts[0].Steps[len(p.Hosts[0].Steps)-1].Number
	g.Hold(host, last, "worked")
	g.StartRun(p.Id)
	g.Reached(host, last, "worked")
	g.On(host, "pkill -KILL -f '[r]od/[0-9a-f]* serve'; rm -f "+stage.HoldFile)
	if stage.Dialable(g.Address(host) + ":22") {
		t.Fatal("the way in is not shut")
	}
	for deadline := time.Now().Add(3 * time.Minute); !stage.Dialable(g.Address(host) + ":22"); time.Sleep(time.Second) {
		if time.Now().After(deadline) {
			t.Fatal("the way in is still shut")
		}
	}
	if got := g.On(host, "ls /etc/ssh/sshd_config.d"); strings.Contains(got, "00-port") {
		t.Errorf("there is %s", got)
	}
}

// A host that goes down while a step on its way in is not confirmed yet takes the step back as it
// boots, before anything starts that would read it; what was confirmed stays.
func TestTheWayInComesBackOverARestart(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, "# instead of [site.timetable]\n[kit.base]\n[kit.base.directory.\"/srv/notices\"]\n[kit.base.file.\"/etc/ssh/sshd_config.d/00-port.conf\"]\ntext = \"Port 2222\\n\"\nrestart = [\"ssh\"]\n")
	g.Trust()
	host := g.Hosts[0]
	for _, boundary := range []string{"begun", "worked", "done"} {
		p := g.Plan(1)
		steps := p.Hosts[0].Steps
		last := steps[len(steps)-1].Number
		if boundary == "begun" { // the file is written, and what is to take it in is not told yet
			if steps[len(steps)-1].Type != "service" {
				t.Fatalf("the steps are %s", strings.Join(stage.Texts(p), "; "))
			}
		}
		g.Hold(host, last, boundary)
		g.StartRun(p.Id)
		g.Reached(host, last, boundary)
		stage.KillHost(g, host) // it waits until SSH answers at its port again
		g.Unhold(host)
		g.Eventually(boundary, func() error {
			got := g.On(host, "ls /srv /etc/nologin /etc/ssh/sshd_config.d/00-port.conf 2>/dev/null; ls /etc/systemd/system /etc/systemd/system/sysinit.target.wants 2>/dev/null | grep northstake; systemctl list-units --no-legend 'northstake-revert*'; ss -Hltn sport = 2222; systemctl --failed --no-legend")
			if strings.TrimSpace(got) != "/srv:" {
				return fmt.Errorf("there is\n%s", got)
			}
			return nil
		})
	}
}

// What shuts the way in only once the run itself has restarted the host goes back as well: the SSH
// server, which has started with it by then, takes in what is back.
func TestTheWayInComesBackAfterTheRunsOwnRestart(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, "# instead of [site.timetable]\n[kit.base]\n")
	dir, url := stage.Served(t)
	gpg, public := stage.SigningKey(t, "Tides <tides@saltmarsh.test>", "never", "")
	stage.Shell(t, dir, "mkdir -p p/DEBIAN p/etc/ssh/sshd_config.d; echo AllowUsers nobody > p/etc/ssh/sshd_config.d/00-users.conf; printf 'Package: network-manager\\nVersion: 99:1\\nArchitecture: all\\nMaintainer: Harbour Office <office@saltmarsh.test>\\nDescription: shuts the way in\\n' > p/DEBIAN/control; dpkg-deb --root-owner-group -b p network-manager_99.deb >/dev/null; rm -r p")
	stage.DebSource(t, dir, gpg, "")
	g.Beside("files/ferries.asc", public)
	source := fmt.Sprintf("[kit.base]\nmay_restart = true\n[kit.base.source.ferries]\nurl = %q\nkey = \"files/ferries.asc\"\n", url)
	g.DeclareText(source)
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	g.On(host, "echo > /run/reboot-required")
	g.DeclareText(source + "[kit.base.package.network-manager]\n")
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(1)
	if list := strings.Join(stage.Texts(p), "; "); !strings.Contains(list, "install package network-manager") || !strings.HasSuffix(list, "restart the host, and wait for it") {
		t.Fatalf("the steps are %s", list)
	}
	h := g.ApplyPlan(2, p.Id).Hosts[0]
	if h.State != "back" || !strings.Contains(h.Fault.What, "nobody got in to the host after its restart") {
		t.Errorf("the run is %s: %+v", h.State, h.Fault)
	}
	if got := g.On(host, "ls /etc/ssh/sshd_config.d/00-users.conf /etc/systemd/system 2>/dev/null | grep 'users\\|northstake'; dpkg-query -W network-manager 2>/dev/null; systemctl list-units --no-legend 'northstake-revert*'; systemctl is-active ssh"); strings.TrimSpace(got) != "active" {
		t.Errorf("left on the host is\n%s", got)
	}
	g.Plan(1)
}

// A host that lets nobody in any more, gives nobody root's rights, or shows another key, is no host that
// is as declared, though a connection of before still stands (H9).
func TestADriftCheckFindsThatNobodyGetsIn(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p, err := lab.OpenPostgres(ctx, stage.Home+"/pg-way-in")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Stop(ctx) })
	s, err := stage.StartService(stage.Home+"/service-way-in", p.URL(), "--keep-connections", "1s")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.End(syscall.SIGTERM) })
	g := stage.NewGroundOf(t, s, []lab.Family{lab.Debian}, "# instead of [site.timetable]\n[kit.base]\n[kit.base.file.\"/srv/notice\"]\ntext = \"x\"\n")
	g.Trust()
	host := g.Hosts[0]
	g.Apply(0)
	g.Ns(0, "drift", g.Name)
	for what, is := range map[string]struct{ done, undone, said string }{
		"nobody may log in": {"echo 'AllowUsers nobody' > /etc/ssh/sshd_config.d/00-x.conf; systemctl reload ssh", "rm /etc/ssh/sshd_config.d/00-x.conf; systemctl reload ssh", "keeper"},
		"nobody is root":    {"echo 'keeper ALL=(ALL) !ALL' > /etc/sudoers.d/zz", "rm /etc/sudoers.d/zz", "sudo"},
		"another key":       {"mkdir /root/keys; mv /etc/ssh/ssh_host_* /root/keys; ssh-keygen -q -A; systemctl restart ssh", "mv /root/keys/* /etc/ssh/; systemctl restart ssh", "key"},
	} {
		g.On(host, is.done)
		time.Sleep(1100 * time.Millisecond)
		if out := g.Ns(2, "drift", g.Name); !strings.Contains(out, is.said) || !strings.Contains(out, "stands, and is all that does") {
			t.Errorf("%s: drift says\n%s", what, out)
		}
		g.On(host, is.undone)
		g.Eventually(what+", and mended", func() error {
			if out, errs, status := g.Run("drift", g.Name); status != 0 || !strings.Contains(out, "nothing has shifted") {
				return fmt.Errorf("drift ends with %d and says\n%s%s", status, out, errs)
			}
			return nil
		})
	}
}
