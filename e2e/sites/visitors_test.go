package sites

import (
	"context"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/plan"
	"northstake/core/render"
	"northstake/e2e/stage"
	"northstake/service/contract"
)

// A configuration that nginx refuses changes nothing: the host goes back to what

// Whatever lint accepts, the real nginx accepts.
func TestNginxAcceptsWhatLintAccepts(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	g.Trust()
	g.Apply(0)
	acceptsWhatLintAccepts(g, "nginx", "/etc/nginx/conf.d/many.conf", "nginx -t 2>&1 || true", "test is successful")
}

// acceptsWhatLintAccepts makes many odd sites up, puts those that lint accepts
// into a file of the server's configuration, and lets the server test it.
func acceptsWhatLintAccepts(g *stage.Ground, server, file, test, good string) {
	host := g.Hosts[0]
	rnd := rand.New(rand.NewPCG(3, 5))
	pick := func(alphabet string, n int) string {
		var b strings.Builder
		r := []rune(alphabet)
		for range n {
			b.WriteRune(r[rnd.IntN(len(r))])
		}
		return b.String()
	}
	const odd = "ab-_.~!@%^()+=:, é漢#\"'\\$;{}*?[]|<>&\t/"
	mild := func(n int) string {
		if rnd.IntN(6) == 0 {
			return pick(odd, n)
		}
		return pick("ab-_.~!@^()+=:,é漢", n)
	}
	var all strings.Builder
	sites := 0
	for i := range 4000 {
		var names []string
		for range 1 + rnd.IntN(3) {
			names = append(names, fmt.Sprintf("%q", pick("abc0-_", 1+rnd.IntN(60))+"."+pick("xyz9", 1+rnd.IntN(40))+".test"))
		}
		if rnd.IntN(4) == 0 {
			names[0] = fmt.Sprintf("%q", "*."+strings.Trim(names[0], `"`))
		}
		root := "/srv/" + mild(1+rnd.IntN(12))
		text := fmt.Sprintf("[ground]\nname=\"g\"\n[reach]\nuser=\"k\"\nkey_secret=\"k\"\n[host.a]\naddress=\"10.0.0.1\"\n[site.s%d]\non=[\"a\"]\nserver=%q\nnames=[%s]\nlisten=[%d]\nroot=%q\nindex=[%q]\n[site.s%d.path.%q]\nroot=%q\n",
			i, server, strings.Join(names, ","), 1+rnd.IntN(65535), root, mild(1+rnd.IntN(10)), i, "/"+mild(1+rnd.IntN(10)), root+"2")
		d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
		if len(problems) > 0 {
			continue
		}
		out, err := render.VirtualHost(d, render.Site{Name: fmt.Sprintf("s%d", i), Root: root, IPv6: true})
		if err != nil {
			g.T.Fatal(err)
		}
		all.WriteString(out.Text)
		if sites++; sites == 120 {
			break
		}
	}
	if sites < 60 {
		g.T.Fatalf("lint accepted only %d of the sites", sites)
	}
	if err := stage.Lab().Put(context.Background(), host, file, []byte(all.String())); err != nil {
		g.T.Fatal(err)
	}
	if out := g.On(host, test); !strings.Contains(out, good) {
		g.T.Errorf("of %d sites that lint accepts, %s says:\n%s", sites, server, out)
	}
	g.On(host, "rm "+file)
}

// recorded holds a stake against how the service's record says that it stands.
func recorded(g *stage.Ground, host, name string, want plan.Standing) {
	g.T.Helper()
	_, body := g.Get("/grounds/" + g.Name + "/hosts/" + host)
	var h contract.PlaceView
	stage.Decode(g.T, body, &h)
	for _, r := range h.Rows {
		if r.Address == host+"/"+name && r.Standing == want {
			return
		}
	}
	g.T.Errorf("%s/%s is not %s in the record: %s", host, name, want, body)
}

