package resolve

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/host/family"
)

const ground = `[ground]
name = "saltmarsh"
[reach]
user = "keeper"
key_secret = "keeper"
[kit.base]
packages = ["curl", "cron"]
ports = ["9000/udp"]
service = { cron = { running = true, at_boot = true } }
[kit.closed]
inbound = "declared"
[host.quay1]
address = "10.88.0.11"
kits = ["base", "closed"]
labels = ["web"]
service = { cron = { at_boot = false } }
[host.quay2]
address = "10.88.0.12"
kits = ["base", "closed"]
inbound = "any"
[site.timetable]
on = ["label:web"]
server = "nginx"
names = ["*.saltmarsh.test"]
listen = [80, 8080]
content = { dir = "content/timetable", owner = "www-data", modes = { files = "640" } }
[site.timetable.path."/freight"]
root = "/srv/www/freight"
[[site.timetable.probe]]
path = "/boats"
contains = "Avocet"
`

var traits = wire.Traits{System: "Debian", IPv6: true, SSHPort: 2222}

var layouts = map[string]wire.Layout{"nginx": {Package: "nginx-light", Service: "nginx", Program: "nginx",
	SitesDir: "/etc/nginx/conf.d", RootBase: "/usr/share/www", Own: wire.Own{Links: []wire.Path{"/etc/nginx/default"}}}}

func parsed(t *testing.T) *declare.Declaration {
	t.Helper()
	m := &declare.Manifest{Files: []declare.File{{Path: "content/timetable/index.html", Size: 3, SHA256: "ab"}, {Path: "content/timetable/a/b.css", Size: 1, SHA256: "cd"}}}
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: ground}}, m)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	return d
}

func want[W any](t *testing.T, h Place, local string) W {
	t.Helper()
	for _, s := range h.Stakes {
		if s.Local() == local {
			var w W
			if err := json.Unmarshal(s.Want, &w); err != nil {
				t.Fatal(err)
			}
			return w
		}
	}
	t.Fatalf("there is no stake %s", local)
	panic("unreachable")
}

// What the SSH server reads as it starts is taken in with the run that writes it, unless the file says
// otherwise.
func TestTheSSHServerTakesItsFilesIn(t *testing.T) {
	text := "[ground]\nname = \"saltmarsh\"\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\n[host.quay1]\naddress = \"10.88.0.11\"\n"
	for path, more := range map[string]string{"/etc/ssh/sshd_config": "", "/etc/ssh/sshd_config.d/10.conf": "", "/etc/ssh/sshd_config.d/20.conf": "reload = []\n", "/etc/ssh/sshd_config.d/30.conf": "restart = [\"cron\"]\n",
		"/etc/ssh/ssh_config": "", "/etc/systemd/system/ssh.service.d/x.conf": "", "/etc/systemd/system/sshd.service.d/x.conf": "", "/srv/x": ""} {
		text += fmt.Sprintf("[host.quay1.file.%q]\ntext = \"x\"\n%s", path, more)
	}
	text += "[host.quay1.link.\"/etc/default/ssh\"]\npoints_to = \"/srv/x\"\n[host.quay1.link.\"/etc/sysconfig/sshd\"]\npoints_to = \"/srv/x\"\n"
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	ports := map[string]int{"debian": 22, "redhat": 2222}
	for name, wanted := range map[string]map[string]string{
		"debian": {"/etc/ssh/sshd_config": "[ssh] []", "/etc/ssh/sshd_config.d/10.conf": "[ssh] []", "/etc/ssh/sshd_config.d/30.conf": "[] [cron]", "/etc/systemd/system/ssh.service.d/x.conf": "[] [ssh]"},
		"none":   {"/etc/ssh/sshd_config.d/30.conf": "[] [cron]"}, // not reached over SSH
		"redhat": {"/etc/ssh/sshd_config": "[sshd] []", "/etc/ssh/sshd_config.d/10.conf": "[sshd] []", "/etc/ssh/sshd_config.d/30.conf": "[] [cron]", "/etc/systemd/system/sshd.service.d/x.conf": "[] [sshd]"},
	} {
		h, err := OnePlace(d, "quay1", wire.Traits{Family: name, SSHPort: ports[name], SSHServer: family.SSHServer(name)}, layouts, nil)
		if err != nil {
			t.Fatal(err)
		}
		services := 0
		for _, s := range h.Stakes {
			if s.Type == "link" {
				continue // which has its service told, too
			}
			if s.Type == "service" {
				services++
				continue
			}
			w := want[wire.FileWant](t, h, s.Local())
			is := wanted[string(w.Path)]
			if is == "" {
				is = "[] []"
			}
			if got := fmt.Sprint(w.Reload, w.Restart); got != is {
				t.Errorf("%s, %s: %s, wanted %s", name, w.Path, got, is)
			}
		}
		if services != min(ports[name], 1)+1 {
			t.Errorf("%s: %d services are told", name, services)
		}
	}
}

