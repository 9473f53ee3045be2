package sites

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"northstake/core/plan"
	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

// machine is a web server on a family of systems, with what differs there.
type machine struct {
	family  lab.Family
	server  string
	kit     string // a package and its service that have names of their own
	service string // of the web server
	program string
	conf    string       // the site's file
	edits   []stage.Edit // beside those that are the same everywhere
}

var machines = []machine{
	{lab.Debian, "httpd", "cron", "apache2", "apache2", "/etc/apache2/sites-available/northstake-timetable.conf", []stage.Edit{
		{"package/rsync", "state", "apt-get install -y rsync"},
		{"package/apache2", "state", "apt-get purge -y apache2 >/dev/null"},
		{"site/timetable", "switched on", "a2dissite -q northstake-timetable"},
	}},
	{lab.RedHat, "httpd", "crond", "httpd", "httpd", "/etc/httpd/conf.d/northstake-timetable.conf", []stage.Edit{
		{"package/curl", "state", "dnf -y -q install curl"},
		{"package/cronie", "state", "dnf -y -q remove cronie"},
		{"package/httpd", "state", "dnf -y -q remove httpd"},
		{"port/80-tcp", "open now", "firewall-cmd -q --remove-port=80/tcp"},
		{"port/80-tcp", "open after a restart", "firewall-cmd -q --permanent --remove-port=80/tcp"},
		{"port/8080-tcp", "open now", "firewall-cmd -q --permanent --remove-port=8080/tcp; firewall-cmd -q --reload"},
	}},
	{lab.RedHat, "nginx", "crond", "nginx", "nginx", "/etc/nginx/conf.d/northstake-timetable.conf", nil},
}

func (m machine) declaration() string {
	return fmt.Sprintf("[kit.base]\ninbound = \"declared\"\n"+
		"service = { cron = { running = true, at_boot = true, names = { redhat = \"crond\" } } }\n"+
		"[kit.base.package.cron]\nnames = { redhat = \"cronie\" }\n[kit.base.package.rsync]\nis = \"gone\"\nnames = { redhat = \"curl\" }\n"+
		"[site.timetable]\non = [\"h*\"]\nserver = %q\nnames = [\"timetable.saltmarsh.test\"]\nlisten = [80, 8080]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n"+
		"[site.timetable.path.\"/quay\"]\nroot = \"/srv/www/quay\"\n[[site.timetable.probe]]\npath = \"/\"\ncontains = \"Next sailing\"\n", m.server) + things(m.kit)
}

// things declares a directory, files and a link in the kit, with a template that
// is made beside the declaration.
func things(service string) string {
	return fmt.Sprintf("[kit.base.account.tides]\nhome = \"/srv/harbour\"\ngroups = [\"adm\"]\n"+
		"[kit.base.directory.\"/srv/harbour\"]\nowner = \"keeper\"\nmode = \"0750\"\n"+
		"[kit.base.file.\"/etc/harbour/tide.conf\"]\ntemplate = \"files/tide.conf.tmpl\"\nmode = \"0640\"\nrestart = [%q]\n"+
		"[kit.base.file.\"/etc/harbour.list\"]\ntext = \"pier 9\\n\"\nportion = \"piers\"\n"+
		"[kit.base.link.\"/srv/now\"]\npoints_to = \"/srv/www/timetable\"\n[kit.base.givens]\ntide = \"ebb\"\n", service)
}

const tideTemplate = "# {{.host.name}}\ntide = {{.givens.tide}}\n{{range .hosts}}quay = {{.address}}\n{{end}}"

var thingEdits = []stage.Edit{
	{"account/tides", "account", "userdel tides"},
	{"account/tides", "home", "usermod -d /tmp tides"},
	{"account/tides", "shell", "usermod -s /bin/sh tides"},
	{"account/tides", "first group", "usermod -g daemon tides"},
	{"account/tides", "group adm", "gpasswd -d tides adm"},
	{"directory/srv/harbour", "mode", "chmod 755 /srv/harbour"},
	{"directory/srv/harbour", "owner", "chown root /srv/harbour"},
	{"file/etc/harbour/tide.conf", "text", "sed -i s/ebb/flood/ /etc/harbour/tide.conf"},
	{"file/etc/harbour/tide.conf", "mode", "chmod 644 /etc/harbour/tide.conf"},
	{"file/etc/harbour/tide.conf", "owner", "chown keeper /etc/harbour/tide.conf"},
	{"file/etc/harbour/tide.conf", "group", "chgrp keeper /etc/harbour/tide.conf"},
	{"file/etc/harbour/tide.conf", "what it is", "rm -r /etc/harbour"},
	{"file/etc/harbour/tide.conf", "what it is", "mv /etc/harbour/tide.conf /tmp/t; ln -s /tmp/t /etc/harbour/tide.conf"},
	{"file/etc/harbour.list", "portion piers", "sed -i 's/pier 9/pier 8/' /etc/harbour.list"},
	{"file/etc/harbour.list", "portion piers", "sed -i '/North Stake/d' /etc/harbour.list"},
	{"file/etc/harbour.list", "what it is", "rm /etc/harbour.list"},
	{"link/srv/now", "leads to", "ln -sfn /tmp /srv/now"},
	{"link/srv/now", "what it is", "rm /srv/now"},
}

