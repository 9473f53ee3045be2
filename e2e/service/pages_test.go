package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"northstake/e2e/stage"
	"northstake/lab"
)

// block is a fenced block of a page: what its fence says behind the three ticks, and its text.
type block struct{ kind, text string }

// blocks are the fenced blocks of a page of docs, in order.
func blocks(t *testing.T, name string) []block {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(stage.Root, "docs", name))
	if err != nil {
		t.Fatal(err)
	}
	var out []block
	for i, part := range strings.Split(string(text), "\n```") {
		if i%2 == 1 {
			kind, text, _ := strings.Cut(part, "\n")
			out = append(out, block{kind, text + "\n"})
		}
	}
	return out
}

const proxied = "northstake.saltmarsh.test"

// The page about installing is followed word for word on a fresh host, and so is the one about
// the first host, from there to another; what stands in front passes a sign-in, a large
// declaration and a stream.
func TestThePagesAreFollowed(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian, lab.Debian}, "[kit.base]\n")
	server, first := g.Hosts[0], g.Hosts[1]
	bash := func(host, dir, script string, status int) string {
		t.Helper()
		out, err := stage.Lab().Exec(context.Background(), host, "bash", "-c", fmt.Sprintf("cd %s || exit 99\n(set -e\n%s)\ngot=$?; [ $got = %d ] || { echo it exits with $got; exit 98; }", dir, script, status))
		if err != nil {
			t.Fatalf("%s\n%v", script, err)
		}
		return out
	}
	followed := 0
	for _, b := range blocks(t, "install.md") {
		switch b.kind {
		case "sh build": // the programs are built already, and the archive is carried over otherwise
			archive := filepath.Join(t.TempDir(), "northstake.tar.gz")
			for l := range strings.Lines(b.text) {
				if strings.HasPrefix(l, "tar ") {
					stage.Shell(t, stage.Root, strings.ReplaceAll(l, "northstake.tar.gz", archive))
				}
			}
			packed, err := os.ReadFile(archive)
			if err != nil {
				t.Fatalf("the page packs nothing: %v", err)
			}
			if err := stage.Lab().Put(context.Background(), server, "/root/northstake.tar.gz", packed); err != nil {
				t.Fatal(err)
			}
		case "sh":
			bash(server, "/root", b.text, 0)
			followed++
			if strings.Contains(b.text, "install -m 644 nginx.conf") { // TLS stands in front
				passesThrough(g, server)
			}
		default:
			t.Errorf("install.md has a block %q", b.kind)
		}
	}
	if followed < 9 {
		t.Errorf("install.md has %d blocks to follow", followed)
	}
	if out := g.On(server, "systemctl is-enabled northstaked; systemctl is-active northstaked; stat -c '%a %U' /var/lib/northstaked /var/lib/northstaked/secrets.key /var/lib/northstaked/admin.token"); out != "enabled\nactive\n700 northstake\n600 northstake\n600 northstake\n" {
		t.Errorf("in the end: %s", out)
	}

	// The first host, from the service's own machine.
	dir := "/root/first"
	g.On(server, "mkdir -p "+dir)
	for _, b := range blocks(t, "first-host.md") {
		switch b.kind {
		case "sh host":
			bash(first, "/root", b.text, 0)
		case "toml":
			for l := range strings.Lines(b.text) {
				key, value, ok := strings.Cut(l, "=")
				if !ok {
					continue
				}
				value = strings.ReplaceAll(strings.TrimSpace(value), "192.0.2.11", g.Address(first))
				script := fmt.Sprintf("grep -q '^%[1]s *=' ground.toml && sed -i '0,/^%[1]s *=.*/s||%[1]s = %[2]s|' ground.toml", strings.TrimSpace(key), value)
				bash(server, dir, script, 0)
			}
		case "sh", "sh 1":
			// The two questions are answered as a person does who has compared the fingerprint.
			text := strings.NewReplacer("northstake trust web1", "northstake trust web1 --yes --fingerprint "+g.Fingerprint(first), "northstake apply 1", "northstake apply 1 --yes").Replace(b.text)
			bash(server, dir, text, map[string]int{"sh 1": 1}[b.kind])
			if strings.Contains(b.text, "ssh-keygen") {
				public := g.On(server, "cat "+dir+"/warden-key.pub")
				g.On(first, fmt.Sprintf("printf %%s %q > /home/warden/.ssh/authorized_keys; chown warden: /home/warden/.ssh/authorized_keys", public))
			}
			if strings.Contains(b.text, "cd harbour") {
				dir += "/harbour"
			}
		default:
			t.Errorf("first-host.md has a block %q", b.kind)
		}
	}
	if status, body, err := stage.Get("http://"+g.Address(first)+"/", "welcome.test"); err != nil || status != 200 || !strings.Contains(body, "Welcome") {
		t.Errorf("the first host answers %d %q, %v", status, body, err)
	}
	// A key that was lost, or is another, is said at the start, before anything fails by it.
	g.On(server, "systemctl stop northstaked; mv /var/lib/northstaked/secrets.key /root/k")
	asked := "runuser -u northstake -- timeout 20 northstaked --listen 127.0.0.1:7399 --database 'postgres://northstake@/northstake?host=/run/postgresql' --state /var/lib/northstaked --rods /usr/local/lib/northstake/rods 2>&1 || true"
	if out := g.On(server, asked); !strings.Contains(out, "secrets.key is not there: put it back from a backup") {
		t.Errorf("without its key the service says %s", out)
	}
	g.On(server, "head -c 32 /dev/urandom > /var/lib/northstaked/secrets.key; chown northstake: /var/lib/northstaked/secrets.key")
	if out := g.On(server, asked); !strings.Contains(out, "is not the key that the database's secrets were encrypted with") {
		t.Errorf("with another key it says %s", out)
	}
	// A database that lets nobody in is no reason to wait.
	for address, want := range map[string]string{"postgres://nobody@/northstake?host=/run/postgresql": "Peer authentication failed", "postgres://northstake@/none?host=/run/postgresql": "CREATE DATABASE none"} {
		began := time.Now()
		out := g.On(server, strings.Replace(asked, "postgres://northstake@/northstake?host=/run/postgresql", address, 1))
		if !strings.Contains(out, want) || strings.Count(out, "waiting") > 0 {
			t.Errorf("%s, after %s: %s", address, time.Since(began), out)
		}
	}
}