func TestASiteImpliesItsStakes(t *testing.T) {
	h, err := OnePlace(parsed(t), "quay1", traits, layouts, nil)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, s := range h.Stakes {
		names = append(names, s.Local())
		if s.Place != "quay1" || s.From.File != "g.toml" || s.From.Line == 0 {
			t.Errorf("%s comes from %v", s.Address(), s.From)
		}
	}
	wanted := []string{"package/curl", "package/cron", "package/nginx-light", "package/nftables", "server/nginx", "content/usr/share/www/timetable", "directory/srv/www/freight", "site/timetable",
		"service/cron", "service/nginx", "firewall/inbound", "port/80-tcp", "port/8080-tcp", "port/9000-udp"}
	if !slices.Equal(names, wanted) {
		t.Errorf("the stakes are\n%q, want\n%q", names, wanted)
	}
	c := want[wire.ContentWant](t, h, "content/usr/share/www/timetable")
	if c.Root != "/usr/share/www/timetable" || c.Owner != "www-data" || c.Group != "www-data" || c.Modes.Files != "0640" || c.Modes.Directories != "0755" || len(c.Files) != 2 || c.Files[0].Path != "a/b.css" {
		t.Errorf("the content is %+v", c)
	}
	s := want[wire.SiteWant](t, h, "site/timetable")
	if s.File != "/etc/nginx/conf.d/northstake-timetable.conf" || s.Link != "" || !strings.Contains(s.Text, "listen [::]:8080;") || len(s.Lines.All()) != strings.Count(s.Text, "\n") {
		t.Errorf("the site is %+v", s)
	}
	// What a host says goes over what its kits say, and what it leaves out stays.
	svc := want[wire.ServiceWant](t, h, "service/cron")
	if svc.Running == nil || !*svc.Running || svc.AtBoot == nil || *svc.AtBoot {
		t.Errorf("the service is %+v", svc)
	}
	f := want[wire.FirewallWant](t, h, "firewall/inbound")
	if f.SSH != 2222 || openTo(f) != "80/tcp 8080/tcp 9000/udp" {
		t.Errorf("the firewall lets in %+v", f)
	}
	for i, s := range h.Stakes {
		for _, need := range s.Needs {
			if at := slices.Index(names, need); at < 0 || at > i {
				t.Errorf("%s needs %s, which is at %d", s.Local(), need, at)
			}
		}
	}
	if len(h.Probes) != 1 || h.Probes[0].Name != "www.saltmarsh.test" || h.Probes[0].Port != 80 || h.Probes[0].Status != 200 || h.Probes[0].Contains != "Avocet" {
		t.Errorf("the probes are %+v", h.Probes)
	}
}

