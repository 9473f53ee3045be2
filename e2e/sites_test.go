package e2e

import (
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"mime/multipart"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf8"

	"northstake/core/render"
	"northstake/e2e/requests"
	"northstake/lab"
	"northstake/service/contract"
)

// served is a web server on a family of systems, with what it calls itself and where its
// logs lie.
type servedBy struct {
	family lab.Family
	server string
	says   string
	logs   string
	within bool // its server runs in a container
}

var serving = []servedBy{
	{lab.Debian, "nginx", "nginx", "nginx", false},
	{lab.RedHat, "nginx", "nginx", "nginx", false},
	{lab.Debian, "httpd", "Apache", "apache2", false},
	{lab.RedHat, "httpd", "Apache", "httpd", false},
	{lab.Debian, "caddy", "Caddy", "caddy", false},
	{lab.RedHat, "caddy", "Caddy", "caddy", false},
	{lab.Debian.Able(), "nginx", "nginx", "sites", true},
	{lab.Debian.Able(), "httpd", "Apache", "sites", true},
	{lab.Debian.Able(), "caddy", "Caddy", "sites", true},
}

// The same declaration is answered alike by every web server, in both layouts, as the page
// about requests says.
func TestSitesAnswerAlike(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile(filepath.Join(root, "docs", "requests.md"))
	if err != nil {
		t.Fatal(err)
	}
	rows, err := requests.Parse(string(page))
	if err != nil {
		t.Fatal(err)
	}
	if len(rows) < 100 {
		t.Fatalf("%d requests are asked", len(rows))
	}
	for _, by := range serving {
		name := by.family.String() + "-" + by.server
		if by.within {
			name = "container-" + by.server
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			g, host := sitesOf(t, by)
			g.trust()
			g.apply(0)
			g.nothingToDo()
			for _, r := range rows {
				if err := r.Try(context.Background(), host); err != nil {
					t.Errorf("docs/requests.md:%d: %s %v: %v", r.Line, r.Request, r.With, err)
				}
			}
			if out := g.ns(0, "probe", g.name); !strings.Contains(out, "harbour") {
				t.Errorf("the probes say:\n%s", out)
			}
			g.logged(by)
		})
	}
}

// sitesOf makes a host, and a ground with the sites of the table on it.
func sitesOf(t *testing.T, by servedBy) (*ground, requests.Host) {
	t.Helper()
	listen := func() string {
		l, err := net.Listen("tcp", labs.Here()+":0")
		if err != nil {
			t.Fatal(err)
		}
		s := httptest.NewUnstartedServer(requests.Service())
		s.Listener.Close()
		s.Listener = l
		s.Start()
		t.Cleanup(s.Close)
		return l.Addr().String()
	}
	g := newGroundOf(t, shared, []lab.Family{by.family}, "[kit.base]\n[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"x.test\"]\n")
	h := g.hosts[0]
	service, other := listen(), listen() // whose address the hosts' network brings
	text, err := os.ReadFile(filepath.Join(root, "e2e", "requests", "sites.toml"))
	if err != nil {
		t.Fatal(err)
	}
	kit, server := "[kit.base]\n", fmt.Sprintf("%q", by.server)
	if by.within {
		at := registry(t)
		kit, server = engineKit(at), fmt.Sprintf("%s\nimage = %q", server, pushedServers(t, at, "1"))
	}
	sites := strings.NewReplacer("\"SERVER\"", server, "SERVICE2", other, "SERVICE", service, "DOWN", labs.Here()+":1", "HERE", labs.Here(), "ADDRESS", g.address(h), "LOGS", by.logs).Replace(string(text))
	g.beside("ground.toml", fmt.Sprintf("[ground]\nname = %q\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\nsudo = true\n[host.%s]\naddress = %q\nkits = [\"base\"]\n", g.name, h, g.address(h))+kit+sites)
	for path, text := range requests.Content() {
		g.content(path, text)
	}
	// What listens on the host's socket hands on to the service.
	g.on(h, fmt.Sprintf("printf '[Socket]\\nListenStream=/run/tides.sock\\nSocketMode=0666\\n' > /etc/systemd/system/tides.socket; "+
		"printf '[Service]\\nExecStart=/lib/systemd/systemd-socket-proxyd %s\\n' > /etc/systemd/system/tides.service; systemctl daemon-reload; systemctl -q start tides.socket", service))
	inside := func(ctx context.Context, address string) (net.Conn, error) { return labs.Dial(ctx, h, address) }
	return g, requests.Host{Address: g.address(h), Inside: inside, Values: map[string]string{"here": labs.Here(), "server": by.says, "tick": "`"}}
}

