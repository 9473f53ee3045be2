package sites

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"northstake/e2e/stage"
	"northstake/lab"
)

// visitor asks the sites of a host over HTTPS, and trusts an authority alone.
type visitor struct {
	address string
	roots   *x509.CertPool
}

// get asks for a URL, by the name in it, at the host's address; redirects are not followed.
func (v visitor) get(url string) (*http.Response, string, error) {
	dial := func(ctx context.Context, network, at string) (net.Conn, error) {
		_, port, err := net.SplitHostPort(at)
		if err != nil {
			return nil, err
		}
		return (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, network, net.JoinHostPort(v.address, port))
	}
	client := http.Client{Timeout: 10 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DialContext: dial, DisableKeepAlives: true, ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{RootCAs: v.roots}}}
	res, err := client.Get(url)
	if err != nil {
		return nil, "", err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	return res, string(b), err
}

// shown is the certificate that a handshake for a name brings, whoever has signed it.
func (v visitor) shown(name string, config *tls.Config) (*x509.Certificate, error) {
	config = config.Clone()
	config.ServerName, config.InsecureSkipVerify = name, true
	c, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", net.JoinHostPort(v.address, "443"), config)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return c.ConnectionState().PeerCertificates[0], nil
}

const httpsGround = `[kit.base]
[authority.office]
domains = ["saltmarsh.test"]
[certificate.quays]
authority = "office"
[site.timetable]
on          = ["h*"]
server      = %[1]q
names       = ["timetable.saltmarsh.test"]
certificate = "quays"
content     = { dir = "content" }
https       = { remembered = "30d" }
[[site.timetable.probe]]
path     = "/"
contains = "Next sailing"
[certificate.freight]
self_signed = true
[site.freight]
on          = ["h*"]
server      = %[1]q
names       = ["freight.saltmarsh.test"]
certificate = "freight"
https       = { plain_http = "answered", least_version = "1.3" }
content     = { dir = "content" }
`

// httpsGroundOn is the ground with one server. Sites of nginx at one port speak the same versions.
func httpsGroundOn(server string) string {
	text := fmt.Sprintf(httpsGround, server)
	if server == "nginx" {
		text = strings.Replace(text, `{ remembered = "30d" }`, `{ remembered = "30d", least_version = "1.3" }`, 1)
	}
	return text
}

// Sites show the certificate that is declared for them, and no other; who asks over plain HTTP is sent to
// HTTPS; a name that no site has gets no handshake; and nobody but the server has the key.
func TestSitesAreServedOverHTTPS(t *testing.T) {
	t.Parallel()
	for _, by := range serving {
		if by.within {
			continue
		}
		t.Run(by.family.String()+"-"+by.server, func(t *testing.T) {
			t.Parallel()
			g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{by.family}, httpsGroundOn(by.server))
			h := g.Hosts[0]
			g.Trust()
			if out := g.Ns(1, "plan"); strings.Contains(out, "PRIVATE KEY") {
				t.Error("a plan has a private key in it")
			}
			g.Apply(0)
			g.NothingToDo()
			roots := x509.NewCertPool()
			if !roots.AppendCertsFromPEM([]byte(g.Ns(0, "certificates", "office", "--pem", "--ground", g.Name))) {
				t.Fatal("the authority's certificate is not handed out")
			}
			v := visitor{g.Address(h), roots}
			res, body, err := v.get("https://timetable.saltmarsh.test/")
			if err != nil || res.StatusCode != 200 || !strings.Contains(body, "Next sailing") || res.ProtoMajor != 2 || res.Header.Get("Strict-Transport-Security") != "max-age=2592000" {
				t.Fatalf("over HTTPS it answers %+v, %q, %v", res, body, err)
			}
			res, _, err = v.get("http://timetable.saltmarsh.test/quay/map.html?from=north%20pier")
			if err != nil || res.StatusCode != 301 || res.Header.Get("Location") != "https://timetable.saltmarsh.test/quay/map.html?from=north%20pier" {
				t.Errorf("over plain HTTP it answers %+v, %v", res, err)
			}
			if res, body, err = v.get("http://freight.saltmarsh.test/"); err != nil || res.StatusCode != 200 || !strings.Contains(body, "Next sailing") {
				t.Errorf("freight answers %+v, %q, %v over plain HTTP", res, body, err)
			}
			if _, _, err := v.get("https://freight.saltmarsh.test/"); err == nil || !strings.Contains(err.Error(), "unknown authority") {
				t.Errorf("what is signed by itself is trusted: %v", err)
			}
			if c, err := v.shown("freight.saltmarsh.test", &tls.Config{MaxVersion: tls.VersionTLS12}); err == nil {
				t.Errorf("%s is shown over TLS 1.2, and freight is to speak 1.3 at least", c.Subject)
			}
			for _, name := range []string{"nobody.saltmarsh.test", "other.example.test"} {
				if c, err := v.shown(name, &tls.Config{}); err == nil {
					t.Errorf("a handshake for %s brings the certificate of %v", name, c.DNSNames)
				}
			}
			for _, version := range []uint16{tls.VersionTLS10, tls.VersionTLS11} {
				if _, err := v.shown("timetable.saltmarsh.test", &tls.Config{MinVersion: version, MaxVersion: version}); err == nil {
					t.Errorf("version %x is spoken", version)
				}
			}
			keys := strings.Fields(g.On(h, "grep -rl 'PRIVATE KEY' /etc 2>/dev/null | grep northstake"))
			if len(keys) != 2 {
				t.Errorf("private keys lie in %v", keys)
			}
			for _, key := range keys {
				g.On(h, "! su nobody -s /bin/sh -c 'cat "+key+"' 2>/dev/null && ! su keeper -s /bin/sh -c 'cat "+key+"' 2>/dev/null")
			}
			if out := g.On(h, "! grep -rl 'PRIVATE KEY' /var/lib/northstake /var/log /run 2>/dev/null"); out != "" {
				t.Errorf("private keys lie in %s", out)
			}
			renewed(t, g, v, by)
			editedHTTPS(t, g, by)
		})
	}
}

