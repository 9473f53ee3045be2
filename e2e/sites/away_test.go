package sites

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"northstake/core/plan"
	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

// What stands in the way of something declared, and is North Stake's own from earlier, goes
// with the same plan: the virtual host of a site that has another name by now, a site's
// former server, a port that was opened in a firewall program. A run that fails brings it
// all back.
func TestWhatMovesLeavesNothingInTheWay(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	g.Trust()
	host := g.Hosts[0]
	declare := func(site, server, contains string) {
		t.Helper()
		g.DeclareText("# instead of [site.timetable]\n" + fmt.Sprintf("[kit.base]\n[site.%s]\non = [\"h*\"]\nserver = %q\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n[[site.%[1]s.probe]]\npath = \"/\"\ncontains = %[3]q\n", site, server, contains))
		g.Ns(0, "declare", g.Dir)
	}
	answers := func(when string) {
		t.Helper()
		if status, body, err := stage.Get("http://"+g.Address(host)+"/", "timetable.saltmarsh.test"); err != nil || status != 200 || !strings.Contains(body, "Next sailing") {
			t.Errorf("%s: %d, %s, %v", when, status, body, err)
		}
	}
	declare("timetable", "nginx", "Next sailing")
	g.Apply(0)
	answers("applied")

	declare("sailings", "nginx", "no such words")
	p := g.Plan(1)
	if !slices.Contains(stage.Texts(p), "take away the virtual host of site timetable, /etc/nginx/sites-available/northstake-timetable.conf") {
		t.Errorf("the plan is to %s", strings.Join(stage.Texts(p), "; "))
	}
	if why := p.Hosts[0].Steps[0].Because; why != "site sailings has its name timetable.saltmarsh.test now" {
		t.Errorf("it goes because %s", why)
	}
	before := g.On(host, "cd /etc/nginx; find . -newer /etc/hostname -name '*northstake*' | sort; cat sites-enabled/northstake*")
	g.ApplyPlan(2, p.Id)
	if after := g.On(host, "cd /etc/nginx; find . -newer /etc/hostname -name '*northstake*' | sort; cat sites-enabled/northstake*"); after != before {
		t.Errorf("taken back:\n%s\nand before\n%s", after, before)
	}
	answers("taken back")

	declare("sailings", "nginx", "Next sailing")
	visits := g.WatchSite(host)
	g.Apply(0)
	if failed := visits(); failed != "" {
		t.Errorf("while the site got another name: %s", failed)
	}
	g.NothingToDo()
	if left := g.On(host, "find /etc/nginx -name '*timetable*'; nginx -t 2>&1 | grep conflicting || true"); left != "" {
		t.Errorf("the former site is still there: %s", left)
	}

	// The same site on another server of the host, and back.
	for _, server := range []string{"httpd", "nginx"} {
		declare("sailings", server, "no such words")
		g.Apply(2)
		answers("taken back from " + server)
		declare("sailings", server, "Next sailing")
		p := g.Plan(1)
		if len(p.Hosts[0].Blockers) > 0 || !slices.ContainsFunc(p.Hosts[0].Cautions, func(n contract.Note) bool {
			return strings.Contains(n.What, "is down between steps ")
		}) {
			t.Errorf("blockers %+v, cautions %+v", p.Hosts[0].Blockers, p.Hosts[0].Cautions)
		}
		g.ApplyPlan(0, p.Id)
		answers("on " + server)
		g.NothingToDo()
		listens := map[string]string{"httpd": "apache2", "nginx": "nginx"}[server]
		if got := g.On(host, "ss -Hltnp sport = :80 | grep -o '\"[a-z0-9]*\"' | sort -u; find /etc/nginx /etc/apache2 -name '*northstake-sailings*' | grep -c available"); strings.Join(strings.Fields(got), " ") != `"`+listens+`" 1` {
			t.Errorf("on port 80 listens, and files are: %s", got)
		}
	}

	// A unit that is declared with its service, and a change of it that restarts it.
	unit := func(says string) {
		t.Helper()
		g.DeclareText("# instead of [site.timetable]\n[kit.base]\n[kit.base.file.\"/etc/systemd/system/tidewatch.service\"]\ntext = \"[Service]\\nExecStart=/bin/sleep " + says + "\\n[Install]\\nWantedBy=multi-user.target\\n\"\nrestart = [\"tidewatch\"]\n[kit.base.service]\ntidewatch = { running = true, at_boot = true }\n")
		g.Ns(0, "declare", g.Dir)
		g.Apply(0)
		if got := g.On(host, "systemctl is-enabled tidewatch; tr '\\0' ' ' < /proc/$(systemctl show -p MainPID --value tidewatch)/cmdline"); strings.Join(strings.Fields(got), " ") != "enabled /bin/sleep "+says {
			t.Errorf("tidewatch is %s", got)
		}
		g.NothingToDo()
	}
	unit("1000001")
	unit("1000002")
}