// A run is as good as what visitors get at its end: a site that answers as little as before is never
// told as done (V4). A check that could not be made is no answer: it takes nothing back, and says
// nothing of filters (K8, V18).
func TestARunIsJudgedByWhatIsAnswered(t *testing.T) {
	t.Parallel()
	const site = "[site.timetable]\non = [\"%s\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n[[site.timetable.probe]]\npath = \"/\"\ncontains = \"%s\"\nfrom = [\"inside\", \"%s\"]\n"
	g := stage.NewGround(t, stage.Shared(), 2, stage.BareKit)
	host, other := g.Hosts[0], g.Hosts[1]
	g.DeclareText("[kit.base]\n" + fmt.Sprintf(site, host, "Next sailing", other))
	g.Trust()
	g.Apply(0)

	// The other host lets nobody in while the site's content changes.
	g.On(other, "systemctl stop ssh.socket 2>/dev/null; systemctl stop ssh; pkill -f '[s]shd: keeper' || true")
	g.Content("index.html", stage.Page("two"))
	g.Ns(0, "declare", g.Dir)
	var p contract.Plan
	stage.Decode(t, g.Ns(1, "plan", g.Name, "--on", host, "--json"), &p)
	r := g.ApplyPlan(0, p.Id)
	if notes := strings.Join(r.Hosts[0].Notes, "; "); r.Hosts[0].State != "done" || !strings.Contains(notes, "site timetable was not checked from "+other) {
		t.Errorf("the host ended %s: %+v, %s", r.Hosts[0].State, r.Hosts[0].Fault, notes)
	}
	if _, body := g.Fetch(host, "/"); !strings.Contains(body, "version two") {
		t.Errorf("the site shows %q", body)
	}
	if out := g.Ns(2, "probe", g.Name, "--on", host); !strings.Contains(out, "not checked") || strings.Contains(out, "filters the port") {
		t.Errorf("probe says\n%s", out)
	}
	g.On(other, "systemctl start ssh")

	// What a run has nothing to do with, and answers wrongly before and after.
	g.DeclareText("[kit.base]\npackages = [\"tree\"]\n" + fmt.Sprintf(site, host, "No such sailing", other))
	g.Ns(0, "declare", g.Dir)
	stage.Decode(t, g.Ns(1, "plan", g.Name, "--on", host, "--json"), &p)
	r = g.ApplyPlan(1, p.Id)
	if h := r.Hosts[0]; h.State != "unmet" || !strings.Contains(h.Fault.What, "site timetable answers as little as before") {
		t.Errorf("the host ended %s: %+v", h.State, h.Fault)
	}
	recorded(g, host, "site/timetable", plan.Shifted)
	if got := g.On(host, "dpkg-query -W -f '${Status}' tree"); got != "install ok installed" {
		t.Errorf("what the run was for is taken back: %s", got)
	}
}