// One declaration makes a web server of a host of either family and with either
// server: from nothing, over a restart, and after every hand edit.
func TestEveryFamilyAndServer(t *testing.T) {
	t.Parallel()
	for _, m := range machines {
		t.Run(m.family.String()+" "+m.server, func(t *testing.T) {
			t.Parallel()
			g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{m.family}, m.declaration())
			g.Beside("files/tide.conf.tmpl", tideTemplate)
			g.Trust()
			host := g.Hosts[0]
			g.On(host, "printf 'their line\\n' > /etc/harbour.list; chown keeper /etc/harbour.list; chmod 600 /etc/harbour.list")
			p := g.Plan(1)
			if len(p.Hosts[0].Blockers) > 0 {
				t.Fatalf("blocked: %+v", p.Hosts[0].Blockers)
			}
			if h := g.ApplyPlan(0, p.Id).Hosts[0]; h.State != "done" {
				t.Fatalf("the host ended %s: %+v", h.State, h.Fault)
			}
			serves(g, m, host)
			g.NothingToDo()
			g.Restart(host)
			serves(g, m, host)
			g.NothingToDo()
			g.HandEdits(host, append([]stage.Edit{
				{"service/" + m.service, "running", "systemctl stop " + m.service},
				{"service/" + m.service, "at boot", "systemctl disable " + m.service},
				{"service/" + m.kit, "masked", "systemctl stop " + m.kit + "; rm -f /etc/systemd/system/" + m.kit + ".service; systemctl mask " + m.kit},
				{"content/srv/www/timetable", "text of index.html", "sed -i s/one/two/ /srv/www/timetable/index.html"},
				{"directory/srv/www/quay", "mode", "chmod 700 /srv/www/quay"},
				{"site/timetable", "configuration", "sed -i 's/index.html/other.html/' " + m.conf},
				{"site/timetable", "owner", "chown keeper " + m.conf},
				{"site/timetable", "loaded", stage.OtherThanLoaded(m.conf, "systemctl reload "+m.service)},
			}, m.edits...))
			g.HandEdits(host, thingEdits)
			serves(g, m, host)
		})
	}
}

// serves looks at a host from outside, and where a user would look on it.
func serves(g *stage.Ground, m machine, host string) {
	g.T.Helper()
	for _, url := range []string{"/", ":8080/", ":8080/linked.html"} {
		g.Eventually(url, func() error {
			status, body, err := stage.Get("http://"+g.Address(host)+url, "timetable.saltmarsh.test")
			if err == nil && (status != 200 || !strings.Contains(body, "Next sailing")) {
				err = fmt.Errorf("it answers %d: %s", status, body)
			}
			return err
		})
	}
	if status, _, err := stage.Get("http://"+g.Address(host)+"/quay/", "timetable.saltmarsh.test"); err != nil || status != 403 && status != 404 {
		g.T.Errorf("an empty directory answers %d, %v", status, err)
	}
	for script, want := range map[string]string{
		"systemctl is-enabled " + m.service + " " + m.kit:        "enabled\nenabled",
		"systemctl is-active " + m.service + " " + m.kit:         "active\nactive",
		"ls /var/lib/northstake/candidate":                       "",
		"cat /etc/harbour/tide.conf":                             "# " + host + "\ntide = ebb\nquay = " + g.Address(host),
		"stat -c '%U:%G %a' /etc/harbour/tide.conf /srv/harbour": "root:root 640\nkeeper:keeper 750",
		"ls /usr/bin/rsync /usr/bin/curl 2>/dev/null || true":    "",
		"id -nG tides":                               "tides adm",
		"getent passwd tides | cut -d: -f6,7":        "/srv/harbour:/usr/sbin/nologin",
		"readlink /srv/now":                          "/srv/www/timetable",
		"stat -c '%U:%G %a' " + m.conf:               "root:root 644",
		"ps -C " + m.program + " -o comm= | sort -u": m.program,
	} {
		if got := strings.TrimSpace(g.On(host, script)); got != want {
			g.T.Errorf("on %s, %s says %q, want %q", host, script, got, want)
		}
	}
	g.On(host, "systemd-run --quiet --collect --unit=other perl -MIO::Socket -e 'my $s=IO::Socket::INET->new(LocalPort=>8099,Listen=>5,ReuseAddr=>1); sleep 60'; until ss -ltn | grep -q ':8099 '; do sleep 0.02; done")
	if stage.Dialable(g.Address(host) + ":8099") {
		g.T.Errorf("port 8099 of %s, which nobody declared, can be reached", host)
	}
	g.On(host, "systemctl stop other")
}

