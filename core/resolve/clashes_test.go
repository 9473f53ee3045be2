package resolve_test

import (
	"fmt"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/resolve"
	"northstake/core/wire"
)

const clashing = `[ground]
name = "saltmarsh"
[reach]
user = "keeper"
key_secret = "keeper"
[kit.base]
[host.quay1]
address = "10.88.0.11"
kits = ["base"]
[site.a]
on = ["quay1"]
server = "nginx"
names = ["a.test"]
content = { dir = "content/a" }
`

var families = map[string]map[string]wire.Layout{
	"debian": {"nginx": {Package: "nginx", Service: "nginx", Dir: "/etc/nginx", SitesDir: "/etc/nginx/sites-available", RootBase: "/var/www"}, "httpd": {Package: "apache2", Service: "apache2", Dir: "/etc/apache2", SitesDir: "/etc/apache2/sites-available", RootBase: "/var/www"}},
	"redhat": {"nginx": {Package: "nginx", Service: "nginx", Dir: "/etc/nginx", SitesDir: "/etc/nginx/conf.d", RootBase: "/var/www"}, "httpd": {Package: "httpd", Service: "httpd", Dir: "/etc/httpd", SitesDir: "/etc/httpd/conf.d", RootBase: "/var/www"}},
}

// What excludes each other, from whatever kit, host, site or content, default or declared,
// is one mistake with both places; what does not is none.
func TestClaimsThatExcludeEachOther(t *testing.T) {
	files := []string{"content/a/index.html", "content/b/index.html"}
	for name, c := range map[string]struct {
		more  string
		says  string // "" for no clash
		other int    // the line of the other place
	}{
		"nothing":                         {"", "", 0},
		"a content on a default root":     {"[kit.base.content.\"/var/www/a\"]\ndir = \"content/b\"\n", "content/var/www/a is declared twice", 0},
		"the same content twice":          {"[kit.base.content.\"/srv/x\"]\ndir = \"content/b\"\n[host.quay1.content.\"/srv/x\"]\ndir = \"content/b\"\n", "", 0},
		"a file inside a root":            {"[kit.base.file.\"/var/www/a/robots.txt\"]\ntext = \"x\"\n", "lies in /var/www/a, which content/var/www/a publishes as a whole", 0},
		"a directory inside a root":       {"[kit.base.directory.\"/var/www/a/uploads\"]\n", "lies in /var/www/a", 0},
		"a content inside a root":         {"[kit.base.content.\"/var/www/a/docs\"]\ndir = \"content/b\"\n", "lies in /var/www/a", 0},
		"a directory on a root":           {"[kit.base.directory.\"/var/www/a\"]\nowner = \"nobody\"\n", "are both about /var/www/a", 0},
		"a directory above a root":        {"[kit.base.directory.\"/var/www/\"]\n", "", 0},
		"a second site without content":   {"[site.b]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"b.test\"]\nroot = \"/var/www/a\"\n", "are both about /var/www/a", 0},
		"a path twice, as two things":     {"[kit.base.file.\"/srv/x\"]\ntext = \"x\"\n[host.quay1.directory.\"/srv/x\"]\n", "file/srv/x are both about /srv/x", 0},
		"a file below a link":             {"[kit.base.link.\"/srv/x\"]\npoints_to = \"/srv/y\"\n[kit.base.file.\"/srv/x/z\"]\ntext = \"x\"\n", "lies below /srv/x", 0},
		"a file below a file":             {"[kit.base.file.\"/srv/x\"]\ntext = \"x\"\n[kit.base.file.\"/srv/x/z\"]\ntext = \"x\"\n", "lies below /srv/x", 0},
		"a file in a directory":           {"[kit.base.directory.\"/srv/x\"]\n[kit.base.file.\"/srv/x/z\"]\ntext = \"x\"\n", "", 0},
		"a kit's file, a host's own":      {"[kit.base.file.\"/srv/x\"]\ntext = \"x\"\n[host.quay1.file.\"/srv/x\"]\ntext = \"y\"\n", "", 0},
		"the server gone":                 {"[kit.base.package.nginx]\nis = \"gone\"\n", "package nginx is to be gone, and site a needs it", 0},
		"the server not to run":           {"[kit.base.service.nginx]\nrunning = false\n", "service nginx is not to run, and site a is served by it", 0},
		"two servers on one port":         {"[site.b]\non = [\"quay1\"]\nserver = \"httpd\"\nnames = [\"b.test\"]\n", "both claim listen 80/tcp", 0},
		"two servers on two":              {"[site.b]\non = [\"quay1\"]\nserver = \"httpd\"\nnames = [\"b.test\"]\nlisten = [8080]\n", "", 0},
		"ports for some, and for all":     {"[kit.base.port.\"8000/tcp\"]\nfrom = [\"10.0.0.0/8\"]\n[kit.base.port.\"7000-9000/tcp\"]\n", "ports 7000-9000/tcp and 8000/tcp overlap", 0},
		"two sources of one URL":          {"[kit.base.source.x]\nurl = \"http://p.test/d\"\nkey = \"files/k.asc\"\n[kit.base.source.y]\nurl = \"http://p.test/d/\"\nkey = \"files/k.asc\"\n", "both claim source http://p.test/d", 0},
		"a name that nearly is another's": {"[site.a.path.\"/b\"]\nroot = \"/srv/ab\"\ncontent = { dir = \"content/b\" }\n[site.a-b]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"ab.test\"]\ncontent = { dir = \"content/b\" }\n", "", 0},
	} {
		text := strings.Replace(clashing, "[kit.base]\n", "", 1)
		if !strings.Contains(c.more, "[kit.base") {
			text = clashing
		}
		m := &declare.Manifest{Files: []declare.File{{Path: "files/k.asc", Text: new(string)}}}
		for _, f := range files {
			m.Files = append(m.Files, declare.File{Path: f, Size: 3, SHA256: strings.Repeat(f[8:9]+"0", 32)})
		}
		more := strings.Replace(c.more, "\"/var/www/\"", "\"/var/www/b\"", 1)
		d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text + more}}, m)
		if len(problems) > 0 {
			t.Errorf("%s: %v", name, problems)
			continue
		}
		found := resolve.Clashes(d, families)
		switch {
		case c.says == "" && len(found) > 0, c.says != "" && len(found) != 1:
			t.Errorf("%s: %d clashes: %v", name, len(found), found)
		case c.says != "" && (!strings.Contains(found[0].What, c.says) || !strings.Contains(found[0].Fix, "see g.toml:")):
			t.Errorf("%s: %s; %s", name, found[0].What, found[0].Fix)
		}
	}
}

