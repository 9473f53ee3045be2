package lint

import (
	"strings"
	"testing"

	"northstake/core/declare"
)

// What cannot be of sites in containers, and of containers that are hosts, is one mistake each,
// at its place.
func TestContainersThatCannotBe(t *testing.T) {
	const ground = "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.quay]\naddress = \"10.0.0.1\"\n[host.berth]\nvia = \"container\"\nengine = \"quay\"\n" +
		"[site.s]\non = [\"quay\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\nimage = \"registry.test/web:1\"\nroot = \"/srv/www/s\"\n"
	if _, problems := lint(t, []declare.Source{{Name: "g.toml", Text: ground}}, &declare.Manifest{}); len(problems) > 0 {
		t.Fatal(problems)
	}
	for _, c := range []struct{ from, to, says string }{
		{"registry.test/web:1", "web", `"web" is not the name of an image`},
		{"image = \"registry.test/web:1\"", "image_secret = \"login\"", "a secret for an image that is not named"},
		{"image = ", "php = true\nimage = ", "PHP is run by the host"},
		{"/srv/www/s", "/fares", "the container would see all of /, the directory around this root"},
		{"/srv/www/s", "/var/s", "the container would see all of /var"},
		{"image = ", "log = { access = \"/var/log/s.log\" }\nimage = ", "the container would see all of /var/log, the directory around this log"},
		{"engine = \"quay\"", "engine = \"quai\"", `no host is called "quai"`},
		{"engine = \"quay\"", "engine = \"berth\"", "host berth is a container itself"},
		{"engine = \"quay\"", "engine = \"quay\"\ninside = \"a b\"", `"a b" cannot be the name of a container`},
		{"via = \"container\"\n", "address = \"10.0.0.2\"\n", "host berth is no container"},
		{"[site.s]", "[host.other]\nvia = \"container\"\nengine = \"quay\"\ninside = \"berth\"\n[site.s]", "is the same container as host"},
		{"[site.s]", "[host.quay.container.tides]\nimage = \"registry.test/t:1\"\n[[host.quay.container.tides.probe]]\npath = \"/\"\n[site.s]", "has no port that could be asked"},
	} {
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: strings.Replace(ground, c.from, c.to, 1)}}, &declare.Manifest{})
		if len(problems) != 1 || !strings.Contains(problems[0].What, c.says) || problems[0].Fix == "" || problems[0].Line == 0 {
			t.Errorf("%s: %v", c.says, problems)
		}
	}
}
