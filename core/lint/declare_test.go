package lint

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"northstake/core/declare"
)

const sound = `[ground]
name = "saltmarsh"
[reach]
user = "keeper"
key_secret = "keeper"
sudo = true
[kit.base]
packages = ["curl"]
[host.quay1]
address = "10.88.0.11"
kits = ["base"]
labels = ["web"]
[host.quay2]
address = "10.88.0.12"
[site.timetable]
on = ["quay*"]
server = "nginx"
names = ["timetable.saltmarsh.test"]
root = "/srv/www/timetable"
content = { dir = "content/timetable" }
[[site.timetable.probe]]
path = "/"
`

func manifest(files ...string) *declare.Manifest {
	m := &declare.Manifest{}
	for _, f := range files {
		m.Files = append(m.Files, declare.File{Path: f, Size: 10, SHA256: strings.Repeat("a", 64)})
	}
	return m
}

var standard = []string{"content/timetable/index.html", "content/timetable/style.css"}

func TestSoundDeclarationHasNoProblems(t *testing.T) {
	d, problems := lint(t, []declare.Source{{Name: "ground.toml", Text: sound}}, manifest(standard...))
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	if got := d.HostsOf("timetable"); fmt.Sprint(got) != "[quay1 quay2]" {
		t.Errorf("the site is on %v", got)
	}
	if r := d.ReachOf("quay1"); r.User != "keeper" || r.Port != 22 || r.Sudo == nil || !*r.Sudo {
		t.Errorf("quay1 is reached by %+v", r)
	}
	if at := d.At("site", "timetable", "names", "0"); at.Line != 18 || at.Column != 10 {
		t.Errorf("the site's name is at %+v", at)
	}
}

