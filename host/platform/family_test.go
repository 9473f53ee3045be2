package platform

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"northstake/core/declare"
	"northstake/core/resolve"
	"northstake/core/stake"
)

// system makes a folder that says of itself which system it is.
func system(t *testing.T, release string) *Machine {
	t.Helper()
	m := &Machine{Root: t.TempDir(), StateDir: "/var/lib/northstake"}
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
		f, err := system(t, release).Family()
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
	m := system(t, "ID=skerryos\nPRETTY_NAME=\"Skerry OS\"\n")
	m.Families = families
	f, err := m.Family()
	if err != nil || f == nil || f.Name != "skerry" {
		t.Fatalf("%+v, %v", f, err)
	}
	manager, err := m.PackageManager()
	if err != nil || manager.Name() != "apt" {
		t.Fatalf("%v, %v", manager, err)
	}
	d, problems := declare.Parse([]declare.Source{{Name: "g.toml", Text: `[ground]
name = "g"
[reach]
user = "k"
key = "k"
[host.a]
address = "10.0.0.1"
package.tide = { names = { skerry = "tide-tables" } }
services = { cron = { running = true, names = { skerry = "clockd" } }, lamp = { running = true, names = { skerry = "" } } }
[site.s]
on = ["a"]
server = "nginx"
names = ["s.test"]
`}}, &declare.Manifest{})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	h, err := resolve.OneHost(d, "a", stake.Traits{Family: f.Name, Servers: f.Servers})
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
	if _, err := resolve.OneHost(d, "a", stake.Traits{System: "Skerry OS"}); err == nil || !strings.Contains(err.Error(), "no known layout") {
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

// said answers commands by what they begin with, and notes them.
type said struct {
	answers map[string]string
	ran     []string
}

func (s *said) run(_ context.Context, _ io.Reader, name string, args ...string) ([]byte, error) {
	line := name + " " + strings.Join(args, " ")
	s.ran = append(s.ran, line)
	for begin, answer := range s.answers {
		if strings.HasPrefix(line, begin) {
			return []byte(answer), nil
		}
	}
	return nil, &Failed{Command: line, Status: 1}
}

func TestDnf(t *testing.T) {
	s := &said{answers: map[string]string{
		"rpm -qa":                      "httpd\t2.4.57-5.el9\nbash\t5.1.8-6.el9\nepochal\t1:2.0-1\ngpg-pubkey\t8483c65d-5ccc5b19\n",
		"dnf -q --setopt=cachedir":     "httpd\t2.4.9-1.el9\nhttpd\t2.4.57-11.el9\nhttpd\t2.4.9-1.el9\n",
		"dnf -q repoquery --installed": "mod_ssl\nhttpd\nmod_ssl\n",
		"dnf -y -q":                    "",
	}}
	m := system(t, "ID=fedora\n")
	m.Run = s.run
	manager, err := m.PackageManager()
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	all, err := manager.Installed(ctx)
	if want := "map[bash:{installed 5.1.8-6.el9} epochal:{installed 1:2.0-1} httpd:{installed 2.4.57-5.el9}]"; err != nil || fmt.Sprint(all) != want {
		t.Errorf("%v, %v", all, err)
	}
	if c, err := manager.Offers(ctx, []string{"httpd", "tides"}); err != nil || fmt.Sprint(c) != "map[httpd:[2.4.57-11.el9 2.4.9-1.el9]]" {
		t.Errorf("%v, %v", c, err)
	}
	if last := s.ran[len(s.ran)-1]; !strings.Contains(last, "cachedir=/") || !strings.Contains(last, "/var/lib/northstake/cache/dnf repoquery") {
		t.Errorf("a question without lists is asked as %q", last)
	}
	if with, err := manager.WouldRemove(ctx, "httpd"); err != nil || fmt.Sprint(with) != "[mod_ssl]" {
		t.Errorf("%v, %v", with, err)
	}
	for _, do := range []func() error{
		func() error { return manager.Install(ctx, map[string]string{"httpd": "", "curl": "7-1"}) },
		func() error { return manager.InstallVersions(ctx, map[string]string{"b": "2-1", "a": "1:1-1"}) },
		func() error { return manager.Remove(ctx, []string{"httpd", "mod_ssl"}) },
	} {
		if err := do(); err != nil {
			t.Error(err)
		}
	}
	want := []string{"dnf -y -q install -- curl-7-1 httpd", "dnf -y -q --allowerasing install -- a-1:1-1 b-2-1", "dnf -y -q --setopt=clean_requirements_on_remove=False remove -- httpd mod_ssl"}
	if got := s.ran[len(s.ran)-3:]; strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("it ran\n%s", strings.Join(got, "\n"))
	}
}

func TestWhatAptWouldRemove(t *testing.T) {
	s := &said{answers: map[string]string{"apt-get -s": "NOTE: This is only a simulation!\nRemv nginx [1.22.1-9+deb12u1]\nRemv libnginx-mod-geo [1.22.1-9+deb12u1] [nginx:amd64 ]\n"}}
	m := system(t, "ID=debian\n")
	m.Run = s.run
	manager, err := m.PackageManager()
	if err != nil {
		t.Fatal(err)
	}
	if with, err := manager.WouldRemove(context.Background(), "nginx"); err != nil || fmt.Sprint(with) != "[libnginx-mod-geo]" {
		t.Errorf("%v, %v", with, err)
	}
}

const policy = `nginx:
  Installed: 1.20.0-1
  Candidate: 1.22.1-9
  Version table:
     1.24.0-1 100
        100 http://tides.test/debian backports/main amd64 Packages
     1.22.1-9 500
        500 http://tides.test/debian bookworm/main amd64 Packages
        500 file:/opt ./ Packages
 *** 1.20.0-1 100
        100 /var/lib/dpkg/status
ghost:
  Installed: (none)
  Candidate: (none)
  Version table:
     1.0 -1
        100 /var/lib/dpkg/status
`

// A version that is on the host alone is offered by no source.
func TestWhatAptsSourcesOffer(t *testing.T) {
	if got, want := fmt.Sprint(ParsePolicy([]byte(policy))), "map[nginx:[1.22.1-9 1.24.0-1]]"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

func FuzzPolicy(f *testing.F) {
	f.Add([]byte(policy))
	f.Fuzz(func(t *testing.T, b []byte) {
		for name, versions := range ParsePolicy(b) {
			for i, v := range versions {
				if v == "" || strings.ContainsAny(v, " \n") || slices.Contains(versions[:i], v) {
					t.Fatalf("%q: %q", name, versions)
				}
			}
		}
	})
}

func TestVersionsAreOrderedAsTheFamilyDoes(t *testing.T) {
	for name, m := range packageManagers {
		manager := m(&Machine{})
		for _, c := range [][2]string{{"1.9", "1.22"}, {"1.0~rc1", "1.0"}, {"9.0", "1:1.0"}, {"1.22.1-9", "1.22.1-10"}} {
			if manager.Compare(c[0], c[1]) >= 0 || manager.Compare(c[1], c[0]) <= 0 || manager.Compare(c[0], c[0]) != 0 {
				t.Errorf("%s does not hold %s older than %s", name, c[0], c[1])
			}
		}
	}
}

// The files of a source are in the form of its family, and name the key.
func TestTheFilesOfASource(t *testing.T) {
	w := stake.SourceWant{Name: "ferries", URL: "http://tides.test/d", Suites: []string{"bookworm"}, Parts: []string{"main", "extra"}, Key: []byte("-----BEGIN PGP PUBLIC KEY BLOCK-----\n")}
	debian := apt{}.Sources().Files(w)
	if debian[0].Path != "/etc/apt/keyrings/northstake-ferries.asc" || debian[1].Path != "/etc/apt/sources.list.d/northstake-ferries.sources" {
		t.Errorf("%s, %s", debian[0].Path, debian[1].Path)
	}
	if got, want := string(debian[1].Text), "# North Stake writes this file.\nTypes: deb\nURIs: http://tides.test/d\nSuites: bookworm\nComponents: main extra\nSigned-By: /etc/apt/keyrings/northstake-ferries.asc\n"; got != want {
		t.Errorf("%q", got)
	}
	redhat := dnf{}.Sources().Files(w)
	if text := string(redhat[1].Text); redhat[1].Path != "/etc/yum.repos.d/northstake-ferries.repo" || !strings.Contains(text, "gpgcheck=1\ngpgkey=file:///etc/pki/rpm-gpg/northstake-ferries\n") {
		t.Errorf("%s %q", redhat[1].Path, text)
	}
}

func TestSourcesThatAreSwitchedOff(t *testing.T) {
	m := system(t, "ID=debian\n")
	for path, text := range map[string]string{
		"/etc/apt/sources.list.d/tides.sources": "Types: deb\nURIs: http://a.test/\nSuites: x\nEnabled: no\n\nTypes: deb\nURIs: http://b.test/\n",
		"/etc/yum.repos.d/tides.repo":           "[on]\nenabled=1\n[off]\nname=x\nenabled = 0\n",
	} {
		if err := os.MkdirAll(filepath.Dir(m.Path(path)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(m.Path(path), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got := fmt.Sprint(apt{m}.Disabled()); got != "[http://a.test/ (tides.sources)]" {
		t.Error(got)
	}
	if got := fmt.Sprint(dnf{m}.Disabled()); got != "[off (tides.repo)]" {
		t.Error(got)
	}
}

// Who holds a package manager's lock is named: by the kernel's word on a record
// lock of another process, or by a process id that the file holds.
func TestTheHolderOfALockIsNamed(t *testing.T) {
	m := system(t, "ID=debian\n")
	if got := m.LockHolder([]string{"/none", "/etc/os-release"}); got != "" {
		t.Errorf("nobody holds it, and it says %q", got)
	}
	if err := os.WriteFile(m.Path("/lock.pid"), []byte(fmt.Sprintf("%d\n", os.Getppid())), 0o644); err != nil {
		t.Fatal(err)
	}
	if got, want := m.LockHolder([]string{"/none", "/lock.pid"}), fmt.Sprintf("another program (process %d)", os.Getppid()); got != want {
		t.Errorf("it says %q, want %q", got, want)
	}
	if err := os.WriteFile(m.Path("/lock.pid"), []byte("999999999\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if got := m.LockHolder([]string{"/lock.pid"}); got != "" {
		t.Errorf("the holder has ended, and it says %q", got)
	}
}

func FuzzRPM(f *testing.F) {
	f.Add([]byte("httpd\t2.4.57-5.el9\n\t\nx"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for name, p := range ParseRPM(b) {
			if name == "" || p.State != "installed" || strings.Contains(name, "\t") {
				t.Fatalf("%q: %+v", name, p)
			}
		}
	})
}

func FuzzInRange(f *testing.F) {
	f.Add("80", 80)
	f.Add("8000-8100", 8050)
	f.Add("-", 0)
	f.Fuzz(func(t *testing.T, ports string, port int) {
		in := InRange(ports, port)
		if ports == fmt.Sprint(port) && !in {
			t.Fatalf("%d is not in %q", port, ports)
		}
		if in && !strings.ContainsAny(ports, "0123456789") {
			t.Fatalf("%d is in %q", port, ports)
		}
	})
}