// Ports that were opened in a firewall program are closed there again when nobody declares
// them any more and only what is declared is let in; what somebody else has opened is theirs.
func TestPortsThatNobodyDeclaresAreClosed(t *testing.T) {
	t.Parallel()
	kit := func(ports string) string { return "[kit.base]\ninbound = \"declared\"\nports = [" + ports + "]\n" }
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.RedHat}, kit(`"8000/tcp", "8443/tcp"`))
	g.Trust()
	host := g.Hosts[0]
	g.Apply(0)
	g.NothingToDo()
	g.Listen(host, 8000, 8443)
	g.DeclareText(kit(`"8443/tcp"`))
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(1)
	if got := stage.Texts(p); len(got) != 2 || !strings.HasPrefix(got[0], "close port 8000/tcp in firewalld, ") || p.Hosts[0].Steps[0].Because != "only what is declared is let in" || !strings.HasSuffix(got[1], "be led past firewalld, into containers or elsewhere: 80/tcp, 8443/tcp") {
		t.Errorf("the plan is to %s", strings.Join(got, "; "))
	}
	g.On(host, "firewall-cmd -q --add-port=6000/tcp")
	if got := g.Blocked(); !strings.Contains(got, "6000/tcp") || strings.Contains(got, "8000/tcp") {
		t.Errorf("what others have opened: %s", got)
	}
	g.On(host, "firewall-cmd -q --remove-port=6000/tcp")
	g.Apply(0)
	for port, open := range map[string]bool{":8000": false, ":8443": true, ":22": true} {
		if stage.Dialable(g.Address(host)+port) != open {
			t.Errorf("port %s can be reached: %t", port, !open)
		}
	}
	if got := g.On(host, "firewall-cmd --list-ports; firewall-cmd --permanent --list-ports"); strings.Contains(got, "8000") {
		t.Errorf("opened still: %s", got)
	}
	g.NothingToDo()

	// A port that is open to other networks than before is closed to those.
	for _, inbound := range []string{"declared", "any"} {
		from := func(networks string) {
			t.Helper()
			g.DeclareText("[kit.base]\ninbound = \"" + inbound + "\"\nports = [\"8443/tcp\"]\n[kit.base.port.\"5432/tcp\"]\nfrom = [" + networks + "]\n")
			g.Ns(0, "declare", g.Dir)
		}
		from(`"192.0.2.0/24", "10.0.0.0/8"`)
		g.Apply(0)
		from(`"198.51.100.0/24", "10.0.0.0/8"`)
		p := g.Plan(1)
		got := stage.Texts(p)
		if inbound == "declared" { // what is led past it follows
			if led := slices.IndexFunc(got, func(s string) bool { return strings.HasPrefix(s, "let only declared ports be led past firewalld") }); led >= 0 {
				got = slices.Delete(got, led, led+1)
			} else {
				t.Errorf("what is led past it is not planned: %s", strings.Join(got, "; "))
			}
		}
		if len(got) != 2 || !strings.HasPrefix(got[0], "close port 5432/tcp for 192.0.2.0/24 in ") || !strings.HasPrefix(got[1], "open port 5432/tcp for 198.51.100.0/24, 10.0.0.0/8 in ") {
			t.Errorf("with inbound %s the plan is to %s", inbound, strings.Join(got, "; "))
		}
		g.ApplyPlan(0, p.Id)
		if got := g.On(host, "firewall-cmd --list-rich-rules; firewall-cmd --permanent --list-rich-rules"); strings.Contains(got, "192.0.2") || strings.Count(got, "198.51.100.0/24") != 2 || strings.Count(got, "10.0.0.0/8") != 2 {
			t.Errorf("with inbound %s: %s", inbound, got)
		}
		g.NothingToDo()
	}
}