// Each mistake is reported at its line and column, with a suggestion where one
// is near.
func TestMistakesAreReportedInTheirPlace(t *testing.T) {
	for _, c := range []struct {
		name, old, new string
		line, column   int
		what, fix      string
		files          []string
	}{
		{"unknown key", "kits = [", "kts = [", 11, 1, `no key "kts"`, `"kits"`, nil},
		{"letters swapped", "key_secret = ", "kye_secret = ", 5, 1, `no key "kye_secret"`, `"key_secret"`, nil},
		{"wrong type", `sudo = true`, `sudo = "yes"`, 6, 8, "true or false", "sudo = true", nil},
		{"number in quotes", `[[site.timetable.probe]]`, "listen = [\"80\"]\n[[site.timetable.probe]]", 21, 11, "whole number", "80, without quotes", nil},
		{"a number in quotes in a list", `[[site.timetable.probe]]`, "listen = [\"80\"]\n[[site.timetable.probe]]", 21, 11, "whole number", "write 80, without quotes", nil},
		{"an index named twice", `content = {`, "index = [\"index.html\", \"index.html\"]\ncontent = {", 20, 24, "named twice", "keep one", nil},
		{"a path with a query", `[[site.timetable.probe]]`, "[site.timetable.path.\"/q?x=1\"]\nroot = \"/srv/q\"\n[[site.timetable.probe]]", 21, 22, "has a query", `write "/q"`, nil},
		{"no index at a path", `[[site.timetable.probe]]`, "[site.timetable.path.\"/q\"]\nroot = \"/srv/q\"\ncontent = { dir = \"content/q\" }\n[[site.timetable.probe]]", 23, 19, "visitors of /q/ would get 403", "", []string{"content/timetable/index.html", "content/q/other.html"}},
		{"a name that is not UTF-8", `[[site.timetable.probe]]`, "[[site.timetable.probe]]", 20, 19, "not UTF-8", "rename it", []string{"content/timetable/index.html", "content/timetable/\xff.html"}},
		{"text for a list", `packages = ["curl"]`, `packages = "curl"`, 8, 12, "should be a list", `["curl"]`, nil},
		{"unknown kit", `kits = ["base"]`, `kits = ["bse"]`, 11, 9, `no kit "bse"`, `"base"`, nil},
		{"unknown host", `on = ["quay*"]`, `on = ["quay3"]`, 16, 7, `no host is called "quay3"`, `"quay1"`, nil},
		{"unknown label", `on = ["quay*"]`, `on = ["label:wbe"]`, 16, 7, "no host", `"label:web"`, nil},
		{"unknown server", `"nginx"`, `"ngnix"`, 17, 10, "cannot be", `"nginx"`, nil},
		{"capital letters", `timetable.saltmarsh.test"]`, `Timetable.saltmarsh.test"]`, 18, 10, "capital", `"timetable.saltmarsh.test"`, nil},
		{"a URL for a name", `"timetable.saltmarsh.test"]`, `"http://timetable.saltmarsh.test/"]`, 18, 10, "URL", `"timetable.saltmarsh.test"`, nil},
		{"no content directory", `"content/timetable" }`, `"content/timetabel" }`, 20, 19, "no directory", `"content/timetable"`, nil},
		{"relative root", `"/srv/www/timetable"`, `"srv/www/timetable"`, 19, 8, "absolute", "begin it with /", nil},
		{"a system directory", `"/srv/www/timetable"`, `"/etc"`, 19, 8, "belongs to the system", "", nil},
		{"a dollar in a path", `"/srv/www/timetable"`, `"/srv/www/$host"`, 19, 8, `"$"`, "", nil},
		{"double ending", "", "", 20, 19, "no file in content/timetable is an index", `"index.html.txt"`, []string{"content/timetable/index.html.txt"}},
		{"other case", "", "", 20, 19, "no file in content/timetable is an index", "upper and lower case", []string{"content/timetable/Index.html"}},
		{"in a sub-folder", "", "", 20, 19, "no file in content/timetable is an index", `sub-folder "dist"`, []string{"content/timetable/dist/index.html"}},
		{"not quite an IP address", `"10.88.0.12"`, `"10.88.0.300"`, 14, 11, "looks like an IP address", "", nil},
		{"two hosts at one address", `"10.88.0.12"`, `"10.88.0.11"`, 14, 11, "address of host quay1", "", nil},
		{"a brace", "[kit.base]", "kit base {", 7, 10, "brace", "[kit.base]", nil},
		{"a colon", `user = "keeper"`, `user: keeper`, 4, 5, "colon", `user = "keeper"`, nil},
		{"no quotes", `user = "keeper"`, `user = keeper`, 4, 8, "quotes", `"keeper"`, nil},
		{"a missing user", `user = "keeper"`, ``, 9, 7, "no login user", "user =", nil},
		{"no such port", `[[site.timetable.probe]]`, "listen = [70000]\n[[site.timetable.probe]]", 21, 11, "does not exist", "65535", nil},
		{"written twice", `sudo = true`, "sudo = true\nsudo = false", 7, 1, "written twice", "", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := sound
			if c.old != "" {
				if !strings.Contains(text, c.old) {
					t.Fatalf("the test's text has no %q", c.old)
				}
				text = strings.Replace(text, c.old, c.new, 1)
			}
			files := c.files
			if files == nil {
				files = standard
			}
			_, problems := lint(t, []declare.Source{{Name: "ground.toml", Text: text}}, manifest(files...))
			for _, p := range problems {
				if strings.Contains(p.What, c.what) {
					if p.File != "ground.toml" || p.Line != c.line || p.Column != c.column {
						t.Errorf("at %s:%d:%d, want line %d, column %d\n%s", p.File, p.Line, p.Column, c.line, c.column, p.Draw())
					}
					if !strings.Contains(p.Fix, c.fix) {
						t.Errorf("suggests %q, want %q in it", p.Fix, c.fix)
					}
					if drawn := p.Draw(); !strings.Contains(drawn, strings.Split(text, "\n")[p.Line-1]) || !strings.Contains(drawn, "~") {
						t.Errorf("the line is not drawn:\n%s", drawn)
					}
					return
				}
			}
			t.Errorf("nothing says %q:\n%v", c.what, problems)
		})
	}
}

func TestAllProblemsAreReportedAtOnce(t *testing.T) {
	text := "[ground]\nname = \"x\"\nserver {\nfoo: bar\n[host.a]\naddress = \"10.0.0.999\"\nkits = [\"none\"]\n"
	_, problems := lint(t, []declare.Source{{Name: "a.toml", Text: text}, {Name: "b.toml", Text: "[site.s]\non = 5\n"}}, manifest())
	lines := map[string]bool{}
	for _, p := range problems {
		lines[fmt.Sprintf("%s:%d", p.File, p.Line)] = true
	}
	for _, want := range []string{"a.toml:3", "a.toml:4", "a.toml:6", "a.toml:7", "b.toml:1", "b.toml:2"} {
		if !lines[want] {
			t.Errorf("nothing is said of %s:\n%v", want, problems)
		}
	}
	for i := 1; i < len(problems); i++ {
		a, b := problems[i-1], problems[i]
		if a.File > b.File || a.File == b.File && a.Line > b.Line {
			t.Errorf("%v comes before %v", a, b)
		}
	}
}

