package hosts

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"northstake/core/plan"
	"northstake/e2e/stage"
)

// One engineer, two real hosts, one site: everything from the declaration to
// the restored host, looked at from outside.
func TestStory(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 2, "")

	// Nothing is sent to a host whose key nobody has trusted.
	g.Ns(0, "declare", g.Dir)
	out := g.Ns(2, "survey", g.Name)
	if !strings.Contains(out, "northstake trust "+g.Hosts[0]) {
		t.Errorf("an unknown host is not explained:\n%s", out)
	}
	if log := g.On(g.Hosts[0], "journalctl -u ssh --no-pager"); strings.Contains(log, "Accepted") {
		t.Errorf("somebody logged in to an unknown host:\n%s", log)
	}
	wrong := "SHA256:" + strings.Repeat("A", 43)
	g.Ns(2, "trust", g.Hosts[0], "--ground", g.Name, "--yes", "--fingerprint", wrong)
	g.Ns(2, "trust", g.Hosts[0], "--ground", g.Name, "--yes")
	if out := g.Ns(2, "trust", g.Hosts[0], "--ground", g.Name); !strings.Contains(out, "--yes --fingerprint SHA256:") { // both options at once (U8)
		t.Errorf("without a terminal trust says\n%s", out)
	}
	g.Trust()

	// A survey and a plan change nothing.
	before := g.On(g.Hosts[0], snapshot)
	g.Ns(1, "survey", g.Name)
	p := g.Plan(1)
	if after := g.On(g.Hosts[0], snapshot); after != before {
		t.Errorf("a survey or plan changed the host:\n%s", stage.Difference(before, after))
	}
	if got := p.Hosts[0].Steps[0].Text; !strings.HasPrefix(got, "install 3 packages: cron 3.0") || !strings.Contains(got, ", nginx 1.") {
		t.Errorf("the first step is %q", got)
	}
	r := g.ApplyPlan(0, p.Id)
	for _, h := range r.Hosts {
		if h.State != "done" || len(h.Probes) != 2 || !h.Probes[0].OK || !h.Probes[1].OK {
			t.Errorf("host %s ended %s with probes %+v", h.Place, h.State, h.Probes)
		}
	}
	g.Ns(2, "apply", fmt.Sprint(p.Id), "--ground", g.Name, "--yes") // a plan runs once

	for _, h := range g.Hosts {
		g.StandsAsDeclared(h)
	}
	g.NothingToDo()
	if out := g.Ns(0, "drift", g.Name); !strings.Contains(out, "nothing has shifted") {
		t.Error(out)
	}
	// All of it is there after a restart.
	for _, h := range g.Hosts {
		g.Restart(h)
	}
	for _, h := range g.Hosts {
		g.StandsAsDeclared(h)
	}
	g.Ns(0, "probe", g.Name)
	g.NothingToDo()

	// New content: the page changes, and what was published and is no longer
	// declared goes, while what somebody else put there stays.
	g.On(g.Hosts[0], "echo theirs > /srv/www/timetable/theirs.txt")
	g.Content("index.html", stage.Page("two"))
	if err := os.Remove(filepath.Join(g.Dir, "content", "linked.html")); err != nil {
		t.Fatal(err)
	}
	g.Content("new/page.html", stage.Page("two"))
	g.Ns(0, "declare", g.Dir)
	g.Apply(0)
	for path, want := range map[string]int{"/": 200, "/linked.html": 404, "/new/page.html": 200, "/theirs.txt": 200} {
		if status, _ := g.Fetch(g.Hosts[0], path); status != want {
			t.Errorf("%s answers %d, want %d", path, status, want)
		}
	}
	if _, body := g.Fetch(g.Hosts[0], "/"); !strings.Contains(body, "version two") {
		t.Errorf("the page is %q", body)
	}
	if row := g.Survey(g.Hosts[0])["content/srv/www/timetable:/srv/www/timetable/theirs.txt"]; row.Standing != plan.Stray {
		t.Errorf("a file that nobody declared is %q", row.Standing)
	}
}

// snapshot prints what a plan must not change.
const snapshot = "find /etc /srv /usr/bin /var/www -type f -newer /etc/hostname 2>/dev/null | sort; ls -laR /etc /srv /root | md5sum; dpkg -l | md5sum; systemctl list-unit-files --no-pager | md5sum"

// Every attribute of every kind of stake, changed by hand with the system's own
// tools, is found as shifted, and put back.
func TestEveryHandEditIsFoundAndPutBack(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "")
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	const (
		index = "/srv/www/timetable/index.html"
		conf  = "/etc/nginx/sites-available/northstake-timetable.conf"
		link  = "/etc/nginx/sites-enabled/northstake-timetable.conf"
		table = "/etc/northstake/firewall.nft"
		unit  = "/etc/systemd/system/northstake-firewall.service"
	)
	g.HandEdits(host, []stage.Edit{
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
		{"site/timetable", "loaded", stage.OtherThanLoaded(conf, "systemctl reload nginx")},
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
	g.StandsAsDeclared(host)
}
