package hosts

import (
	"fmt"
	"strings"
	"testing"

	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

// A site's user, who owns a directory above what is declared, gets nothing written, owned or removed
// where only root may: not by a link in place of a directory, put there beforehand or again and again
// while runs go on, and not by one in place of where trees are made ready (B1, B2, B3).
func TestAUserGetsNoFurtherThanTheUserMay(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, stage.BareKit)
	host := g.Hosts[0]
	declared := func(text string) {
		t.Helper()
		g.DeclareText("# instead of [site.timetable]\n[kit.base]\n" + text)
		g.Ns(0, "declare", g.Dir)
	}
	conf := func(owner, text string) string {
		return fmt.Sprintf("[kit.base.file.\"/srv/tides/conf/tables\"]\ntext = %q\nowner = %q\ngroup = %q\n", text, owner, owner)
	}
	g.On(host, "useradd -m -d /srv/tides -s /bin/sh tides; chmod 755 /srv/tides; mkdir /etc/secret.d; echo root > /etc/secret.d/tables; echo backup > /var/backups/www.tar.gz")
	g.Trust()
	clean := func(what string) {
		t.Helper()
		if got := g.On(host, "find /etc/secret.d /var/backups -newer /etc/machine-id -printf '%u %m %p\\n' -o -user tides -print | sort; cat /etc/secret.d/tables /var/backups/www.tar.gz; ls /etc/secret.d"); strings.Contains(got, "tides ") || !strings.Contains(got, "root\nbackup\n") || !strings.HasSuffix(strings.TrimSpace(got), "backup\ntables") {
			t.Errorf("%s: there is\n%s", what, got)
		}
	}

	// Root's file below the user's directory is refused in the plan, by name.
	declared(conf("root", "* * * * * root id"))
	p := g.Plan(2)
	if b := p.Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, "tides can change /srv/tides, and so what lies at /srv/tides/conf/tables") {
		t.Errorf("the blockers are %+v", b)
	}
	// So it is below a directory of root's that an access list lets the user write to (X2).
	g.On(host, "mkdir -p /srv/shared/conf; setfacl -m u:tides:rwx /srv/shared")
	declared(strings.ReplaceAll(conf("root", "* * * * * root id"), "/srv/tides", "/srv/shared"))
	if b := g.Plan(2).Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, "tides can change /srv/shared, and so what lies at /srv/shared/conf/tables") {
		t.Errorf("below an access list the blockers are %+v", b)
	}
	// The user's own is brought about with the user's rights.
	declared(conf("tides", "low"))
	g.Apply(0)
	if got := g.On(host, "stat -c '%U %G %a' /srv/tides/conf /srv/tides/conf/tables; cat /srv/tides/conf/tables"); got != "tides tides 755\ntides tides 644\nlow" {
		t.Errorf("of the user's own there is\n%s", got)
	}
	g.NothingToDo()
	// A link in place of the directory leads where the user gets, and no further.
	g.On(host, "su tides -c 'rm -r ~/conf; ln -s /etc/secret.d ~/conf'")
	declared(conf("tides", "high"))
	if h := g.ApplyPlan(2, g.Plan(1).Id).Hosts[0]; !strings.Contains(h.Fault.What, "permission denied") {
		t.Errorf("through a link the run is %s: %+v", h.State, h.Fault)
	}
	clean("through a link")
	// Again and again, while runs go on.
	g.On(host, "cat > /usr/local/bin/swap <<'X'\n#!/bin/sh\ncd /srv/tides\nwhile [ -e /srv/tides/go ]; do rm -rf conf; mkdir conf; rm -rf conf; ln -s /etc/secret.d conf; done\nX\nchmod 755 /usr/local/bin/swap; su tides -c 'touch ~/go; setsid /usr/local/bin/swap >/dev/null 2>&1 &'")
	for i := range 8 {
		declared(conf("tides", fmt.Sprint("tide ", i)))
		applyAnyhow(g)
	}
	g.On(host, "rm -f /srv/tides/go; while pgrep -u tides; do sleep 0.1; done")
	clean("while it is swapped")
	// None of it holds up what is declared next: what could not be put back is kept, and said.
	g.On(host, "su tides -c 'rm -rf ~/conf'")
	declared(conf("tides", "calm"))
	g.Apply(0)

	// Where trees are made ready, made beforehand as a link.
	g.On(host, "su tides -c 'ln -s /var/backups ~/.northstake'")
	declared("[kit.base.content.\"/srv/tides/www\"]\ndir = \"content\"\nowner = \"tides\"\ngroup = \"tides\"\n")
	if h := g.ApplyPlan(2, g.Plan(1).Id).Hosts[0]; !strings.Contains(h.Fault.What, "/srv/tides/.northstake is there already, and is not a directory of North Stake's own") {
		t.Errorf("with a link for its stages the run is %s: %+v", h.State, h.Fault)
	}
	clean("with a link for its stages")
	// The user's own tree is published by the user's rights, and so are the next ones while its
	// directories are swapped.
	g.On(host, "su tides -c 'rm ~/.northstake'")
	page := func(i int) string {
		g.Content("deep/tables", fmt.Sprintln("page", i))
		g.Content("index.html", fmt.Sprintln("index", i))
		declared("[kit.base.content.\"/srv/tides/www\"]\ndir = \"content\"\nowner = \"tides\"\ngroup = \"tides\"\n")
		return fmt.Sprint(i)
	}
	page(0)
	g.Apply(0)
	if got := g.On(host, "stat -c '%U %G %a %n' /srv/tides/www /srv/tides/www/deep/tables /srv/tides/.northstake; cat /srv/tides/www/deep/tables"); !strings.HasPrefix(got, "tides tides 755 /srv/tides/www\ntides tides 644 /srv/tides/www/deep/tables\n") || !strings.HasSuffix(strings.TrimSpace(got), "page 0") {
		t.Errorf("of the user's own tree there is\n%s", got)
	}
	g.NothingToDo()
	g.On(host, "cat > /usr/local/bin/swap <<'X'\n#!/bin/sh\ncd /srv/tides\nwhile [ -e /srv/tides/go ]; do mv www/deep x; ln -s /etc/secret.d www/deep; rm -f www/deep; mv x www/deep; mv www y; ln -s /etc/secret.d www; rm -f www; mv y www; done\nX\nsu tides -c 'touch ~/go; setsid /usr/local/bin/swap >/dev/null 2>&1 &'")
	for i := range 8 {
		page(i + 1)
		applyAnyhow(g)
	}
	g.On(host, "rm -f /srv/tides/go; while pgrep -u tides; do sleep 0.1; done; su tides -c 'rm -rf ~/www ~/x ~/y'")
	clean("while its tree is swapped")
	page(9)
	g.Apply(0)
	if got := g.On(host, "cat /srv/tides/www/deep/tables"); strings.TrimSpace(got) != "page 9" {
		t.Errorf("in the end there is %q", got)
	}
	declared("[kit.base.content.\"/srv/tides/www\"]\ndir = \"content\"\n")
	if b := g.Plan(2).Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, "tides can change /srv/tides") {
		t.Errorf("root's content below the user's directory: %+v", b)
	}
}

// applyAnyhow plans and applies where somebody is in the way: what is swapped may be unread by then, and
// the run may fail.
func applyAnyhow(g *stage.Ground) {
	g.T.Helper()
	out, _, _ := g.Run("plan", g.Name, "--json")
	var p contract.Plan
	stage.Decode(g.T, out, &p)
	if len(p.Hosts[0].Steps) > 0 {
		g.Run("apply", fmt.Sprint(p.Id), "--ground", g.Name, "--yes")
	}
}
