package e2e

import (
	"fmt"
	"strings"
	"testing"

	"northstake/lab"
)

// A site's user, who owns a directory above what is declared, gets nothing written, owned or removed
// where only root may: not by a link in place of a directory, put there beforehand or again and again
// while runs go on, and not by one in place of where trees are made ready (B1, B2, B3).
func TestAUserGetsNoFurtherThanTheUserMay(t *testing.T) {
	t.Parallel()
	g := newGroundOf(t, shared, []lab.Family{lab.Debian}, bareKit)
	host := g.hosts[0]
	declared := func(text string) {
		t.Helper()
		g.declareText("# instead of [site.timetable]\n[kit.base]\n" + text)
		g.ns(0, "declare", g.dir)
	}
	conf := func(owner, text string) string {
		return fmt.Sprintf("[kit.base.file.\"/srv/tides/conf/tables\"]\ntext = %q\nowner = %q\ngroup = %q\n", text, owner, owner)
	}
	g.on(host, "useradd -m -d /srv/tides -s /bin/sh tides; chmod 755 /srv/tides; mkdir /etc/secret.d; echo root > /etc/secret.d/tables; echo backup > /var/backups/www.tar.gz")
	g.trust()
	clean := func(what string) {
		t.Helper()
		if got := g.on(host, "find /etc/secret.d /var/backups -newer /etc/machine-id -printf '%u %m %p\\n' -o -user tides -print | sort; cat /etc/secret.d/tables /var/backups/www.tar.gz; ls /etc/secret.d"); strings.Contains(got, "tides ") || !strings.Contains(got, "root\nbackup\n") || !strings.HasSuffix(strings.TrimSpace(got), "backup\ntables") {
			t.Errorf("%s: there is\n%s", what, got)
		}
	}

	// Root's file below the user's directory is refused in the plan, by name.
	declared(conf("root", "* * * * * root id"))
	p := g.plan(2)
	if b := p.Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, "tides can change /srv/tides, and so what lies at /srv/tides/conf/tables") {
		t.Errorf("the blockers are %+v", b)
	}
	// The user's own is brought about with the user's rights.
	declared(conf("tides", "low"))
	g.apply(0)
	if got := g.on(host, "stat -c '%U %G %a' /srv/tides/conf /srv/tides/conf/tables; cat /srv/tides/conf/tables"); got != "tides tides 755\ntides tides 644\nlow" {
		t.Errorf("of the user's own there is\n%s", got)
	}
	g.nothingToDo()
	// A link in place of the directory leads where the user gets, and no further.
	g.on(host, "su tides -c 'rm -r ~/conf; ln -s /etc/secret.d ~/conf'")
	declared(conf("tides", "high"))
	if h := g.applyPlan(2, g.plan(1).Id).Hosts[0]; !strings.Contains(h.Fault.What, "permission denied") {
		t.Errorf("through a link the run is %s: %+v", h.State, h.Fault)
	}
	clean("through a link")
	// Again and again, while runs go on.
	g.on(host, "cat > /usr/local/bin/swap <<'X'\n#!/bin/sh\ncd /srv/tides\nwhile [ -e /srv/tides/go ]; do rm -rf conf; mkdir conf; rm -rf conf; ln -s /etc/secret.d conf; done\nX\nchmod 755 /usr/local/bin/swap; su tides -c 'touch ~/go; setsid /usr/local/bin/swap >/dev/null 2>&1 &'")
	for i := range 8 {
		declared(conf("tides", fmt.Sprint("tide ", i)))
		if p := g.plan(1); len(p.Hosts[0].Steps) > 0 {
			g.run("apply", fmt.Sprint(p.Id), "--ground", g.name, "--yes")
		}
	}
	g.on(host, "rm -f /srv/tides/go")
	clean("while it is swapped")
	g.on(host, "su tides -c 'rm -rf ~/conf'")

	// Where trees are made ready, made beforehand as a link.
	g.on(host, "su tides -c 'ln -s /var/backups ~/.northstake'")
	declared("[kit.base.content.\"/srv/tides/www\"]\ndir = \"content\"\nowner = \"tides\"\ngroup = \"tides\"\n")
	if h := g.applyPlan(2, g.plan(1).Id).Hosts[0]; !strings.Contains(h.Fault.What, "/srv/tides/.northstake is there already, and is not a directory of North Stake's own") {
		t.Errorf("with a link for its stages the run is %s: %+v", h.State, h.Fault)
	}
	clean("with a link for its stages")
	declared("[kit.base.content.\"/srv/tides/www\"]\ndir = \"content\"\n")
	if b := g.plan(2).Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, "tides can change /srv/tides") {
		t.Errorf("root's content below the user's directory: %+v", b)
	}
}