// logged says whether the access log of the table's site has the record that it has on every
// server, and stays valid whatever bytes visitors send.
func (g *ground) logged(by servedBy) {
	g.t.Helper()
	log := fmt.Sprintf("/var/log/%s/harbour.log", by.logs)
	type record struct {
		Time    float64
		Account *string
		Status  int
		Bytes   *int
		Seconds *float64
		Request struct {
			Client, Method, Host, Target, Protocol string
			Path, Query, Referrer                  *string
			Agent                                  *string `json:"user_agent"`
		}
	}
	var entry record
	line := g.on(g.hosts[0], "grep -m1 'page.html' "+log)
	decode(g.t, line, &entry)
	r := entry.Request
	if entry.Time < 1e9 || entry.Account == nil || entry.Status != 200 || entry.Bytes == nil || *entry.Bytes < 5 || entry.Seconds == nil || *entry.Seconds < 0 ||
		r.Client != labs.Here() || r.Method != "GET" || r.Host != "harbour.test" || r.Target != "/page.html" || r.Protocol != "HTTP/1.1" {
		g.t.Errorf("the log says %s", line)
	}
	if whole := r.Path != nil && *r.Path == "/page.html" && r.Query != nil && *r.Query == "" && r.Referrer != nil && r.Agent != nil; whole == (by.server == "caddy") {
		g.t.Errorf("of the path alone, the query, the referrer and the browser the log says %s", line)
	}
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(seed, 0))
	junk := func(n int, no string) string {
		b := make([]byte, 0, n)
		for len(b) < n {
			if c := byte(1 + random.IntN(255)); !strings.ContainsRune("\r\n"+no, rune(c)) {
				b = append(b, c)
			}
		}
		return string(b)
	}
	target := net.JoinHostPort(g.address(g.hosts[0]), "80")
	send := func(request string) {
		conn, err := net.DialTimeout("tcp", target, 5*time.Second)
		if err != nil {
			g.t.Fatal(err)
		}
		defer conn.Close()
		conn.SetDeadline(time.Now().Add(5 * time.Second))
		io.WriteString(conn, request)
		io.Copy(io.Discard, conn)
	}
	for range 200 {
		send(fmt.Sprintf("GET /tide-%s?%s HTTP/1.1\r\nHost: harbour.test\r\nUser-Agent: %s\r\nReferer: %s\r\nAuthorization: Basic %s\r\nConnection: close\r\n\r\n",
			junk(4, " #"), junk(3, " #"), junk(12, ""), junk(8, ""), base64.StdEncoding.EncodeToString([]byte(junk(6, ":")+":x"))))
		send(junk(3, " ") + " /tide HTTP/1.1\r\nHost: " + junk(5, "") + "\r\nConnection: close\r\n\r\n")
		send("GET /tide?%22=\"\\ HTTP/1.1\r\nHost: harbour.test\r\nUser-Agent: a \"b\" \\ c\tZ\u00fc\u2028\r\nConnection: close\r\n\r\n")
	}
	tides := 0
	for _, line := range strings.Split(strings.TrimSpace(g.on(g.hosts[0], "base64 -w0 "+log)), "\n") {
		all, err := base64.StdEncoding.DecodeString(line)
		if err != nil {
			g.t.Fatal(err)
		}
		for one := range strings.Lines(string(all)) {
			var r record
			if err := json.Unmarshal([]byte(one), &r); err != nil || !utf8.ValidString(one) || r.Time == 0 || r.Seconds == nil || r.Request.Client == "" {
				g.t.Errorf("seed %d: a line of the log is no record: %q, %v", seed, one, err)
			}
			if strings.HasPrefix(r.Request.Target, "/tide?%22") {
				tides++
			}
		}
	}
	if tides < 150 {
		g.t.Errorf("seed %d: of 200 requests the log has %d", seed, tides)
	}
}