func TestAHostCanOpenWhatItsKitCloses(t *testing.T) {
	h, err := OnePlace(parsed(t), "quay2", traits, layouts, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range h.Stakes {
		if s.Type == "firewall" || s.Type == "site" || s.Name == "nftables" {
			t.Errorf("quay2 has %s", s.Local())
		}
	}
	if p := want[wire.PortWant](t, h, "port/9000-udp"); p.Firewall || p.Protocol != "udp" || p.Port != 9000 {
		t.Errorf("the port is %+v", p)
	}
	if len(h.Probes) > 0 {
		t.Errorf("quay2 serves nothing and is probed: %+v", h.Probes)
	}
}

// What is nearer to the host goes over what its kits say, with its place; what is
// brought about once can change what is declared, and is let in by the same rules.
func TestTheNearestIsTaken(t *testing.T) {
	key := "-----BEGIN PGP PUBLIC KEY BLOCK-----"
	m := &declare.Manifest{Files: []declare.File{{Path: "key.asc", Text: &key}}}
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: `[ground]
name = "saltmarsh"
[reach]
user = "keeper"
key_secret = "keeper"
[kit.base]
packages = ["curl", "cron", "tree"]
package = { nginx = { version = "1.22" }, rsync = { is = "gone" } }
service = { cron = { running = true, at_boot = true } }
inbound = "declared"
source = { ferries = { url = "http://one.saltmarsh.test/", key = "key.asc" } }
[host.quay1]
address = "10.88.0.11"
kits = ["base"]
packages = ["nginx", "rsync"]
source = { ferries = { url = "http://two.saltmarsh.test/", key = "key.asc" } }
`}, {Name: declare.OneOff, Text: `[host.quay1.service.cron]
running = false
[host.quay1.port."9443/tcp"]
[host.quay1.package.curl]
[host.quay1.package.tree]
is = "gone"
`}}, m)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	h, err := OnePlace(d, "quay1", traits, layouts, nil)
	if err != nil {
		t.Fatal(err)
	}
	if svc := want[wire.ServiceWant](t, h, "service/cron"); *svc.Running || !*svc.AtBoot {
		t.Errorf("the service is %+v", svc)
	}
	for name, w := range map[string]wire.PackageWant{"nginx": {Version: "1.22"}, "rsync": {}, "curl": {}, "cron": {}, "tree": {Gone: true}} {
		w.Name = name
		if got := want[wire.PackageWant](t, h, "package/"+name); got != w {
			t.Errorf("the package is %+v, want %+v", got, w)
		}
	}
	if got := want[wire.SourceWant](t, h, "source/ferries"); got.URL != "http://two.saltmarsh.test/" {
		t.Errorf("the source is %+v", got)
	}
	if f := want[wire.FirewallWant](t, h, "firewall/inbound"); openTo(f) != "9443/tcp" {
		t.Errorf("the firewall lets in %+v", f)
	}
	var once []string
	for _, s := range h.Stakes {
		if s.From.File == declare.OneOff {
			once = append(once, s.Local())
		}
	}
	if got := fmt.Sprint(once); got != "[package/curl package/tree service/cron firewall/inbound port/9443-tcp]" {
		t.Errorf("brought about once are %s", got)
	}
}

func TestAServerWithoutALayoutIsNamed(t *testing.T) {
	_, err := OnePlace(parsed(t), "quay1", wire.Traits{System: "Harbour Linux 9"}, nil, nil)
	if err == nil || !strings.Contains(err.Error(), "Harbour Linux 9") || !strings.Contains(err.Error(), "g.toml:23") {
		t.Errorf("the error is %v", err)
	}
	if _, err := OnePlace(parsed(t), "quay9", traits, layouts, nil); err == nil || !strings.Contains(err.Error(), "quay9") {
		t.Errorf("an unknown host: %v", err)
	}
}

