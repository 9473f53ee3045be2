package hosts

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/resolve"
	"northstake/core/wire"
	"northstake/e2e/stage"
	"northstake/host/family"
	"northstake/lab"
)

// hostileSite is one of many sites, with values that were drawn.
type hostileSite struct {
	name, path, says, header, kind string
	moved                          string
}

// pieces are what means something in a configuration file of one of the servers, or to what
// reads such values.
var pieces = []string{`"`, `'`, "`", `\`, `\\`, "$", "${HOME}", "$uri", "%", "%{HTTP_HOST}", "%{env:PATH}", "%1", "%%", "{", "}", "{$HOME}", "{env.HOME}", "{http.request.host}", `\{`, `\}`, "#", ";", "; }", "{ }",
	"</Location>", "<VirtualHost *:80>", "Include /etc/passwd", "import /etc/passwd", "expr=1", "(", ")", "[", "]", "|", "*", "?", "^", "&", "<", ">", "=", ",", "~", "!", "@", "é", "海", "tide", " ", "  ", "0", "/", "//", "..", "-", "\\n"}

func draw(r *rand.Rand, from []string, most int) string {
	var b strings.Builder
	for range 1 + r.IntN(most) {
		b.WriteString(from[r.IntN(len(from))])
	}
	return b.String()
}

// Values of any characters, as sites of every server: the server's own test accepts them, and
// each comes back to the visitor as it was declared.
func TestHostileValuesStayValues(t *testing.T) {
	t.Parallel()
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	hosts := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, "")
	host := hosts.Hosts[0]
	hosts.On(host, "DEBIAN_FRONTEND=noninteractive apt-get install -y -q nginx apache2 caddy >/dev/null 2>&1; systemctl -q stop nginx apache2 caddy; rm -f /etc/nginx/sites-enabled/default /etc/apache2/sites-enabled/000-default.conf; echo > /etc/apache2/ports.conf; "+
		"mkdir -p /etc/caddy/conf.d; echo 'import conf.d/*.conf' > /etc/caddy/Caddyfile")
	for i, server := range []string{"nginx", "httpd", "caddy"} {
		layout := family.Layouts("debian")[server]
		r := rand.New(rand.NewPCG(seed, uint64(i)))
		inURL := strings.Split("abcXYZ019().,+=:~!@-_", "")
		var sites []hostileSite
		var text strings.Builder
		text.WriteString("[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.h]\naddress = \"10.0.0.1\"\n")
		for n := range 80 {
			s := hostileSite{name: fmt.Sprintf("s%d", n), path: "/x" + draw(r, inURL, 8) + "x", says: draw(r, append(pieces, "\n", "\t"), 12), header: strings.TrimSpace(draw(r, pieces, 10)), kind: draw(r, inURL[:9], 4)}
			s.moved = "/x" + draw(r, inURL, 6) + "x?" + draw(r, append(inURL, "&", "$", "%25", "*", ";", "'", "/", "?"), 6) + "#" + draw(r, append(inURL, "$"), 4)
			sites = append(sites, s)
			fmt.Fprintf(&text, "[site.%s]\non = [\"h\"]\nserver = %q\nnames = [\"%s.test\"]\nlisten = [8123]\nroot = %q\nindex = [%q]\nheaders = { X-Tide = %s }\nbrowser_cache = { %q = \"1d\", %q = \"2d\" }\nerror_pages = { 404 = %q }\n[site.%s.path]\n%q = { says = %s, exact = true }\n\"/moved-by-now\" = { moved_to = %s, rest = \"dropped\", query = \"dropped\" }\n%q = { directory_listing = true, passwords = { %q = \"$2a$05$wnIedQZoBK./fT8HLKmSs.LW1uMPoinJt0UyarYIBtdkC0Et.e6YS\" } }\n",
				s.name, server, s.name, "/srv/"+draw(r, append(inURL, " "), 6)+"x", "x"+draw(r, inURL, 5)+".html", inTOML(s.header), "*"+draw(r, inURL, 4), "/x"+draw(r, inURL, 4)+"*", "/x"+draw(r, inURL, 5)+"x",
				s.name, s.path, inTOML(s.says), inTOML(s.moved), "/guarded-"+draw(r, inURL, 5)+"x", s.kind)
		}
		d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text.String()}}, &declare.Manifest{})
		for _, p := range problems {
			t.Fatalf("%s: %s", server, p.Draw())
		}
		h, err := resolve.OnePlace(d, "h", wire.Traits{Family: "debian", IPv6: true}, map[string]wire.Layout{server: layout}, nil)
		if err != nil {
			t.Fatal(err)
		}
		var script bytes.Buffer
		for _, s := range h.Stakes {
			if s.Type != "site" {
				continue
			}
			w, err := wire.Decode[wire.SiteWant](nil, s.Name, s.Want)
			if err != nil {
				t.Fatal(err)
			}
			put := func(path, text string) {
				fmt.Fprintf(&script, "cat > '%s' <<'END-OF-%d'\n%sEND-OF-%d\n", path, seed, text, seed)
			}
			put(string(w.File), w.Text)
			if w.Link != "" {
				fmt.Fprintf(&script, "ln -sf '%s' '%s'\n", w.File, w.Link)
			}
			for _, b := range w.Beside {
				put(string(b.Path), b.Text)
			}
		}
		script.WriteString(strings.ReplaceAll(strings.Join(layout.Test, " "), "{dir}", string(layout.Dir)) + " 2>&1 || { echo REFUSED; exit; }\nsystemctl restart " + layout.Service + " 2>&1 || { echo NOT STARTED; journalctl -n 5 -u " + layout.Service + "; }\n")
		if out, err := stage.Lab().ExecInput(context.Background(), host, &script, "sh"); err != nil || strings.Contains(out, "REFUSED") || strings.Contains(out, "NOT STARTED") {
			t.Errorf("%s does not take the sites: %v\n%s", server, err, out)
			continue
		}
		for _, s := range sites {
			if err := s.answers(net.JoinHostPort(hosts.Address(host), "8123")); err != nil {
				t.Errorf("%s, %+q: %v", server, s, err)
			}
		}
		hosts.On(host, "systemctl stop "+layout.Service)
	}
}

// answers says whether a site's values come back as they are.
func (s hostileSite) answers(at string) error {
	ask := func(path string) (*http.Response, string, error) {
		req := &http.Request{Method: http.MethodGet, Host: s.name + ".test", URL: &url.URL{Scheme: "http", Host: at, Opaque: path}, Header: http.Header{}}
		client := http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		res, err := client.Do(req)
		if err != nil {
			return nil, "", err
		}
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		return res, string(body), err
	}
	res, body, err := ask(s.path)
	switch {
	case err != nil:
		return err
	case res.StatusCode != 200 || body != s.says:
		return fmt.Errorf("answers %d %q", res.StatusCode, body)
	case res.Header.Get("X-Tide") != s.header:
		return fmt.Errorf("the header is %q", res.Header.Get("X-Tide"))
	}
	if res, _, err = ask("/moved-by-now"); err != nil {
		return err
	}
	to := strings.TrimPrefix(res.Header.Get("Location"), "http://"+s.name+".test")
	if to = strings.TrimPrefix(to, ":8123"); to != s.moved {
		return fmt.Errorf("leads to %q", res.Header.Get("Location"))
	}
	return nil
}

// inTOML is text as TOML has it, which for these characters is as JSON has it.
func inTOML(s string) string { return string(wire.JSON(s)) }