// passesThrough tries what comes to the service through the server in front of it, as browsers
// and clients on other machines do.
func passesThrough(g *stage.Ground, host string) {
	t := g.T
	t.Helper()
	pem := g.On(host, "cat /etc/ssl/certs/northstake.pem")
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(pem)) {
		t.Fatalf("no certificate: %s", pem)
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	to := net.JoinHostPort(g.Address(host), "443")
	browser := &http.Client{Jar: jar, Timeout: time.Minute, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool},
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", to)
		}}}
	g.Eventually("the server in front listens, which has just been reloaded", func() error {
		conn, err := net.DialTimeout("tcp", to, time.Second)
		if err == nil {
			conn.Close()
		}
		return err
	})
	ask := func(method, path, origin, body string) (int, string) {
		t.Helper()
		r, err := http.NewRequest(method, "https://"+proxied+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		if origin != "" {
			r.Header.Set("Origin", origin)
		}
		res, err := browser.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		if err != nil {
			t.Fatal(err)
		}
		return res.StatusCode, string(text)
	}
	token := strings.TrimSpace(g.On(host, "cat /var/lib/northstaked/admin.token"))
	if status, text := ask("POST", "/api/v1/session", "https://"+proxied, fmt.Sprintf(`{"token":%q}`, token)); status != 200 {
		t.Fatalf("signing in answers %d %s", status, text)
	}
	if status, text := ask("GET", "/", "", ""); status != 200 || !strings.Contains(text, "<title") {
		t.Errorf("the console answers %d %.80s", status, text)
	}
	// 30 MB of content, by the client, on the name that visitors use.
	g.On(host, "grep -q "+proxied+" /etc/hosts || echo 127.0.0.1 "+proxied+" >> /etc/hosts")
	write := "mkdir -p /root/big/content/welcome; cd /root/big; head -c 31457280 /dev/urandom > content/welcome/charts.bin; echo Welcome > content/welcome/index.html; " +
		"printf '[ground]\\nname = \"big\"\\n[host.here]\\nvia = \"service-machine\"\\n[site.welcome]\\non = [\"here\"]\\nserver = \"nginx\"\\nnames = [\"welcome.test\"]\\ncontent = { dir = \"content/welcome\" }\\n' > ground.toml"
	client := fmt.Sprintf("cd /root/big; export SSL_CERT_FILE=/etc/ssl/certs/northstake.pem NORTHSTAKE_SERVER=https://%s; northstake ", proxied)
	g.On(host, write)
	if out := g.On(host, client+"declare"); !strings.Contains(out, "revision 1") {
		t.Errorf("a declaration of 30 MB through the proxy: %s", out)
	}
	if status, text := ask("POST", "/api/v1/grounds/big/surveys", "https://"+proxied, "{}"); status != 202 {
		t.Errorf("a change of the console answers %d %s", status, text)
	}
	if status, text := ask("POST", "/api/v1/grounds/big/surveys", "https://evil.test", "{}"); status != 403 {
		t.Errorf("another site's page: %d %s", status, text)
	}
	// A stream comes piece by piece, and ends. (The host itself cannot be read: its service is no root.)
	out, err := stage.Lab().Shell(context.Background(), host, client+"survey; echo exit $?")
	if err != nil || !strings.Contains(out, "exit ") || strings.Contains(out, "broke") {
		t.Errorf("a survey through the proxy: %s, %v", out, err)
	}
	r, err := http.NewRequest("GET", "http://"+g.Address(host)+"/a", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Host = proxied
	stays := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := stays.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if got := res.Header.Get("Location"); res.StatusCode != 301 || got != "https://"+proxied+"/a" {
		t.Errorf("plain HTTP answers %d %s", res.StatusCode, got)
	}
}
