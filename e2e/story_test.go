package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"northstake/core/plan"
	"northstake/service/contract"
)

// One engineer, two real hosts, one site: everything from the declaration to
// the restored host, looked at from outside.
func TestStory(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 2, "")

	// Nothing is sent to a host whose key nobody has trusted.
	g.ns(0, "declare", g.dir)
	out := g.ns(2, "survey", g.name)
	if !strings.Contains(out, "northstake trust "+g.hosts[0]) {
		t.Errorf("an unknown host is not explained:\n%s", out)
	}
	if log := g.on(g.hosts[0], "journalctl -u ssh --no-pager"); strings.Contains(log, "Accepted") {
		t.Errorf("somebody logged in to an unknown host:\n%s", log)
	}
	wrong := "SHA256:" + strings.Repeat("A", 43)
	g.ns(2, "trust", g.hosts[0], "--ground", g.name, "--yes", "--fingerprint", wrong)
	g.ns(2, "trust", g.hosts[0], "--ground", g.name, "--yes")
	if out := g.ns(2, "trust", g.hosts[0], "--ground", g.name); !strings.Contains(out, "--yes --fingerprint SHA256:") { // both options at once (U8)
		t.Errorf("without a terminal trust says\n%s", out)
	}
	g.trust()

	// A survey and a plan change nothing.
	before := g.on(g.hosts[0], snapshot)
	g.ns(1, "survey", g.name)
	p := g.plan(1)
	if after := g.on(g.hosts[0], snapshot); after != before {
		t.Errorf("a survey or plan changed the host:\n%s", difference(before, after))
	}
	if got := p.Hosts[0].Steps[0].Text; !strings.HasPrefix(got, "install 3 packages: cron 3.0") || !strings.Contains(got, ", nginx 1.") {
		t.Errorf("the first step is %q", got)
	}
	r := g.applyPlan(0, p.Id)
	for _, h := range r.Hosts {
		if h.State != "done" || len(h.Probes) != 2 || !h.Probes[0].OK || !h.Probes[1].OK {
			t.Errorf("host %s ended %s with probes %+v", h.Place, h.State, h.Probes)
		}
	}
	g.ns(2, "apply", fmt.Sprint(p.Id), "--ground", g.name, "--yes") // a plan runs once

	for _, h := range g.hosts {
		g.standsAsDeclared(h)
	}
	g.nothingToDo()
	if out := g.ns(0, "drift", g.name); !strings.Contains(out, "nothing has shifted") {
		t.Error(out)
	}
	// All of it is there after a restart.
	for _, h := range g.hosts {
		g.restart(h)
	}
	for _, h := range g.hosts {
		g.standsAsDeclared(h)
	}
	g.ns(0, "probe", g.name)
	g.nothingToDo()

	// New content: the page changes, and what was published and is no longer
	// declared goes, while what somebody else put there stays.
	g.on(g.hosts[0], "echo theirs > /srv/www/timetable/theirs.txt")
	g.content("index.html", page("two"))
	if err := os.Remove(filepath.Join(g.dir, "content", "linked.html")); err != nil {
		t.Fatal(err)
	}
	g.content("new/page.html", page("two"))
	g.ns(0, "declare", g.dir)
	g.apply(0)
	for path, want := range map[string]int{"/": 200, "/linked.html": 404, "/new/page.html": 200, "/theirs.txt": 200} {
		if status, _ := g.fetch(g.hosts[0], path); status != want {
			t.Errorf("%s answers %d, want %d", path, status, want)
		}
	}
	if _, body := g.fetch(g.hosts[0], "/"); !strings.Contains(body, "version two") {
		t.Errorf("the page is %q", body)
	}
	if row := g.survey(g.hosts[0])["content/srv/www/timetable:/srv/www/timetable/theirs.txt"]; row.Standing != plan.Stray {
		t.Errorf("a file that nobody declared is %q", row.Standing)
	}
}

// snapshot prints what a plan must not change.
const snapshot = "find /etc /srv /usr/bin /var/www -type f -newer /etc/hostname 2>/dev/null | sort; ls -laR /etc /srv /root | md5sum; dpkg -l | md5sum; systemctl list-unit-files --no-pager | md5sum"