// PHP files that are there are run, by every server, and no other; what they are made of is
// never shown.
func TestSitesRunPHP(t *testing.T) {
	t.Parallel()
	var text strings.Builder
	servers := []string{"nginx", "httpd", "caddy"}
	for i, server := range servers {
		fmt.Fprintf(&text, "[site.%[1]s]\non = [\"h*\"]\nserver = %[1]q\nnames = [\"%[1]s.test\"]\nlisten = [%[2]d]\nphp = true\nindex = [\"index.html\", \"index.php\"]\ncontent = { dir = \"content\" }\n"+
			"[[site.%[1]s.probe]]\npath = \"/tide.php?of=quay\"\ncontains = \"tide of quay\"\n[site.%[1]s.path.\"/more\"]\nroot = \"/srv/www/more-%[1]s\"\ncontent = { dir = \"more\" }\n[site.%[1]s.path.\"/front\"]\nroot = \"/srv/www/front-%[1]s\"\ncontent = { dir = \"front\" }\notherwise = \"index.php\"\nlargest_body = \"3MB\"\n"+
			"[site.%[1]s.path.\"/page\"]\nroot = \"/srv/www/page-%[1]s\"\ncontent = { dir = \"page\" }\notherwise = \"index.html\"\n"+
			"[site.%[1]s.path.\"/sent\"]\nroot = \"/srv/www/sent-%[1]s\"\ncontent = { dir = \"sent\" }\nlargest_body = \"12MB\"\n", server, 8100+i)
	}
	g := newGround(t, shared, 1, text.String())
	g.content("tide.php", "<?php echo 'tide of ', $_REQUEST['of'], ' by ', $_SERVER['REQUEST_METHOD'], ' at ', basename($_SERVER['SCRIPT_FILENAME']), getenv('HTTP_PROXY');\n")
	g.content("below/index.php", "<?php echo 'started';\n")
	g.content("photo.jpg", "<?php echo 'never';\n")
	g.content(".secret.php", "<?php echo 'never';\n")
	g.beside("more/index.html", "more")
	g.content("limits.php", "<?php echo strlen(file_get_contents('php://input')), ' ', $_SERVER['HTTP_AUTHORIZATION'] ?? 'nobody';\n")
	g.beside("front/index.php", "<?php echo $_SERVER['REQUEST_METHOD'], ' ', $_SERVER['SCRIPT_NAME'], ' ', $_SERVER['PATH_INFO'] ?? '', ' ', $_SERVER['REQUEST_URI'], ' ', basename($_SERVER['SCRIPT_FILENAME']), ' ', strlen(file_get_contents('php://input')), ' ', $_GET['day'] ?? '';\n")
	g.beside("front/other.php", "<?php echo 'other at ', $_SERVER['SCRIPT_NAME'];\n")
	g.beside("front/style.css", "p {}")
	g.beside("front/below/note.txt", "a note")
	g.beside("page/index.html", "the page")
	g.beside("page/tide.php", "<?php echo 'tide ', 6 * 7;\n")
	g.beside("sent/index.php", "<?php echo $_FILES['chart']['size'] ?? 'none', ' ', strlen(file_get_contents('php://input')), ' ', count($_POST);\n")
	g.beside("more/limit.php", "<?php echo ini_get('upload_max_filesize'), ' ', ini_get('post_max_size');\n")
	g.beside("more/tide.php", "<?php echo 'more of ', 6 * 7;\n")
	g.trust()
	g.apply(0)
	g.nothingToDo()
	for i, server := range servers {
		measured := func(n string) string { // the others ask for the length of what they cannot measure
			return map[bool]string{true: "`200`, `has " + n + "`", false: "`411`"}[server == "nginx"]
		}
		for _, row := range [][2]string{
			{"`GET /tide.php?of=quay`, `Proxy: http://evil.test/`", "`200`, `is tide of quay by GET at tide.php`"},
			{"`POST /tide.php?of=pier`, `body of 9 bytes`", "`200`, `has tide of pier by POST`"},
			{"`GET /below/`", "`200`, `is started`"},
			{"`GET /`", "`200`, `has Next sailing`"},
			// A directory takes what the file takes that answers for it.
			{"`POST /below/`, `body of 3 bytes`", "`200`, `is started`"},
			{"`DELETE /below/`", "`405`, `hasn't started`"},
			{"`POST /`, `body of 3 bytes`", "`405`, `hasn't Next sailing`"},
			{"`POST /more/`, `body of 3 bytes`", "`405`"},
			{"`GET /nothing.php`", "`404`, `hasn't tide`"},
			{"`GET /photo.jpg/x.php`", "`404`, `hasn't never`"},
			{"`GET /photo.jpg`", "`200`, `Content-Type: image/jpeg`"},
			{"`GET /tide.php/x`", "`404`, `hasn't tide of`"},
			{"`GET /.secret.php`", "`404`, `hasn't never`"},
			{"`GET /tide.php%00.txt`", "`400`, `404`, `hasn't tide of`"},
			{"`GET /more/tide.php`", "`200`, `is more of 42`"},
			{"`GET /more/`", "`200`, `is more`"},
			{"`GET /more/limit.php`", "`200`, `is 2M 8M`"}, // what others have is theirs
			// A front controller is told what was asked for, however it was written.
			{"`GET /front/`", "`200`, `has GET /front/index.php `"},
			{"`GET /front/sailings/7?day=2`", "`200`, `is GET /front/index.php /sailings/7 /front/sailings/7?day=2 index.php 0 2`"},
			{"`GET /front/index.php/sailings/7`", "`200`, `has GET /front/index.php /sailings/7 /front/index.php/sailings/7 index.php`"},
			{"`GET /front/index.php`", "`200`, `is GET /front/index.php  /front/index.php index.php 0 `"},
			{"`GET /front/a%20b/100%25/%C3%BC`", "`200`, `has /front/index.php /a b/100%/ü /front/a%20b/100%25/%C3%BC index.php`"},
			{"`POST /front/sailings`, `body of 2500000 bytes`", "`200`, `is POST /front/index.php /sailings /front/sailings index.php 2500000 `"},
			{"`POST /front/sailings`, `2500000 bytes in chunks`", measured("2500000")},
			{"`POST /front/sailings`, `body of 3200000 bytes`", "`413`"},
			{"`POST /front/sailings`, `3200000 bytes in chunks`", "`413`, `411`"},
			{"`DELETE /front/sailings/7`", "`200`, `has DELETE /front/index.php /sailings/7`"},
			{"`POST /front/`, `body of 3 bytes`", "`200`, `has POST /front/index.php`"},
			{"`GET /front/gone.php`", "`200`, `has GET /front/index.php /gone.php`"},
			{"`GET /front/gone.php/x`", "`200`, `has GET /front/index.php /gone.php/x`"},
			{"`GET /front/other.php`", "`200`, `is other at /front/other.php`"},
			{"`GET /front/style.css`", "`200`, `is p {}`, `Content-Type: text/css; charset=utf-8`"},
			{"`POST /front/style.css`, `body of 3 bytes`", "`405`"},
			{"`GET /front/style.css/x`", "`200`, `has GET /front/index.php /style.css/x`"},
			{"`GET /front/below/`", "`200`, `has GET /front/index.php`"},
			{"`GET /front/below/note.txt`", "`200`, `is a note`"},
			{"`GET /front/.env`", "`404`"},
			// PHP beside an application in the browser.
			{"`GET /page/tide.php`", "`200`, `is tide 42`"},
			{"`GET /page/gone.php`", "`200`, `is the page`"},
			{"`GET /page/gone`", "`200`, `is the page`"},
			// What it takes is what the site takes, in whatever way it comes; and who asks it is told.
			{"`POST /limits.php`, `body of 900000 bytes`, `account purser:low water`", "`200`, `is 900000 Basic cHVyc2VyOmxvdyB3YXRlcg==`"},
			{"`POST /limits.php`, `900000 bytes in chunks`", measured("900000")},
			{"`POST /limits.php`, `body of 1100000 bytes`", "`413`"},
			{"`POST /limits.php`, `1100000 bytes in chunks`", "`413`, `411`"},
		} {
			g.answers(row[0], row[1], fmt.Sprintf("http://%s.test:%d", server, 8100+i))
		}
	}
	// What is sent to PHP is taken as far as the site takes it, beyond what PHP takes by itself (W7).
	sent := func(server string, port, size int, kind string) string {
		t.Helper()
		var body bytes.Buffer
		of := kind
		if kind == "" {
			form := multipart.NewWriter(&body)
			part, err := form.CreateFormFile("chart", "chart.bin")
			if err != nil {
				t.Fatal(err)
			}
			part.Write(bytes.Repeat([]byte("x"), size))
			form.Close()
			of = form.FormDataContentType()
		} else {
			body.Write(bytes.Repeat([]byte("x"), size))
		}
		r, err := http.NewRequest(http.MethodPost, fmt.Sprintf("http://%s:%d/sent/", g.address(g.hosts[0]), port), &body)
		if err != nil {
			t.Fatal(err)
		}
		r.Host = server + ".test"
		r.Header.Set("Content-Type", of)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			return err.Error()
		}
		defer answer.Body.Close()
		said, err := io.ReadAll(answer.Body)
		return fmt.Sprintf("%d %s %v", answer.StatusCode, said, err)
	}
	for i, server := range servers {
		for _, c := range []struct {
			size       int
			kind, want string
		}{{9_500_000, "", "200 9500000 0 0 <nil>"}, {9_500_000, "application/json", "200 none 9500000 0 <nil>"}} {
			if got := sent(server, 8100+i, c.size, c.kind); got != c.want {
				t.Errorf("%s answers %s for %d bytes of %q, wanted %s", server, got, c.size, c.kind, c.want)
			}
		}
	}
	// What brought PHP to a server goes with it, and nobody misses it (W12).
	g.declareText("[kit.base]\n[site.caddy]\non = [\"h*\"]\nserver = \"caddy\"\nnames = [\"caddy.test\"]\nlisten = [8102]\ncontent = { dir = \"more\" }\n")
	g.ns(0, "declare", g.dir)
	g.applyPlan(0, g.plan(1, "--clear").Id)
	g.nothingToDo()
	if out := g.ns(0, "drift", g.name); !strings.Contains(out, "nothing has shifted") {
		t.Errorf("drift says\n%s", out)
	}
	if out := g.ns(0, "restore", g.name, "--yes"); strings.Contains(out, "caddy") {
		t.Errorf("restore says\n%s", out)
	}
}

