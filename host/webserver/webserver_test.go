package webserver

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

// What nginx says of a rendered line leads back to the declaration's line.
func TestAComplaintLeadsToTheDeclaration(t *testing.T) {
	w := wire.SiteWant{Server: "nginx", Program: "nginx", File: "/etc/nginx/sites-available/northstake-s.conf", Link: "/etc/nginx/sites-enabled/northstake-s.conf", Text: "server {\n    listen 80;\n    root \"/x\";\n}\n",
		Lines: wire.PlacesOf([]declare.Position{{File: "s.toml", Line: 1}, {File: "s.toml", Line: 5}, {File: "s.toml", Line: 6}, {File: "s.toml", Line: 1}})}
	for _, said := range []string{
		"2026/01/02 03:04:05 [emerg] 12#12: invalid parameter \"x\" in /etc/nginx/sites-enabled/northstake-s.conf:3\nnginx: configuration file /etc/nginx/nginx.conf test failed\n",
		"nginx: [emerg] invalid parameter \"x\" in /etc/nginx/sites-available/northstake-s.conf:3\n",
	} {
		err := candidateFault(said, w)
		f, ok := err.(*wire.Fault)
		if !ok || f.What != `nginx does not accept the configuration: invalid parameter "x"` || f.Line != 3 || f.Rendered != `root "/x";` || f.From == nil || f.From.Line != 6 || f.From.File != "s.toml" {
			t.Errorf("%q becomes %+v", said, f)
		}
	}
	f := candidateFault("nginx: [emerg] unknown directive \"y\" in /etc/nginx/conf.d/other.conf:7\n", w).(*wire.Fault)
	if f.From != nil || f.File != "/etc/nginx/conf.d/other.conf" || !strings.Contains(f.Fix, "was on the host before") {
		t.Errorf("another file's fault becomes %+v", f)
	}
}