func TestTwoSitesCannotClaimOneNameAndPort(t *testing.T) {
	text := sound + "[site.other]\non = [\"quay2\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\n"
	_, problems := lint(t, []declare.Source{{Name: "ground.toml", Text: text}}, manifest(standard...))
	if len(problems) != 1 || !strings.Contains(problems[0].What, "port 80 of quay2") || !strings.Contains(problems[0].Fix, "ground.toml:15") && !strings.Contains(problems[0].Fix, "ground.toml:18") {
		t.Fatal(problems)
	}
	other := strings.Replace(text, "names = [\"timetable.saltmarsh.test\"]\n", "names = [\"timetable.saltmarsh.test\"]\nlisten = [8080]\n", 2)
	if strings.Count(other, "8080") == 2 {
		other = strings.Replace(other, "listen = [8080]\n", "", 1)
	}
	if _, problems := lint(t, []declare.Source{{Name: "ground.toml", Text: other}}, manifest(standard...)); len(problems) > 0 {
		t.Errorf("another port is no clash: %v", problems)
	}
}

func TestFilesAreMerged(t *testing.T) {
	head, tail, _ := strings.Cut(sound, "[host.quay2]")
	d, problems := lint(t, []declare.Source{{Name: "b.toml", Text: "[host.quay2]" + tail}, {Name: "a.toml", Text: head}}, manifest(standard...))
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	if len(d.Hosts) != 2 || d.At("host", "quay2").File != "b.toml" {
		t.Errorf("hosts %v, quay2 at %v", d.HostNames(), d.At("host", "quay2"))
	}
	_, problems = lint(t, []declare.Source{{Name: "a.toml", Text: sound}, {Name: "b.toml", Text: "[host.quay2]\naddress = \"10.88.0.13\"\n"}}, manifest(standard...))
	if len(problems) != 1 || problems[0].File != "b.toml" || !strings.Contains(problems[0].What, "a.toml:13") {
		t.Errorf("a host in two files: %v", problems)
	}
}

// Whatever stands in a file, reading it ends and every place lies in the file.
func FuzzParse(f *testing.F) {
	f.Add(sound)
	f.Add("[a\n{ }\nx: 1\n\t= 3\n[[b]]\nc = [1, {d = 2}]\n\"\\u00e9\" = 1\n")
	f.Fuzz(func(t *testing.T, text string) {
		_, problems := Parse([]declare.Source{{Name: "f.toml", Text: text}}, manifest(standard...))
		lines := strings.Count(text, "\n") + 1
		for _, p := range problems {
			if p.Line < 0 || p.Line > lines || p.Column < 0 {
				t.Fatalf("a place outside the file: %+v", p)
			}
			p.Draw()
		}
	})
}

// Hosts are chosen by name, pattern, label, kit or site; a word that means none is
// told, with what is near.
func TestHostsAreChosenByWords(t *testing.T) {
	d, problems := lint(t, []declare.Source{{Name: "g.toml", Text: `[ground]
name = "g"
[reach]
user = "k"
key_secret = "k"
[kit.base]
[host.quay1]
address = "10.0.0.1"
labels = ["front"]
kits = ["base"]
[host.quay2]
address = "10.0.0.2"
[host.pier]
address = "10.0.0.3"
labels = ["front", "old"]
[site.tides]
on = ["pier"]
server = "nginx"
names = ["tides.test"]
`}}, &declare.Manifest{})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	for words, want := range map[string]string{
		"": "pier quay1 quay2", "quay2": "quay2", "quay*": "quay1 quay2", "label:front": "pier quay1", "kit:base": "quay1", "site:tides": "pier",
		"label:old site:tides": "pier", "quay1 quay* pier": "pier quay1 quay2",
	} {
		got, err := d.Choose(strings.Fields(words))
		if err != nil || strings.Join(got, " ") != want {
			t.Errorf("%q means %v, %v", words, got, err)
		}
	}
	for words, near := range map[string]string{"quay3": "quay", "label:fronz": "label:front", "site:tide": "site:tides", "[": "", "quay1 nowhere": "", "tides": "site:tides", "tides.test": "site:tides", "front": "label:front", "base": "kit:base"} {
		_, err := d.Choose(strings.Fields(words))
		var u declare.UnknownHosts
		if !errors.As(err, &u) || !strings.HasPrefix(u.Near, near) {
			t.Errorf("%q: %v, near %q", words, err, u.Near)
		}
	}
}

