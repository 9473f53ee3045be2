package family

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

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
	return nil, &system.Failed{Command: line, Status: 1}
}

const dnfRemoves = `Dependencies resolved.
================================================================================
 Package            Architecture     Version            Repository         Size
================================================================================
Removing:
 httpd              x86_64           2.4.57-5.el9       @lab               4.7 M
Removing dependent packages:
 mod_ssl            x86_64           1:2.4.57-5.el9     @lab               282 k
 a-package-with-a-very-long-name
                    noarch           1-1                @lab                10
Installing:
 tides              noarch           2-1                ferries             10
     replacing  tide-tables.noarch 1-1

Transaction Summary
================================================================================
Remove  3 Packages
Operation aborted.
`

func TestWhatDnfWouldRemove(t *testing.T) {
	if got := fmt.Sprint(ParseDnfRemoved([]byte(dnfRemoves))); got != "[a-package-with-a-very-long-name httpd mod_ssl tide-tables]" {
		t.Error(got)
	}
	if got := dnfRefusal("Last metadata expiration check: 0:00:01 ago.\nError: \n Problem: conflicting requests\n  - package b-1-1.noarch conflicts with a provided by a-1-1.noarch\n(try to add '--allowerasing')\n"); got != "Problem: conflicting requests; package b-1-1.noarch conflicts with a provided by a-1-1.noarch" {
		t.Error(got)
	}
}

func TestWhyAptRefuses(t *testing.T) {
	said := "Reading package lists...\nThe following packages have unmet dependencies:\n e1b : Conflicts: e1a but 1.0 is to be installed\nE: Unable to correct problems, you have held broken packages.\n"
	if got := aptRefusal(said); got != "e1b : Conflicts: e1a but 1.0 is to be installed" {
		t.Error(got)
	}
	if got := aptRefusal("E: Packages were downgraded and -y was used without --allow-downgrades.\n"); !strings.HasPrefix(got, "Packages were downgraded") {
		t.Error(got)
	}
}

func TestServicesThatAPackageBrings(t *testing.T) {
	if got := servicesIn("/.\n/lib/systemd/system\n/lib/systemd/system/nginx.service\n/usr/lib/systemd/system/tides@.service\n/usr/share/doc/x.service\n/lib/systemd/system/nginx.socket\n"); fmt.Sprint(got) != "[nginx tides@]" {
		t.Error(got)
	}
}

func TestDnf(t *testing.T) {
	s := &said{answers: map[string]string{
		"rpm -qa":                  "httpd\t2.4.57-5.el9\nbash\t5.1.8-6.el9\nepochal\t1:2.0-1\ngpg-pubkey\t8483c65d-5ccc5b19\n",
		"dnf -q --setopt=cachedir": "httpd\t2.4.9-1.el9\nhttpd\t2.4.57-11.el9\nhttpd\t2.4.9-1.el9\n",
		"dnf --setopt=cachedir=":   dnfRemoves,
		"dnf -y -q":                "",
	}}
	m := machine(t, "ID=fedora\n")
	m.Run = s.run
	f, err := Of(m, nil)
	if err != nil {
		t.Fatal(err)
	}
	manager := f.PackageManager(m)
	ctx := context.Background()
	all, err := manager.Installed(ctx)
	if want := "map[bash:{installed 5.1.8-6.el9 false} epochal:{installed 1:2.0-1 false} httpd:{installed 2.4.57-5.el9 false}]"; err != nil || fmt.Sprint(all) != want {
		t.Errorf("%v, %v", all, err)
	}
	if c, err := manager.Offers(ctx, []string{"httpd", "tides"}); err != nil || fmt.Sprint(c) != "map[httpd:[2.4.57-11.el9 2.4.9-1.el9]]" {
		t.Errorf("%v, %v", c, err)
	}
	if last := s.ran[len(s.ran)-1]; !strings.Contains(last, "cachedir=/") || !strings.Contains(last, "/var/lib/northstake/cache/dnf repoquery") {
		t.Errorf("a question without lists is asked as %q", last)
	}
	if with, err := manager.WouldRemove(ctx, "httpd"); err != nil || fmt.Sprint(with) != "[a-package-with-a-very-long-name mod_ssl tide-tables]" {
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
	asks := func(command string) bool { return strings.Contains(command, " repoquery ") }
	if got := slices.DeleteFunc(s.ran[len(s.ran)-4:], asks); strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("it ran\n%s", strings.Join(got, "\n"))
	}
}

