package runs

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

// formerly declares much on every host.
const formerly = `
[kit.base]
package.cron = { names = { redhat = "cronie" } }
account.harbour = {}
directory."/etc/harbour" = {}
file."/etc/harbour/tide.conf" = { text = "tide = ebb\n" }
file."/etc/profile" = { portion = "tides", text = "TIDE=ebb\n" }
link."/etc/harbour/now" = { points_to = "tide.conf" }
content."/srv/leaflets" = { dir = "content" }
ports = ["8000/tcp"]
[kit.base.service]
cron = { running = true, at_boot = true, names = { redhat = "crond" } }
[site.ebb]
on = ["h*"]
server = "httpd"
names = ["ebb.saltmarsh.test"]
listen = [8081]
content = { dir = "content" }
`

// What is not declared any more stays and is said, until it is cleared; then it goes, each
// thing whole, and nothing of anybody else's. Content and accounts go when they are named.
func TestWhatIsNoLongerDeclaredIsCleared(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian, lab.RedHat}, stage.BareKit)
	g.DeclareText("# instead of [site.timetable]\n" + formerly)
	g.Trust()
	for _, h := range g.Hosts {
		g.On(h, "mkdir -p /srv/leaflets; echo theirs > /srv/leaflets/theirs; chmod 0640 /srv/leaflets/theirs")
	}
	look := func(h string) string {
		t.Helper()
		return g.On(h, `cd /; find srv/leaflets -type f -printf '%p %m %u %T@\n' | sort; stat -c "%a %U" etc/profile; sha256sum etc/profile; (dpkg-query -W -f '${Package} ${Status}\n' 2>/dev/null || rpm -qa) | grep -E '^(apache2|httpd|cron|cronie)[ -]' | grep -v -e deinstall -e config-files || true
			getent passwd harbour || true; ls -d etc/harbour 2>/dev/null || true; find etc/nginx etc/apache2 etc/httpd -name '*northstake-ebb*' 2>/dev/null || true; ss -Hltn sport = :8081; systemctl is-active apache2 httpd cron crond || true`)
	}
	before := map[string]string{}
	for _, h := range g.Hosts {
		before[h] = look(h)
	}
	g.Apply(0)
	g.NothingToDo()
	for _, h := range g.Hosts {
		if status, _, err := stage.Get("http://"+g.Address(h)+":8081/", "ebb.saltmarsh.test"); err != nil || status != 200 {
			t.Fatalf("%s answers %d, %v", h, status, err)
		}
		g.On(h, "echo later > /srv/leaflets/later")
	}

	g.DeclareText("# instead of [site.timetable]\n" + stage.BareKit)
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(0)
	for _, h := range p.Hosts {
		if len(h.Cautions) == 0 || !strings.Contains(h.Cautions[0].What, "not declared now, and still there") || !strings.Contains(h.Cautions[0].Fix, "northstake plan --clear") {
			t.Errorf("%s: the plan begins with %+v", h.Name, h.Cautions)
		}
	}
	p = g.Plan(1, "--clear")
	for _, h := range p.Hosts {
		for _, s := range h.Steps {
			if s.Type == "content" || s.Type == "account" {
				t.Errorf("%s: %s, and it was not named", h.Name, s.Text)
			}
		}
	}
	g.ApplyPlan(0, p.Id)
	var removing []string
	for _, h := range g.Hosts {
		removing = append(removing, h+"/content/srv/leaflets", h+"/account/harbour", h+"/content"+rootOf(g, h, "ebb"))
	}
	p = g.Plan(1, "--clear", "--removing", strings.Join(removing, ","))
	_, errs, status := g.Run("apply", fmt.Sprint(p.Id), "--ground", g.Name, "--yes")
	if status != 2 || !strings.Contains(errs, "--removing") {
		t.Errorf("unconfirmed it ended with %d: %s", status, errs)
	}
	g.Ns(0, "apply", fmt.Sprint(p.Id), "--ground", g.Name, "--yes", "--removing", strings.Join(removing, ","))
	for _, h := range g.Hosts {
		g.On(h, "rm /srv/leaflets/later") // theirs, and there
		if after := look(h); after != before[h] {
			t.Errorf("%s is\n%s\nand was before all\n%s", h, after, before[h])
		}
		if left := g.On(h, "ls -d /srv/.northstake /srv/www/.northstake /var/www/.northstake 2>/dev/null || true"); left != "" {
			t.Errorf("%s keeps %s", h, left)
		}
		for name, row := range g.Survey(h) {
			if row.Standing == "stray" && !strings.Contains(name, "nftables") && !strings.Contains(name, "firewall") {
				t.Errorf("%s is still there: %s", name, row.Reason)
			}
		}
	}
	for _, h := range g.Plan(0).Hosts {
		for _, c := range h.Cautions {
			if strings.Contains(c.What, "not declared any more") {
				t.Errorf("after all that the plan of %s says: %s", h.Name, c.What)
			}
		}
	}
}

