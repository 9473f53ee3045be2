package declare

import (
	"fmt"
	"strings"
	"testing"
)

const alike = `[ground]
name = "saltmarsh"
givens = { zone = "saltmarsh.test", tone = "calm" }
[reach]
user = "keeper"
key = "keeper"
[kit.brochure.site]
server = "nginx"
names = ["{{ .site.name }}.{{ .givens.zone }}"]
listen = [8080]
root = "/srv/www/{{ .site.name }}"
content = { dir = "content/{{ .givens.folder }}" }
[[kit.brochure.site.probe]]
path = "/"
contains = "{{ .givens.tone }} sea"
[kit.brochure.givens]
folder = "brochure"
[kit.loud]
givens = { tone = "rough" }
[kit.loud.site]
listen = [80]
[host.quay1]
address = "10.88.0.11"
[site.north]
on = ["quay1"]
kits = ["brochure"]
[site.south]
on = ["quay1"]
kits = ["brochure", "loud"]
names = ["south.test"]
givens = { folder = "south" }
`

// Sites that are alike say what differs, and take the rest from their kits: the
// nearest wins, and text takes the site's givens.
func TestSitesTakeWhatTheirKitsSay(t *testing.T) {
	m := manifest("content/brochure/index.html", "content/south/index.html")
	d, problems := Parse([]Source{{Name: "g.toml", Text: alike}}, m)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	for name, want := range map[string]string{
		"north": "nginx [north.saltmarsh.test] [8080] /srv/www/north content/brochure calm sea",
		"south": "nginx [south.test] [80] /srv/www/south content/south rough sea",
	} {
		s := d.Sites[name]
		if got := fmt.Sprint(s.Server, " ", s.Names, " ", s.Listen, " ", s.Root, " ", s.Content.Dir, " ", s.Probes[0].Contains); got != want {
			t.Errorf("%s is %s, want %s", name, got, want)
		}
	}
	if at := d.At("site", "north", "names", "0"); at.Line != 9 {
		t.Errorf("the name of a site that its kit gives is at line %d", at.Line)
	}
	for change, want := range map[string]string{
		`folder = "south" }` + "=>" + `folder = "sout" }`:                                     `g.toml:12:19: there is no directory "content/sout"`,
		`tone = "calm"` + "=>" + `tune = "calm"`:                                              `probe of site north cannot be made`,
		`kits = ["brochure", "loud"]` + "=>" + `kits = ["brochure", "lout"]`:                  `did you mean "loud"`,
		`kits = ["brochure"]` + "=>" + `kits = []`:                                            `[site.north] has no server`,
		"[kit.loud.site]\nlisten = [80]\n" + "=>" + "":                                        "kit loud has no settings for sites",
		`server = "nginx"` + "=>" + `server = "nginks"`:                                       `did you mean "nginx"`,
		`names = ["{{ .site.name }}.{{ .givens.zone }}"]` + "=>" + `names = ["{{ .site.nam"]`: `names of site north cannot be made`,
		`root = "/srv/www/{{ .site.name }}"` + "=>" + `root = "/srv/www/same"`:                `already gets other content`,
	} {
		from, to, _ := strings.Cut(change, "=>")
		_, problems := Parse([]Source{{Name: "g.toml", Text: strings.Replace(alike, from, to, 1)}}, m)
		if !strings.Contains(problems.Error(), want) {
			var all []string
			for _, p := range problems {
				all = append(all, p.Draw())
			}
			t.Errorf("with %q nothing says %q:\n%s", to, want, strings.Join(all, "\n"))
		}
	}
}