// answers makes a request, written as in the table of requests, with what is before its path, and checks what comes back.
func (g *ground) answers(asked, wanted, at string) {
	g.t.Helper()
	rows, err := requests.Parse("| " + strings.Replace(asked, " /", " "+at+"/", 1) + " | " + wanted + " | |")
	if err != nil {
		g.t.Fatal(err)
	}
	if err := rows[0].Try(context.Background(), requests.Host{Address: g.address(g.hosts[0])}); err != nil {
		g.t.Errorf("%s%s: %v", at, asked, err)
	}
}

// Accounts that a secret holds guard a path on every server. Neither plans nor readings have
// them; another value of the secret is a change, and one that cannot be had stops the plan.
func TestPasswordsOfASecret(t *testing.T) {
	t.Parallel()
	var text strings.Builder
	servers := []string{"nginx", "httpd", "caddy"}
	site := func(server string, port int, passwords string) string {
		return fmt.Sprintf("[site.%[1]s]\non = [\"h*\"]\nserver = %[1]q\nnames = [\"%[1]s.test\"]\nlisten = [%[2]d]\n[site.%[1]s.path.\"/crew\"]\nsays = \"crew\"\n%[3]s\n", server, port, passwords)
	}
	for i, server := range servers {
		text.WriteString(site(server, 8100+i, "passwords_secret = \"crew-accounts\""))
	}
	g := newGround(t, shared, 1, text.String())
	g.trust()
	if p := g.plan(2); len(p.Hosts[0].Blockers) != 3 || !strings.Contains(p.Hosts[0].Blockers[0].What, `there is no secret called "crew-accounts"`) {
		t.Fatalf("without the secret the plan has the blockers %+v", p.Hosts[0].Blockers)
	}
	keep := func(lines string) {
		t.Helper()
		file := filepath.Join(t.TempDir(), "accounts")
		write(t, file, lines)
		g.ns(0, "secret", "keep", "crew-accounts", "--file", file)
	}
	keep("purser:low-tide-7")
	if p := g.plan(2); len(p.Hosts[0].Blockers) != 3 || !strings.Contains(p.Hosts[0].Blockers[0].What, "line 1 has no bcrypt hash") || strings.Contains(p.Hosts[0].Blockers[0].What, "low-tide") {
		t.Fatalf("with a password in the secret the plan has the blockers %+v", p.Hosts[0].Blockers)
	}
	hash := func(account, password string) string {
		file := filepath.Join(t.TempDir(), "password")
		write(t, file, password)
		return g.ns(0, "password", "--account", account, "--file", file)
	}
	purser := hash("purser", "low-tide-7")
	check := func(status map[string]string) {
		t.Helper()
		for i, server := range servers {
			for login, want := range status {
				g.answers(fmt.Sprintf("`GET /crew`, `account %s`", login), want, fmt.Sprintf("http://%s.test:%d", server, 8100+i))
			}
		}
	}
	keep("# the crew\n\n" + purser)
	g.apply(0)
	g.nothingToDo()
	check(map[string]string{"purser:low-tide-7": "`200`, `is crew`", "purser:high-tide-7": "`401`", "bosun:high-tide-8": "`401`"})
	keep(purser + hash("bosun", "high-tide-8"))
	p := g.plan(1)
	var changes int
	for _, step := range p.Hosts[0].Steps {
		if step.Type == "site" {
			changes++
		}
	}
	if changes != 1 {
		t.Errorf("another value of the secret makes the steps %+v", p.Hosts[0].Steps)
	}
	if r := g.applyPlan(0, p.Id); r.State != "done" {
		t.Errorf("the run ended %s", r.State)
	}
	g.nothingToDo()
	check(map[string]string{"purser:low-tide-7": "`200`, `is crew`", "bosun:high-tide-8": "`200`, `is crew`"})
	// An edit on the host is drift, and goes.
	g.on(g.hosts[0], "for f in /etc/nginx/northstake-*.accounts /etc/apache2/northstake-*.accounts /etc/caddy/northstake-*.accounts; do echo 'pirate:x' >> $f; done")
	if out := g.ns(1, "drift", g.name); strings.Count(out, "accounts") < 3 {
		t.Errorf("drift says %s", out)
	}
	g.ns(0, "restore", g.name, "--yes")
	g.nothingToDo()
	// Nothing that is kept has what the secret holds.
	dump := g.s.dump(t)
	for _, line := range []string{purser, "low-tide-7"} {
		_, value, _ := strings.Cut(strings.TrimSpace(line), ":$2a")
		if value == "" {
			value = line
		}
		if strings.Contains(dump, value) {
			t.Errorf("the service's records have %s", line)
		}
	}
	// What is no longer declared leaves no accounts behind, and guards nothing.
	text.Reset()
	for i, server := range servers {
		text.WriteString(site(server, 8100+i, ""))
	}
	g.declareText(text.String())
	g.ns(0, "declare", g.dir)
	g.apply(0)
	g.nothingToDo()
	g.answers("`GET /crew`", "`200`, `is crew`", "http://nginx.test:8100")
	if out := g.on(g.hosts[0], "ls /etc/nginx /etc/apache2 /etc/caddy | grep accounts || true"); out != "" {
		t.Errorf("what is left is %s", out)
	}
}