// renewed has the certificate made anew, for one more name, while visitors ask: not one of them is turned away,
// and the files of the one before are gone. Caddy resets a few connections whenever it takes a configuration in
// while visitors ask without a pause, as docs/certificates.md says.
func renewed(t *testing.T, g *stage.Ground, v visitor, by servedBy) {
	t.Helper()
	h := g.Hosts[0]
	before, err := v.shown("timetable.saltmarsh.test", &tls.Config{})
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	var asked, failed, reset atomic.Int64
	var first atomic.Value
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for ctx.Err() == nil {
				_, _, err := v.get("https://timetable.saltmarsh.test/")
				switch {
				case by.server == "caddy" && errors.Is(err, syscall.ECONNRESET):
					reset.Add(1)
				case err != nil:
					failed.Add(1)
					first.CompareAndSwap(nil, err.Error())
				}
				asked.Add(1)
			}
		})
	}
	g.DeclareText(strings.Replace(httpsGroundOn(by.server), `names       = ["timetable.saltmarsh.test"]`, `names       = ["timetable.saltmarsh.test", "tides.saltmarsh.test"]`, 1))
	g.Ns(0, "declare", g.Dir)
	g.Apply(0)
	stop()
	all.Wait()
	t.Logf("%d requests, of which %d were reset", asked.Load(), reset.Load())
	if failed.Load() > 0 || asked.Load() < 10 || reset.Load() > 2+asked.Load()/25 {
		t.Errorf("of %d requests %d failed as the certificate was exchanged, and %d were reset: %v", asked.Load(), failed.Load(), reset.Load(), first.Load())
	}
	after, err := v.shown("timetable.saltmarsh.test", &tls.Config{})
	if err != nil || before.Equal(after) || after.VerifyHostname("tides.saltmarsh.test") != nil {
		t.Errorf("it is shown %v, %v", after, err)
	}
	if res, _, err := v.get("https://tides.saltmarsh.test/"); err != nil || res.StatusCode != 200 {
		t.Errorf("the new name answers %v, %v", res, err)
	}
	if keys := strings.Fields(g.On(h, "grep -rl 'PRIVATE KEY' /etc 2>/dev/null | grep northstake")); len(keys) != 2 {
		t.Errorf("private keys lie in %v", keys)
	}
}