// Roots whose names would be one if slashes were hyphens are published each by itself.
func TestStakesAreNamedByWhatTheyAreAbout(t *testing.T) {
	m := &declare.Manifest{Files: []declare.File{{Path: "content/a/index.html", Size: 1, SHA256: strings.Repeat("ab", 32)}, {Path: "content/b/index.html", Size: 1, SHA256: strings.Repeat("cd", 32)}}}
	text := strings.Replace(clashing, "[kit.base]\n", "[kit.base]\n", 1) + "[site.a.path.\"/b/c\"]\nroot = \"/srv/one\"\ncontent = { dir = \"content/b\" }\n[site.a.path.\"/b-c\"]\nroot = \"/srv/two\"\ncontent = { dir = \"content/b\" }\n" +
		"[site.a-b-c]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"abc.test\"]\nroot = \"/srv/three\"\ncontent = { dir = \"content/b\" }\n"
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text}}, m)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	h, err := resolve.OnePlace(d, "quay1", wire.Traits{Family: "debian"}, families["debian"], nil)
	if err != nil {
		t.Fatal(err)
	}
	var roots []string
	for _, s := range h.Stakes {
		if s.Type == "content" {
			roots = append(roots, s.Local())
		}
	}
	if got := fmt.Sprint(roots); got != "[content/var/www/a content/srv/two content/srv/one content/srv/three]" {
		t.Error(got)
	}
	names := 0
	for _, p := range h.Probes {
		if p.Path == "/" {
			names++
		}
	}
	if names != 2 {
		t.Errorf("the probes are %+v", h.Probes)
	}
}
