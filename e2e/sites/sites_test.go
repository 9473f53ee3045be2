package sites

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
	"testing"
	"time"
	"unicode/utf8"

	"northstake/core/render"
	"northstake/e2e/requests"
	"northstake/e2e/stage"
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
	page, err := os.ReadFile(filepath.Join(stage.Root, "docs", "requests.md"))
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
			g.Trust()
			g.Apply(0)
			g.NothingToDo()
			for _, r := range rows {
				if err := r.Try(context.Background(), host); err != nil {
					t.Errorf("docs/requests.md:%d: %s %v: %v", r.Line, r.Request, r.With, err)
				}
			}
			if out := g.Ns(0, "probe", g.Name); !strings.Contains(out, "harbour") {
				t.Errorf("the probes say:\n%s", out)
			}
			logged(g, by)
		})
	}
}

// sitesOf makes a host, and a ground with the sites of the table on it.
func sitesOf(t *testing.T, by servedBy) (*stage.Ground, requests.Host) {
	t.Helper()
	listen := func() string {
		l, err := net.Listen("tcp", stage.Lab().Here()+":0")
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
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{by.family}, "[kit.base]\n[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"x.test\"]\n")
	h := g.Hosts[0]
	service, other := listen(), listen() // whose address the hosts' network brings
	text, err := os.ReadFile(filepath.Join(stage.Root, "e2e", "requests", "sites.toml"))
	if err != nil {
		t.Fatal(err)
	}
	kit, server := "[kit.base]\n", fmt.Sprintf("%q", by.server)
	if by.within {
		at := stage.Registry(t)
		kit, server = stage.EngineKit(at), fmt.Sprintf("%s\nimage = %q", server, stage.PushedServers(t, at, "1"))
	}
	sites := strings.NewReplacer("\"SERVER\"", server, "SERVICE2", other, "SERVICE", service, "DOWN", stage.Lab().Here()+":1", "HERE", stage.Lab().Here(), "ADDRESS", g.Address(h), "LOGS", by.logs).Replace(string(text))
	g.Beside("ground.toml", fmt.Sprintf("[ground]\nname = %q\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\nsudo = true\n[host.%s]\naddress = %q\nkits = [\"base\"]\n", g.Name, h, g.Address(h))+kit+sites)
	for path, text := range requests.Content() {
		g.Content(path, text)
	}
	// What listens on the host's socket hands on to the service.
	g.On(h, fmt.Sprintf("printf '[Socket]\\nListenStream=/run/tides.sock\\nSocketMode=0666\\n' > /etc/systemd/system/tides.socket; "+
		"printf '[Service]\\nExecStart=/lib/systemd/systemd-socket-proxyd %s\\n' > /etc/systemd/system/tides.service; systemctl daemon-reload; systemctl -q start tides.socket", service))
	inside := func(ctx context.Context, address string) (net.Conn, error) { return stage.Lab().Dial(ctx, h, address) }
	return g, requests.Host{Address: g.Address(h), Inside: inside, Values: map[string]string{"here": stage.Lab().Here(), "server": by.says, "tick": "`"}}
}