// All three servers stand side by side on one host, each on its ports, whatever their
// packages bring: the default sites are switched off where a declared site needs the port.
func TestServersSideBySide(t *testing.T) {
	t.Parallel()
	for _, family := range []lab.Family{lab.Debian, lab.RedHat} {
		t.Run(family.String(), func(t *testing.T) {
			t.Parallel()
			site := func(name, server string, port int) string {
				return fmt.Sprintf("[site.%s]\non = [\"h*\"]\nserver = %q\nnames = [\"%s.test\"]\nlisten = [%d]\n[site.%s.path.\"/\"]\nsays = \"%s by %s\"\n", name, server, name, port, name, name, server)
			}
			text := func(first string) string {
				return "[kit.base]\ninbound = \"declared\"\n" + site("timetable", first, 80) + site("freight", "httpd", 8080) + site("islands", "caddy", 8081) + site("piers", "nginx", 8082)
			}
			g := newGroundOf(t, shared, []lab.Family{family}, text("nginx"))
			g.trust()
			answers := func(first string) {
				t.Helper()
				for port, want := range map[int]string{80: "timetable by " + first, 8080: "freight by httpd", 8081: "islands by caddy", 8082: "piers by nginx"} {
					name, _, _ := strings.Cut(want, " ")
					status, body, err := get(fmt.Sprintf("http://%s:%d/", g.address(g.hosts[0]), port), name+".test")
					if err != nil || status != 200 || body != want {
						t.Errorf("port %d answers %d %q, %v; wanted %q", port, status, body, err, want)
					}
				}
				if _, body, err := get("http://"+g.address(g.hosts[0])+"/", "nobody.test"); err == nil && strings.Contains(strings.ToLower(body), "welcome to nginx") {
					t.Errorf("the default site answers: %s", body)
				}
			}
			g.apply(0)
			g.nothingToDo()
			answers("nginx")
			for _, first := range []string{"httpd", "caddy", "nginx"} {
				g.declareText(text(first))
				g.ns(0, "declare", g.dir)
				g.apply(0)
				g.nothingToDo()
				answers(first)
			}
			// The declaration decides: kept is put back as it was.
			g.declareText(strings.Replace(text("nginx"), "[kit.base]\n", "[kit.base]\nserver = { nginx = { default_site = \"kept\" }, httpd = { default_site = \"off\" }, caddy = { default_site = \"removed\" } }\n", 1))
			g.ns(0, "declare", g.dir)
			g.apply(0)
			g.nothingToDo()
			answers("nginx")
			// So does what answers to names that no site has.
			for says, status := range map[string]int{"410": 410, "http://harbour.test/lost": 302} {
				declared, err := os.ReadFile(filepath.Join(g.dir, "ground.toml"))
				if err != nil {
					t.Fatal(err)
				}
				write(t, filepath.Join(g.dir, "ground.toml"), othersLine.ReplaceAllString(strings.Replace(string(declared), "[reach]", "unknown_names = \"\"\n[reach]", 1), fmt.Sprintf("unknown_names = %q\n", says)))
				g.ns(0, "declare", g.dir)
				g.apply(0)
				g.nothingToDo()
				answers("nginx")
				for _, port := range []string{"80", "8080", "8081", "8082"} {
					rows, err := requests.Parse("| `GET http://nobody.test:" + port + "/x?y` | `" + fmt.Sprint(status) + "` | |")
					if err != nil {
						t.Fatal(err)
					}
					if status == 302 {
						rows[0].Wanted = []string{"Location: " + says}
					}
					if err := rows[0].Try(context.Background(), requests.Host{Address: g.address(g.hosts[0])}); err != nil {
						t.Errorf("with %s, port %s: %v", says, port, err)
					}
				}
			}
		})
	}
}