// The copy that is tested points nowhere into the live tree.
func TestTheCandidateStandsApart(t *testing.T) {
	m := systemtest.Folder(t)
	systemtest.Put(t, m, "/etc/nginx/nginx.conf", "pid /run/nginx.pid;\ninclude /etc/nginx/sites-enabled/*;\n")
	systemtest.Put(t, m, "/etc/nginx/sites-available/a", "server {}\n")
	if err := os.MkdirAll(m.Path("/etc/nginx/sites-enabled"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/etc/nginx/sites-available/a", m.Path("/etc/nginx/sites-enabled/a")); err != nil {
		t.Fatal(err)
	}
	for link, target := range map[string]string{"/etc/nginx/modules": "../../usr/lib64/nginx", "/etc/nginx/sites-enabled/b": "../sites-available/a"} {
		if err := os.Symlink(target, m.Path(wire.Path(link))); err != nil {
			t.Fatal(err)
		}
	}
	large := "geo $near { default 0;\n" + strings.Repeat("192.0.2.1 1;\n", configLimit/10) + "}\n"
	systemtest.Put(t, m, "/etc/nginx/conf.d/geo.conf", large)
	to := filepath.Join(t.TempDir(), "conf")
	if err := (candidate{"nginx", "/etc/nginx", to, to + "/pid"}).tree(m.Path("/etc/nginx"), "/etc/nginx", to); err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(to + "/nginx.conf")
	if err != nil || strings.Contains(string(b), "/etc/nginx") || strings.Contains(string(b), "/run/nginx.pid") {
		t.Errorf("%s, %v", b, err)
	}
	if b, err := os.ReadFile(to + "/conf.d/geo.conf"); err != nil || string(b) != large {
		t.Errorf("of a large file %d of %d bytes are there, %v", len(b), len(large), err)
	}
	if s, err := os.Lstat(to + "/conf.d/geo.conf"); err != nil || !s.Mode().IsRegular() {
		t.Errorf("a large file is no copy: %v, %v", s, err)
	}
	for link, want := range map[string]string{"/sites-enabled/a": to + "/sites-available/a", "/sites-enabled/b": to + "/sites-available/a", "/modules": "/usr/lib64/nginx"} {
		if target, err := os.Readlink(to + link); err != nil || target != want {
			t.Errorf("%s leads to %s, %v", link, target, err)
		}
	}
}

// What a server serves is found by its virtual hosts and where they listen, whoever wrote them; what its
// package brings is nobody's.
func TestWhatAServerServes(t *testing.T) {
	for name, c := range map[string]struct {
		layout wire.Layout
		files  map[string]string
		want   string
	}{
		"nginx": {wire.Layout{Dir: "/etc/nginx", Config: "/etc/nginx/nginx.conf", SitesDir: "/etc/nginx/conf.d", Own: wire.Own{Block: wire.Block{File: "/etc/nginx/nginx.conf", Opens: "server"}}},
			map[string]string{
				"/etc/nginx/nginx.conf":               "http {\n  include conf.d/*.conf;\n  server {\n    listen 80;\n    # server { listen 9999; }\n  }\n}\n",
				"/etc/nginx/conf.d/one.conf":          "server { listen 8096; }\nserver {\n  listen [::]:8097 ssl;\n  listen 127.0.0.1:8098 default_server;\n}\n",
				"/etc/nginx/conf.d/plain.conf":        "server { server_name a.test; }\n",
				"/etc/nginx/conf.d/address.conf":      "server { listen 10.0.0.1; listen unix:/run/x.sock; }\n",
				"/etc/nginx/conf.d/upstream.conf":     "upstream x { server 10.0.0.1:8080; }\n# server { listen 1; }\n",
				"/etc/nginx/conf.d/northstake-s.conf": "server { listen 80; }\n",
				"/etc/nginx/conf.d/off.conf.off":      "server { listen 8099; }\n",
			},
			"[{/etc/nginx/conf.d/address.conf [80]} {/etc/nginx/conf.d/northstake-s.conf [80]} {/etc/nginx/conf.d/one.conf [8096 8097 8098]} {/etc/nginx/conf.d/plain.conf [80]}]"},
		"httpd": {wire.Layout{Dir: "/etc/apache2", Config: "/etc/apache2/apache2.conf", SitesDir: "/etc/apache2/sites-available", LinkDir: "/etc/apache2/sites-enabled", Own: wire.Own{Links: []wire.Path{"/etc/apache2/sites-enabled/000-default.conf"}}},
			map[string]string{
				"/etc/apache2/sites-enabled/000-default.conf": "<VirtualHost *:80>\n</VirtualHost>\n",
				"/etc/apache2/sites-enabled/two.conf":         "Listen 8097\n<VirtualHost *:8097 [::]:8098>\n</VirtualHost>\n",
				"/etc/apache2/sites-enabled/any.conf":         "<VirtualHost *>\n</VirtualHost>\n#<VirtualHost *:1>\n",
			},
			"[{/etc/apache2/sites-enabled/any.conf [0]} {/etc/apache2/sites-enabled/two.conf [8097 8098]}]"},
		"caddy": {wire.Layout{Dir: "/etc/caddy", Config: "/etc/caddy/Caddyfile", SitesDir: "/etc/caddy/conf.d", Own: wire.Own{Block: wire.Block{File: "/etc/caddy/Caddyfile", Opens: ":80"}}},
			map[string]string{
				"/etc/caddy/Caddyfile":       "{\n\tadmin off\n}\n:80 {\n\troot * /usr/share/caddy\n}\nimport conf.d/*.conf\n",
				"/etc/caddy/conf.d/own.conf": "http://a.test, b.test:8096 {\n\trespond x\n}\nc.test {\n}\n",
			},
			"[{/etc/caddy/conf.d/own.conf [80 443 8096]}]"},
	} {
		m := systemtest.Folder(t)
		for path, text := range c.files {
			systemtest.Put(t, m, path, text)
		}
		if got, err := ServedBy(m, name, c.layout); err != nil || fmt.Sprint(got) != c.want {
			t.Errorf("%s serves %v, %v; wanted %s", name, got, err, c.want)
		}
	}
}

// What a server takes in is told by its lines, through the files that these take in, and not where that
// is a matter of what nobody knows (V14).
func TestWhatAServerTakesIn(t *testing.T) {
	for what, c := range map[string]struct {
		server, main, file string
		beside             string // a file that main may take in, at more/one.conf
		want               bool
	}{
		"as it is brought":      {"nginx", "http {\n  include /etc/x/mime.types;\n  include /etc/x/sites/*;\n}\n", "/etc/x/sites/northstake-s.conf", "", true},
		"relative":              {"nginx", "http { include sites/*.conf; }\n", "/etc/x/sites/northstake-s.conf", "", true},
		"taken out":             {"nginx", "http {\n  include /etc/x/mime.types;\n  # include /etc/x/sites/*;\n}\n", "/etc/x/sites/northstake-s.conf", "", false},
		"another ending":        {"nginx", "http { include sites/*.vhost; }\n", "/etc/x/sites/northstake-s.conf", "", false},
		"through another file":  {"nginx", "include more/*.conf;\n", "/etc/x/sites/northstake-s.conf", "http { include sites/*; }\n", true},
		"not even there":        {"nginx", "include more/*.conf;\n", "/etc/x/sites/northstake-s.conf", "http { }\n", false},
		"by a variable":         {"httpd", "IncludeOptional ${WHERE}/*.conf\n", "/etc/x/sites/northstake-s.conf", "", true},
		"httpd":                 {"httpd", "IncludeOptional sites/*.conf\n", "/etc/x/sites/northstake-s.conf", "", true},
		"httpd, a directory":    {"httpd", "Include sites/\n", "/etc/x/sites/northstake-s.conf", "", true},
		"httpd, taken out":      {"httpd", "#IncludeOptional sites/*.conf\nIncludeOptional conf/*.conf\n", "/etc/x/sites/northstake-s.conf", "", false},
		"a loop":                {"nginx", "include more/*.conf;\n", "/etc/x/sites/northstake-s.conf", "include more/*.conf;\n", false},
		"a server of its own":   {"caddy", "", "/etc/x/sites/northstake-s.conf", "", true},
		"nothing is there yet":  {"nginx", "-", "/etc/x/sites/northstake-s.conf", "", true},
		"one that is beside it": {"nginx", "http { include sites/northstake-other.conf; }\n", "/etc/x/sites/northstake-s.conf", "", false},
	} {
		m := systemtest.Folder(t)
		if c.main != "-" {
			systemtest.Put(t, m, "/etc/x/main.conf", c.main)
		}
		systemtest.Put(t, m, "/etc/x/more/one.conf", c.beside)
		systemtest.Put(t, m, "/etc/x/sites/northstake-other.conf", "server { }\n")
		if got, err := Includes(m, c.server, wire.Layout{Dir: "/etc/x", Config: "/etc/x/main.conf"}, wire.Path(c.file)); err != nil || got != c.want {
			t.Errorf("%s: it takes it in: %t, %v", what, got, err)
		}
	}
}

// Where a server listens by lines of its own is told with the file that has each, of all that it takes in:
// those that are switched off count, and what is bound to a condition does not.
func TestWhereAServerListensByItself(t *testing.T) {
	m := systemtest.Folder(t)
	l := wire.Layout{Dir: "/etc/apache2", Config: "/etc/apache2/apache2.conf"}
	if got := ListenLines(m, "httpd", l); got != nil {
		t.Errorf("of one that is not there: %v", got)
	}
	for path, text := range map[string]string{
		"/etc/apache2/apache2.conf":                        "Include ports.conf\nIncludeOptional sites-enabled/*.conf\n",
		"/etc/apache2/ports.conf":                          "#northstake# Listen 80\nlisten 127.0.0.1:8081 http\n# Listen 9999\n<IfModule ssl_module>\n\tListen 443\n</IfModule>\n\tListen [::]:8082\n",
		"/etc/apache2/sites-enabled/a.conf":                "<VirtualHost *:8096>\n</VirtualHost>\nListen 8096\nListenBacklog 511\n",
		"/etc/apache2/sites-enabled/northstake-tides.conf": "<IfDefine !NORTHSTAKE_LISTENS_8070>\n    Define NORTHSTAKE_LISTENS_8070\n    Listen 8070\n</IfDefine>\n",
	} {
		systemtest.Put(t, m, path, text)
	}
	if got, want := fmt.Sprint(ListenLines(m, "httpd", l)), "[{80 /etc/apache2/ports.conf} {8081 /etc/apache2/ports.conf} {8082 /etc/apache2/ports.conf} {8096 /etc/apache2/sites-enabled/a.conf}]"; got != want {
		t.Errorf("it listens by %s, wanted %s", got, want)
	}
	if got := ListenLines(m, "nginx", l); got != nil {
		t.Errorf("nginx listens where its sites are, and not by %v", got)
	}
}