func TestTheSameDeclarationGivesTheSameStakes(t *testing.T) {
	first, err := OnePlace(parsed(t), "quay1", traits, layouts, nil)
	if err != nil {
		t.Fatal(err)
	}
	for range 20 {
		again, err := OnePlace(parsed(t), "quay1", traits, layouts, nil)
		if err != nil || string(wire.JSON(again)) != string(wire.JSON(first)) {
			t.Fatal("it does not")
		}
	}
}

// openTo writes the ports that a firewall lets in.
func openTo(f wire.FirewallWant) string {
	var out []string
	for _, p := range f.Ports {
		out = append(out, p.Words())
	}
	return strings.Join(out, " ")
}

// What answers to names that no site has stands on the ports of which no site is the first,
// once for each server.
func TestOtherNames(t *testing.T) {
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: `[ground]
name = "g"
unknown_names = "404"
[reach]
user = "k"
key_secret = "k"
[host.a]
address = "10.0.0.1"
[host.b]
address = "10.0.0.2"
[site.one]
on = ["a"]
server = "nginx"
names = ["one.test"]
listen = [80, 8080, { port = 8081, address = "10.0.0.1" }]
[site.two]
on = ["a", "b"]
server = "nginx"
names = ["two.test"]
catch_all = true
listen = [8080]
[site.three]
on = ["a"]
server = "nginx"
names = ["three.test"]
listen = [8088]
served = false
`}}, &declare.Manifest{})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	h, err := OnePlace(d, "a", traits, layouts, nil)
	if err != nil {
		t.Fatal(err)
	}
	w := want[wire.SiteWant](t, h, "site/other-names-nginx")
	if !slices.Equal(w.Listen, wire.Listening{{Port: 80}}) || !strings.Contains(w.Text, "listen 80 default_server;") || strings.Contains(w.Text, "8080") || !strings.Contains(w.Text, "return 404 ") || len(w.Lines.All()) != strings.Count(w.Text, "\n") || w.Lines.All()[3].Line != 3 {
		t.Errorf("%+v", w)
	}
	if h, err = OnePlace(d, "b", traits, layouts, nil); err != nil || slices.ContainsFunc(h.Stakes, func(s stake.Stake) bool { return strings.HasPrefix(s.Name, "other-names") }) {
		t.Errorf("where the only site is the first, %v: %+v", err, h.Stakes)
	}
}

// A unit that a declared file is comes after that file, whatever sort of unit it is (U5).
func TestAUnitComesAfterItsFile(t *testing.T) {
	text := "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.quay1]\naddress = \"10.0.0.1\"\nservices = [\"sweep.timer\", \"tide.socket\", \"gauge\", \"berth@north\", \"cron\"]\n"
	for _, unit := range []string{"sweep.timer", "tide.socket", "gauge.service", "berth@.service"} {
		text += "[host.quay1.file.\"/etc/systemd/system/" + unit + "\"]\ntext = \"x\"\n"
	}
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	h, err := OnePlace(d, "quay1", traits, layouts, nil)
	if err != nil {
		t.Fatal(err)
	}
	for service, unit := range map[string]string{"sweep.timer": "sweep.timer", "tide.socket": "tide.socket", "gauge": "gauge.service", "berth@north": "berth@.service", "cron": ""} {
		i := slices.IndexFunc(h.Stakes, func(s stake.Stake) bool { return s.Local() == "service/"+service })
		if i < 0 {
			t.Fatalf("there is no service %s", service)
		}
		after := slices.Contains(h.Stakes[i].After, "file/etc/systemd/system/"+unit)
		if after != (unit != "") || unit == "" && len(h.Stakes[i].After) > 0 {
			t.Errorf("%s comes after %v", service, h.Stakes[i].After)
		}
	}
}