// Drift is of what visitors get, not of what lies there: a text that was loaded and put back (V2), a
// virtual host of somebody's at the host's own address (V3) or by an include of another directory are
// seen though every file of North Stake's is as it was written; a slow answer is no older text (V8).
func TestDriftIsOfWhatVisitorsGet(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	conf := "/etc/nginx/sites-available/northstake-timetable.conf"
	says := func(what string, want ...string) {
		t.Helper()
		out := g.Ns(1, "drift", g.Name)
		for _, w := range want {
			if !strings.Contains(out, w) {
				t.Errorf("%s: drift does not say %q:\n%s", what, w, out)
			}
		}
	}
	// Somebody has the server answer 503 to all, and puts the file back with its times.
	g.On(host, "cp -p "+conf+" /tmp/conf; sed -i 's|^\\( *\\)index .*|&\\n\\1return 503;|' "+conf+"; nginx -t -q && systemctl reload nginx; sleep 1; cat /tmp/conf > "+conf+"; touch -r /tmp/conf "+conf)
	if status, _ := g.Fetch(host, "/"); status != 503 {
		t.Fatalf("the site answers %d", status)
	}
	says("loaded and put back", "site/timetable", "its file was changed after nginx had read it", "503")
	g.Ns(0, "restore", g.Name, "--yes")
	g.Ns(0, "drift", g.Name)
	if status, _ := g.Fetch(host, "/"); status != 200 {
		t.Errorf("restored, the site answers %d", status)
	}
	// Another virtual host of the same name, at the address that visitors come to.
	g.On(host, "mkdir -p /etc/nginx/elsewhere; echo 'server { listen "+g.Address(host)+":80; server_name timetable.saltmarsh.test; return 200 \"theirs\\n\"; }' > /etc/nginx/elsewhere/their.conf; sed -i 's|include /etc/nginx/sites-enabled|include /etc/nginx/elsewhere/*.conf;\\n\\t&|' /etc/nginx/nginx.conf; nginx -t -q && systemctl reload nginx; sleep 1")
	if _, body := g.Fetch(host, "/"); body != "theirs\n" {
		t.Fatalf("the site says %q", body)
	}
	says("at the host's address", "site/timetable", "from outside")
	// A plan says so as well, and leaves it in the record.
	if out := g.Ns(2, "plan", g.Name); !strings.Contains(out, "visitors of timetable.saltmarsh.test at "+g.Address(host)+":80 are answered by another virtual host, /etc/nginx/elsewhere/their.conf:1") {
		t.Errorf("plan says\n%s", out)
	}
	recorded(g, host, "site/timetable", plan.Shifted)
	g.On(host, "rm /etc/nginx/elsewhere/their.conf; systemctl reload nginx; sleep 1")
	g.Ns(0, "drift", g.Name)
	// The line by which the server takes sites in is gone, which shows with its next reload (V14).
	g.On(host, "cp -p /etc/nginx/nginx.conf /tmp/main; sed -i '/sites-enabled/d' /etc/nginx/nginx.conf")
	says("taken in by nothing", "site/timetable", "taken in by nginx", "/etc/nginx/nginx.conf takes nothing in")
	if out := g.Ns(2, "restore", g.Name, "--yes"); !strings.Contains(out, "takes in nothing from /etc/nginx/sites-enabled") {
		t.Errorf("restore says\n%s", out)
	}
	g.On(host, "cat /tmp/main > /etc/nginx/nginx.conf")
	g.Ns(0, "drift", g.Name)
	// An access list shuts the server's account out, where the mode lets it through (V13).
	g.On(host, "setfacl -m u:www-data:--- /srv/www")
	says("shut by an access list", "site/timetable", "way to /srv/www/timetable", "shut at /srv/www")
	g.On(host, "setfacl -b /srv/www; chmod 755 /srv/www")
	g.Ns(0, "drift", g.Name)
	// A server that is stopped for a while says nothing.
	g.On(host, "pkill -STOP nginx")
	if out := g.Ns(2, "drift", g.Name); strings.Contains(out, "older configuration") || !strings.Contains(out, "has not said within") {
		t.Errorf("of a server that does not answer drift says\n%s", out)
	}
	g.On(host, "pkill -CONT nginx")
	g.Ns(0, "drift", g.Name)
	g.NothingToDo()
}