// editedHTTPS edits what belongs to certificates by hand: each is found, and put back.
func editedHTTPS(t *testing.T, g *stage.Ground, by servedBy) {
	h := g.Hosts[0]
	key := strings.Fields(g.On(h, "grep -rl 'PRIVATE KEY' /etc 2>/dev/null | grep northstake-timetable"))[0]
	chain := strings.TrimSuffix(key, ".key") + ".pem"
	reload := "systemctl reload " + map[string]string{"httpd-debian": "apache2"}[by.server+"-"+by.family.String()]
	if reload == "systemctl reload " {
		reload += by.server
	}
	d := t.TempDir()
	stage.Shell(t, d, "openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -subj /CN=other -addext subjectAltName=DNS:timetable.saltmarsh.test -keyout other.key -out other.pem -days 60 2>/dev/null")
	put := func(file, at string) string { // in place: it keeps its owner and mode
		return "cat > " + at + " <<'END'\n" + stage.Shell(t, d, "cat "+file) + "END\n"
	}
	const is = "site/timetable"
	g.HandEdits(h, []stage.Edit{
		{is, key + ", mode", "chmod 644 " + key},
		{is, key, "rm " + key},
		{is, chain, "head -3 " + chain + " > /tmp/cut && cat /tmp/cut > " + chain},
		{is, chain, put("other.pem", chain) + put("other.key", key) + reload},
	})
}

// A certificate whose key is no pair, whose password is wrong, or which is for other names, is told with the
// place, before anything is done.
func TestCertificatesThatAreHandedOver(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "")
	d := t.TempDir()
	stage.Shell(t, d, "openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -subj /CN=timetable.saltmarsh.test -addext subjectAltName=DNS:timetable.saltmarsh.test -keyout own.key -out own.pem -days 60 2>/dev/null;"+
		"openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -subj /CN=freight.saltmarsh.test -addext subjectAltName=DNS:freight.saltmarsh.test -keyout other.key -out other.pem -days 60 2>/dev/null;"+
		"openssl pkcs12 -export -passout pass:low-tide -inkey own.key -in own.pem -out own.p12")
	file := func(name string) string { return stage.Shell(t, d, "cat "+name) }
	site := func(source string) string {
		return "[kit.base]\n[certificate.own]\n" + source + "\n[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\ncertificate = \"own\"\ncontent = { dir = \"content\" }\n"
	}
	keep := func(name, value string) {
		at := filepath.Join(d, "secret")
		stage.Write(t, at, value)
		g.Ns(0, "secret", "keep", g.Name+"-"+name, "--file", at)
	}
	g.Trust()
	g.Beside("certificates/own.pem", file("other.pem"))
	g.DeclareText(site("file = \"certificates/own.pem\"\nkey_secret = \"" + g.Name + "-key\""))
	if out := g.Ns(2, "lint", g.Dir); !strings.Contains(out, "does not cover timetable.saltmarsh.test") {
		t.Errorf("lint says %s", out)
	}
	g.Beside("certificates/own.pem", file("own.pem")+file("own.key"))
	if out := g.Ns(2, "lint", g.Dir); !strings.Contains(out, "begins a private key") {
		t.Errorf("lint says %s", out)
	}
	g.Beside("certificates/own.pem", file("own.pem"))
	if out := g.Ns(2, "plan"); !strings.Contains(out, "there is no secret called") {
		t.Errorf("the plan says %s", out)
	}
	keep("key", file("other.key"))
	if out := g.Ns(2, "plan"); !strings.Contains(out, "is not that of the certificate") {
		t.Errorf("the plan says %s", out)
	}
	keep("key", file("own.key"))
	g.Apply(0)
	g.NothingToDo()
	block, _ := pem.Decode([]byte(file("own.pem")))
	shown := func() {
		t.Helper()
		c, err := visitor{address: g.Address(g.Hosts[0])}.shown("timetable.saltmarsh.test", &tls.Config{})
		if err != nil || string(c.Raw) != string(block.Bytes) {
			t.Errorf("the site shows %v, %v", c, err)
		}
	}
	shown()
	// The same as a bundle: nothing is to be done, since it is the same certificate with the same key.
	stage.Shell(t, g.Dir, "cp "+d+"/own.p12 certificates/own.p12")
	g.DeclareText(site("bundle = \"certificates/own.p12\"\npassword_secret = \"" + g.Name + "-password\""))
	keep("password", "high-tide")
	if out := g.Ns(2, "plan"); !strings.Contains(out, "password") {
		t.Errorf("the plan says %s", out)
	}
	keep("password", "low-tide")
	g.NothingToDo()
	shown()
	out := g.Ns(0, "certificates", "own", "--ground", g.Name)
	fingerprint := strings.TrimSpace(stage.Shell(t, d, "openssl x509 -in own.pem -noout -fingerprint -sha256 | cut -d= -f2"))
	if !strings.Contains(out, fingerprint) {
		t.Errorf("it is shown without its fingerprint %s:\n%s", fingerprint, out)
	}
}
