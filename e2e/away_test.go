package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"northstake/lab"
	"northstake/service/contract"
)

// texts are what the steps of a plan's only host would do.
func texts(p contract.Plan) []string {
	var out []string
	for _, s := range p.Hosts[0].Steps {
		out = append(out, s.Text)
	}
	return out
}

// What stands in the way of something declared, and is North Stake's own from earlier, goes
// with the same plan: the virtual host of a site that has another name by now, a site's
// former server, a port that was opened in a firewall program. A run that fails brings it
// all back.
func TestWhatMovesLeavesNothingInTheWay(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, bareKit)
	g.trust()
	host := g.hosts[0]
	declare := func(site, server, contains string) {
		t.Helper()
		g.declareText("# instead of [site.timetable]\n" + fmt.Sprintf("[kit.base]\n[site.%s]\non = [\"h*\"]\nserver = %q\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n[[site.%[1]s.probe]]\npath = \"/\"\ncontains = %[3]q\n", site, server, contains))
		g.ns(0, "declare", g.dir)
	}
	answers := func(when string) {
		t.Helper()
		if status, body, err := get("http://"+g.address(host)+"/", "timetable.saltmarsh.test"); err != nil || status != 200 || !strings.Contains(body, "Next sailing") {
			t.Errorf("%s: %d, %s, %v", when, status, body, err)
		}
	}
	declare("timetable", "nginx", "Next sailing")
	g.apply(0)
	answers("applied")

	declare("sailings", "nginx", "no such words")
	p := g.plan(1)
	if !slices.Contains(texts(p), "take away the virtual host of site timetable, /etc/nginx/sites-available/northstake-timetable.conf") {
		t.Errorf("the plan is to %s", strings.Join(texts(p), "; "))
	}
	if why := p.Hosts[0].Steps[0].Because; why != "site sailings has its name timetable.saltmarsh.test now" {
		t.Errorf("it goes because %s", why)
	}
	before := g.on(host, "cd /etc/nginx; find . -newer /etc/hostname -name '*northstake*' | sort; cat sites-enabled/northstake*")
	g.applyPlan(2, p.Id)
	if after := g.on(host, "cd /etc/nginx; find . -newer /etc/hostname -name '*northstake*' | sort; cat sites-enabled/northstake*"); after != before {
		t.Errorf("taken back:\n%s\nand before\n%s", after, before)
	}
	answers("taken back")

	declare("sailings", "nginx", "Next sailing")
	visits := g.watchSite(host)
	g.apply(0)
	if failed := visits(); failed != "" {
		t.Errorf("while the site got another name: %s", failed)
	}
	g.nothingToDo()
	if left := g.on(host, "find /etc/nginx -name '*timetable*'; nginx -t 2>&1 | grep conflicting || true"); left != "" {
		t.Errorf("the former site is still there: %s", left)
	}

	// The same site on another server of the host, and back.
	for _, server := range []string{"httpd", "nginx"} {
		declare("sailings", server, "no such words")
		g.apply(2)
		answers("taken back from " + server)
		declare("sailings", server, "Next sailing")
		p := g.plan(1)
		if len(p.Hosts[0].Blockers) > 0 || !slices.ContainsFunc(p.Hosts[0].Cautions, func(n contract.Note) bool {
			return strings.Contains(n.What, "is down between steps ")
		}) {
			t.Errorf("blockers %+v, cautions %+v", p.Hosts[0].Blockers, p.Hosts[0].Cautions)
		}
		g.applyPlan(0, p.Id)
		answers("on " + server)
		g.nothingToDo()
		listens := map[string]string{"httpd": "apache2", "nginx": "nginx"}[server]
		if got := g.on(host, "ss -Hltnp sport = :80 | grep -o '\"[a-z0-9]*\"' | sort -u; find /etc/nginx /etc/apache2 -name '*northstake-sailings*' | grep -c available"); strings.Join(strings.Fields(got), " ") != `"`+listens+`" 1` {
			t.Errorf("on port 80 listens, and files are: %s", got)
		}
	}

	// A unit that is declared with its service, and a change of it that restarts it.
	unit := func(says string) {
		t.Helper()
		g.declareText("# instead of [site.timetable]\n[kit.base]\n[kit.base.file.\"/etc/systemd/system/tidewatch.service\"]\ntext = \"[Service]\\nExecStart=/bin/sleep " + says + "\\n[Install]\\nWantedBy=multi-user.target\\n\"\nrestart = [\"tidewatch\"]\n[kit.base.service]\ntidewatch = { running = true, at_boot = true }\n")
		g.ns(0, "declare", g.dir)
		g.apply(0)
		if got := g.on(host, "systemctl is-enabled tidewatch; tr '\\0' ' ' < /proc/$(systemctl show -p MainPID --value tidewatch)/cmdline"); strings.Join(strings.Fields(got), " ") != "enabled /bin/sleep "+says {
			t.Errorf("tidewatch is %s", got)
		}
		g.nothingToDo()
	}
	unit("1000001")
	unit("1000002")
}