// A look at a site asks as its visitors do, without a probe: by each of its names, at each address of the
// host. Whatever a site asks of visitors or answers itself, it says its mark to who knows it, and to nobody
// else; and no visit stands in its log (V3).
func TestWhoAnswersTheVisitorsOfASite(t *testing.T) {
	t.Parallel()
	site := "[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\n"
	servers := []struct {
		name, conf, their string
		port              int
	}{
		{"nginx", "/etc/nginx/sites-enabled/their.conf", "server { listen ADDRESS:PORT; server_name other.test; return 200 \"theirs\\n\"; }", 8181},
		{"httpd", "/etc/apache2/sites-enabled/their.conf", "<VirtualHost ADDRESS:PORT>\nServerName other.test\nRedirect 410 /\n</VirtualHost>", 8182},
		{"caddy", "/etc/caddy/conf.d/their.conf", "http://moved.caddy.saltmarsh.test:PORT {\n\tbind ADDRESS\n\trespond \"theirs\"\n}", 8183},
	}
	reload := map[string]string{"nginx": "nginx", "httpd": "apache2", "caddy": "caddy"}
	var b strings.Builder
	b.WriteString("[kit.base]\npackages = [\"curl\"]\n" + site)
	for _, s := range servers {
		fmt.Fprintf(&b, `[site.%[1]s]
on = ["h*"]
server = %[1]q
listen = [%[2]d]
names = ["wall.%[1]s.saltmarsh.test", "*.wide.%[1]s.saltmarsh.test"]
redirected_names = ["old.%[1]s.saltmarsh.test"]
catch_all = true
from = ["192.0.2.0/24"]
log = { access = "%[3]s/wall.log" }
[site.%[1]s.passwords]
ferry = "$2y$05$abcdefghijklmnopqrstuuqNOqZb8zGWnHEBkoOrqBMsD9y8tVjH2"
[site.%[1]s-moved]
on = ["h*"]
server = %[1]q
listen = [%[2]d]
names = ["moved.%[1]s.saltmarsh.test"]
[site.%[1]s-moved.path."/"]
moved_to = "https://saltmarsh.test/"
`, s.name, s.port, "/var/log/"+reload[s.name])
	}
	g := stage.NewGround(t, stage.Shared(), 1, b.String())
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	g.Ns(0, "drift", g.Name)
	for _, s := range servers {
		if got := g.On(host, fmt.Sprintf("cat /var/log/%s/wall.log | grep -c northstake || true", reload[s.name])); strings.TrimSpace(got) != "0" {
			t.Errorf("%s: %s visits stand in the log", s.name, got)
		}
		for path, want := range map[string]string{"/.well-known/northstake/": "403", "/.well-known/northstake/000000000000000000000000": "403"} {
			if got := g.On(host, fmt.Sprintf("curl -s -o /dev/null -w '%%{http_code}' -H 'Host: wall.%s.saltmarsh.test' http://127.0.0.1:%d%s", s.name, s.port, path)); got != want {
				t.Errorf("%s: %s of who does not know the mark: %s", s.name, path, got)
			}
		}
	}
	// Who listens at the loopback address alone takes nobody's visitors.
	g.On(host, "echo 'server { listen 127.0.0.1:80; listen 127.0.0.1:8181; server_name 127.0.0.1; return 204; }' > /etc/nginx/conf.d/status.conf; nginx -t -q && systemctl reload nginx; sleep 1")
	g.Ns(0, "drift", g.Name)
	g.On(host, "rm /etc/nginx/conf.d/status.conf; systemctl reload nginx; sleep 1")
	for _, s := range servers {
		g.On(host, fmt.Sprintf("cat > %s <<'X'\n%s\nX\nsystemctl reload %s; sleep 1", s.conf, strings.NewReplacer("ADDRESS", g.Address(host), "PORT", strconv.Itoa(s.port)).Replace(s.their), reload[s.name]))
		out := g.Ns(1, "drift", g.Name)
		for _, want := range []string{"site/" + s.name, "another virtual host, " + s.conf + ":1", fmt.Sprintf("%s:%d", g.Address(host), s.port)} {
			if !strings.Contains(out, want) {
				t.Errorf("%s: drift does not say %q:\n%s", s.name, want, out)
			}
		}
		if out := g.Ns(2, "restore", g.Name, "--yes"); !strings.Contains(out, "are answered by another virtual host, "+s.conf+":1") {
			t.Errorf("%s: restore says\n%s", s.name, out)
		}
		// It goes when it is named, as the message says (V16).
		out = g.Ns(2, "plan", g.Name)
		advice := fmt.Sprintf("northstake bring file %s --gone --reload %s --on %s", s.conf, reload[s.name], host)
		if !strings.Contains(out, advice) {
			t.Errorf("%s: plan does not say %q:\n%s", s.name, advice, out)
		}
		out = g.Ns(0, append(strings.Fields(strings.TrimPrefix(advice, "northstake ")), "--ground", g.Name, "--yes")...)
		if !strings.Contains(out, "take away "+s.conf) {
			t.Errorf("%s: bring says\n%s", s.name, out)
		}
		g.Eventually("visitors come to the site again", func() error {
			if out, errs, code := g.Run("drift", g.Name); code != 0 {
				return fmt.Errorf("%d %s%s", code, out, errs)
			}
			return nil
		})
	}
}