// A list of hosts is read like the rest: its hosts take kits and are told apart by
// place.
func TestHostsFromAList(t *testing.T) {
	text := strings.Replace(sound, `name = "saltmarsh"`, "name = \"saltmarsh\"\nhosts_from = \"bin/hosts\"", 1)
	m := manifest("content/timetable/index.html")
	parse := func(list string) (*Declaration, Problems) {
		return Parse([]Source{{Name: "g.toml", Text: text}, {Name: "bin/hosts.json", Text: list}}, m)
	}
	d, problems := parse("{\"hosts\": {\n  \"quay3\": {\"address\": \"10.88.0.13\", \"kits\": [\"base\"], \"labels\": [\"web\"],\n   \"reach\": {\"port\": 2222, \"sudo\": false}, \"givens\": {\"tide\": \"ebb\"}}}}")
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	r := d.ReachOf("quay3")
	if len(d.Hosts) != 3 || d.Hosts["quay3"].Address != "10.88.0.13" || r.Port != 2222 || *r.Sudo || d.GivensOf("quay3")[0].Value != "ebb" {
		t.Errorf("%+v, %+v", d.Hosts["quay3"], r)
	}
	if at := d.At("host", "quay3", "reach", "port"); at != (Position{"bin/hosts.json", 3, 22}) {
		t.Errorf("its port is at %v", at)
	}
	for list, want := range map[string]string{
		`{"hosts": {"quay3": {"adress": "10.0.0.1"}}}`:    `bin/hosts.json:1:22: there is no key "adress"`,
		`{"hosts": {"quay3": {"address": 7}}}`:            "bin/hosts.json:1:33: address is a whole number",
		`{"hosts": {"quay1": {"address": "10.0.0.1"}}}`:   `"quay1" is declared twice`,
		`{"hosts": {"quay3": {"address": "10.88.0.11"}}}`: "has the address of host quay1",
		"{\"hosts\": {\n\"quay3\": {\"address\": nope}}}": "bin/hosts.json:2:22: this is not JSON",
		`{"hosts": {"quay3": {"address": "10.0.0.1"`:      "this is not JSON",
		`["quay3"]`:        "a list of hosts is an object",
		`{"machines": {}}`: `there is no key "machines"`,
		`{"hosts": []}`:    "one key for each host",
		`{"hosts": {}} x`:  "this is not JSON",
		`{"hosts": {"q": {"address": "10.0.0.9", "address": "10.0.0.8"}}}`: `key "address" is written twice`,
		`{"hosts": {"q": {"address": "10.0.0.9", "kits": null}}}`:          "null is no value",
	} {
		_, problems := parse(list)
		if !strings.Contains(problems.Error(), want) {
			t.Errorf("%s: nothing says %q: %v", list, want, problems)
		}
	}
	if _, problems := Parse([]Source{{Name: "g.toml", Text: text}}, m); !strings.Contains(problems.Error(), `there is no list of hosts from "bin/hosts"`) {
		t.Errorf("without the list: %v", problems)
	}
	if from, keep := HostList([]Source{{Name: "g.toml", Text: strings.Replace(text, "hosts_from", "hosts_cache = \"10m\"\nhosts_from", 1)}}); from != "bin/hosts" || keep.Minutes() != 10 {
		t.Errorf("the list comes from %q, kept %v", from, keep)
	}
}

func FuzzHostList(f *testing.F) {
	f.Add(`{"hosts": {"quay3": {"address": "10.88.0.13", "kits": ["base"], "labels": []}}}`)
	f.Add("{\"hosts\":{\"a\":[1,2.5,true,{}]}}")
	f.Fuzz(func(t *testing.T, list string) {
		_, problems := Parse([]Source{{Name: "g.toml", Text: sound}, {Name: "h.json", Text: list}}, manifest("content/timetable/index.html"))
		for _, p := range problems {
			if p.File == "" || p.Line < 1 || p.Column < 1 {
				t.Fatalf("%q: a problem without a place: %+v", list, p)
			}
		}
	})
}

// What is said of content that is fetched, of ports, accounts and versions.
func TestMistakesInWhatIsNew(t *testing.T) {
	for add, want := range map[string]string{
		"[host.quay1.port.\"5432/tcp\"]\nfrom = [\"10.0.0.1\"]\n":                                                                                `write "10.0.0.1/32"`,
		"[host.quay1.port.\"5432/tcp\"]\nfrom = [\"10.0.0.1/8\"]\n":                                                                              `write "10.0.0.0/8"`,
		"[host.quay1.port.\"5432/tcp\"]\nfrom = []\n":                                                                                            "open to nobody",
		"[host.quay1.port.\"8100-8000/tcp\"]\nfrom = [\"10.0.0.0/8\"]\n":                                                                         "does not go up",
		"[host.quay1.account.root]\n":                                                                                                            "the system's own account",
		"[host.quay1.account.tides]\nhome = \"srv\"\n":                                                                                           "cannot be the home",
		"[host.quay1.package.tree]\nversion = \"1\"\nat_least = \"1\"\n":                                                                         "keep one of version and at_least",
		"[host.quay1.package.tree]\nis = \"gone\"\nversion = \"1\"\n":                                                                            "keep one of is and version",
		"[host.quay1.source.ferries]\nurl = \"https://a:b@x.test/\"\nkey = \"content/timetable/x\"\n":                                            "leave the account out",
		"[host.quay1.source.ferries]\nurl = \"https://x.test/\"\nkey = \"none\"\n":                                                               `there is no file "none"`,
		"[host.quay1.source.ferries]\nurl = \"https://x.test/\"\nkey = \"none\"\nparts = [\"main\"]\n":                                           "parts belong to suites",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { url = \"https://x.test/a.zip\" }\n":                   "add sha256",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { url = \"ftp://x.test/a.zip\", sha256 = \"00\" }\n":    "cannot be fetched from",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { git = \"https://u:p@x.test/a.git\" }\n":               "northstake secret put",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { git = \"git@x.test:a.git\", at = \"../x\" }\n":        "not the name of a branch",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { dir = \"content/timetable\", secret = \"x\" }\n":      "a secret is for what is fetched",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { dir = \"content/timetable\", keep = [\"*.html\"] }\n": "is to be left alone",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { dir = \"content/timetable\", keep = [\"/a\"] }\n":     "not a pattern of paths",
	} {
		_, problems := Parse([]Source{{Name: "g.toml", Text: sound + add}}, manifest("content/timetable/index.html"))
		said := ""
		for _, p := range problems {
			said += p.Draw() + "\n"
		}
		if !strings.Contains(said, want) {
			t.Errorf("%s: nothing says %q:\n%s", add, want, said)
		}
	}
}