// rootOf is where a site's content lies on a host where the declaration does not say.
func rootOf(g *stage.Ground, host, site string) string {
	g.T.Helper()
	for _, base := range []string{"/srv/www", "/var/www"} {
		if strings.TrimSpace(g.On(host, "ls -d "+base+"/"+site+" 2>/dev/null || true")) != "" {
			return base + "/" + site
		}
	}
	g.T.Fatalf("%s has no root of site %s", host, site)
	return ""
}

// What is taken away is cut off at every boundary of a step of every kind, and goes on until
// nothing of it is left.
func TestTakingAwayKilledAtEveryBoundary(t *testing.T) {
	t.Parallel()
	for name, kill := range map[string]func(*stage.Ground, string){"rod": stage.KillRod, "host": stage.KillHost} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			g := withEveryKind(t, stage.Shared())
			host := g.Hosts[0]
			g.Apply(0)
			g.DeclareText("# instead of [site.timetable]\n" + stage.BareKit)
			g.Ns(0, "declare", g.Dir)
			removing := strings.Join([]string{host + "/content/srv/leaflets", host + "/account/harbour", host + "/content/srv/www/timetable"}, ",")
			p := g.Plan(1, "--clear", "--removing", removing)
			// What nginx brings of its own goes with its package, in no step of its own.
			kinds := slices.DeleteFunc(rehearsed(), func(k string) bool { return k == "server" })
			g.Killed(p, kinds, func(contract.Step) bool { return false }, stage.Boundaries, kill, stage.ResumeByHand)
			left := g.On(host, `ls -d /srv/leaflets /srv/harbour /srv/now /srv/www/timetable /etc/harbour/tide.conf /srv/.northstake /srv/www/.northstake /etc/apt/sources.list.d/*ferries* 2>/dev/null || true
				dpkg-query -W -f '${Package} ${db:Status-Abbrev}\n' nginx cron | grep ' ii' || true; getent passwd harbour || true; find /etc/nginx -name '*northstake*'; ls /var/lib/northstake/candidate 2>/dev/null || true`)
			if strings.TrimSpace(left) != "" {
				t.Errorf("left: %s", left)
			}
			g.NothingToDo()
		})
	}
}