// A rule that leads visitors from outside elsewhere is found, though the site answers on its host by each name
// (V3): the site has shifted beside its port, and the plan says what to look for.
func TestVisitorsWhoAreLedElsewhere(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "[kit.base]\npackages = [\"nftables\"]\n[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\", \"*.wide.saltmarsh.test\"]\n[site.charts]\non = [\"h*\"]\nserver = \"nginx\"\nlisten = [8081]\nnames = [\"charts.saltmarsh.test\"]\n")
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	g.Ns(0, "drift", g.Name)
	g.On(host, `echo 'server { listen 8099; return 200 "theirs\n"; }' > /etc/nginx/conf.d/theirs.conf; nginx -t -q && systemctl reload nginx; sleep 1
nft 'table ip led { chain in { type nat hook prerouting priority -100; tcp dport 80 redirect to :8099; }; }'`)
	if status, body, err := stage.Get("http://"+g.Address(host)+"/", "timetable.saltmarsh.test"); err != nil || body != "theirs\n" {
		t.Fatalf("the visitors are not led elsewhere: %d %q %v", status, body, err)
	}
	out := g.Ns(1, "drift", g.Name)
	for _, want := range []string{"site/timetable", "who answers timetable.saltmarsh.test at port 80 from outside", "somebody else, with 200"} {
		if !strings.Contains(out, want) {
			t.Errorf("drift does not say %q:\n%s", want, out)
		}
	}
	if strings.Contains(out, "site/charts") {
		t.Errorf("a site on another port is named:\n%s", out)
	}
	if out := g.Ns(2, "plan", g.Name); !strings.Contains(out, "port 80/tcp is closed by table ip led") || !strings.Contains(out, "timetable.saltmarsh.test answers on the host itself, and from outside somebody else does at port 80, with 200") || !strings.Contains(out, "nft list ruleset") {
		t.Errorf("plan says\n%s", out)
	}
	// Who stands there may pass on all names but one.
	g.On(host, `echo 'server { listen 8099 default_server; location / { proxy_pass http://127.0.0.1:80; proxy_set_header Host $host; } }
server { listen 8099; server_name *.wide.saltmarsh.test; return 200 "theirs\n"; }' > /etc/nginx/conf.d/theirs.conf; nginx -t -q && systemctl reload nginx; sleep 1`)
	out = g.Ns(1, "drift", g.Name)
	if !strings.Contains(out, ".wide.saltmarsh.test at port 80 from outside") || strings.Contains(out, "who answers timetable.saltmarsh.test") {
		t.Errorf("of one name that is led elsewhere drift says\n%s", out)
	}
	g.On(host, "nft delete table ip led")
	g.Ns(0, "drift", g.Name)
	g.NothingToDo()
}

// A file may be any bytes, a program say: one byte that is changed is found, and what was there comes back when
// a run goes back (M12).
func TestAFileOfAnyBytes(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "[kit.base]\npackages = [\"cron\"]\n[kit.base.file.\"/usr/local/bin/tide\"]\nfrom = \"files/tide\"\nmode = \"0755\"\n[kit.base.file.\"/etc/harbour/key store\"]\nfrom = \"files/store\"\nmode = \"0600\"\n")
	program, err := os.ReadFile("/bin/true") // of this machine's family
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(7, 7))
	store := make([]byte, 1<<20) // as large as it may be
	for i := range store {
		store[i] = byte(random.Uint32())
	}
	g.Content("index.html", "Next sailing at six")
	g.Beside("files/tide", string(program))
	g.Beside("files/store", string(store))
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	lies := func(path string, want []byte) {
		t.Helper()
		if got := g.On(host, "sha256sum < '"+path+"' | cut -d' ' -f1"); strings.TrimSpace(got) != fmt.Sprintf("%x", sha256.Sum256(want)) {
			t.Errorf("%s holds other bytes", path)
		}
	}
	lies("/usr/local/bin/tide", program)
	lies("/etc/harbour/key store", store)
	g.On(host, "/usr/local/bin/tide")
	g.NothingToDo()
	g.HandEdits(host, []stage.Edit{
		{"file/usr/local/bin/tide", "text", "cp -p /usr/local/bin/tide /tmp/t; printf '\\377' | dd of=/usr/local/bin/tide bs=1 seek=100 conv=notrunc status=none; touch -r /tmp/t /usr/local/bin/tide"},
		{"file/usr/local/bin/tide", "text", "echo text > /usr/local/bin/tide"},
		{"file/usr/local/bin/tide", "mode", "chmod 644 /usr/local/bin/tide"},
		{"file/etc/harbour/key store", "text", "truncate -s 1048575 '/etc/harbour/key store'"},
	})
	lies("/usr/local/bin/tide", program)
	// A text in place of bytes, and bytes in place of bytes, go back with the run.
	g.Beside("files/tide", "#!/bin/sh\n")
	other := slices.Clone(store)
	other[1<<19] ^= 0xff
	g.Beside("files/store", string(other))
	g.Content("index.html", "nothing sails")
	g.Ns(0, "declare", g.Dir)
	if r := g.Apply(2); r.Hosts[0].State != "back" {
		t.Errorf("the host ended %s", r.Hosts[0].State)
	}
	lies("/usr/local/bin/tide", program)
	lies("/etc/harbour/key store", store)
	g.Content("index.html", "Next sailing at six")
	g.Ns(0, "declare", g.Dir)
	g.Apply(0)
	lies("/usr/local/bin/tide", []byte("#!/bin/sh\n"))
	lies("/etc/harbour/key store", other)
	// One byte more is refused, with its place.
	g.Beside("files/store", string(store)+"x")
	if _, errs, status := g.Run("lint", g.Dir); status != 2 || !strings.Contains(errs, "files/store is larger than 1024 KB") {
		t.Errorf("lint ends with %d: %s", status, errs)
	}
}

