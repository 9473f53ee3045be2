package lint

import (
	"fmt"
	"strings"
	"testing"

	"northstake/core/declare"
)

const alike = `[ground]
name = "saltmarsh"
givens = { zone = "saltmarsh.test", tone = "calm" }
[reach]
user = "keeper"
key_secret = "keeper"
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
	d, problems := lint(t, []declare.Source{{Name: "g.toml", Text: alike}}, m)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	for name, want := range map[string]string{
		"north": "nginx [north.saltmarsh.test] [8080] /srv/www/north content/brochure calm sea",
		"south": "nginx [south.test] [80] /srv/www/south content/south rough sea",
	} {
		s := d.Sites[name]
		if got := fmt.Sprint(s.Server, " ", s.Names, " ", s.Ports(), " ", s.Root, " ", s.Content.Dir, " ", s.Probes[0].Contains); got != want {
			t.Errorf("%s is %s, want %s", name, got, want)
		}
	}
	if at := d.At("site", "north", "names", "0"); at.Line != 9 {
		t.Errorf("the name of a site that its kit gives is at line %d", at.Line)
	}
	for change, want := range map[string]string{
		`folder = "south" }` + "=>" + `folder = "sout" }`:                                     `g.toml:12:19: there is no directory "content/sout" beside the declaration, of site south`,
		`tone = "calm"` + "=>" + `tune = "calm"`:                                              `probe of site north cannot be made`,
		`kits = ["brochure", "loud"]` + "=>" + `kits = ["brochure", "lout"]`:                  `did you mean "loud"`,
		`kits = ["brochure"]` + "=>" + `kits = []`:                                            `[site.north] has no server`,
		"[kit.loud.site]\nlisten = [80]\n" + "=>" + "":                                        "kit loud has no settings for sites",
		`server = "nginx"` + "=>" + `server = "nginks"`:                                       `did you mean "nginx"`,
		`names = ["{{ .site.name }}.{{ .givens.zone }}"]` + "=>" + `names = ["{{ .site.nam"]`: `g.toml:9:10: names of site north cannot be made: unclosed action: mend the text`,
		`folder = "brochure"` + "=>" + `foldr = "brochure"`:                                   `g.toml:12:19: content of site north cannot be made`,
		`listen = [8080]` + "=>" + `listen = [80800]`:                                         `g.toml:10:11: port 80800 does not exist, of site north`,
		"folder = \"brochure\"\n" + "=>" + "folder = \"brochures\"\n":                         `there is no directory "content/brochures" beside the declaration, of site north`,
		`givens = { folder = "south" }` + "=>" + `content = { owner = "tides" }`:              `this content comes from nowhere: say here where it comes from, too: this table stands in place of the one of kit brochure`,
		`content = { dir = "c` + "=>" + `content = { git = "https://a.test/b.git", dir = "c`:  `content comes from one place, and both dir and git are given, of sites north and south`,
		`root = "/srv/www/{{ .site.name }}"` + "=>" + `root = "/srv/www/same"`:                `already gets other content`,
	} {
		from, to, _ := strings.Cut(change, "=>")
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: strings.Replace(alike, from, to, 1)}}, m)
		if !strings.Contains(problems.Error(), want) {
			var all []string
			for _, p := range problems {
				all = append(all, p.Draw())
			}
			t.Errorf("with %q nothing says %q:\n%s", to, want, strings.Join(all, "\n"))
		}
	}
}