// A site, a host and a ground are retired whole, though they are declared still, with a look
// that says what is left; and the record of what is gone is forgotten, and of nothing else.
func TestRetiring(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 2, stage.BareKit)
	ebb := "[site.ebb]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"ebb.saltmarsh.test\"]\nlisten = [8081]\nroot = \"/srv/www/ebb\"\ncontent = { dir = \"content\" }\n"
	g.DeclareText(stage.BareKit + ebb)
	g.Trust()
	g.Apply(0)
	answers := func(host, site string) int {
		status, _, err := stage.Get("http://"+g.Address(host)+map[string]string{"timetable": "/", "ebb": ":8081/"}[site], site+".saltmarsh.test")
		if err != nil {
			return 0
		}
		return status
	}
	first, second := g.Hosts[0], g.Hosts[1]
	removing := first + "/content/srv/www/ebb," + second + "/content/srv/www/ebb"

	out := g.Ns(0, "retire", "ebb", "--ground", g.Name, "--yes", "--removing", removing)
	for _, says := range []string{"site ebb is declared still", "nothing that runs made here is left of site ebb"} {
		if !strings.Contains(out, says) {
			t.Errorf("retiring a site does not say %q:\n%s", says, out)
		}
	}
	for _, h := range g.Hosts {
		if e, o := answers(h, "ebb"), answers(h, "timetable"); e != 0 || o != 200 {
			t.Errorf("%s answers for ebb with %d, for the other site with %d", h, e, o)
		}
		if left := g.On(h, "ls -d /srv/www/ebb 2>/dev/null || true; find /etc -name '*northstake-ebb*'"); left != "" {
			t.Errorf("%s has still %s", h, left)
		}
	}
	if p := g.Plan(1); p.Steps == 0 {
		t.Error("it is declared, and the next plan does not bring it back")
	}
	if out, errs, code := g.Run("retire", "ebbb", "--ground", g.Name, "--yes"); code != 2 || !strings.Contains(errs, `did you mean "ebb"?`) {
		t.Errorf("a site that never was: %d, %s%s", code, out, errs)
	}

	// A host, with all that is on it. The other keeps what it has.
	g.DeclareText(stage.BareKit)
	g.Ns(0, "declare", g.Dir)
	out = g.Ns(0, "retire", second, "--ground", g.Name, "--yes", "--removing", second+"/content/srv/www/timetable")
	if !strings.Contains(out, "nothing that runs made here is left of host "+second) {
		t.Errorf("retiring a host:\n%s", out)
	}
	if a, b := answers(first, "timetable"), answers(second, "timetable"); a != 200 || b != 0 {
		t.Errorf("the site answers on the host that stays with %d, on the other with %d", a, b)
	}
	if left := g.On(second, "ls -A /srv/www 2>/dev/null || true; dpkg-query -W -f '${Package} ${db:Status-Abbrev}\n' | grep '^nginx.* ii' || true; getent passwd harbour || true"); left != "" {
		t.Errorf("%s has still %s", second, left)
	}
	if _, errs, code := g.Run("forget", g.Name, second); code != 2 || !strings.Contains(errs, "host "+second+" is declared") {
		t.Errorf("a declared host is forgotten with %d: %s", code, errs)
	}
	g.Hosts = g.Hosts[:1]
	g.DeclareText(stage.BareKit)
	g.Ns(0, "declare", g.Dir)
	g.Ns(0, "forget", g.Name, second)
	if _, errs, code := g.Run("forget", g.Name, second); code != 2 || !strings.Contains(errs, "nothing is known of a host") {
		t.Errorf("a forgotten host is forgotten with %d: %s", code, errs)
	}

	// The ground.
	if _, errs, code := g.Run("forget", g.Name); code != 2 || !strings.Contains(errs, "runs brought things about that are still there: ") || !strings.Contains(errs, "retire --all") {
		t.Errorf("a ground that is there is forgotten with %d: %s", code, errs)
	}
	g.On(first, "cp -a /etc/nginx /tmp/nginx; rm -f /tmp/nginx/*/northstake-*")
	out = g.Ns(0, "retire", "--all", "--ground", g.Name, "--yes")
	if !strings.Contains(out, "of ground "+g.Name+" this is still here: content/srv/www/timetable") {
		t.Errorf("retiring without naming the content:\n%s", out)
	}
	if got := g.On(first, "cat /srv/www/timetable/index.html"); !strings.Contains(got, "Next sailing") {
		t.Errorf("content that was not named holds %s", got)
	}
	g.Ns(0, "retire", "--all", "--ground", g.Name, "--yes", "--removing", first+"/content/srv/www/timetable")
	g.Ns(0, "forget", g.Name)
	if out := g.Ns(0, "grounds"); strings.Contains(out, g.Name) {
		t.Errorf("it is known still:\n%s", out)
	}
	if out := g.On(first, "ls -A /srv/www 2>/dev/null || true"); out != "" {
		t.Errorf("left: %s", out)
	}
	// A host of which all was taken away is applied again, whatever its packages have left (W2).
	g.On(first, "cp -a /tmp/nginx /etc/")
	g.DeclareText("")
	g.Trust()
	g.Apply(0)
	if got := answers(first, "timetable"); got != 200 {
		t.Errorf("applied again, the site answers %d", got)
	}
}