// A portion is written into a file of others: their lines, owner and mode stay.
func TestAPortionLeavesTheRestOfAFileAlone(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit+things("cron"))
	g.Beside("files/tide.conf.tmpl", tideTemplate)
	g.Trust()
	host := g.Hosts[0]
	g.On(host, "printf 'their line\\nno end' > /etc/harbour.list; chown keeper /etc/harbour.list; chmod 600 /etc/harbour.list")
	g.Apply(0)
	if p := g.Plan(0); len(p.Hosts[0].Cautions) != 1 || !strings.Contains(p.Hosts[0].Cautions[0].What, "no unit on this host is called cron") {
		t.Errorf("a service that is to restart and is not there: %+v", p.Hosts[0].Cautions)
	}
	if got := g.On(host, "cat /etc/harbour.list; stat -c '%U %a' /etc/harbour.list"); !strings.HasPrefix(got, "their line\nno end\n# ") || !strings.Contains(got, "\npier 9\n# ") || !strings.HasSuffix(got, "keeper 600\n") {
		t.Errorf("the file is now\n%s", got)
	}
	g.On(host, "printf 'another line\\n' >> /etc/harbour.list")
	if row := g.Survey(host)["file/etc/harbour.list"]; row.Standing != plan.Set {
		t.Errorf("after somebody else's line it is %s", row.Standing)
	}
	// A container engine mounts /etc/hosts by itself: no other file can take its place.
	theirs := g.On(host, "cat /etc/hosts")
	inHosts := "[kit.base.file.\"/etc/hosts\"]\nportion = \"quays\"\ntext = \"10.88.0.11 quay9\\n\"\n"
	for _, c := range []struct {
		more     string // after the portion of hosts
		status   int
		resolves string
	}{
		{"[site.timetable.path.\"/pier\"]\nroot = \"/srv/www/pier\"\n[[site.timetable.probe]]\npath = \"/\"\ncontains = \"No such words\"\n", 2, "taken back"},
		{"", 0, "10.88.0.11"},
	} {
		g.DeclareText(stage.BareKit + things("cron") + inHosts + c.more)
		g.Ns(0, "declare", g.Dir)
		g.Apply(c.status)
		got := g.On(host, "getent hosts quay9 || echo taken back")
		if !strings.Contains(got, c.resolves) || !strings.HasPrefix(g.On(host, "cat /etc/hosts"), theirs) {
			t.Errorf("quay9 is %s, and /etc/hosts\n%s", got, g.On(host, "cat /etc/hosts"))
		}
	}
}

// What a first run does to a host of the Red Hat family is taken back whole:
// packages, units, files and the firewall's rules.
func TestAFirstRunOnAnotherFamilyIsTakenBackWhole(t *testing.T) {
	t.Parallel()
	m := machines[1]
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{m.family}, m.declaration())
	g.Content("index.html", "<p>No boats today.</p>\n") // the probe will fail
	g.Beside("files/tide.conf.tmpl", tideTemplate)
	g.Trust()
	host := g.Hosts[0]
	g.On(host, "printf 'their line\\n' > /etc/harbour.list")
	const state = "grep -h tides /etc/passwd /etc/group /etc/shadow /etc/gshadow; find /etc/harbour* /srv -printf '%p %y %m %U %s\\n' 2>&1; cat /etc/harbour.list; rpm -qa | sort; ls -d /srv/www /etc/httpd /etc/northstake 2>&1; firewall-cmd --list-all; firewall-cmd --permanent --list-all; systemctl list-unit-files --no-pager --no-legend | awk '{print $1, $2}' | grep -v '^run-\\|session'"
	before := g.On(host, state)
	var r contract.Run = g.Apply(2)
	if r.Hosts[0].State != "back" {
		t.Fatalf("the host ended %s: %+v", r.Hosts[0].State, r.Hosts[0].Fault)
	}
	if after := g.On(host, state); after != before {
		t.Errorf("the host is not what it was:\n%s", stage.Difference(before, after))
	}
}