// More hosts are read like the rest: they take kits and are told apart by place.
func TestMoreHosts(t *testing.T) {
	text := strings.Replace(sound, `name = "saltmarsh"`, "name = \"saltmarsh\"\nmore_hosts = { program = \"bin/hosts\", reuse_for = \"10m\" }", 1)
	m := manifest("content/timetable/index.html", "bin/host")
	parse := func(printed string) (*declare.Declaration, declare.Problems) {
		return lint(t, []declare.Source{{Name: "g.toml", Text: text}, {Name: declare.PrintedBy("bin/hosts"), Text: printed}}, m)
	}
	d, problems := parse("[host.quay3]\naddress = \"10.88.0.13\"\nkits = [\"base\"]\nlabels = [\"web\"]\n  reach = { port = 2222, sudo = false }\ngivens = { tide = \"ebb\" }\n")
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	r := d.ReachOf("quay3")
	if len(d.Hosts) != 3 || d.Hosts["quay3"].Address != "10.88.0.13" || r.Port != 2222 || *r.Sudo || d.GivensOf("quay3")[0].Value != "ebb" {
		t.Errorf("%+v, %+v", d.Hosts["quay3"], r)
	}
	if at := d.At("host", "quay3", "reach", "port"); at != (declare.Position{File: "what bin/hosts prints", Line: 5, Column: 20}) {
		t.Errorf("its port is at %v", at)
	}
	if program, ok := declare.Printed(d.At("host", "quay3").File); !ok || program != "bin/hosts" {
		t.Errorf("its host is printed by %q, %t", program, ok)
	}
	const host = "[host.quay3]\naddress = \"10.0.0.1\"\n"
	for printed, want := range map[string]string{
		"[host.quay3]\nadress = \"10.0.0.1\"\n":              `what bin/hosts prints:2:1: there is no key "adress" in [host.quay3]`,
		"[host.quay3]\naddress = 7\n":                        "what bin/hosts prints:2:11: address is a whole number",
		"[host.quay1]\naddress = \"10.0.0.1\"\n":             `"quay1" is declared twice; the first is at g.toml`,
		"[host.quay3]\naddress = \"10.88.0.11\"\n":           "has the address of host quay1",
		"[host.quay3]\naddress = nope\n":                     "what bin/hosts prints:2:11:",
		`{"hosts": {}}`:                                      "what bin/hosts prints:1:1:",
		host + "[ground]\nname = \"mine\"\n":                 `what bin/hosts prints:3:2: "ground" stands among more hosts`,
		host + "[kit.base]\npackages = [\"netcat\"]\n":       `"kit" stands among more hosts`,
		host + "[reach]\nuser = \"mallory\"\n":               `"reach" stands among more hosts`,
		"host = \"quay3\"\n":                                 "what bin/hosts prints:1:8: host is text, and should be a table for each host",
		"[host.q]\naddress = \"10.0.0.9\"\naddress = \"\"\n": `key "address" is written twice`,
	} {
		d, problems := parse(printed)
		if !strings.Contains(problems.Error(), want) {
			t.Errorf("%s: nothing says %q: %v", printed, want, problems)
		}
		if d.Reach.User == "mallory" || d.Ground.Name == "mine" {
			t.Errorf("%s was taken", printed)
		}
	}
	for change, want := range map[string]string{
		`"bin/hosts"` + "=>" + `"../hosts"`:                         `"../hosts" does not lie beside the declaration`,
		`"bin/hosts"` + "=>" + `"/bin/hosts"`:                       `"/bin/hosts" does not lie beside the declaration`,
		`"bin/hosts"` + "=>" + `"hosts.json"`:                       "hosts in a file of their own are a .toml file",
		`"bin/hosts"` + "=>" + `"bin/hots"`:                         `did you mean "bin/host"?`,
		`"bin/hosts"` + "=>" + `""`:                                 "no program is named",
		`program = "bin/hosts", ` + "=>" + "":                       "[ground.more_hosts] has no program",
		`"10m"` + "=>" + `"often"`:                                  `"often" is not a length of time`,
		`"10m"` + "=>" + `"-1m"`:                                    `"-1m" is not a length of time`,
		`{ program = "bin/hosts", reuse_for = "10m" }=>"bin/hosts"`: "more_hosts is text, and should be a table",
	} {
		from, to, _ := strings.Cut(change, "=>")
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: strings.Replace(text, from, to, 1)}}, m)
		if !strings.Contains(problems.Error(), want) {
			t.Errorf("with %s nothing says %q: %v", to, want, problems)
		}
	}
	if program, hold := declare.MoreHosts([]declare.Source{{Name: "g.toml", Text: text}}); program != "bin/hosts" || hold.Minutes() != 10 {
		t.Errorf("more hosts come from %q, held %v", program, hold)
	}
	if program, _ := declare.MoreHosts([]declare.Source{{Name: "g.toml", Text: strings.Replace(text, "bin/hosts", "../hosts", 1)}}); program != "" {
		t.Errorf("a program that does not lie beside the declaration would be run: %q", program)
	}
}