var othersLine = regexp.MustCompile(`(?:unknown_names = .*\n)+`)

// A site that moves from one server to another is asked all the while, fifty times a second.
// What is not answered lies in one gap, which the plan has told: it is no longer than the two
// steps take between which it lies.
func TestASiteMovesUnderRequests(t *testing.T) {
	t.Parallel()
	declared := func(server string) string {
		return fmt.Sprintf("[kit.base]\n[site.timetable]\non = [\"h*\"]\nserver = %q\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n", server)
	}
	g := newGround(t, shared, 1, declared("nginx"))
	g.trust()
	g.apply(0)
	for _, server := range []string{"httpd", "caddy", "httpd", "nginx", "caddy", "nginx"} {
		g.declareText(declared(server))
		g.ns(0, "declare", g.dir)
		p := g.plan(1)
		if !strings.Contains(fmt.Sprint(p.Hosts[0].Cautions), "is down between steps ") {
			t.Errorf("to %s: the plan says of the gap %v", server, p.Hosts[0].Cautions)
		}
		asks := ask(g.address(g.hosts[0]))
		r := g.applyPlan(0, p.Id)
		failed := asks.end()
		told := 0.0
		for i, s := range r.Hosts[0].Steps {
			if strings.HasPrefix(s.Text, "stop ") && i+1 < len(r.Hosts[0].Steps) {
				told = s.TookMs + r.Hosts[0].Steps[i+1].TookMs
			}
		}
		t.Logf("to %s: %d requests of %d not answered, in %s; the two steps took %.0f ms", server, len(failed), asks.made, gap(failed), told)
		// Five seconds more are for what lies between steps, on a machine with other work to do.
		if told == 0 || gap(failed).Milliseconds() > int64(told)+5000 {
			t.Errorf("to %s: not answered for %s, while the steps took %.0f ms", server, gap(failed), told)
		}
	}
}

// A server that serves others as well is theirs: where its last declared site leaves it, it is not
// stopped, gives the port up and forgets the site; what others have on the port is in the way, by name
// (V6, W9).
func TestAServerThatServesOthersGoesOn(t *testing.T) {
	t.Parallel()
	declared := func(server string) string {
		return fmt.Sprintf("[kit.base]\n[site.timetable]\non = [\"h*\"]\nserver = %q\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n", server)
	}
	g := newGround(t, shared, 1, declared("nginx"))
	host := g.hosts[0]
	g.trust()
	g.apply(0)
	g.on(host, "echo 'server { listen 8096; server_name their.test; return 200 \"theirs\\n\"; }' > /etc/nginx/conf.d/their.conf; nginx -t -q && systemctl reload nginx")
	says := func(port int, name, want string) {
		t.Helper()
		if status, body, err := get(fmt.Sprintf("http://%s:%d/", g.address(host), port), name); err != nil && want != "" || !strings.Contains(body, want) || want == "" && strings.Contains(body, "version one") {
			t.Errorf("%s at port %d answers %d %q, %v; wanted %q", name, port, status, body, err, want)
		}
	}
	move := func(server string) {
		t.Helper()
		g.declareText(declared(server))
		g.ns(0, "declare", g.dir)
		p := g.plan(1)
		if c := fmt.Sprint(p.Hosts[0].Cautions); !strings.Contains(c, "nginx is not stopped: it serves what /etc/nginx/conf.d/their.conf says as well") || strings.Contains(strings.Join(texts(p), "; "), "stop nginx") {
			t.Errorf("to %s: the steps are %s, the cautions %s", server, strings.Join(texts(p), "; "), c)
		}
		g.applyPlan(0, p.Id)
		says(80, "timetable.saltmarsh.test", "version one")
		says(8096, "their.test", "theirs")
		g.nothingToDo()
	}
	move("httpd")
	// httpd serves somebody too by now, on the very port.
	g.on(host, "printf '<VirtualHost *:80>\\nServerName other.test\\nRedirect /x http://x.test/\\n</VirtualHost>\\n' > /etc/apache2/sites-enabled/other.conf; apache2ctl -t 2>/dev/null && systemctl reload apache2")
	g.declareText(declared("caddy"))
	g.ns(0, "declare", g.dir)
	p := g.plan(2)
	if b := fmt.Sprint(p.Hosts[0].Blockers); !strings.Contains(b, "port 80 is taken by apache2") || !strings.Contains(b, "for what /etc/apache2/sites-enabled/other.conf says") {
		t.Errorf("the blockers are %s", b)
	}
	says(80, "timetable.saltmarsh.test", "version one")
	// Nothing of ours is served there any more, and the server goes on.
	g.declareText("# instead of [site.timetable]\n[kit.base]\n")
	g.ns(0, "declare", g.dir)
	decode(t, g.ns(1, "plan", g.name, "--clear", "--removing", host+"/content/srv/www/timetable", "--json"), &p)
	if all := strings.Join(texts(p), "; "); !strings.Contains(all, "reload apache2") || strings.Contains(all, "stop apache2") || strings.Contains(all, "package apache2") {
		t.Errorf("taking it away is to %s", all)
	}
	g.ns(0, "apply", fmt.Sprint(p.Id), "--ground", g.name, "--yes", "--removing", host+"/content/srv/www/timetable")
	says(80, "timetable.saltmarsh.test", "")
	says(8096, "their.test", "theirs")
	if got := strings.TrimSpace(g.on(host, "systemctl is-active apache2 nginx")); got != "active\nactive" {
		t.Errorf("the servers are %s", got)
	}
	// What a first site takes over from them is said before (W10).
	g.on(host, "sed -i '/ServerName/a ServerAlias *.saltmarsh.test' /etc/apache2/sites-enabled/other.conf; systemctl reload apache2")
	g.declareText(declared("httpd"))
	g.ns(0, "declare", g.dir)
	c := fmt.Sprint(g.plan(1).Hosts[0].Cautions)
	for _, want := range []string{"whoever asks port 80 for a name that no site has was answered by /etc/apache2/sites-enabled/other.conf", "visitors of timetable.saltmarsh.test were answered by /etc/apache2/sites-enabled/other.conf (*.saltmarsh.test)"} {
		if !strings.Contains(c, want) {
			t.Errorf("the cautions are %s", c)
		}
	}
}