// A wildcard is asked by a name that it alone answers to.
func TestAWildcardIsAskedByAFreeName(t *testing.T) {
	const text = "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.quay1]\naddress = \"10.0.0.1\"\n" +
		"[site.all]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"*.ferries.test\", \"*.tides.test\"]\n[[site.all.probe]]\npath = \"/\"\n" +
		"[site.one]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"any2.ferries.test\"]\nredirected_names = [\"www.ferries.test\"]\n"
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	var got []string
	for _, p := range ProbesOf(d, "quay1") {
		got = append(got, p.Name)
	}
	if !slices.Equal(got, []string{"any3.ferries.test", "www.tides.test"}) {
		t.Errorf("it is asked by %q", got)
	}
}

// Accounts come after those in whose groups they are, whatever they are called; two that are in each
// other's are a matter for whoever wrote it (M9).
func TestAccountsComeAfterTheirGroups(t *testing.T) {
	d := besides(t, "[kit.base.account.alpha]\ngroups = [\"zulu\", \"adm\"]\n[kit.base.account.mike]\ngroups = [\"alpha\"]\n[kit.base.account.zulu]\n[kit.base.account.one]\ngroups = [\"two\"]\n[kit.base.account.two]\ngroups = [\"one\"]\n")
	h, err := OnePlace(d, "quay1", traits, layouts, nil)
	if err != nil {
		t.Fatal(err)
	}
	after := map[string]string{}
	for _, s := range h.Stakes {
		if s.Type == "account" {
			after[s.Name] = strings.Join(slices.DeleteFunc(slices.Clone(s.After), func(a string) bool { return !strings.HasPrefix(a, "account/") }), " ")
		}
	}
	for name, want := range map[string]string{"alpha": "account/zulu", "mike": "account/alpha", "zulu": "", "one": "", "two": ""} {
		if got := after[name]; got != want {
			t.Errorf("account %s comes after %q, want %q", name, got, want)
		}
	}
}

// besides is the ground of these tests with more that it declares.
func besides(t *testing.T, more ...string) *declare.Declaration {
	t.Helper()
	sources := []declare.Source{{Name: "g.toml", Text: ground + more[0]}}
	for _, text := range more[1:] {
		sources = append(sources, declare.Source{Name: declare.OneOff, Text: text})
	}
	m := &declare.Manifest{Files: []declare.File{{Path: "content/timetable/index.html", Size: 3, SHA256: "ab"}, {Path: "content/timetable/a/b.css", Size: 1, SHA256: "cd"}}}
	d, problems := lint.Parse(sources, m)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	return d
}

// What is brought about once goes over what the host itself declares of the same thing, in a table or in
// a list, and leaves the rest (M7).
func TestWhatIsBroughtGoesOverTheDeclared(t *testing.T) {
	const own = `
[host.quay3]
address = "10.88.0.13"
packages = ["tree", "less"]
ports = ["7000/tcp", "7001/tcp"]
services = ["cron"]
[host.quay3.file."/etc/notice"]
text = "one"
mode = "0600"
[host.quay3.file."/etc/other"]
text = "other"
`
	d := besides(t, own, `
[host.quay3.package.tree]
is = "gone"
[host.quay3.port."7000/tcp"]
from = ["10.0.0.0/8"]
[host.quay3.service.cron]
running = false
[host.quay3.file."/etc/notice"]
text = "two"
`)
	h, err := OnePlace(d, "quay3", traits, layouts, nil)
	if err != nil {
		t.Fatal(err)
	}
	once := map[string]bool{}
	for _, s := range h.Stakes {
		once[s.Local()] = s.From.File == declare.OneOff
	}
	for local, brought := range map[string]bool{"package/tree": true, "package/less": false, "port/7000-tcp": true, "port/7001-tcp": false, "service/cron": true, "file/etc/notice": true, "file/etc/other": false} {
		if got, there := once[local]; !there || got != brought {
			t.Errorf("%s: there %t, brought %t", local, there, got)
		}
	}
	if w := want[wire.FileWant](t, h, "file/etc/notice"); w.Mode == "0600" {
		t.Errorf("what is brought keeps what it goes over: %+v", w)
	}
}