func FuzzMoreHosts(f *testing.F) {
	f.Add("[host.quay3]\naddress = \"10.88.0.13\"\nkits = [\"base\"]\nlabels = []\n")
	f.Add("host = [1, 2.5, true, {}]\n[kit.x]\n")
	f.Fuzz(func(t *testing.T, printed string) {
		d, problems := Parse([]declare.Source{{Name: "g.toml", Text: sound}, {Name: declare.PrintedBy("h"), Text: printed}}, manifest("content/timetable/index.html"))
		for _, p := range problems {
			if p.File == "" || p.Line < 1 || p.Column < 1 {
				t.Fatalf("%q: a problem without a place: %+v", printed, p)
			}
		}
		if len(d.Kits) != 1 || len(d.Sites) != 1 {
			t.Fatalf("%q brought more than hosts", printed)
		}
	})
}

// What is said of content that is fetched, of ports, accounts and versions.
func TestMistakesInWhatIsNew(t *testing.T) {
	for add, want := range map[string]string{
		"[host.quay1.port.\"5432/tcp\"]\nfrom = [\"10.0.0.1\"]\n":                                                                                      `write "10.0.0.1/32"`,
		"[host.quay1.port.\"5432/tcp\"]\nfrom = [\"10.0.0.1/8\"]\n":                                                                                    `write "10.0.0.0/8"`,
		"[host.quay1.port.\"5432/tcp\"]\nfrom = []\n":                                                                                                  "open to nobody",
		"[host.quay1.port.\"8100-8000/tcp\"]\nfrom = [\"10.0.0.0/8\"]\n":                                                                               "does not go up",
		"[host.quay1.account.root]\n":                                                                                                                  "the system's own account",
		"[host.quay1.account.tides]\nhome = \"srv\"\n":                                                                                                 "cannot be the home",
		"[host.quay1.package.tree]\nversion = \"1\"\nat_least = \"1\"\n":                                                                               "keep one of version and at_least",
		"[host.quay1.package.tree]\nis = \"gone\"\nversion = \"1\"\n":                                                                                  "keep one of is and version",
		"[host.quay1.source.ferries]\nurl = \"https://a:b@x.test/\"\nkey = \"content/timetable/x\"\n":                                                  "leave the account out",
		"[host.quay1.source.ferries]\nurl = \"https://x.test/\"\nkey = \"none\"\n":                                                                     `there is no file "none"`,
		"[host.quay1.source.ferries]\nurl = \"https://x.test/\"\nkey = \"none\"\nparts = [\"main\"]\n":                                                 "parts belong to suites",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { url = \"https://x.test/a.zip\" }\n":                         "add sha256",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { url = \"ftp://x.test/a.zip\", sha256 = \"00\" }\n":          "cannot be fetched from",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { git = \"https://u:p@x.test/a.git\" }\n":                     "northstake secret keep",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { git = \"file:///srv/a.git\" }\n":                            "cannot be fetched from",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { git = \"git://x.test/a.git\" }\n":                           "cannot be fetched from",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { git = \"git@x.test:a.git\", at = \"../x\" }\n":              "not the name of a branch",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { dir = \"content/timetable\", secret = \"x\" }\n":            "a secret is for what is fetched",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { dir = \"content/timetable\", left_alone = [\"*.html\"] }\n": "is to be left alone",
		"[site.s]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\ncontent = { dir = \"content/timetable\", left_alone = [\"/a\"] }\n":     "not a pattern of paths",
	} {
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: sound + add}}, manifest("content/timetable/index.html"))
		said := ""
		for _, p := range problems {
			said += p.Draw() + "\n"
		}
		if !strings.Contains(said, want) {
			t.Errorf("%s: nothing says %q:\n%s", add, want, said)
		}
	}
}

// The first of a table that is declared twice is where its keys are, and not where only tables below
// it are, nor a header without keys.
func TestTheFirstOfATableHasItsKeys(t *testing.T) {
	first := declare.Source{Name: "b.toml", Text: "[kit.base]\npackages = [\"curl\"]\n"}
	again := declare.Source{Name: "c.toml", Text: "[kit.base]\nservices = [\"cron\"]\n"}
	for _, before := range []string{"[kit.base.package.nginx]\nversion = \"1.22.1\"\n", "[kit.base]\n[kit.base.package.nginx]\nversion = \"1.22.1\"\n"} {
		a := declare.Source{Name: "a.toml", Text: "[ground]\nname = \"saltmarsh\"\n" + before}
		if _, problems := lint(t, []declare.Source{a, first}, nil); len(problems) > 0 {
			t.Errorf("%s: the two are one: %v", before, problems)
		}
		_, problems := lint(t, []declare.Source{a, first, again}, nil)
		if len(problems) != 1 || !strings.Contains(problems[0].What, `"base" is declared twice; the first is at b.toml:1`) {
			t.Errorf("%s: %v", before, problems)
		}
	}
}

// A kit can build on others: what is nearer goes over what it builds on, for hosts and for sites, each
// kit counts once, and those that build on one another are a mistake (M12).
func TestAKitBuildsOnOthers(t *testing.T) {
	text := `[ground]
name = "saltmarsh"
[reach]
user = "keeper"
key_secret = "keeper"
[kit.base]
packages = ["curl"]
givens = { tide = "ebb", pier = "north" }
[kit.base.package.cron]
is = "gone"
[kit.base.site]
server = "nginx"
index = ["index.html"]
names = ["{{ .site.name }}.saltmarsh.test"]
[kit.web]
kits = ["base"]
givens = { tide = "flood" }
[kit.web.package.cron]
is = "newest"
[kit.web.site]
index = ["start.html"]
[kit.harbour]
kits = ["web", "base"]
givens = { pier = "south" }
[host.quay1]
address = "10.88.0.11"
kits = ["harbour"]
[host.quay2]
address = "10.88.0.12"
kits = ["web", "base"]
[site.tides]
on = ["quay*"]
kits = ["harbour"]
`
	d, problems := lint(t, []declare.Source{{Name: "g.toml", Text: text}}, nil)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	chosen, err := d.Choose([]string{"kit:web"})
	if got := fmt.Sprint(d.Taken(d.Hosts["quay1"].Kits), d.Taken(d.Hosts["quay2"].Kits), chosen, err); got != "[base web harbour] [base web] [quay1 quay2] <nil>" {
		t.Errorf("taken are %s", got)
	}
	givens := map[string]string{}
	for _, g := range d.GivensOf("quay1") {
		givens[g.Name] = g.Value
	}
	if fmt.Sprint(givens) != "map[pier:south tide:flood]" {
		t.Errorf("its givens are %v", givens)
	}
	if s := d.Sites["tides"]; s.Server != "nginx" || fmt.Sprint(s.Index, s.Names) != "[start.html] [tides.saltmarsh.test]" {
		t.Errorf("the site is %+v", s.SiteSettings)
	}
	var is []string
	d.Each("quay1", func(s declare.Settings, at []string) {
		for _, name := range declare.NamesIn(s, "package") {
			is = append(is, at[1]+" "+name)
		}
	})
	if fmt.Sprint(is) != "[base cron web cron]" {
		t.Errorf("its packages are those of %v", is)
	}
	for change, want := range map[string]string{
		`kits = ["base"]` + "=>" + `kits = ["bass"]`:    `g.toml:16:9: there is no kit "bass"`,
		`kits = ["base"]` + "=>" + `kits = ["harbour"]`: "kit web builds on harbour, and harbour on web",
		`kits = ["base"]` + "=>" + `kits = ["web"]`:     "kit web builds on web, and web on web",
	} {
		from, to, _ := strings.Cut(change, "=>")
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: strings.Replace(text, from, to, 1)}}, nil)
		if !strings.Contains(problems.Error(), want) {
			t.Errorf("%s: nothing says %q: %v", to, want, problems)
		}
	}
}