// A site that listens at all addresses of one port and at one address of another is asked at both, on each
// server: it answers there and nowhere else, and who takes its visitors at either is found (V3).
func TestASiteThatListensHereAndThere(t *testing.T) {
	t.Parallel()
	servers := []struct {
		name, conf, service, their string
		wide, narrow               int
	}{
		{"nginx", "/etc/nginx/conf.d/a-their.conf", "nginx", "server { listen ADDRESS:PORT; server_name here.nginx.saltmarsh.test; return 410; }", 8281, 8381},
		{"httpd", "/etc/apache2/sites-enabled/a-their.conf", "apache2", "<VirtualHost ADDRESS:PORT>\nServerName other.test\nServerAlias *.httpd.saltmarsh.test\nRedirect 410 /\n</VirtualHost>", 8282, 8382},
		{"caddy", "/etc/caddy/conf.d/a-their.conf", "caddy", "http://here.caddy.saltmarsh.test:PORT {\n\tbind ADDRESS\n\trespond 410\n}", 8283, 8383},
	}
	var b strings.Builder
	b.WriteString("[kit.base]\npackages = [\"curl\"]\n[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\n")
	for _, s := range servers {
		fmt.Fprintf(&b, "[site.%[1]s]\non = [\"h*\"]\nserver = %[1]q\nlisten = [%[2]d, { port = %[3]d, address = \"127.0.0.1\" }]\nnames = [\"here.%[1]s.saltmarsh.test\"]\n[site.%[1]s.path.\"/\"]\nsays = \"%[1]s is here\"\n", s.name, s.wide, s.narrow)
	}
	g := stage.NewGround(t, stage.Shared(), 1, b.String())
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	ask := func(server, address string, port int) string {
		t.Helper()
		return g.On(host, fmt.Sprintf("curl -s -m 5 -w ' %%{http_code}' -H 'Host: here.%s.saltmarsh.test' http://%s:%d/ || true", server, address, port))
	}
	for _, s := range servers {
		for _, at := range []struct {
			address string
			port    int
			want    string
		}{{g.Address(host), s.wide, s.name + " is here 200"}, {"127.0.0.1", s.wide, s.name + " is here 200"}, {"127.0.0.1", s.narrow, s.name + " is here 200"}, {g.Address(host), s.narrow, " 000"}} {
			if got := ask(s.name, at.address, at.port); got != at.want {
				t.Errorf("%s: at %s:%d it is answered %q, not %q", s.name, at.address, at.port, got, at.want)
			}
		}
	}
	g.Ns(0, "drift", g.Name)
	g.NothingToDo()
	for _, s := range servers {
		for _, at := range []struct {
			address string
			port    int
		}{{g.Address(host), s.wide}, {"127.0.0.1", s.narrow}} {
			if s.name == "caddy" && at.port == s.narrow {
				continue // it takes no second one of the same address and name
			}
			g.On(host, fmt.Sprintf("cat > %s <<'X'\n%s\nX\nsystemctl reload %s; sleep 1", s.conf, strings.NewReplacer("ADDRESS", at.address, "PORT", strconv.Itoa(at.port)).Replace(s.their), s.service))
			if got := ask(s.name, at.address, at.port); !strings.HasSuffix(got, " 410") {
				t.Errorf("%s: the other virtual host does not answer at %s:%d: %q", s.name, at.address, at.port, got)
			}
			out := g.Ns(1, "drift", g.Name)
			for _, want := range []string{"site/" + s.name, s.conf + ":1", fmt.Sprintf("%s:%d", at.address, at.port)} {
				if !strings.Contains(out, want) {
					t.Errorf("%s: drift does not say %q:\n%s", s.name, want, out)
				}
			}
			g.On(host, fmt.Sprintf("rm %s; systemctl reload %s; sleep 1", s.conf, s.service))
		}
	}
	g.Eventually("all visitors come to the sites again", func() error {
		if out, errs, code := g.Run("drift", g.Name); code != 0 {
			return fmt.Errorf("%d %s%s", code, out, errs)
		}
		return nil
	})
}