// logged says whether the access log of the table's site has the record that it has on every
// server, and stays valid whatever bytes visitors send.
func logged(g *stage.Ground, by servedBy) {
	g.T.Helper()
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
	line := g.On(g.Hosts[0], "grep -m1 '/page.html\"' "+log)
	stage.Decode(g.T, line, &entry)
	r := entry.Request
	if entry.Time < 1e9 || entry.Account == nil || entry.Status != 200 || entry.Bytes == nil || *entry.Bytes < 5 || entry.Seconds == nil || *entry.Seconds < 0 ||
		r.Client != stage.Lab().Here() || r.Method != "GET" || r.Host != "harbour.test" || r.Target != "/page.html" || r.Protocol != "HTTP/1.1" {
		g.T.Errorf("the log says %s", line)
	}
	if whole := r.Path != nil && *r.Path == "/page.html" && r.Query != nil && *r.Query == "" && r.Referrer != nil && r.Agent != nil; whole == (by.server == "caddy") {
		g.T.Errorf("of the path alone, the query, the referrer and the browser the log says %s", line)
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
	target := net.JoinHostPort(g.Address(g.Hosts[0]), "80")
	send := func(request string) {
		conn, err := net.DialTimeout("tcp", target, 5*time.Second)
		if err != nil {
			g.T.Fatal(err)
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
	for _, line := range strings.Split(strings.TrimSpace(g.On(g.Hosts[0], "base64 -w0 "+log)), "\n") {
		all, err := base64.StdEncoding.DecodeString(line)
		if err != nil {
			g.T.Fatal(err)
		}
		for one := range strings.Lines(string(all)) {
			var r record
			if err := json.Unmarshal([]byte(one), &r); err != nil || !utf8.ValidString(one) || r.Time == 0 || r.Seconds == nil || r.Request.Client == "" {
				g.T.Errorf("seed %d: a line of the log is no record: %q, %v", seed, one, err)
			}
			if strings.HasPrefix(r.Request.Target, "/tide?%22") {
				tides++
			}
		}
	}
	if tides < 150 {
		g.T.Errorf("seed %d: of 200 requests the log has %d", seed, tides)
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
	g := stage.NewGround(t, stage.Shared(), 1, text.String())
	g.Content("tide.php", "<?php echo 'tide of ', $_REQUEST['of'], ' by ', $_SERVER['REQUEST_METHOD'], ' at ', basename($_SERVER['SCRIPT_FILENAME']), getenv('HTTP_PROXY');\n")
	g.Content("below/index.php", "<?php echo 'started';\n")
	g.Content("photo.jpg", "<?php echo 'never';\n")
	g.Content(".secret.php", "<?php echo 'never';\n")
	g.Beside("more/index.html", "more")
	g.Content("limits.php", "<?php echo strlen(file_get_contents('php://input')), ' ', $_SERVER['HTTP_AUTHORIZATION'] ?? 'nobody';\n")
	g.Beside("front/index.php", "<?php echo $_SERVER['REQUEST_METHOD'], ' ', $_SERVER['SCRIPT_NAME'], ' ', $_SERVER['PATH_INFO'] ?? '', ' ', $_SERVER['REQUEST_URI'], ' ', basename($_SERVER['SCRIPT_FILENAME']), ' ', strlen(file_get_contents('php://input')), ' ', $_GET['day'] ?? '';\n")
	g.Beside("front/other.php", "<?php echo 'other at ', $_SERVER['SCRIPT_NAME'];\n")
	g.Beside("front/style.css", "p {}")
	g.Beside("front/below/note.txt", "a note")
	g.Beside("page/index.html", "the page")
	g.Beside("page/tide.php", "<?php echo 'tide ', 6 * 7;\n")
	g.Beside("sent/index.php", "<?php echo $_FILES['chart']['size'] ?? 'none', ' ', strlen(file_get_contents('php://input')), ' ', count($_POST);\n")
	g.Beside("more/limit.php", "<?php echo ini_get('upload_max_filesize'), ' ', ini_get('post_max_size');\n")
	g.Beside("more/tide.php", "<?php echo 'more of ', 6 * 7;\n")
	g.Trust()
	g.Apply(0)
	g.NothingToDo()
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
			answers(g, row[0], row[1], fmt.Sprintf("http://%s.test:%d", server, 8100+i))
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
		r, err := http.NewRequest(http.MethodPost, fmt.Sprintf("http://%s:%d/sent/", g.Address(g.Hosts[0]), port), &body)
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
	g.DeclareText("[kit.base]\n[site.caddy]\non = [\"h*\"]\nserver = \"caddy\"\nnames = [\"caddy.test\"]\nlisten = [8102]\ncontent = { dir = \"more\" }\n")
	g.Ns(0, "declare", g.Dir)
	g.ApplyPlan(0, g.Plan(1, "--clear").Id)
	g.NothingToDo()
	if out := g.Ns(0, "drift", g.Name); !strings.Contains(out, "nothing has shifted") {
		t.Errorf("drift says\n%s", out)
	}
	if out := g.Ns(0, "restore", g.Name, "--yes"); strings.Contains(out, "caddy") {
		t.Errorf("restore says\n%s", out)
	}
}

// answers makes a request, written as in the table of requests, with what is before its path, and checks what comes back.
func answers(g *stage.Ground, asked, wanted, at string) {
	g.T.Helper()
	rows, err := requests.Parse("| " + strings.Replace(asked, " /", " "+at+"/", 1) + " | " + wanted + " | |")
	if err != nil {
		g.T.Fatal(err)
	}
	if err := rows[0].Try(context.Background(), requests.Host{Address: g.Address(g.Hosts[0])}); err != nil {
		g.T.Errorf("%s%s: %v", at, asked, err)
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
	g := stage.NewGround(t, stage.Shared(), 1, text.String())
	g.Trust()
	if p := g.Plan(2); len(p.Hosts[0].Blockers) != 3 || !strings.Contains(p.Hosts[0].Blockers[0].What, `there is no secret called "crew-accounts"`) {
		t.Fatalf("without the secret the plan has the blockers %+v", p.Hosts[0].Blockers)
	}
	keep := func(lines string) {
		t.Helper()
		file := filepath.Join(t.TempDir(), "accounts")
		stage.Write(t, file, lines)
		g.Ns(0, "secret", "keep", "crew-accounts", "--file", file)
	}
	keep("purser:low-tide-7")
	if p := g.Plan(2); len(p.Hosts[0].Blockers) != 3 || !strings.Contains(p.Hosts[0].Blockers[0].What, "line 1 has no bcrypt hash") || strings.Contains(p.Hosts[0].Blockers[0].What, "low-tide") {
		t.Fatalf("with a password in the secret the plan has the blockers %+v", p.Hosts[0].Blockers)
	}
	hash := func(account, password string) string {
		file := filepath.Join(t.TempDir(), "password")
		stage.Write(t, file, password)
		return g.Ns(0, "password", "--account", account, "--file", file)
	}
	purser := hash("purser", "low-tide-7")
	check := func(status map[string]string) {
		t.Helper()
		for i, server := range servers {
			for login, want := range status {
				answers(g, fmt.Sprintf("`GET /crew`, `account %s`", login), want, fmt.Sprintf("http://%s.test:%d", server, 8100+i))
			}
		}
	}
	keep("# the crew\n\n" + purser)
	g.Apply(0)
	g.NothingToDo()
	check(map[string]string{"purser:low-tide-7": "`200`, `is crew`", "purser:high-tide-7": "`401`", "bosun:high-tide-8": "`401`"})
	keep(purser + hash("bosun", "high-tide-8"))
	p := g.Plan(1)
	var changes int
	for _, step := range p.Hosts[0].Steps {
		if step.Type == "site" {
			changes++
		}
	}
	if changes != 1 {
		t.Errorf("another value of the secret makes the steps %+v", p.Hosts[0].Steps)
	}
	if r := g.ApplyPlan(0, p.Id); r.State != "done" {
		t.Errorf("the run ended %s", r.State)
	}
	g.NothingToDo()
	check(map[string]string{"purser:low-tide-7": "`200`, `is crew`", "bosun:high-tide-8": "`200`, `is crew`"})
	// An edit on the host is drift, and goes.
	g.On(g.Hosts[0], "for f in /etc/nginx/northstake-*.accounts /etc/apache2/northstake-*.accounts /etc/caddy/northstake-*.accounts; do echo 'pirate:x' >> $f; done")
	if out := g.Ns(1, "drift", g.Name); strings.Count(out, "accounts") < 3 {
		t.Errorf("drift says %s", out)
	}
	g.Ns(0, "restore", g.Name, "--yes")
	g.NothingToDo()
	// Nothing that is kept has what the secret holds.
	dump := g.Service.Dump(t)
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
	g.DeclareText(text.String())
	g.Ns(0, "declare", g.Dir)
	g.Apply(0)
	g.NothingToDo()
	answers(g, "`GET /crew`", "`200`, `is crew`", "http://nginx.test:8100")
	if out := g.On(g.Hosts[0], "ls /etc/nginx /etc/apache2 /etc/caddy | grep accounts || true"); out != "" {
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
			g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{family}, text("nginx"))
			g.Trust()
			answers := func(first string) {
				t.Helper()
				for port, want := range map[int]string{80: "timetable by " + first, 8080: "freight by httpd", 8081: "islands by caddy", 8082: "piers by nginx"} {
					name, _, _ := strings.Cut(want, " ")
					status, body, err := stage.Get(fmt.Sprintf("http://%s:%d/", g.Address(g.Hosts[0]), port), name+".test")
					if err != nil || status != 200 || body != want {
						t.Errorf("port %d answers %d %q, %v; wanted %q", port, status, body, err, want)
					}
				}
				if _, body, err := stage.Get("http://"+g.Address(g.Hosts[0])+"/", "nobody.test"); err == nil && strings.Contains(strings.ToLower(body), "welcome to nginx") {
					t.Errorf("the default site answers: %s", body)
				}
			}
			g.Apply(0)
			g.NothingToDo()
			answers("nginx")
			for _, first := range []string{"httpd", "caddy", "nginx"} {
				g.DeclareText(text(first))
				g.Ns(0, "declare", g.Dir)
				g.Apply(0)
				g.NothingToDo()
				answers(first)
			}
			// The declaration decides: kept is put back as it was.
			g.DeclareText(strings.Replace(text("nginx"), "[kit.base]\n", "[kit.base]\nserver = { nginx = { default_site = \"kept\" }, httpd = { default_site = \"off\" }, caddy = { default_site = \"removed\" } }\n", 1))
			g.Ns(0, "declare", g.Dir)
			g.Apply(0)
			g.NothingToDo()
			answers("nginx")
			// So does what answers to names that no site has.
			for says, status := range map[string]int{"410": 410, "http://harbour.test/lost": 302} {
				declared, err := os.ReadFile(filepath.Join(g.Dir, "ground.toml"))
				if err != nil {
					t.Fatal(err)
				}
				stage.Write(t, filepath.Join(g.Dir, "ground.toml"), othersLine.ReplaceAllString(strings.Replace(string(declared), "[reach]", "unknown_names = \"\"\n[reach]", 1), fmt.Sprintf("unknown_names = %q\n", says)))
				g.Ns(0, "declare", g.Dir)
				g.Apply(0)
				g.NothingToDo()
				answers("nginx")
				for _, port := range []string{"80", "8080", "8081", "8082"} {
					rows, err := requests.Parse("| `GET http://nobody.test:" + port + "/x?y` | `" + fmt.Sprint(status) + "` | |")
					if err != nil {
						t.Fatal(err)
					}
					if status == 302 {
						rows[0].Wanted = []string{"Location: " + says}
					}
					if err := rows[0].Try(context.Background(), requests.Host{Address: g.Address(g.Hosts[0])}); err != nil {
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
	g := stage.NewGround(t, stage.Shared(), 1, declared("nginx"))
	g.Trust()
	g.Apply(0)
	for _, server := range []string{"httpd", "caddy", "httpd", "nginx", "caddy", "nginx"} {
		g.DeclareText(declared(server))
		g.Ns(0, "declare", g.Dir)
		p := g.Plan(1)
		if !strings.Contains(fmt.Sprint(p.Hosts[0].Cautions), "is down between steps ") {
			t.Errorf("to %s: the plan says of the gap %v", server, p.Hosts[0].Cautions)
		}
		asks := stage.Ask(g.Address(g.Hosts[0]))
		r := g.ApplyPlan(0, p.Id)
		failed := asks.End()
		told := 0.0
		for i, s := range r.Hosts[0].Steps {
			if strings.HasPrefix(s.Text, "stop ") && i+1 < len(r.Hosts[0].Steps) {
				told = s.TookMs + r.Hosts[0].Steps[i+1].TookMs
			}
		}
		t.Logf("to %s: %d requests of %d not answered, in %s; the two steps took %.0f ms", server, len(failed), asks.Made, stage.Gap(failed), told)
		// Five seconds more are for what lies between steps, on a machine with other work to do.
		if told == 0 || stage.Gap(failed).Milliseconds() > int64(told)+5000 {
			t.Errorf("to %s: not answered for %s, while the steps took %.0f ms", server, stage.Gap(failed), told)
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
	g := stage.NewGround(t, stage.Shared(), 1, declared("nginx"))
	host := g.Hosts[0]
	g.Trust()
	g.Apply(0)
	g.On(host, "echo 'server { listen 8096; server_name their.test; return 200 \"theirs\\n\"; }' > /etc/nginx/conf.d/their.conf; nginx -t -q && systemctl reload nginx")
	says := func(port int, name, want string) {
		t.Helper()
		if status, body, err := stage.Get(fmt.Sprintf("http://%s:%d/", g.Address(host), port), name); err != nil && want != "" || !strings.Contains(body, want) || want == "" && strings.Contains(body, "version one") {
			t.Errorf("%s at port %d answers %d %q, %v; wanted %q", name, port, status, body, err, want)
		}
	}
	move := func(server string) {
		t.Helper()
		g.DeclareText(declared(server))
		g.Ns(0, "declare", g.Dir)
		p := g.Plan(1)
		if c := fmt.Sprint(p.Hosts[0].Cautions); !strings.Contains(c, "nginx is not stopped: it serves what /etc/nginx/conf.d/their.conf says as well") || strings.Contains(strings.Join(stage.Texts(p), "; "), "stop nginx") {
			t.Errorf("to %s: the steps are %s, the cautions %s", server, strings.Join(stage.Texts(p), "; "), c)
		}
		g.ApplyPlan(0, p.Id)
		says(80, "timetable.saltmarsh.test", "version one")
		says(8096, "their.test", "theirs")
		g.NothingToDo()
	}
	move("httpd")
	// httpd serves somebody too by now, on the very port.
	g.On(host, "printf '<VirtualHost *:80>\\nServerName other.test\\nRedirect /x http://x.test/\\n</VirtualHost>\\n' > /etc/apache2/sites-enabled/other.conf; apache2ctl -t 2>/dev/null && systemctl reload apache2")
	g.DeclareText(declared("caddy"))
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(2)
	if b := fmt.Sprint(p.Hosts[0].Blockers); !strings.Contains(b, "port 80 is taken by apache2") || !strings.Contains(b, "for what /etc/apache2/sites-enabled/other.conf says") {
		t.Errorf("the blockers are %s", b)
	}
	says(80, "timetable.saltmarsh.test", "version one")
	// Nothing of ours is served there any more, and the server goes on.
	g.DeclareText("# instead of [site.timetable]\n[kit.base]\n")
	g.Ns(0, "declare", g.Dir)
	stage.Decode(t, g.Ns(1, "plan", g.Name, "--clear", "--removing", host+"/content/srv/www/timetable", "--json"), &p)
	if all := strings.Join(stage.Texts(p), "; "); !strings.Contains(all, "reload apache2") || strings.Contains(all, "stop apache2") || strings.Contains(all, "package apache2") {
		t.Errorf("taking it away is to %s", all)
	}
	g.Ns(0, "apply", fmt.Sprint(p.Id), "--ground", g.Name, "--yes", "--removing", host+"/content/srv/www/timetable")
	says(80, "timetable.saltmarsh.test", "")
	says(8096, "their.test", "theirs")
	if got := strings.TrimSpace(g.On(host, "systemctl is-active apache2 nginx")); got != "active\nactive" {
		t.Errorf("the servers are %s", got)
	}
	// What a first site takes over from them is said before (W10).
	g.On(host, "sed -i '/ServerName/a ServerAlias *.saltmarsh.test' /etc/apache2/sites-enabled/other.conf; systemctl reload apache2")
	g.DeclareText(declared("httpd"))
	g.Ns(0, "declare", g.Dir)
	c := fmt.Sprint(g.Plan(1).Hosts[0].Cautions)
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
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian, lab.RedHat}, declared("httpd"))
	g.Trust()
	g.Apply(0)
	own := map[string][3]string{g.Hosts[0]: {"apache2", "/etc/apache2/ports.conf", "/etc/apache2/sites-enabled/their.conf"}, g.Hosts[1]: {"httpd", "/etc/httpd/conf/httpd.conf", "/etc/httpd/conf.d/their.conf"}}
	for host, at := range own {
		g.On(host, fmt.Sprintf("mkdir -p /srv/theirs; echo theirs > /srv/theirs/index.html; printf 'Listen 8096\n<VirtualHost *:8096>\nDocumentRoot /srv/theirs\n<Directory /srv/theirs>\nRequire all granted\n</Directory>\n</VirtualHost>\n' > %s; systemctl reload %s", at[2], at[0]))
	}
	serves := func(server, when string) {
		t.Helper()
		for _, host := range g.Hosts {
			if status, body := g.Fetch(host, "/"); status != 200 || !strings.Contains(body, "Next sailing") {
				t.Errorf("%s %s answers %d %q", when, host, status, body)
			}
			if body := g.On(host, `timeout 5 bash -c 'exec 3<>/dev/tcp/127.0.0.1/8096 && printf "GET / HTTP/1.0\r\n\r\n" >&3 && tail -n 1 <&3' || true`); body != "theirs\n" {
				t.Errorf("%s what is others' on %s answers %q", when, host, body)
			}
			if got := g.On(host, "ss -ltnp 'sport = :80'"); !strings.Contains(got, cmp.Or(server, own[host][0])) {
				t.Errorf("%s port 80 of %s is had by %s", when, host, got)
			}
		}
	}
	moved := func(server string) contract.Plan {
		t.Helper()
		g.DeclareText(declared(server))
		g.Ns(0, "declare", g.Dir)
		return g.Plan(1)
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
	g.ApplyPlan(0, p.Id)
	serves("nginx", "moved away")
	g.NothingToDo()
	p = moved("httpd")
	each(p, "have SERVER listen by itself on port 80 again")
	g.ApplyPlan(0, p.Id)
	serves("", "moved back")
	g.NothingToDo()
	for host, at := range own {
		g.On(host, fmt.Sprintf("sed -i '/^Listen 80$/d' %s; systemctl restart %s", at[1], at[0]))
		if rows := g.Survey(host); len(rows["site/timetable"].Differences) == 0 {
			t.Errorf("without its line on %s the site is %+v", host, rows["site/timetable"])
		}
	}
	g.Apply(0)
	serves("", "without the line")
	g.NothingToDo()
	for host, at := range own {
		g.On(host, fmt.Sprintf("sed -i '1i Listen 80' %s", at[2]))
	}
	g.Apply(0) // the site's own line goes
	serves("", "with a line of others")
	g.DeclareText(declared("nginx"))
	g.Ns(0, "declare", g.Dir)
	for _, h := range g.Plan(2).Hosts {
		if b := fmt.Sprint(h.Blockers); !strings.Contains(b, "port 80 is taken by "+own[h.Name][0]) || !strings.Contains(b, "which goes on for others: "+own[h.Name][2]+" has it listen there") {
			t.Errorf("the blockers on %s are %s", h.Name, b)
		}
	}
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
	g := stage.NewGround(t, stage.Shared(), 1, closed(""))
	g.Content("index.html", "Next sailing at six")
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
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
					out := g.On(host, fmt.Sprintf("curl -s -w '\\n%%{http_code} %%{content_type}' -H 'Host: %s%s.saltmarsh.test' %s http://%s:%d%s", www, name, strings.TrimSuffix(ask, path), g.Address(host), port, path))
					at := strings.LastIndexByte(out, '\n')
					check(server, ask, out[at+1:], out[:at])
				}
			}
		}
	}
	g.DeclareText(closed("closed = '''" + page + "'''\n"))
	g.Ns(0, "declare", g.Dir)
	// What goes back to what it was is open, whatever is declared for it by now.
	g.On(host, "rm /etc/nginx/sites-available/northstake-timetable.conf")
	g.Ns(0, "restore", g.Name, "--yes")
	if out := g.On(host, "curl -s -H 'Host: timetable.saltmarsh.test' http://"+g.Address(host)); !strings.Contains(out, "Next sailing") {
		t.Errorf("a site that is to be closed, and went back to what it was, answers %q", out)
	}
	g.Apply(0)
	each(func(server, what, status, body string) {
		if status != "503 text/html; charset=utf-8" || body != page {
			t.Errorf("%s: %s is answered by %s: %q", server, what, status, body)
		}
	})
	g.Ns(0, "drift", g.Name)
	g.NothingToDo()
	g.On(host, "echo spoilt > /srv/www/timetable/index.html") // it is looked at all the same
	if out := g.Ns(1, "drift", g.Name); !strings.Contains(out, "content/srv/www/timetable") {
		t.Errorf("of a closed site that was spoilt drift says\n%s", out)
	}
	g.Ns(0, "restore", g.Name, "--yes")
	g.DeclareText(closed(""))
	g.Ns(0, "declare", g.Dir)
	g.Apply(0)
	each(func(server, what, status, body string) {
		if want := map[string]string{"/": "200", "/old": "301", "/crew": "401", "/nowhere": "404"}[what]; want != "" && !strings.HasPrefix(status, want) {
			t.Errorf("%s, open again: %s is answered by %s: %q", server, what, status, body)
		}
	})
	g.NothingToDo()
}