// Whatever lint accepts, the real httpd accepts.
func TestHttpdAcceptsWhatLintAccepts(t *testing.T) {
	t.Parallel()
	m := machines[1]
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{m.family}, m.declaration())
	g.Beside("files/tide.conf.tmpl", tideTemplate)
	g.Trust()
	g.Apply(0)
	acceptsWhatLintAccepts(g, "httpd", "/etc/httpd/conf.d/many.conf", "httpd -t 2>&1 || true", "Syntax OK")
}

// Content comes out of an archive, from the folder that is chosen in it; no
// unpacker is needed on the host. What lint says of an archive names the folder, or
// the entry that is refused.
func TestContentFromAnArchive(t *testing.T) {
	t.Parallel()
	site := func(content string) string {
		return stage.BareKit + "[site.timetable]\non = [\"h*\"]\nserver = \"httpd\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = " + content + "\n"
	}
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.RedHat}, site(`{ archive = "files/site.tar.gz" }`))
	pack := func(version string) {
		t.Helper()
		g.Beside("made/site-1.2/public/index.html", stage.Page(version))
		g.Beside("made/site-1.2/public/deep/linked.html", stage.Page(version))
		g.Beside("made/site-1.2/README", "not published")
		g.Beside("files/keep", "")
		if out, err := exec.Command("tar", "-C", filepath.Join(g.Dir, "made"), "-czf", filepath.Join(g.Dir, "files", "site.tar.gz"), "site-1.2").CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	pack("one")
	if out := g.Ns(2, "lint", g.Dir); !strings.Contains(out, `choose it with folder = "site-1.2/public"`) {
		t.Errorf("lint does not name the folder:\n%s", out)
	}
	g.DeclareText(site(`{ archive = "files/site.tar.gz", folder = "site-1.2/publik" }`))
	if out := g.Ns(2, "lint", g.Dir); !strings.Contains(out, `did you mean "site-1.2/public"?`) {
		t.Errorf("lint does not name the folder that is near:\n%s", out)
	}
	g.DeclareText(site(`{ archive = "files/site.tar.gz", folder = "site-1.2/public", owner = "keeper" }`))
	g.Trust()
	host := g.Hosts[0]
	g.Apply(0)
	if got := g.On(host, "cd /srv/www/timetable && find . -type f -printf '%P %u\\n' | sort"); got != "deep/linked.html keeper\nindex.html keeper\n" {
		t.Errorf("published is %q", got)
	}
	if status, body := g.Fetch(host, "/deep/linked.html"); status != 200 || !strings.Contains(body, "version one") {
		t.Errorf("it answers %d: %s", status, body)
	}
	g.NothingToDo()
	pack("two")
	g.Ns(0, "declare", g.Dir)
	g.Apply(0)
	if _, body := g.Fetch(host, "/"); !strings.Contains(body, "version two") {
		t.Errorf("it shows %s", body)
	}
	if out, err := exec.Command("sh", "-c", "cd '"+g.Dir+"/made' && ln -s /etc/passwd site-1.2/public/secret && tar -czf ../files/site.tar.gz site-1.2").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if out := g.Ns(2, "declare", g.Dir); !strings.Contains(out, `"site-1.2/public/secret" is a link to "/etc/passwd", which leads out of the archive`) {
		t.Errorf("an unsafe entry is not refused by name:\n%s", out)
	}
}