func difference(a, b string) string { return "before:\n" + a + "\nafter:\n" + b }

// standsAsDeclared looks at a host where a user would look.
func (g *ground) standsAsDeclared(host string) {
	g.t.Helper()
	g.eventually("the site on "+host, func() error {
		status, body, err := get("http://"+g.address(host)+"/", "timetable.saltmarsh.test")
		if err == nil && (status != 200 || !strings.Contains(body, "Next sailing")) {
			err = fmt.Errorf("it answers %d: %s", status, body)
		}
		return err
	})
	for script, want := range map[string]string{
		"systemctl is-enabled nginx cron northstake-firewall":         "enabled\nenabled\nenabled",
		"systemctl is-active nginx cron":                              "active\nactive",
		"ss -Hltn sport = :80 | wc -l":                                "2",
		"nft list table inet northstake | grep -c 'tcp dport'":        "2",
		"readlink /etc/nginx/sites-enabled/northstake-timetable.conf": "/etc/nginx/sites-available/northstake-timetable.conf",
		"stat -c '%U:%G %a' /srv/www/timetable/index.html":            "root:root 644",
		"dpkg --audit": "",
	} {
		if got := strings.TrimSpace(g.on(host, script)); got != want {
			g.t.Errorf("on %s, %s says %q, want %q", host, script, got, want)
		}
	}
	// A port that is not declared is dropped: from outside nothing answers.
	g.on(host, "systemd-run --quiet --collect --unit=other perl -MIO::Socket::INET -e 'my $s=IO::Socket::INET->new(LocalPort=>8099,Listen=>5,ReuseAddr=>1); while(my $c=$s->accept){print $c qq(HTTP/1.0 200 OK\\r\\n\\r\\n);close $c}'; until ss -ltn | grep -q ':8099 '; do sleep 0.02; done; curl -s -o /dev/null -m 2 http://127.0.0.1:8099/ || true")
	if out, err := labs.Shell(context.Background(), host, "systemctl is-active other"); err == nil && strings.TrimSpace(out) == "active" {
		if dialable(g.address(host) + ":8099") {
			g.t.Errorf("port 8099 of %s, which nobody declared, can be reached", host)
		}
	}
	g.on(host, "systemctl stop other")
}

