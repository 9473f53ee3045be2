package lint

import (
	"fmt"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/stake/kinds"
	"northstake/core/wire"
)

const things = `[ground]
name = "g"
givens = { port = "north", tide = "ebb" }
[reach]
user = "k"
key_secret = "k"
[kit.base]
givens = { tide = "flood" }
[kit.base.directory."/srv/data"]
owner = "keeper"
[kit.base.file."/etc/motd"]
template = "files/motd.tmpl"
[kit.base.file."/etc/hosts"]
text = "10.0.0.9 pier\\n"
portion = "pier"
[kit.late.file."/etc/motd"]
text = "late"
[host.a]
address = "10.0.0.1"
kits = ["base"]
givens = { port = "south" }
[host.b]
address = "10.0.0.2"
kits = ["base", "late"]
[host.b.link."/srv/now"]
points_to = "/srv/data"
`

func withText(path, text string) *declare.Manifest {
	return &declare.Manifest{Files: []declare.File{{Path: path, Size: int64(len(text)), Text: &text}}}
}

// The nearest given wins, and where each comes from is known; a template takes
// givens, and what other hosts are.
func TestGivensAndTemplates(t *testing.T) {
	m := withText("files/motd.tmpl", "{{.host.name}} of {{.ground}}: {{.givens.port}}, {{.givens.tide}}; b is at {{.hosts.b.address}}\n")
	d, problems := lint(t, []declare.Source{{Name: "g.toml", Text: strings.ReplaceAll(things, `\\`, `\`)}}, m)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	var got []string
	for _, g := range d.GivensOf("a") {
		got = append(got, fmt.Sprintf("%s=%s from line %d", g.Name, g.Value, g.From.Line))
	}
	if want := "port=south from line 21, tide=flood from line 8"; strings.Join(got, ", ") != want {
		t.Errorf("%v, want %s", got, want)
	}
	files := declare.Nearest[kinds.TextFile](d, "a", "file")
	if len(files) != 2 || files[1].Name != "/etc/motd" {
		t.Fatalf("%+v", files)
	}
	text, err := kinds.TextOf(d, files[1].Value, "a")
	if want := "a of g: south, flood; b is at 10.0.0.2\n"; err != nil || text != want {
		t.Errorf("%q, %v", text, err)
	}
	if late := declare.Nearest[kinds.TextFile](d, "b", "file")[1]; *late.Value.Text != "late" || late.From.Line != 16 {
		t.Errorf("of two kits the later one wins: %+v", late)
	}
	if l := declare.Nearest[kinds.Link](d, "b", "link"); len(l) != 1 || l[0].Value.PointsTo != "/srv/data" || len(declare.Nearest[kinds.Link](d, "a", "link")) != 0 {
		t.Errorf("%+v", l)
	}
}

// What a template lacks is said with its place in the template, and for which file.
func TestATemplateThatLacksSomething(t *testing.T) {
	for text, want := range map[string]string{
		"one\n{{.givens.missing}}\n":        "files/motd.tmpl:2:10: .givens.missing: map has no entry for key \"missing\"",
		"one\ntwo {{.hosts.c.address}}\n":   "files/motd.tmpl:2:",
		"{{if .givens.port}}never closed\n": "files/motd.tmpl:2:1: unexpected EOF",
		"a\n\n{{ nosuch }}":                 "files/motd.tmpl:3:1: function \"nosuch\" not defined",
	} {
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: strings.ReplaceAll(things, `\\`, `\`)}}, withText("files/motd.tmpl", text))
		if len(problems) != 1 || !strings.HasPrefix(problems[0].Error(), want) || !strings.Contains(problems[0].Fix, "/etc/motd on host a (g.toml:11)") {
			t.Errorf("%q: %v", text, problems)
		}
	}
}

func TestThingsThatCannotBeDeclared(t *testing.T) {
	for text, want := range map[string]string{
		"[host.a.file.\"etc/motd\"]\ntext=\"\"":                                           "is not an absolute path",
		"[host.a.file.\"/etc/../etc/motd\"]\ntext=\"\"":                                   "is not in its shortest form",
		"[host.a.file.\"/proc/sys/x\"]\ntext=\"\"":                                        "is kept by the system",
		"[host.a.file.\"/var/lib/northstake/x\"]\ntext=\"\"":                              "is kept by the system or by North Stake",
		"[host.a.file.\"/etc/x\"]\nowner=\"root\"":                                        "takes its text in one way",
		"[host.a.file.\"/etc/x\"]\nis=\"gone\"\ntext=\"y\"":                               "a file that is gone has no text",
		"[host.a.file.\"/etc/x\"]\nis=\"gone\"\nmode=\"0600\"":                            "a file that is gone has no mode",
		"[host.a.file.\"/etc/x\"]\ntext=\"\"\nfrom=\"y\"":                                 "takes its text in one way",
		"[host.a.file.\"/etc/x\"]\nfrom=\"files/mots\"":                                   `there is no file "files/mots"`,
		"[host.a.file.\"/etc/x\"]\ntext=\"\"\nmode=\"rw\"":                                "is not a mode",
		"[host.a.file.\"/etc/x\"]\ntext=\"\"\ncomment=\"#\"":                              "a comment sign is for the lines around a portion",
		"[host.a.file.\"/etc/x\"]\ntext=\"\"\nreload=[\"nginx.service\"]":                 "is not a service name",
		"[host.a.file.\"/etc/x\"]\ntext=\"\"\n[host.a.link.\"/etc/x\"]\npoints_to=\"/y\"": "is declared as a file and as a link",
		"[host.a.link.\"/etc/x\"]\npoints_to=\"/etc/x\"":                                  "leads to itself",
		"[host.a.link.\"/etc/x\"]":                                                        "has no points_to",
		"[host.a.directory.\"/etc\"]":                                                     "belongs to the system",
		"[host.a.directory.\"/srv/x\"]\nmode=\"4755\"":                                    "is not a mode of a directory",
		"[host.a.account." + strings.Repeat("a", 33) + "]":                                strings.Repeat("a", 33),
		"[host.a.directory.\"/srv/x\"]\nowner=\"No One\"":                                 "is not the name of an account",
		"[host.a]\ngivens={ Port = \"x\" }":                                               "characters its name cannot have",
		"[host.a]\ngivens={ port = 5 }":                                                   "should be text in quotes",
	} {
		source := "[ground]\nname=\"g\"\n[reach]\nuser=\"k\"\nkey_secret=\"k\"\n[host.a]\naddress=\"10.0.0.1\"\n" + strings.TrimPrefix(text, "[host.a]\n")
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: source}}, withText("files/motd", ""))
		if len(problems) != 1 || !strings.Contains(problems[0].What, want) || problems[0].Line < 8 {
			t.Errorf("%s: %v, want %q", text, problems, want)
		}
	}
}

func TestAFileThatIsTooLargeToPublish(t *testing.T) {
	text := "[ground]\nname=\"g\"\n[reach]\nuser=\"k\"\nkey_secret=\"k\"\n[host.a]\naddress=\"10.0.0.1\"\n[host.a.content.\"/srv/tides\"]\ndir=\"content/tides\"\n"
	for size, sound := range map[int64]bool{wire.ContentLimit: true, wire.ContentLimit + 1: false} {
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{Files: []declare.File{{Path: "content/tides/atlas.pdf", Size: size}}})
		if sound != (len(problems) == 0) || !sound && !strings.Contains(problems[0].What, `content file "atlas.pdf" has 256 MB`) {
			t.Errorf("a file of %d bytes: %v", size, problems)
		}
	}
}

// What the system's own programs take is taken: a name of 32 characters, a directory whose new files get
// its group, or that all write into.
func TestWhatTheSystemTakesIsTaken(t *testing.T) {
	for _, text := range []string{"[host.a.account." + strings.Repeat("a", 32) + "]", "[host.a.directory.\"/srv/x\"]\nmode=\"2775\"", "[host.a.directory.\"/srv/x\"]\nmode=\"1777\""} {
		_, problems := lint(t, []declare.Source{{Name: "a.toml", Text: "[ground]\nname=\"g\"\n[reach]\nuser=\"u\"\nkey_secret=\"k\"\n[host.a]\naddress=\"10.88.0.1\"\n" + text + "\n"}}, nil)
		for _, p := range problems {
			t.Errorf("%s: %s", text, p.Draw())
		}
	}
}