// A move to another server that is cut off while the former one stops goes on where it was:
// what was taken back has the port again, and is stopped again.
func TestAMoveToAnotherServerKilled(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	g.Trust()
	site := func(server string) {
		t.Helper()
		g.DeclareText("# instead of [site.timetable]\n[kit.base]\n[site.sailings]\non = [\"h*\"]\nserver = \"" + server + "\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n")
		g.Ns(0, "declare", g.Dir)
	}
	moves := [][2]string{{"nginx", "httpd"}, {"nginx", "caddy"}, {"httpd", "nginx"}, {"httpd", "caddy"}, {"caddy", "nginx"}, {"caddy", "httpd"}}
	move := moves[rand.IntN(len(moves))] // another pair in each run of the tests
	if only := os.Getenv("MOVE"); only != "" {
		from, to, _ := strings.Cut(only, " ")
		move = [2]string{from, to}
	}
	t.Logf("from %s to %s", move[0], move[1])
	site(move[0])
	g.Apply(0)
	site(move[1])
	g.Killed(g.Plan(1), []string{"site", "service"}, func(contract.Step) bool { return false }, stage.Boundaries, stage.KillRod, stage.ResumeByHand)
	if status, body := g.Fetch(g.Hosts[0], "/"); status != 200 || !strings.Contains(body, "Next sailing") {
		t.Errorf("the site answers %d: %s", status, body)
	}
	g.NothingToDo()
}

// Two grounds have sites on one host, by one server: what one of them takes away is its own, its run is done,
// and the other's site answers as before, whichever of the two has brought the server.
func TestAnotherGroundsSitesAreLeft(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	host := g.Hosts[0]
	g.Trust()
	g.Apply(0)
	second := *g
	other := &second
	other.Name, other.Dir = g.Name+"-too", t.TempDir()
	other.DeclareText(stage.BareKit + "# instead of [site.timetable]\n[site.welcome]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"welcome.saltmarsh.test\"]\ncontent = { dir = \"content\" }\n")
	other.Content("index.html", "Welcome\n")
	other.Trust()
	says := func(name, want string) {
		t.Helper()
		if status, body, err := stage.Get("http://"+g.Address(host)+"/", name); err != nil || want != "" && !strings.Contains(body, want) || want == "" && status == 200 && strings.Contains(body, "Welcome") {
			t.Errorf("%s answers %d %q, %v; wanted %q", name, status, body, err, want)
		}
	}
	for range 2 { // the second time the server is known to it
		other.Apply(0)
		says("welcome.saltmarsh.test", "Welcome")
		out := other.Ns(0, "retire", "welcome", "--yes", "--removing", host+"/content/var/www/welcome")
		if !strings.Contains(out, "1 host done") || strings.Contains(out, "stop nginx") {
			t.Errorf("retiring it says\n%s", out)
		}
		says("welcome.saltmarsh.test", "")
		says("timetable.saltmarsh.test", "Next sailing")
		if row, there := other.Survey(host)["service/nginx"]; there && row.Standing == plan.Stray {
			t.Errorf("the server of the other ground is %s: %s", row.Standing, row.Reason)
		}
		g.Ns(0, "drift", g.Name)
	}
	other.Apply(0)
	out := g.Ns(0, "retire", "timetable", "--yes", "--removing", host+"/content/srv/www/timetable")
	if !strings.Contains(out, "1 host done") || strings.Contains(out, "stop nginx") {
		t.Errorf("retiring the first ground's site says\n%s", out)
	}
	if is := strings.TrimSpace(g.On(host, "dpkg-query -W -f '${Status}' nginx; systemctl is-active nginx")); is != "install ok installedactive" {
		t.Errorf("the server of both is %q", is)
	}
	says("welcome.saltmarsh.test", "Welcome")
	if row, there := g.Survey(host)["service/nginx"]; there && row.Standing == plan.Stray {
		t.Errorf("after that the server is %s: %s", row.Standing, row.Reason)
	}
	other.Ns(0, "drift", other.Name)
}