// httpd listens by lines of its own, whatever it serves. Where it goes on for others it lets go of the
// port that a site takes along to another server, and has it back with the site; where the line is gone
// the site brings one, and where others have it, it is in the way (V6).
func TestAServerLetsGoOfItsPort(t *testing.T) {
	t.Parallel()
	declared := func(server string) string {
		return fmt.Sprintf("[kit.base]\n[site.timetable]\non = [\"h*\"]\nserver = %q\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n", server)
	}
	g := newGroundOf(t, shared, []lab.Family{lab.Debian, lab.RedHat}, declared("httpd"))
	g.trust()
	g.apply(0)
	own := map[string][3]string{g.hosts[0]: {"apache2", "/etc/apache2/ports.conf", "/etc/apache2/sites-enabled/their.conf"}, g.hosts[1]: {"httpd", "/etc/httpd/conf/httpd.conf", "/etc/httpd/conf.d/their.conf"}}
	for host, at := range own {
		g.on(host, fmt.Sprintf("mkdir -p /srv/theirs; echo theirs > /srv/theirs/index.html; printf 'Listen 8096\n<VirtualHost *:8096>\nDocumentRoot /srv/theirs\n<Directory /srv/theirs>\nRequire all granted\n</Directory>\n</VirtualHost>\n' > %s; systemctl reload %s", at[2], at[0]))
	}
	serves := func(server, when string) {
		t.Helper()
		for _, host := range g.hosts {
			if status, body := g.fetch(host, "/"); status != 200 || !strings.Contains(body, "Next sailing") {
				t.Errorf("%s %s answers %d %q", when, host, status, body)
			}
			if body := g.on(host, `timeout 5 bash -c 'exec 3<>/dev/tcp/127.0.0.1/8096 && printf "GET / HTTP/1.0\r\n\r\n" >&3 && tail -n 1 <&3' || true`); body != "theirs\n" {
				t.Errorf("%s what is others' on %s answers %q", when, host, body)
			}
			if got := g.on(host, "ss -ltnp 'sport = :80'"); !strings.Contains(got, cmp.Or(server, own[host][0])) {
				t.Errorf("%s port 80 of %s is had by %s", when, host, got)
			}
		}
	}
	moved := func(server string) contract.Plan {
		t.Helper()
		g.declareText(declared(server))
		g.ns(0, "declare", g.dir)
		return g.plan(1)
	}
	each := func(p contract.Plan, want string) {
		t.Helper()
		for _, h := range p.Hosts {
			var all []string
			for _, s := range h.Steps {
				all = append(all, s.Text)
			}
			if want := strings.ReplaceAll(want, "SERVER", own[h.Name][0]); !slices.Contains(all, want) {
				t.Errorf("the steps on %s are %q, without %q", h.Name, all, want)
			}
		}
	}
	p := moved("nginx")
	each(p, "switch off the lines by which SERVER listens by itself on port 80")
	g.applyPlan(0, p.Id)
	serves("nginx", "moved away")
	g.nothingToDo()
	p = moved("httpd")
	each(p, "have SERVER listen by itself on port 80 again")
	g.applyPlan(0, p.Id)
	serves("", "moved back")
	g.nothingToDo()
	for host, at := range own {
		g.on(host, fmt.Sprintf("sed -i '/^Listen 80$/d' %s; systemctl restart %s", at[1], at[0]))
		if rows := g.survey(host); len(rows["site/timetable"].Differences) == 0 {
			t.Errorf("without its line on %s the site is %+v", host, rows["site/timetable"])
		}
	}
	g.apply(0)
	serves("", "without the line")
	g.nothingToDo()
	for host, at := range own {
		g.on(host, fmt.Sprintf("sed -i '1i Listen 80' %s", at[2]))
	}
	g.apply(0) // the site's own line goes
	serves("", "with a line of others")
	g.declareText(declared("nginx"))
	g.ns(0, "declare", g.dir)
	for _, h := range g.plan(2).Hosts {
		if b := fmt.Sprint(h.Blockers); !strings.Contains(b, "port 80 is taken by "+own[h.Name][0]) || !strings.Contains(b, "which goes on for others: "+own[h.Name][2]+" has it listen there") {
			t.Errorf("the blockers on %s are %s", h.Name, b)
		}
	}
}

// asking makes requests until it is ended.
type asking struct {
	stop, done chan struct{}
	made       int
	failed     []time.Time
}