func TestWhatAptWouldRemove(t *testing.T) {
	s := &said{answers: map[string]string{"apt-get -s": "NOTE: This is only a simulation!\nRemv nginx [1.22.1-9+deb12u1]\nRemv libnginx-mod-geo [1.22.1-9+deb12u1] [nginx:amd64 ]\n"}}
	m := machine(t, "ID=debian\n")
	m.Run = s.run
	f, err := Of(m, nil)
	if err != nil {
		t.Fatal(err)
	}
	manager := f.PackageManager(m)
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
		for i, name := range ParseProviders(b) {
			if name == "" || strings.ContainsAny(name, " \n") || slices.Contains(ParseProviders(b)[:i], name) {
				t.Fatalf("%q", ParseProviders(b))
			}
		}
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
		manager := m(&system.Machine{})
		for _, c := range [][2]string{{"1.9", "1.22"}, {"1.0~rc1", "1.0"}, {"9.0", "1:1.0"}, {"1.22.1-9", "1.22.1-10"}} {
			if manager.Compare(c[0], c[1]) >= 0 || manager.Compare(c[1], c[0]) <= 0 || manager.Compare(c[0], c[0]) != 0 {
				t.Errorf("%s does not hold %s older than %s", name, c[0], c[1])
			}
		}
	}
}