// Content comes from a URL with its sum and from a private repository, which the
// service fetches with a secret; what is kept is left alone, and what nobody declared
// goes only where that is declared, named, and confirmed by name.
func TestContentFromElsewhere(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	files, url := stage.Served(t)
	stage.Shell(t, files, "mkdir -p site/public && echo '<p>version one</p>' > site/public/index.html && echo css > site/public/a.css && tar -czf site.tar.gz site")
	sum := strings.Fields(stage.Shell(t, files, "sha256sum site.tar.gz"))[0]
	site := func(content string) string {
		return stage.BareKit + "[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = " + content + "\n"
	}
	g.DeclareText(site(fmt.Sprintf(`{ url = "%s/site.tar.gz", sha256 = "%s", folder = "site" }`, url, sum)))
	if out := g.Ns(2, "declare", g.Dir); !strings.Contains(out, `choose it with folder = "site/public"`) {
		t.Errorf("what was fetched is not looked through:\n%s", out)
	}
	g.DeclareText(site(fmt.Sprintf(`{ url = "%s/site.tar.gz", sha256 = "%s", folder = "site/public" }`, url, strings.Repeat("0", 64))))
	if out := g.Ns(2, "declare", g.Dir); !strings.Contains(out, "has another SHA-256 than the declared one") || !strings.Contains(out, "ground.toml:") {
		t.Errorf("another sum:\n%s", out)
	}
	from := fmt.Sprintf(`{ url = "%s/site.tar.gz", sha256 = "%s", folder = "site/public", left_alone = ["uploads", "*.log"]`, url, sum)
	g.DeclareText(site(from + " }"))
	g.Trust()
	host := g.Hosts[0]
	g.On(host, "mkdir -p /srv/www/timetable/uploads/deep; echo theirs > /srv/www/timetable/uploads/deep/boat; chmod 2770 /srv/www/timetable/uploads; chown -R www-data:www-data /srv/www/timetable/uploads; chmod 640 /srv/www/timetable/uploads/deep/boat; echo log > /srv/www/timetable/a.log; echo stray > /srv/www/timetable/stray.txt")
	g.Apply(0)
	if _, body := g.Fetch(host, "/"); !strings.Contains(body, "version one") {
		t.Errorf("it shows %s", body)
	}
	rows := g.Survey(host)
	if _, ok := rows["content/srv/www/timetable:/srv/www/timetable/stray.txt"]; !ok || len(rows) > 7 {
		t.Errorf("strays among %d rows: %v", len(rows), rows)
	}
	g.NothingToDo()

	g.DeclareText(site(from + ", undeclared_files = \"removed\" }"))
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(1)
	if got := p.Hosts[0].Steps[0]; !strings.HasSuffix(got.Text, "and remove 1 file that nobody declared") || fmt.Sprint(got.Removes) != "[stray.txt]" {
		t.Errorf("the step is %+v", got)
	}
	if out := g.Ns(2, "apply", fmt.Sprint(p.Id), "--ground", g.Name, "--yes"); !strings.Contains(out, "--removing "+host+"/content/srv/www/timetable") {
		t.Errorf("it is not asked for by name:\n%s", out)
	}
	if out := g.On(host, "ls /srv/www/timetable/stray.txt"); !strings.Contains(out, "stray.txt") {
		t.Error("it went unnamed")
	}
	g.Ns(0, "apply", fmt.Sprint(p.Id), "--ground", g.Name, "--yes", "--removing", host+"/content/srv/www/timetable")
	if got := g.On(host, "cd /srv/www/timetable; find . -type f | sort | tr '\\n' ' '; stat -c '%n %a %U:%G' uploads uploads/deep uploads/deep/boat a.log | tr '\\n' ';'"); got != "./a.css ./a.log ./index.html ./uploads/deep/boat uploads 2770 www-data:www-data;uploads/deep 755 www-data:www-data;uploads/deep/boat 640 www-data:www-data;a.log 644 root:root;" {
		t.Errorf("there is %s", got)
	}
	g.NothingToDo()
	// A hand-made file is drift there, and its going is confirmed again.
	g.On(host, "echo more > /srv/www/timetable/more.txt; echo log >> /srv/www/timetable/a.log")
	if out := g.Ns(1, "drift", g.Name); !strings.Contains(out, "more.txt") || strings.Contains(out, "a.log") {
		t.Errorf("drift says\n%s", out)
	}
	g.Ns(2, "restore", g.Name, "--yes")
	g.Ns(0, "restore", g.Name, "--yes", "--removing", host+"/content/srv/www/timetable")

	g.DeclareText(site(fmt.Sprintf(`{ git = "%s/code.git", at = "main", folder = "www", fetch_secret = "no-such" }`, url)))
	if out := g.Ns(2, "declare", g.Dir); !strings.Contains(out, "northstake secret keep no-such") {
		t.Errorf("a secret that is not there:\n%s", out)
	}
}