// Of an endless line, a part around the mark is drawn, and the mark stands under
// what is meant; no message grows with the value it quotes.
func TestALongLineIsDrawnAroundItsMark(t *testing.T) {
	long := strings.Repeat("a", 5000)
	for _, line := range []string{`index = ["` + long + `/b"]`, "names = [" + strings.Repeat(`"a.test", `, 300) + `"under_scores.are-not\u0000allowed"]`} {
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: "[ground]\nname = \"g\"\n[site.s]\n" + line + "\n"}}, nil)
		found := false
		for _, p := range problems {
			if p.Line != 4 {
				continue
			}
			found = true
			for i, drawn := range strings.Split(p.Draw(), "\n") {
				if n := len([]rune(drawn)); n > 500 {
					t.Errorf("line %d of a drawing has %d characters", i+1, n)
				}
			}
			lines := strings.Split(p.Draw(), "\n")
			mark := strings.Index(lines[2], "~")
			if text := []rune(lines[1]); mark < 0 || mark >= len(text) || text[mark] != '"' {
				t.Errorf("the mark is not under what is meant:\n%s", p.Draw())
			}
		}
		if !found {
			t.Errorf("nothing is wrong in line 4: %v", problems)
		}
	}
}

// A key that is written wrong is one mistake, and not also one that is not there.
func TestAMiswrittenKeyIsOneMistake(t *testing.T) {
	sound := "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.a]\naddress = \"10.0.0.1\"\n[host.b]\naddress = \"10.0.0.2\"\n" +
		"[site.s]\non = [\"a\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\n[[site.s.probe]]\npath = \"/\"\n"
	for from, to := range map[string]string{"server =": "sever =", "address = \"10.0.0.1\"": "adress = \"10.0.0.1\"", "user =": "usr =", "key_secret =": "kye_secret =", "names =": "nmes =", "path =": "pth =", "name = \"g\"": "nme = \"g\""} {
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: strings.Replace(sound, from, to, 1)}}, &declare.Manifest{})
		if len(problems) != 1 || !strings.Contains(problems[0].What, "there is no key") {
			t.Errorf("%s: %v", to, problems)
		}
	}
}

// What cannot be published is said, by name, and dot files are content; a directory without
// files is published as one.
func TestOddContent(t *testing.T) {
	m := manifest(append(standard, "content/timetable/.well-known/security.txt")...)
	m.Dirs = []string{"content", "content/timetable", "content/timetable/.well-known", "content/timetable/uploads", "content/timetable/uploads/in", "content/other"}
	d, problems := lint(t, []declare.Source{{Name: "ground.toml", Text: sound}}, m)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	if got := fmt.Sprint(d.Beside().EmptyBelow("content/timetable")); got != "[uploads/in]" {
		t.Errorf("directories without files are %s", got)
	}
	for _, is := range []string{"a link that leads nowhere", "a link to a directory", "neither a file nor a directory"} {
		m.Odd = []declare.OddFile{{Path: "content/timetable/odd", Is: is}, {Path: "content/elsewhere/odd", Is: is}}
		if _, problems := lint(t, []declare.Source{{Name: "ground.toml", Text: sound}}, m); len(problems) != 1 || !strings.Contains(problems[0].What, `"odd" in content/timetable is `+is) {
			t.Errorf("%s: %v", is, problems)
		}
	}
}

// A table that is written again in a second file is one mistake, which names both places.
func TestATableThatIsRepeatedIsOneMistake(t *testing.T) {
	_, problems := lint(t, []declare.Source{{Name: "a.toml", Text: sound}, {Name: "b.toml", Text: "[site.timetable]\non = [\"quay1\"]\nserver = \"nginx\"\nnames = [\"t.test\"]\n"}}, manifest(standard...))
	if len(problems) != 1 || !strings.Contains(problems[0].What, "the first is at a.toml:15") {
		t.Errorf("%v", problems)
	}
}

// A repository that is used twice is fetched whole where the folders differ, and a whole
// commit is known for good.
func TestARepositoryUsedTwice(t *testing.T) {
	text := strings.Replace(sound, "content = { dir = \"content/timetable\" }", "content = { git = \"https://code.test/x.git\", folder = \"web\" }\n[site.timetable.path.\"/docs\"]\nroot = \"/srv/docs\"\ncontent = { git = \"https://code.test/x.git\", folder = \"docs\" }", 1)
	d, problems := lint(t, []declare.Source{{Name: "ground.toml", Text: text}}, manifest())
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	if r := d.Remotes(); len(r) != 1 || r[0].Content.Folder != "" {
		t.Errorf("it fetches %+v", r)
	}
	for at, settled := range map[string]bool{"": false, "main": false, strings.Repeat("a", 39): false, strings.Repeat("a", 40): true} {
		if c := (&declare.Content{Git: "https://code.test/x.git", At: at}); c.Settled() != settled {
			t.Errorf("at %q: %t", at, c.Settled())
		}
	}
}
