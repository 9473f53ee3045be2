package family

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/resolve"
	"northstake/core/wire"
	"northstake/host/system"
)

// machine makes a folder that says of itself which system it is.
func machine(t *testing.T, release string) *system.Machine {
	t.Helper()
	m := &system.Machine{Root: t.TempDir(), StateDir: "/var/lib/northstake"}
	if err := os.MkdirAll(m.Path("/etc"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(m.Path("/etc/os-release"), []byte(release), 0o644); err != nil {
		t.Fatal(err)
	}
	return m
}

// A family is found by what a system is, else by what it is like, the nearest
// first.
func TestTheFamilyOfASystem(t *testing.T) {
	for release, want := range map[string]string{
		"ID=debian\n": "debian", "ID=raspbian\nID_LIKE=debian\n": "debian", "ID=\"rhel\"\n": "redhat",
		"ID=harbourlinux\nID_LIKE=\"rhel fedora\"\n": "redhat", "ID=ubuntu\nID_LIKE=debian\n": "debian", "ID=skerryos\n": "",
	} {
		f, err := Of(machine(t, release), nil)
		got := ""
		if f != nil {
			got = f.Name
		}
		if err != nil || got != want {
			t.Errorf("%q is of family %q, %v, want %q", release, got, err, want)
		}
	}
}

// A third family is one new folder: with it alone, sites resolve to the names and
// paths of that family.
func TestAThirdFamilyIsOneFolder(t *testing.T) {
	families, err := ReadFamilies(os.DirFS(filepath.Join("testdata", "families")))
	if err != nil {
		t.Fatal(err)
	}
	m := machine(t, "ID=skerryos\nPRETTY_NAME=\"Skerry OS\"\n")
	f, err := Of(m, families)
	if err != nil || f == nil || f.Name != "skerry" {
		t.Fatalf("%+v, %v", f, err)
	}
	if manager := f.PackageManager(m); manager.Name() != "apt" {
		t.Fatalf("%v", manager)
	}
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: `[ground]
name = "g"
[reach]
user = "k"
key_secret = "k"
[host.a]
address = "10.0.0.1"
package.tide = { names = { skerry = "tide-tables" } }
service = { cron = { running = true, names = { skerry = "clockd" } }, lamp = { running = true, names = { skerry = "" } } }
[site.s]
on = ["a"]
server = "nginx"
names = ["s.test"]
`}}, &declare.Manifest{})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	h, err := resolve.OnePlace(d, "a", wire.Traits{Family: f.Name}, f.Servers, nil)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, s := range h.Stakes {
		names = append(names, s.Local())
		if s.Type == "site" && !strings.Contains(string(s.Want), "/opt/nginx/etc/hosts.d/northstake-s.conf") {
			t.Errorf("the site is %s", s.Want)
		}
	}
	if got, want := strings.Join(names, " "), "package/tide-tables package/nginx-skerry directory/opt/www/s site/s service/clockd service/webd port/80-tcp"; got != want {
		t.Errorf("the stakes are\n%s, want\n%s", got, want)
	}
	if _, err := resolve.OnePlace(d, "a", wire.Traits{System: "Skerry OS"}, nil, nil); err == nil || !strings.Contains(err.Error(), "no known layout") {
		t.Errorf("without a family: %v", err)
	}
}

func TestAFamilyThatIsWrittenWrong(t *testing.T) {
	for text, want := range map[string]string{"packages = \"tides\"": "there is no package manager \"tides\"", "package = \"apt\"": "strict mode", "x": "family odd"} {
		_, err := ReadFamilies(fstest.MapFS{"odd/family.toml": &fstest.MapFile{Data: []byte(text)}})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