// Every attribute of every kind of stake, changed by hand with the system's own
// tools, is found as shifted, and put back.
func TestEveryHandEditIsFoundAndPutBack(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, "")
	g.trust()
	g.apply(0)
	host := g.hosts[0]
	const (
		index = "/srv/www/timetable/index.html"
		conf  = "/etc/nginx/sites-available/northstake-timetable.conf"
		link  = "/etc/nginx/sites-enabled/northstake-timetable.conf"
		table = "/etc/northstake/firewall.nft"
		unit  = "/etc/systemd/system/northstake-firewall.service"
	)
	g.handEdits(host, []edit{
		{"package/cron", "state", "apt-get remove -y cron"},
		{"service/cron", "running", "systemctl stop cron"},
		{"service/cron", "at boot", "systemctl disable cron"},
		{"service/cron", "masked", "systemctl stop cron; systemctl mask cron"},
		{"service/cron", "drop-in", "mkdir -p /etc/systemd/system/cron.service.d; printf '[Service]\\nNice=5\\n' > /etc/systemd/system/cron.service.d/nice.conf; systemctl daemon-reload"},
		{"service/nginx", "running", "systemctl kill -s KILL nginx; while systemctl is-active -q nginx; do sleep 0.02; done"},
		{"directory/srv/www/quay", "what it is", "rmdir /srv/www/quay"},
		{"directory/srv/www/quay", "what it is", "rmdir /srv/www/quay; ln -s /tmp /srv/www/quay"},
		{"directory/srv/www/quay", "owner", "chown keeper /srv/www/quay"},
		{"directory/srv/www/quay", "group", "chgrp keeper /srv/www/quay"},
		{"directory/srv/www/quay", "mode", "chmod 700 /srv/www/quay"},
		{"content/srv/www/timetable", "file index.html", "rm " + index},
		{"content/srv/www/timetable", "size of index.html", "echo more >> " + index},
		{"content/srv/www/timetable", "text of index.html", "cp -p " + index + " /tmp/i; sed -i s/one/two/ " + index + "; touch -r /tmp/i " + index},
		{"content/srv/www/timetable", "owner of index.html", "chown keeper " + index},
		{"content/srv/www/timetable", "group of index.html", "chgrp keeper " + index},
		{"content/srv/www/timetable", "mode of index.html", "chmod 600 " + index},
		{"content/srv/www/timetable", "what it is of index.html", "cp " + index + " /tmp/other; ln -sf /tmp/other " + index},
		{"content/srv/www/timetable", "mode", "chmod 700 /srv/www/timetable"},
		{"content/srv/www/timetable", "owner", "chown keeper /srv/www/timetable"},
		{"content/srv/www/timetable", "what it is", "mv /srv/www/timetable /srv/www/elsewhere; ln -s /srv/www/elsewhere /srv/www/timetable"},
		{"site/timetable", "configuration", "sed -i 's/index .*/index other.html;/' " + conf},
		{"site/timetable", "owner", "chown keeper " + conf},
		{"site/timetable", "group", "chgrp keeper " + conf},
		{"site/timetable", "mode", "chmod 600 " + conf},
		{"site/timetable", "what it is", "mv " + conf + " /tmp/c; ln -s /tmp/c " + conf},
		{"site/timetable", "switched on", "rm " + link},
		{"site/timetable", "switched on", "rm " + link + "; cp " + conf + " " + link},
		{"site/timetable", "loaded", otherThanLoaded(conf, "systemctl reload nginx")},
		{"firewall/inbound", "lets in now", "nft add rule inet northstake input tcp dport 8099 accept"},
		{"firewall/inbound", "rules now", "nft delete table inet northstake"},
		{"firewall/inbound", "rules now", "nft 'add chain inet northstake input { policy accept; }'"},
		{"firewall/inbound", "kept rules", "sed -i '/dport 80/d' " + table},
		{"firewall/inbound", "kept rules", "rm " + table},
		{"firewall/inbound", "mode", "chmod 600 " + table},
		{"firewall/inbound", "unit", "echo '# mine' >> " + unit},
		{"firewall/inbound", "at boot", "systemctl disable northstake-firewall"},
		{"port/80-tcp", "open now", "nft delete rule inet northstake input handle $(nft -a list table inet northstake | grep 'dport 80 ' | grep -o '[0-9]*$')"},
		{"port/80-tcp", "open after a restart", "sed -i '/dport 80/d' " + table},
	})
	g.standsAsDeclared(host)
}

// edit is a change by hand, and what of which stake is then found to differ.
type edit struct{ stake, attribute, script string }

// handEdits makes each change on the host; each has to be found as shifted, named
// by the drift check, and put back, and the next plan has to be empty.
func (g *ground) handEdits(host string, edits []edit) {
	outer := g.t
	defer func() { g.t = outer }()
	for _, c := range edits {
		outer.(*testing.T).Run(c.stake+" "+c.attribute, func(t *testing.T) {
			g.t = t
			g.on(host, c.script)
			row, ok := g.survey(host)[c.stake]
			if !ok || row.Standing != plan.Shifted {
				t.Fatalf("after %q the stake is %q: %+v", c.script, row.Standing, row)
			}
			found := false
			for _, d := range row.Differences {
				found = found || strings.HasPrefix(d.Attribute, c.attribute)
			}
			if !found {
				t.Errorf("after %q no difference is in %q: %+v", c.script, c.attribute, row.Differences)
			}
			if row.ShiftedAt.IsZero() {
				t.Error("it is not said since when")
			}
			out := g.ns(1, "drift", g.name)
			if !strings.Contains(out, host+"/"+c.stake) {
				t.Errorf("drift does not name it:\n%s", out)
			}
			var r contract.Run
			out, errs, code := g.run("restore", g.name, "--yes", "--json")
			if code != 0 {
				t.Fatalf("restore exited with %d: %s%s", code, out, errs)
			}
			decode(t, out, &r)
			if row := g.survey(host)[c.stake]; row.Standing != plan.Set {
				t.Errorf("after the restore it is %s: %+v", row.Standing, row.Differences)
			}
			g.nothingToDo()
		})
	}
}
