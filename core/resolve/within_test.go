package resolve

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// Sites in containers share one for each server, which sees what each of them needs and no more;
// they come after the image that tests them, and before the container.
func TestSitesInContainersShareOne(t *testing.T) {
	const sites = `[ground]
name = "saltmarsh"
unknown_names = "404"
[reach]
user = "keeper"
key_secret = "keeper"
[host.quay1]
address = "10.88.0.11"
[site.fares]
on = ["quay1"]
server = "nginx"
image = "registry.test/web:1"
image_secret = "login"
names = ["fares.test"]
root = "/srv/www/fares"
log = { access = "/var/log/fares/access.log" }
passwords = { purser = "$2a$05$wnIedQZoBK./fT8HLKmSs.LW1uMPoinJt0UyarYIBtdkC0Et.e6YS" }
[site.tides]
on = ["quay1"]
server = "nginx"
image = "registry.test/web:1"
image_secret = "login"
names = ["tides.test"]
listen = [8080]
root = "/srv/www/tides"
[site.tides.path."/now"]
passed_to = ["unix:/run/tides/now.sock", "unix:/run/then.sock"]
[site.rota]
on = ["quay1"]
server = "nginx"
names = ["rota.test"]
listen = [8090]
`
	inside := wire.Layout{Program: "nginx", User: "nobody", Dir: "/etc/northstake/nginx", Config: "/etc/northstake/nginx/nginx.conf", SitesDir: "/etc/northstake/nginx/sites",
		Contained: wire.Contained{Main: "events {}\n", Command: []string{"nginx", "-g", "daemon off;"}, Reload: []string{"nginx", "-s", "reload"}}}
	layout := layouts["nginx"]
	layout.Inside = &inside
	resolved := func(text string) Place {
		t.Helper()
		d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
		if len(problems) > 0 {
			t.Fatal(problems)
		}
		h, err := OnePlace(d, "quay1", traits, map[string]wire.Layout{"nginx": layout}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return h
	}
	h := resolved(sites)
	if len(h.Conflicts) > 0 {
		t.Fatal(h.Conflicts)
	}
	var order []string
	var want wire.ContainerWant
	var fares wire.SiteWant
	for _, s := range h.Stakes {
		order = append(order, s.Local())
		switch s.Local() {
		case "container/sites-nginx":
			if err := json.Unmarshal(s.Want, &want); err != nil {
				t.Fatal(err)
			}
			for _, need := range []string{"site/fares", "site/tides", "image/registry.test/web:1", "file/etc/northstake/nginx/nginx.conf"} {
				if !slices.Contains(s.Needs, need) {
					t.Errorf("the container needs %v, and not %s", s.Needs, need)
				}
			}
		case "site/fares":
			if err := json.Unmarshal(s.Want, &fares); err != nil {
				t.Fatal(err)
			}
		}
	}
	at := func(local string) int { return slices.Index(order, local) }
	if !(at("image/registry.test/web:1") < at("site/fares") && at("site/tides") < at("container/sites-nginx") && at("site/rota") < at("service/nginx") && at("site/rota") >= 0) {
		t.Errorf("they come in the order %v", order)
	}
	var sees []string
	for _, held := range want.Mounts {
		sees = append(sees, string(held.At)+map[bool]string{true: " writable"}[held.Writable])
	}
	if got := strings.Join(sees, ", "); got != "/etc/northstake/nginx, /run/then.sock, /run/tides, /srv/www, /var/log/fares writable" {
		t.Errorf("the container sees %s", got)
	}
	if !slices.Equal(want.Ports, []int{80, 8080}) || want.Network != "host" || want.Entry[0] != "nginx" {
		t.Errorf("the container is to be %+v", want)
	}
	if b := fares.Beside[0]; b.Group != "root" || fares.ModeOf(b) != "0644" || !strings.HasPrefix(string(b.Path), "/etc/northstake/nginx/") {
		t.Errorf("the accounts lie in %+v", b)
	}
	// A port that a server on the host has as well, and a second image, exclude each other.
	for from, says := range map[string]string{"listen = [8090]": "both claim listen 80/tcp", "image = \"registry.test/web:1\"\nimage_secret = \"login\"\nnames = [\"tides": "two images"} {
		to := map[string]string{"listen = [8090]": "listen = [80]", "image = \"registry.test/web:1\"\nimage_secret = \"login\"\nnames = [\"tides": "image = \"registry.test/web:2\"\nimage_secret = \"login\"\nnames = [\"tides"}[from]
		c := resolved(strings.Replace(sites, from, to, 1)).Conflicts
		if !slices.ContainsFunc(c, func(c claim.Conflict) bool { return strings.Contains(c.What, says) }) {
			t.Errorf("%s: %v", says, c)
		}
	}
	// One that is switched off is kept, and nobody serves it.
	off := resolved(strings.ReplaceAll(sites, "image = ", "served = false\nimage = "))
	if slices.ContainsFunc(off.Stakes, func(s stake.Stake) bool { return s.Type == "container" }) {
		t.Error("a container serves sites that are switched off")
	}
}