func ask(address string) *asking {
	a := &asking{stop: make(chan struct{}), done: make(chan struct{})}
	var mu sync.Mutex
	go func() {
		defer close(a.done)
		var all sync.WaitGroup
		for tick := time.NewTicker(20 * time.Millisecond); ; {
			select {
			case <-a.stop:
				tick.Stop()
				all.Wait()
				return
			case at := <-tick.C:
				all.Go(func() {
					status, body, err := get("http://"+address+"/", "timetable.saltmarsh.test")
					mu.Lock()
					defer mu.Unlock()
					if a.made++; err != nil || status != 200 || !strings.Contains(body, "Next sailing") {
						a.failed = append(a.failed, at)
					}
				})
			}
		}
	}()
	return a
}

// end ends the requests, and returns when those were made that were not answered.
func (a *asking) end() []time.Time {
	close(a.stop)
	<-a.done
	return a.failed
}

// gap is how long lies between the first and the last of some times.
func gap(times []time.Time) time.Duration {
	if len(times) == 0 {
		return 0
	}
	first, last := times[0], times[0]
	for _, at := range times {
		if at.Before(first) {
			first = at
		}
		if at.After(last) {
			last = at
		}
	}
	return last.Sub(first) + 20*time.Millisecond
}

// A site is closed by one line, and opened by taking it out: every visitor gets its page with 503 meanwhile,
// whatever is asked for and how, on all servers, and no probe has to be changed (U8).
func TestASiteIsClosedByOneLine(t *testing.T) {
	t.Parallel()
	const page = "<h1>Back at \"five\"</h1>\n$uri {path} %{ENV:PATH} %h \\n 'ebb'"
	ports := map[string]int{"nginx": 80, "httpd": 8182, "caddy": 8183}
	closed := func(line string) string {
		var b strings.Builder
		b.WriteString("[kit.base]\npackages = [\"curl\"]\n")
		for _, server := range render.Servers() {
			name := server
			if server == "nginx" {
				name = "timetable"
			}
			fmt.Fprintf(&b, "[site.%[1]s]\non = [\"h*\"]\nserver = %[2]q\nlisten = [%[3]d]\nnames = [\"%[1]s.saltmarsh.test\", \"www.%[1]s.saltmarsh.test\"]\nroot = \"/srv/www/%[1]s\"\ncontent = { dir = \"content\" }\nerror_pages = { 404 = \"/index.html\", 503 = \"/index.html\" }\n%[4]s"+
				"path = { \"/old\" = { moved_to = \"/new\" }, \"/crew\" = { passwords = { ferry = \"$2y$05$abcdefghijklmnopqrstuuqNOqZb8zGWnHEBkoOrqBMsD9y8tVjH2\" } }, \"/api\" = { passed_to = [\"http://127.0.0.1:9\"] } }\n"+
				"[[site.%[1]s.probe]]\npath = \"/\"\ncontains = \"Next sailing\"\n[[site.%[1]s.probe]]\npath = \"/old\"\nstatus = 301\n", name, server, ports[server], line)
		}
		return b.String()
	}
	g := newGround(t, shared, 1, closed(""))
	g.content("index.html", "Next sailing at six")
	g.trust()
	g.apply(0)
	host := g.hosts[0]
	each := func(check func(server, what, status, body string)) {
		t.Helper()
		for server, port := range ports {
			name := server
			if server == "nginx" {
				name = "timetable"
			}
			for _, ask := range []string{"/", "/old", "/crew", "/api/x", "/nowhere", "-X POST -d tide=low /", "-X DELETE /api"} {
				words := strings.Fields(ask)
				path := words[len(words)-1]
				for _, www := range []string{"", "www."} {
					out := g.on(host, fmt.Sprintf("curl -s -w '\\n%%{http_code} %%{content_type}' -H 'Host: %s%s.saltmarsh.test' %s http://%s:%d%s", www, name, strings.TrimSuffix(ask, path), g.address(host), port, path))
					at := strings.LastIndexByte(out, '\n')
					check(server, ask, out[at+1:], out[:at])
				}
			}
		}
	}
	g.declareText(closed("closed = '''" + page + "'''\n"))
	g.ns(0, "declare", g.dir)
	// What goes back to what it was is open, whatever is declared for it by now.
	g.on(host, "rm /etc/nginx/sites-available/northstake-timetable.conf")
	g.ns(0, "restore", g.name, "--yes")
	if out := g.on(host, "curl -s -H 'Host: timetable.saltmarsh.test' http://"+g.address(host)); !strings.Contains(out, "Next sailing") {
		t.Errorf("a site that is to be closed, and went back to what it was, answers %q", out)
	}
	g.apply(0)
	each(func(server, what, status, body string) {
		if status != "503 text/html; charset=utf-8" || body != page {
			t.Errorf("%s: %s is answered by %s: %q", server, what, status, body)
		}
	})
	g.ns(0, "drift", g.name)
	g.nothingToDo()
	g.on(host, "echo spoilt > /srv/www/timetable/index.html") // it is looked at all the same
	if out := g.ns(1, "drift", g.name); !strings.Contains(out, "content/srv/www/timetable") {
		t.Errorf("of a closed site that was spoilt drift says\n%s", out)
	}
	g.ns(0, "restore", g.name, "--yes")
	g.declareText(closed(""))
	g.ns(0, "declare", g.dir)
	g.apply(0)
	each(func(server, what, status, body string) {
		if want := map[string]string{"/": "200", "/old": "301", "/crew": "401", "/nowhere": "404"}[what]; want != "" && !strings.HasPrefix(status, want) {
			t.Errorf("%s, open again: %s is answered by %s: %q", server, what, status, body)
		}
	})
	g.nothingToDo()
}