// A host without systemd: services are started by their scripts, and links start
// them at boot.
func TestAHostWithoutSystemd(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Plain}, "[kit.base]\npackages = [\"cron\"]\nservice = { cron = { running = true, at_boot = true } }\n"+
		"[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n")
	g.Trust()
	host := g.Hosts[0]
	g.Apply(0)
	serves := func(when string) {
		t.Helper()
		g.Eventually(when, func() error {
			status, body, err := stage.Get("http://"+g.Address(host)+"/", "timetable.saltmarsh.test")
			if err == nil && (status != 200 || !strings.Contains(body, "Next sailing")) {
				err = fmt.Errorf("it answers %d: %s", status, body)
			}
			return err
		})
		for script, want := range map[string]string{
			"/etc/init.d/nginx status >/dev/null; echo $?":         "0",
			"/etc/init.d/cron status >/dev/null; echo $?":          "0",
			"ls /etc/rc3.d | grep -c 'S[0-9]*\\(cron\\|nginx\\)$'": "2",
			"test -e /run/systemd/system && echo yes || echo no":   "no",
		} {
			if got := strings.TrimSpace(g.On(host, script)); got != want {
				t.Errorf("%s: %s says %q, want %q", when, script, got, want)
			}
		}
	}
	serves("after the run")
	g.NothingToDo()
	if out := g.Ns(0, "show", host, "--ground", g.Name); !strings.Contains(out, "apt, init scripts") {
		t.Errorf("show does not say how services are started:\n%s", out)
	}
	g.HandEdits(host, []stage.Edit{
		{"service/cron", "running", "/etc/init.d/cron stop >/dev/null"},
		{"service/nginx", "running", "/etc/init.d/nginx stop >/dev/null"},
		{"service/cron", "at boot", "update-rc.d cron disable"},
		{"site/timetable", "configuration", "sed -i 's/index.html/other.html/' /etc/nginx/sites-available/northstake-timetable.conf"},
		{"site/timetable", "loaded", stage.OtherThanLoaded("/etc/nginx/sites-available/northstake-timetable.conf", "service nginx reload")},
	})
	serves("after hand edits")
	g.Ns(0, "act", "restart", "nginx", "--on", host, "--ground", g.Name, "--yes")
	g.Restart(host)
	g.Ns(1, "drift", g.Name) // nothing started them: this lab's first process is no init
	g.Ns(0, "restore", g.Name, "--yes")
	serves("after a restart")
	// The firewall is put up by a script, and taken back in time by a process that waits.
	g.DeclareText(strings.Replace(stage.BareKit, "packages = []", "inbound = \"declared\"", 1) + "[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n")
	g.Ns(0, "declare", g.Dir)
	g.Unconfirmed("ls /etc/northstake /etc/init.d/northstake-firewall /etc/rc*.d/*northstake-firewall 2>/dev/null || true")
	serves("behind the firewall")
	g.NothingToDo()
	if left := strings.TrimSpace(g.On(host, "pgrep -fa 'rod/[0-9a-f]* revert' || true; ls /var/lib/northstake | grep revert || true")); left != "" {
		t.Errorf("what takes the rules back still waits: %s", left)
	}
	g.On(host, "setsid perl -MIO::Socket -e 'my $s=IO::Socket::INET->new(LocalPort=>8099,Listen=>5,ReuseAddr=>1); sleep 600' >/dev/null 2>&1 & until ss -ltn | grep -q ':8099 '; do sleep 0.02; done")
	if out := g.On(host, "ss -ltn"); !strings.Contains(out, ":8099") {
		t.Fatalf("nothing listens:\n%s", out)
	}
	if stage.Dialable(g.Address(host) + ":8099") {
		t.Errorf("port 8099, which nobody declared, can be reached")
	}
	g.HandEdits(host, []stage.Edit{
		{"firewall/inbound", "rules now", "nft delete table inet northstake"},
		{"firewall/inbound", "at boot", "update-rc.d northstake-firewall disable"},
		{"firewall/inbound", "mode of the unit", "chmod 644 /etc/init.d/northstake-firewall"},
	})
	if out := strings.TrimSpace(g.On(host, "nft delete table inet northstake; ls /etc/rc2.d/S*northstake-firewall && sh /etc/rc2.d/S*northstake-firewall start && nft list ruleset | grep -c 'policy drop'")); !strings.HasSuffix(out, "1") {
		t.Errorf("what is run at boot does not put the rules up: %s", out)
	}
	g.NothingToDo()
}