// The files of a source are in the form of its family, and name the key.
func TestTheFilesOfASource(t *testing.T) {
	w := wire.SourceWant{Name: "ferries", URL: "http://tides.test/d", Suites: []string{"bookworm"}, Parts: []string{"main", "extra"}, Key: []byte("-----BEGIN PGP PUBLIC KEY BLOCK-----\n")}
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
	m := machine(t, "ID=debian\n")
	for path, text := range map[string]string{
		"/etc/apt/sources.list.d/tides.sources": "Types: deb\nURIs: http://a.test/\nSuites: x\nEnabled: no\n\nTypes: deb\nURIs: http://b.test/\n",
		"/etc/yum.repos.d/tides.repo":           "[on]\nenabled=1\n[off]\nname=x\nenabled = 0\n",
	} {
		if err := os.MkdirAll(filepath.Dir(m.Path(wire.Path(path))), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(m.Path(wire.Path(path)), []byte(text), 0o644); err != nil {
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
	m := machine(t, "ID=debian\n")
	if got := LockHolder(m, []string{"/none", "/etc/os-release"}); got != "" {
		t.Errorf("nobody holds it, and it says %q", got)
	}
	if err := os.WriteFile(m.Path("/lock.pid"), []byte(fmt.Sprintf("%d\n", os.Getppid())), 0o644); err != nil {
		t.Fatal(err)
	}
	if got, want := LockHolder(m, []string{"/none", "/lock.pid"}), fmt.Sprintf("another program (process %d)", os.Getppid()); got != want {
		t.Errorf("it says %q, want %q", got, want)
	}
	if err := os.WriteFile(m.Path("/lock.pid"), []byte("999999999\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if got := LockHolder(m, []string{"/lock.pid"}); got != "" {
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

const simulated = `NOTE: This is only a simulation!
Inst nginx-common [1.22.1-9] (1.22.1-9+deb12u1 Debian:12/stable [all]) []
Inst libnew (2.0-1 Debian:12/stable [amd64])
Inst curl [7.88.1-10] (7.88.1-11 localhost [amd64])
Conf nginx-common (1.22.1-9+deb12u1 Debian:12/stable [all])
`

func TestWhatAptWouldUpgrade(t *testing.T) {
	if got, want := fmt.Sprint(ParseUpgrades([]byte(simulated))), "[{curl 7.88.1-10 7.88.1-11} {libnew  2.0-1} {nginx-common 1.22.1-9 1.22.1-9+deb12u1}]"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

func FuzzUpgrades(f *testing.F) {
	f.Add([]byte(simulated))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, u := range ParseUpgrades(b) {
			if u.Name == "" || u.To == "" || strings.ContainsAny(u.Name+u.To, " \n") {
				t.Fatalf("%+v", u)
			}
		}
	})
}

// What the package managers say of the room that an installation takes.
func TestTheRoomOfAnInstallationIsRead(t *testing.T) {
	apt := "Reading package lists...\nThe following NEW packages will be installed:\n  nginx nginx-common\n0 upgraded, 2 newly installed, 0 to remove and 3 not upgraded.\nNeed to get %s of archives.\nAfter this operation, %s of additional disk space will be %s.\nDo you want to continue? [Y/n] N\nAbort.\n"
	for said, want := range map[string]Need{
		fmt.Sprintf(apt, "1,234 kB", "3,456 kB", "used"):         {1_234_000, 3_456_000},
		fmt.Sprintf(apt, "0 B/627 kB", "1.5 MB", "used"):         {0, 1_500_000},
		fmt.Sprintf(apt, "12.3 MB/1,006 MB", "2 GB", "used"):     {12_300_000, 2_000_000_000},
		fmt.Sprintf(apt, "100 B", "31.7 kB", "freed") + "really": {100, 0},
		"E: Unable to locate package tides\n":                    {},
	} {
		if got := ParseAptNeed([]byte(said)); got != want {
			t.Errorf("%q is %+v, want %+v", said, got, want)
		}
	}
	dnf := "Install  2 Packages\n\nTotal download size: %s\nInstalled size: %s\nOperation aborted.\n"
	for said, want := range map[string]Need{
		fmt.Sprintf(dnf, "6.7 k", "12"):            {6860, 12},
		fmt.Sprintf(dnf, "1.5 M", "2 G"):           {1_572_864, 2 << 30},
		"Total size: 8 k\nInstalled size: 1.0 M\n": {0, 1 << 20},
		"Error: Unable to find a match: tides\n":   {},
	} {
		if got := ParseDnfNeed([]byte(said)); got != want {
			t.Errorf("%q is %+v, want %+v", said, got, want)
		}
	}
}

func FuzzNeed(f *testing.F) {
	f.Add([]byte("Need to get 1,234 kB of archives.\nAfter this operation, 9 TB of additional disk space will be used.\n"))
	f.Add([]byte("Total download size: 1.2 M\nInstalled size: 3.4 G\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, n := range []Need{ParseAptNeed(b), ParseDnfNeed(b)} {
			if n.Fetched < 0 || n.Installed < 0 {
				t.Fatalf("%+v", n)
			}
		}
	})
}

const dpkgText = `Package: nginx
Status: install ok installed
Version: 1.22.1-9+deb12u1
Description: small
 and more: words

Package: cron
Status: deinstall ok config-files
Version: 3.0pl1-162

Package: half
Status: install ok half-configured
Version: 1

Package: broken
Status: install reinstreq half-installed
`

func TestPackagesOfOtherArchitecturesAndHeldOnes(t *testing.T) {
	got, err := ParseDpkg([]byte("Package: dpkg\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1\n\nPackage: zlib1g\nStatus: install ok installed\nArchitecture: i386\nVersion: 2\n\nPackage: curl\nStatus: hold ok installed\nArchitecture: amd64\nVersion: 3\n\nPackage: tzdata\nStatus: install ok installed\nArchitecture: all\nVersion: 4\n"))
	if err != nil || got["zlib1g"].There() || !got["zlib1g:i386"].There() || !got["curl"].Held || got["dpkg"].Held || !got["tzdata"].There() {
		t.Errorf("%+v, %v", got, err)
	}
}

// What is kept of a package is its programs, libraries and units, where diversions have put them.
func TestTheFilesOfAPackageAreRead(t *testing.T) {
	const diversions = "/usr/bin/tide\n/usr/bin/tide.theirs\n:\n/usr/sbin/tided\n/usr/sbin/tided.own\ntides\n"
	list := "/.\n/usr\n/usr/bin\n/usr/bin/tide\n/usr/sbin/tided\n/bin/ebb\n/usr/share/tides/page.html\n/etc/tides.conf\n/var/lib/tides\n/usr/lib/tides/part.js\n" +
		"/usr/lib/x86_64-linux-gnu/libtide.so.1\n/usr/lib/tides/mod_tide.so\n/lib/systemd/system/tide.service\n/usr/lib/systemd/system/tide.timer\n/usr/libexec/tide\n/usr/local/bin/x\n"
	want := "/usr/bin/tide.theirs /usr/sbin/tided /bin/ebb /usr/lib/x86_64-linux-gnu/libtide.so.1 /usr/lib/tides/mod_tide.so /lib/systemd/system/tide.service /usr/lib/systemd/system/tide.timer"
	if got := strings.Join(ParseDpkgList([]byte(list), []byte(diversions), "tides:i386"), " "); got != want {
		t.Errorf("%s\nwanted\n%s", got, want)
	}
	rpm := "\t0\t/usr/bin/tide\ng\t0\t/usr/bin/ghost\n\t2\t/usr/sbin/left-out\nc\t0\t/etc/tides.conf\n\t0\t/usr/lib64/httpd/modules/mod_tide.so\n(none)\n"
	if got := strings.Join(ParseRPMList([]byte(rpm)), " "); got != "/usr/bin/tide /usr/lib64/httpd/modules/mod_tide.so" {
		t.Errorf("of rpm's list: %s", got)
	}
}

// The list of a package's files has the architecture in its name where several can be there at once; one that is
// not there is of no files, and holds nothing else up.
func TestWhichListOfFilesIsThePackages(t *testing.T) {
	m := &system.Machine{Root: t.TempDir(), StateDir: "/var/lib/northstake"}
	for name, list := range map[string]string{"tide.list": "/usr/bin/tide", "clock:" + runtime.GOARCH + ".list": "/usr/bin/clock", "clock:i386.list": "/usr/bin/clock-i386", "ebb:riscv64.list": "/usr/bin/ebb", "moon.list": "/usr/bin/moon"} {
		systemtest.Put(t, m, dpkgInfo+"/"+name, list+"\n")
	}
	systemtest.Put(t, m, "/usr/bin/tide", "")
	for name, want := range map[string]string{"tide": "", "clock": "/usr/bin/clock", "clock:i386": "/usr/bin/clock-i386", "ebb": "/usr/bin/ebb", "moon:i386": "/usr/bin/moon", "nothing": "", "nothing:i386": ""} {
		if got, err := Lacks(t.Context(), m, apt{m}, name); err != nil || strings.Join(got, " ") != want {
			t.Errorf("%s lacks %v, %v; wanted %q", name, got, err, want)
		}
	}
}

func FuzzFilesOfAPackage(f *testing.F) {
	f.Add([]byte("/usr/bin/tide\n"), []byte("/usr/bin/tide\n/usr/bin/theirs\n:\n"))
	f.Fuzz(func(t *testing.T, list, diversions []byte) {
		for _, p := range append(ParseDpkgList(list, diversions, "tides"), ParseRPMList(list)...) {
			if p == "" || strings.Contains(p, "\n") {
				t.Fatalf("%q", p)
			}
		}
	})
}

func TestDpkgStatesAreRead(t *testing.T) {
	got, err := ParseDpkg([]byte(dpkgText))
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]Package{"nginx": {State: "installed", Version: "1.22.1-9+deb12u1"}, "cron": {State: "config-files", Version: "3.0pl1-162"}, "half": {State: "half-configured", Version: "1"}, "broken": {State: "half-installed"}} {
		if got[name] != want {
			t.Errorf("%s is %+v, want %+v", name, got[name], want)
		}
	}
}

func FuzzDpkg(f *testing.F) {
	f.Add([]byte(dpkgText))
	f.Fuzz(func(t *testing.T, b []byte) {
		if got, err := ParseDpkg(b); err == nil {
			for name := range got {
				if strings.TrimSpace(name) == "" {
					t.Fatal("a package without a name")
				}
			}
		}
	})
}

// Whether apt can read its sources, and which lists it has, is asked again when one of their
// files is edited in place, and not otherwise.
func TestSourcesAreAskedForAgainWhenOneIsEdited(t *testing.T) {
	s := &said{answers: map[string]string{"apt-get -q indextargets": "/etc/apt/sources.list.d/northstake-ferries.sources:1\n/etc/apt/sources.list:2\n"}}
	m := machine(t, "ID=debian\n")
	m.Run = s.run
	const file = "/etc/apt/sources.list.d/northstake-ferries.sources"
	systemtest.Put(t, m, file, "one")
	systemtest.Put(t, m, "/etc/apt/sources.list", "")
	systemtest.Put(t, m, "/var/lib/apt/lists/x", "")
	f, err := Of(m, nil)
	if err != nil {
		t.Fatal(err)
	}
	sources := f.PackageManager(m).Sources()
	for i, edit := range []func() error{
		func() error { return nil },
		func() error { return os.WriteFile(m.Path(file), []byte("other"), 0o644) },
		func() error { return os.Remove(m.Path("/var/lib/apt/lists/x")) },
	} {
		if err := edit(); err != nil {
			t.Fatal(err)
		}
		for range 2 {
			there, err := sources.Listed(context.Background(), "ferries")
			none, err2 := sources.Listed(context.Background(), "tides")
			if err := cmp.Or(err, err2, sources.Sound(context.Background())); err != nil || !there || none {
				t.Errorf("listed %t, %t: %v", there, none, err)
			}
		}
		if len(s.ran) != i+1 {
			t.Errorf("after edit %d it was asked %d times", i, len(s.ran))
		}
	}
}

// What apt-cache says of a name that no package has leads to those that provide it.
func TestProvidersAreRead(t *testing.T) {
	const said = "Package: mail-transport-agent\nVersions: \n\nReverse Depends: \n  cron,mail-transport-agent\nDependencies: \nProvides: \nReverse Provides: \npostfix 3.7.11-0+deb12u1 (= )\nexim4-daemon-light 4.96-15+deb12u7 (= )\nexim4-daemon-light 4.96-15+deb12u6 (= )\n"
	if got := fmt.Sprint(ParseProviders([]byte(said))); got != "[exim4-daemon-light postfix]" {
		t.Errorf("they are %s", got)
	}
	for _, none := range []string{"", "Package: x\nReverse Provides: \n", "N: Unable to locate package\n"} {
		if got := ParseProviders([]byte(none)); len(got) != 0 {
			t.Errorf("of %q they are %v", none, got)
		}
	}
}

// What dnf and rpm say is kept until their records change: whoever reads those touches the journal, and an empty
// one says nothing.
func TestRpmsRecordsAreReadOnceWhileTheyAreTheSame(t *testing.T) {
	m := systemtest.Folder(t)
	s := &said{answers: map[string]string{"rpm -qa": "httpd\t2.4\n", "dnf -q": "tides\n"}}
	m.Run = s.run
	for _, f := range []string{"/var/lib/rpm/rpmdb.sqlite", "/var/lib/rpm/rpmdb.sqlite-wal", "/etc/yum.repos.d/a.repo", "/var/cache/dnf/a.solv"} {
		systemtest.Put(t, m, f, "")
	}
	d := dnf{m}
	asked := func() int {
		t.Helper()
		before := len(s.ran)
		if _, err := d.Installed(context.Background()); err != nil {
			t.Fatal(err)
		}
		for range 2 {
			if got, err := d.Providers(context.Background(), "tides"); err != nil || len(got) != 1 {
				t.Fatalf("%v, %v", got, err)
			}
		}
		return len(s.ran) - before
	}
	if n := asked(); n != 2 {
		t.Errorf("%d programs ran: %v", n, s.ran)
	}
	for range 3 { // as a reader of the records does
		if err := os.Chmod(m.Path("/var/lib/rpm/rpmdb.sqlite-wal"), 0o644); err != nil {
			t.Fatal(err)
		}
		if n := asked(); n != 0 {
			t.Errorf("nothing has changed, and %d programs ran", n)
		}
	}
	for _, f := range []string{"/var/lib/rpm/rpmdb.sqlite-wal", "/var/lib/rpm/rpmdb.sqlite"} {
		systemtest.Put(t, m, f, "more")
		if n := asked(); n != 2 {
			t.Errorf("%s has changed, and %d programs ran", f, n)
		}
	}
	systemtest.Put(t, m, "/var/cache/dnf/a.solv", "more")
	if n := asked(); n != 1 {
		t.Errorf("the sources offer another thing, and %d programs ran", n)
	}
}