// Ports that were opened in a firewall program are closed there again when nobody declares
// them any more and only what is declared is let in; what somebody else has opened is theirs.
func TestPortsThatNobodyDeclaresAreClosed(t *testing.T) {
	t.Parallel()
	kit := func(ports string) string { return "[kit.base]\ninbound = \"declared\"\nports = [" + ports + "]\n" }
	g := newGroundOf(t, shared, []lab.Family{lab.RedHat}, kit(`"8000/tcp", "8443/tcp"`))
	g.trust()
	host := g.hosts[0]
	g.apply(0)
	g.nothingToDo()
	g.listen(host, 8000, 8443)
	g.declareText(kit(`"8443/tcp"`))
	g.ns(0, "declare", g.dir)
	p := g.plan(1)
	if got := texts(p); len(got) != 2 || !strings.HasPrefix(got[0], "close port 8000/tcp in firewalld, ") || p.Hosts[0].Steps[0].Because != "only what is declared is let in" || !strings.HasSuffix(got[1], "be led past firewalld, into containers or elsewhere: 80/tcp, 8443/tcp") {
		t.Errorf("the plan is to %s", strings.Join(got, "; "))
	}
	g.on(host, "firewall-cmd -q --add-port=6000/tcp")
	if got := g.blocked(); !strings.Contains(got, "6000/tcp") || strings.Contains(got, "8000/tcp") {
		t.Errorf("what others have opened: %s", got)
	}
	g.on(host, "firewall-cmd -q --remove-port=6000/tcp")
	g.apply(0)
	for port, open := range map[string]bool{":8000": false, ":8443": true, ":22": true} {
		if dialable(g.address(host)+port) != open {
			t.Errorf("port %s can be reached: %t", port, !open)
		}
	}
	if got := g.on(host, "firewall-cmd --list-ports; firewall-cmd --permanent --list-ports"); strings.Contains(got, "8000") {
		t.Errorf("opened still: %s", got)
	}
	g.nothingToDo()

	// A port that is open to other networks than before is closed to those.
	for _, inbound := range []string{"declared", "any"} {
		from := func(networks string) {
			t.Helper()
			g.declareText("[kit.base]\ninbound = \"" + inbound + "\"\nports = [\"8443/tcp\"]\n[kit.base.port.\"5432/tcp\"]\nfrom = [" + networks + "]\n")
			g.ns(0, "declare", g.dir)
		}
		from(`"192.0.2.0/24", "10.0.0.0/8"`)
		g.apply(0)
		from(`"198.51.100.0/24", "10.0.0.0/8"`)
		p := g.plan(1)
		got := texts(p)
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
		g.applyPlan(0, p.Id)
		if got := g.on(host, "firewall-cmd --list-rich-rules; firewall-cmd --permanent --list-rich-rules"); strings.Contains(got, "192.0.2") || strings.Count(got, "198.51.100.0/24") != 2 || strings.Count(got, "10.0.0.0/8") != 2 {
			t.Errorf("with inbound %s: %s", inbound, got)
		}
		g.nothingToDo()
	}
}

// A move to another server that is cut off while the former one stops goes on where it was:
// what was taken back has the port again, and is stopped again.
func TestAMoveToAnotherServerKilled(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, bareKit)
	g.trust()
	site := func(server string) {
		t.Helper()
		g.declareText("# instead of [site.timetable]\n[kit.base]\n[site.sailings]\non = [\"h*\"]\nserver = \"" + server + "\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n")
		g.ns(0, "declare", g.dir)
	}
	moves := [][2]string{{"nginx", "httpd"}, {"nginx", "caddy"}, {"httpd", "nginx"}, {"httpd", "caddy"}, {"caddy", "nginx"}, {"caddy", "httpd"}}
	move := moves[rand.IntN(len(moves))] // another pair in each run of the tests
	if only := os.Getenv("MOVE"); only != "" {
		from, to, _ := strings.Cut(only, " ")
		move = [2]string{from, to}
	}
	t.Logf("from %s to %s", move[0], move[1])
	site(move[0])
	g.apply(0)
	site(move[1])
	g.killed(g.plan(1), []string{"site", "service"}, func(contract.Step) bool { return false }, boundaries, killRod, resumeByHand)
	if status, body := g.fetch(g.hosts[0], "/"); status != 200 || !strings.Contains(body, "Next sailing") {
		t.Errorf("the site answers %d: %s", status, body)
	}
	g.nothingToDo()
}
