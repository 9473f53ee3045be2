package packages

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"northstake/core/plan"
	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

const versionKit = "[kit.base]\n[kit.base.source.ferries]\nurl = %q\nkey = \"files/ferries.asc\"\n[kit.base.package.tide-tables]\n%s\n[kit.base.package.tree]\n"

func versions(g *stage.Ground, url, want string) {
	g.T.Helper()
	g.DeclareText(fmt.Sprintf(versionKit, url, want) + "[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\n")
	g.Ns(0, "declare", g.Dir)
}

// Packages of a version come from a source of their own; a version that is changed
// by hand has shifted; what no source has is a blocker that says what there is.
func TestPackagesOfVersionsFromASource(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "[kit.base]\n[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\n")
	dir, url := stage.Served(t)
	gpg, public := stage.SigningKey(t, "Tides <tides@saltmarsh.test>", "never", "")
	stage.DebSource(t, dir, gpg, "", "1.0-1", "1.1-1", "2.0-1")
	g.Beside("files/ferries.asc", public)
	g.Trust()
	host := g.Hosts[0]
	snapshot := "find /etc/apt -type f | sort; dpkg -l | md5sum"
	before := g.On(host, snapshot)

	versions(g, url, `version = "1.1"`)
	p := g.Plan(1)
	if first, second := p.Hosts[0].Steps[0].Text, p.Hosts[0].Steps[1].Text; first != "add package source ferries, "+url+", with its key" ||
		!strings.HasPrefix(second, "install 3 packages: tide-tables 1.1, tree 2.") {
		t.Errorf("the plan is to %s; %s", first, second)
	}
	if after := g.On(host, snapshot); after != before {
		t.Errorf("a plan changed the host:\n%s", stage.Difference(before, after))
	}
	g.ApplyPlan(0, p.Id)
	version := func() string { return strings.TrimSpace(g.On(host, "cat /usr/share/tides/version")) }
	if got := version(); got != "1.1-1" {
		t.Errorf("installed is %s", got)
	}
	g.NothingToDo()
	g.HandEdits(host, []stage.Edit{
		{"package/tide-tables", "version", "apt-get -y -q install tide-tables=2.0-1 >/dev/null"},
		{"package/tide-tables", "version", "apt-get -y -q --allow-downgrades install tide-tables=1.0-1 >/dev/null"},
		{"package/tide-tables", "state", "apt-get -y -q purge tide-tables >/dev/null"},
		{"source/ferries", "text of /etc/apt/keyrings", "echo mine > /etc/apt/keyrings/northstake-ferries.asc"},
		{"source/ferries", "/etc/apt/sources.list.d", "rm /etc/apt/sources.list.d/northstake-ferries.sources"},
		{"source/ferries", "mode of /etc/apt/sources.list.d", "chmod 600 /etc/apt/sources.list.d/northstake-ferries.sources"},
		{"source/ferries", "its lists of packages", "cd /var/lib/apt/lists; find . -name '*_Packages*' ! -name '_opt*' -delete"},
		{"source/ferries", "owner of /etc/apt/keyrings", "chown keeper /etc/apt/keyrings/northstake-ferries.asc"},
	})
	if got := version(); got != "1.1-1" {
		t.Errorf("restored is %s", got)
	}
	versions(g, url, `is = "newest"`)
	g.Apply(0)
	if got := version(); got != "2.0-1" {
		t.Errorf("the newest is %s", got)
	}
	// The list is read anew where a version is asked for that it does not have.
	stage.DebSource(t, dir, gpg, "", "2.1-1")
	versions(g, url, `at_least = "2.1"`)
	if p := g.Plan(2); len(p.Hosts[0].Blockers) != 1 || !strings.Contains(p.Hosts[0].Blockers[0].What, "2.0-1 at most") {
		t.Errorf("with a fresh list: %+v", p.Hosts[0])
	}
	g.On(host, "touch -d '2 hours ago' /var/lib/apt/lists /var/lib/apt/lists/partial /var/lib/northstake/lists-read 2>/dev/null || true")
	r := g.Apply(0)
	if got := version(); got != "2.1-1" {
		t.Errorf("after another look installed is %s: %+v", got, r.Hosts[0].Steps)
	}
	g.NothingToDo()
	versions(g, url, `version = "9.9"`)
	if p := g.Plan(2); len(p.Hosts[0].Blockers) != 1 || !strings.Contains(p.Hosts[0].Blockers[0].What, "there is 2.1-1") {
		t.Errorf("a version that nobody has: %+v", p.Hosts[0].Blockers)
	}
	g.DeclareText("[kit.base]\npackages = [\"tide-table\"]\n[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\n")
	g.Ns(0, "declare", g.Dir)
	if p := g.Plan(2); len(p.Hosts[0].Blockers) != 1 || !strings.Contains(p.Hosts[0].Blockers[0].Fix, "there is tide-tables") {
		t.Errorf("a name that is near: %+v", p.Hosts[0].Blockers)
	}
}

// sources are a source that is signed with key, and one whose key has expired since;
// other is a key that signs nothing.
type sources struct{ url, key, other, oldURL, expired string }

func sourcesOf(t *testing.T, make func(t testing.TB, dir, gpg, options string, versions ...string), versions ...string) (s sources) {
	t.Helper()
	const past = "--faked-system-time 20200101T000000"
	var dir, gpg string
	dir, s.url = stage.Served(t)
	gpg, s.key = stage.SigningKey(t, "Tides <tides@saltmarsh.test>", "never", "")
	make(t, dir, gpg, "", versions...)
	_, s.other = stage.SigningKey(t, "Ebb <ebb@saltmarsh.test>", "never", "")
	dir, s.oldURL = stage.Served(t)
	gpg, s.expired = stage.SigningKey(t, "Old <old@saltmarsh.test>", "1d", past)
	make(t, dir, gpg, past, versions[0])
	return s
}

// A configuration file that somebody has changed is left as it is by a newer version of its package,
// and the run says where what that brings lies now (M12).
func TestWhatAPackageLeavesBesideIsTold(t *testing.T) {
	t.Parallel()
	for _, family := range []lab.Family{lab.Debian, lab.RedHat} {
		t.Run(family.String(), func(t *testing.T) {
			t.Parallel()
			g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{family}, "# instead of [site.timetable]\n[kit.base]\n")
			dir, url := stage.Served(t)
			gpg, public := stage.SigningKey(t, "Tides <tides@saltmarsh.test>", "never", "")
			name, suffix, ending := "Tide_tables", "", ".rpmnew" // in this family names may have capitals
			if family == lab.Debian {
				name, suffix, ending = "tide-tables", "-1", ".dpkg-dist"
			}
			for _, v := range []string{"1.0", "1.1"} {
				if family == lab.Debian {
					stage.Shell(t, dir, fmt.Sprintf("mkdir -p p/DEBIAN p/etc; echo tides %[1]s > p/etc/tide-tables.conf; echo /etc/tide-tables.conf > p/DEBIAN/conffiles; printf 'Package: tide-tables\nVersion: %[1]s-1\nArchitecture: all\nMaintainer: Harbour Office <office@saltmarsh.test>\nDescription: Tide tables\n' > p/DEBIAN/control; dpkg-deb --root-owner-group -b p tide-tables_%[1]s.deb >/dev/null; rm -r p", v))
					continue
				}
				stage.Write(t, filepath.Join(dir, "tide-tables.spec"), fmt.Sprintf("Name: Tide_tables\nVersion: %[1]s\nRelease: 1\nSummary: Tide tables\nLicense: MIT\nBuildArch: noarch\n%%description\nTide tables.\n%%install\nmkdir -p %%{buildroot}/etc; echo tides %[1]s > %%{buildroot}/etc/tide-tables.conf\n%%files\n%%config(noreplace) /etc/tide-tables.conf\n", v))
				stage.Shell(t, dir, fmt.Sprintf("rpmbuild -bb --quiet --define '_topdir %[1]s/top' --define '_dbpath %[1]s/db' tide-tables.spec >/dev/null 2>&1; mv top/RPMS/noarch/*.rpm .; rm -r top tide-tables.spec", dir))
			}
			map[bool]func(testing.TB, string, string, string, ...string){true: stage.DebSource, false: stage.RpmSource}[family == lab.Debian](t, dir, gpg, "")
			g.Beside("files/ferries.asc", public)
			g.Trust()
			host := g.Hosts[0]
			declared := func(version string) string {
				t.Helper()
				g.DeclareText(fmt.Sprintf("# instead of [site.timetable]\n[kit.base]\n[kit.base.source.ferries]\nurl = %q\nkey = \"files/ferries.asc\"\n[kit.base.package.%s]\nversion = %q\n", url, name, version))
				g.Ns(0, "declare", g.Dir)
				var said []string
				for _, s := range g.ApplyPlan(0, g.Plan(1).Id).Hosts[0].Steps {
					said = append(said, s.Said...)
				}
				return strings.Join(said, "\n")
			}
			if said := declared("1.0" + suffix); strings.Contains(said, "tide-tables.conf") {
				t.Errorf("the first installation says %s", said)
			}
			g.On(host, "echo mine > /etc/tide-tables.conf; echo another > /etc/other.conf.dpkg-dist; echo another > /etc/other.conf.rpmnew")
			want := "/etc/tide-tables.conf was changed here, and is left as it is; what its package brings now lies in /etc/tide-tables.conf" + ending
			if said := declared("1.1" + suffix); !strings.Contains(said, want) || strings.Contains(said, "/etc/other.conf") {
				t.Errorf("it says %q, wanted %q", said, want)
			}
			if got := g.On(host, "cat /etc/tide-tables.conf /etc/tide-tables.conf"+ending); got != "mine\ntides 1.1\n" {
				t.Errorf("there is %q", got)
			}
		})
	}
}

// A package of which programs are gone has shifted, and one that is half installed is not whole: both are put
// right in the version that is there, and not in a newer one (M3, M12). What others have put in their place
// by what the manager has for it counts as there.
func TestAPackageIsMadeWhole(t *testing.T) {
	t.Parallel()
	for _, family := range []lab.Family{lab.Debian, lab.RedHat} {
		t.Run(family.String(), func(t *testing.T) {
			t.Parallel()
			g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{family}, "# instead of [site.timetable]\n[kit.base]\n")
			dir, url := stage.Served(t)
			gpg, public := stage.SigningKey(t, "Tides <tides@saltmarsh.test>", "never", "")
			source := func(versions ...string) {
				t.Helper()
				stage.Shell(t, dir, "rm -rf *")
				if family == lab.Debian {
					for i := range versions {
						versions[i] += "-1"
					}
					stage.DebSource(t, dir, gpg, "", versions...)
					return
				}
				stage.RpmSource(t, dir, gpg, "", versions...)
			}
			source("1.0")
			g.Beside("files/ferries.asc", public)
			g.Trust()
			host := g.Hosts[0]
			declared := fmt.Sprintf("# instead of [site.timetable]\n[kit.base]\n[kit.base.source.ferries]\nurl = %q\nkey = \"files/ferries.asc\"\n[kit.base.package.tide-tables]\n", url)
			g.DeclareText(declared)
			g.Ns(0, "declare", g.Dir)
			g.Apply(0)
			g.NothingToDo()
			source("1.0", "1.1")
			g.On(host, map[bool]string{true: "apt-get -q update", false: "dnf -q clean all; dnf -q makecache"}[family == lab.Debian]+" >/dev/null 2>&1")
			version := func(want string) {
				t.Helper()
				if got := g.On(host, "tide"); got != want+"-1\n" {
					t.Errorf("the tide is of %q, wanted %s", got, want)
				}
			}
			g.HandEdits(host, []stage.Edit{{"package/tide-tables", "files", "rm /usr/bin/tide"}})
			version("1.0")

			g.On(host, "rm -r /usr/share/tides")
			if got := g.Survey(host)["package/tide-tables"]; got.Standing != plan.Set {
				t.Errorf("without a table, which is no program, it is %+v", got)
			}
			if family == lab.Debian {
				g.On(host, "dpkg-divert --quiet --local --rename --divert /usr/bin/tide.theirs --add /usr/bin/tide")
				if got := g.Survey(host)["package/tide-tables"]; got.Standing != plan.Set {
					t.Errorf("with its program elsewhere, as an administrator wants it, it is %+v", got)
				}
				g.On(host, "dpkg-divert --quiet --local --rename --remove /usr/bin/tide")
				for _, state := range []string{"install reinstreq half-installed", "install ok unpacked", "install ok half-configured"} {
					g.On(host, "sed -i '/^Package: tide-tables$/,/^$/s/^Status: .*/Status: "+state+"/' /var/lib/dpkg/status")
					_, word, _ := strings.Cut(strings.TrimPrefix(state, "install "), " ")
					p := g.Plan(1)
					if got := p.Hosts[0].Steps[0].Text; p.Steps != 1 || got != "finish installing package tide-tables, which is "+word {
						t.Errorf("of a package that is %s the plan is to %s", state, got)
					}
					g.ApplyPlan(0, p.Id)
					g.On(host, "dpkg --audit | grep . && exit 1 || true")
					if got := g.On(host, "dpkg-query -W -f '${Status} ${Version}' tide-tables"); got != "install ok installed 1.0-1" {
						t.Errorf("a package that was %s is %s", state, got)
					}
				}
				version("1.0")
			}
			if family == lab.Debian {
				ofAnotherArchitecture(g, host, dir, gpg, declared)
			}
			source("1.1")
			g.On(host, map[bool]string{true: "apt-get -q update", false: "dnf -q clean all; dnf -q makecache"}[family == lab.Debian]+" >/dev/null 2>&1; rm /usr/bin/tide")
			p := g.Plan(2)
			if b := p.Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].What, "of package tide-tables /usr/bin/tide is gone, and no package source of this host offers it in the version that is there, 1.0") {
				t.Errorf("in a version that nobody offers: %+v", p.Hosts[0])
			}
		})
	}
}

// ofAnotherArchitecture declares a package of another architecture than the host's beside that of its own: they
// are two (M12).
func ofAnotherArchitecture(g *stage.Ground, host, dir, gpg, before string) {
	g.T.Helper()
	defer func() {
		g.DeclareText(before)
		g.Ns(0, "declare", g.Dir)
		g.On(host, "apt-get -y -q purge tide-clock:i386 >/dev/null; dpkg --remove-architecture i386")
	}()
	stage.Shell(g.T, dir, `for a in amd64 i386; do mkdir -p p/DEBIAN p/usr/share/tides-$a; echo $a > p/usr/share/tides-$a/clock; printf 'Package: tide-clock\nVersion: 1.0-1\nArchitecture: '$a'\nMulti-Arch: same\nMaintainer: Harbour Office <office@saltmarsh.test>\nDescription: Tide clock\n' > p/DEBIAN/control; dpkg-deb --root-owner-group -b p tide-clock_1.0-1_$a.deb >/dev/null; rm -r p; done`)
	stage.DebSource(g.T, dir, gpg, "")
	g.On(host, "apt-get -q update >/dev/null 2>&1")
	g.DeclareText(before + "[kit.base.package.\"tide-clock:i386\"]\n")
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(2)
	if b := p.Hosts[0].Blockers; len(b) != 1 || !strings.Contains(b[0].Fix, "dpkg --add-architecture i386") {
		g.T.Errorf("of an architecture that the host does not take: %+v", p.Hosts[0])
	}
	g.On(host, "dpkg --add-architecture i386; apt-get -q update >/dev/null 2>&1")
	g.Apply(0)
	clocks := func(want string) {
		g.T.Helper()
		if got := g.On(host, "cat /usr/share/tides-*/clock"); got != want {
			g.T.Errorf("there are clocks of %q, wanted %q", got, want)
		}
	}
	clocks("i386\n")
	g.NothingToDo()
	g.On(host, "apt-get -y -q install tide-clock:amd64 >/dev/null; apt-get -y -q purge tide-clock:i386 >/dev/null")
	clocks("amd64\n")
	if got := g.Survey(host)["package/tide-clock:i386"]; got.Standing != plan.Shifted {
		g.T.Errorf("with that of the host's own architecture alone it is %+v", got)
	}
	g.Ns(0, "restore", g.Name, "--yes")
	clocks("amd64\ni386\n")
}

// What is wrong with a source is told apart, and nothing of it stays.
func TestASourceThatIsOfNoUse(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, "[kit.base]\n[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\n")
	from := sourcesOf(t, stage.DebSource, "1.0-1")
	g.Beside("files/ferries.asc", from.key)
	g.Trust()
	host := g.Hosts[0]
	before := g.On(host, "find /etc/apt -type f | sort")
	for _, c := range []struct{ what, url, key, want string }{
		{"another key", from.url, from.other, "signed with another key than the one declared"},
		{"an expired key", from.oldURL, from.expired, "its signing key has expired"},
		{"nobody there", "http://" + stage.Lab().Here() + ":1/x", from.key, "it cannot be reached"},
		{"no such place", from.url + "/nowhere", from.key, "there is no such source at its URL"},
	} {
		g.Beside("files/ferries.asc", c.key)
		versions(g, c.url, "")
		if h := g.Apply(2).Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.What, c.want) {
			t.Errorf("%s: the host ended %s: %s: %s", c.what, h.State, h.Fault.What, h.Fault.Output)
		}
		if after := g.On(host, "find /etc/apt -type f | sort"); after != before {
			t.Errorf("%s: left behind\n%s", c.what, stage.Difference(before, after))
		}
	}
	if row := g.Survey(host)["source/ferries"]; row.Standing != plan.Due {
		t.Errorf("a source that is of no use is %s", row.Standing)
	}
}

// Of a repository in the other family's form the same is told apart, whether its lists
// are signed or its packages alone.
func TestASignedRepository(t *testing.T) {
	t.Parallel()
	const site = "[site.timetable]\non = [\"h*\"]\nserver = \"httpd\"\nnames = [\"timetable.saltmarsh.test\"]\n"
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.RedHat}, "[kit.base]\n"+site)
	from := sourcesOf(t, func(t testing.TB, dir, gpg, options string, versions ...string) {
		stage.RpmThatFails(t, dir, "0.9", "%post")
		stage.RpmSource(t, dir, gpg, options, versions...)
	}, "1.0", "1.1", "2.0")
	g.Beside("files/ferries.asc", from.key)
	g.Trust()
	host := g.Hosts[0]
	files := "find /etc/yum.repos.d /etc/pki -type f | sort; rpm -q tide-tables || true"
	declared := func(url, key, signed, want string) {
		t.Helper()
		g.Beside("files/ferries.asc", key)
		g.DeclareText(fmt.Sprintf("[kit.base]\n[kit.base.source.ferries]\nurl = %q\nkey = \"files/ferries.asc\"\nsigned_lists = %s\n[kit.base.package.tide-tables]\n%s\n", url, signed, want) + site)
		g.Ns(0, "declare", g.Dir)
	}
	declared(from.url, from.key, "true", `version = "1.1"`)
	g.Apply(0)
	if got := strings.TrimSpace(g.On(host, "cat /usr/share/tides/version")); got != "1.1-1" {
		t.Errorf("installed is %s", got)
	}
	g.NothingToDo()
	g.HandEdits(host, []stage.Edit{
		{"package/tide-tables", "version", "dnf -y -q upgrade tide-tables >/dev/null 2>&1"},
		{"package/tide-tables", "state", "rpm -e tide-tables"},
		{"source/ferries", "text of /etc/yum.repos.d", "echo mine > /etc/pki/rpm-gpg/northstake-ferries; sed -i s/enabled=1/enabled=0/ /etc/yum.repos.d/northstake-ferries.repo"},
	})

	// What came along with another stays marked so.
	g.On(host, "dnf -y -q mark remove tide-tables")
	declared(from.url, from.key, "true", `is = "newest"`)
	g.Apply(0)
	if got := g.On(host, "rpm -q --qf '%{VERSION} ' tide-tables; dnf -q -C repoquery --installed --qf '%{reason}' tide-tables"); strings.TrimSpace(got) == "" || strings.HasPrefix(got, "1.1 ") || !strings.Contains(got, "dependency") {
		t.Errorf("another version of it is %s", got)
	}
	g.On(host, "rpm -e tide-tables; rm -f /etc/yum.repos.d/northstake-ferries.repo /etc/pki/rpm-gpg/northstake-ferries; dnf -q clean all; for k in $(rpm -q gpg-pubkey || true); do rpm -e $k || true; done")
	before := g.On(host, files)
	for _, c := range []struct{ what, url, key, signed, want string }{
		{"lists with another key", from.url, from.other, "true", "signed with another key than the one declared"},
		{"packages with another key", from.url, from.other, "false", "signed with another key than the one declared"},
		{"lists with an expired key", from.oldURL, from.expired, "true", "its signing key has expired"},
		{"nobody there, and an expired key", "http://" + stage.Lab().Here() + ":1/x", from.expired, "true", "it cannot be reached"},
		{"no such place", from.url + "/nowhere", from.key, "true", "there is no such source at its URL"},
	} {
		declared(c.url, c.key, c.signed, "")
		h := g.ApplyPlan(2, g.Plan(1).Id).Hosts[0]
		if h.State != "back" || !strings.Contains(h.Fault.What, c.want) {
			t.Errorf("%s: the host ended %s: %s: %s", c.what, h.State, h.Fault.What, h.Fault.Output)
		}
		if after := g.On(host, files); after != before {
			t.Errorf("%s: left behind\n%s", c.what, stage.Difference(before, after))
		}
	}
	// A package whose script fails once it is unpacked is not installed (M10).
	declared(from.url, from.key, "true", `version = "0.9"`)
	if h := g.ApplyPlan(2, g.Plan(1).Id).Hosts[0]; h.State != "back" || !strings.Contains(h.Fault.What, "could not install") || !strings.Contains(h.Fault.Output, "no tide") || !strings.Contains(h.Fault.Output, "Error in POSTIN scriptlet in rpm package tide-tables") {
		t.Errorf("the host ended %s: %s: %s", h.State, h.Fault.What, h.Fault.Output)
	}
	if after := g.On(host, files); after != before {
		t.Errorf("after a script that failed there is\n%s", stage.Difference(before, after))
	}
}

// Packages that a host has no room for are said to be that before anything is done,
// with what they take; with room they are installed.
func TestPackagesThatThereIsNoRoomFor(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian, lab.RedHat}, "[kit.base]\npackages = [\"nginx\", \"curl\"]\n")
	g.Trust()
	var wg sync.WaitGroup
	errs := make([]error, len(g.Hosts))
	for i, host := range g.Hosts {
		wg.Go(func() { errs[i] = stage.Lab().Shrink(context.Background(), host, "/usr", 200<<10) })
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		t.Fatal(err)
	}
	g.On(g.Hosts[0], "apt-get update -q >/dev/null 2>&1")
	g.On(g.Hosts[1], "dnf -q makecache")
	p := g.Plan(2)
	out := strings.Join(strings.Fields(g.Ns(2, "plan", g.Name)), " ")
	for i, h := range p.Hosts {
		if i := slices.IndexFunc(h.Steps, func(s contract.Step) bool { return s.Type == "package" }); i >= 0 {
			t.Errorf("host %s has step %q", h.Name, h.Steps[i].Text)
		}
		said := regexp.MustCompile(g.Hosts[i] + `/package/nginx: /usr has [\d.]+ KB free, and the packages of this plan take [\d.]+ [KM]B with all that they bring along`)
		if !said.MatchString(out) {
			t.Errorf("the plan does not say %s:\n%s", said, out)
		}
	}
	for _, host := range g.Hosts {
		if err := stage.Lab().Grow(context.Background(), host, "/usr"); err != nil {
			t.Fatal(err)
		}
	}
	g.Apply(0)
	for _, host := range g.Hosts {
		g.On(host, "nginx -v && curl --version")
	}
}

// An installation that fails is taken back whole: what came goes with its configuration, and
// the configuration that a package of somebody's had left is there as it was.
func TestAFailedInstallationLeavesNothing(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	dir, url := stage.Served(t)
	gpg, public := stage.SigningKey(t, "Tides <tides@saltmarsh.test>", "never", "")
	stage.DebThatFails(t, dir, "9.0-1")
	stage.DebSource(t, dir, gpg, "", "1.0-1")
	g.Beside("files/ferries.asc", public)
	g.Trust()
	host := g.Hosts[0]
	tides := func(version, packages string) {
		t.Helper()
		g.DeclareText("# instead of [site.timetable]\n[kit.base]\npackages = [" + packages + "]\nsource.ferries = { url = \"" + url + "\", key = \"files/ferries.asc\" }\npackage.tide-tables = { version = \"" + version + "\" }\n")
		g.Ns(0, "declare", g.Dir)
	}
	tides("1.0", "")
	g.Apply(0)
	g.On(host, "apt-get -y -q install cron apache2 >/dev/null; echo '# mine' >> /etc/default/cron; echo '# mine' >> /etc/apache2/apache2.conf; apt-get -y -q remove cron apache2 apache2-bin >/dev/null")
	look := "dpkg-query -W -f '${Package} ${db:Status-Abbrev}${Version}\\n' | sort; find /etc/apache2 /etc/default -type f -exec sha256sum {} + 2>/dev/null || true"
	before := g.On(host, look)
	tides("9.0", `"apache2", "cron"`)
	r := g.Apply(2)
	if st := r.Hosts[0].State; st != "back" {
		t.Errorf("the host is %s: %+v", st, r.Hosts[0].Fault)
	}
	if after := g.On(host, look); after != before {
		t.Errorf("taken back it has\n%s", stage.Difference(before, after))
	}
}

// A step that was cut off takes no packages of others along when it is taken back later: what has come
// or changed since it began is left, and said (A5).
func TestOthersPackagesAreLeft(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian}, "# instead of [site.timetable]\n[kit.base]\npackages = [\"cron\"]\n")
	host := g.Hosts[0]
	g.Trust()
	p := g.Plan(1)
	g.Hold(host, 1, "begun")
	run := g.StartRun(p.Id)
	g.Reached(host, 1, "begun")
	g.On(host, "DEBIAN_FRONTEND=noninteractive apt-get install -y -q tree >/dev/null")
	stage.KillRod(g, host)
	g.Unhold(host)
	stage.ResumeByHand(g, run)
	r := g.Ended(run)
	if h := r.Hosts[0]; r.State != "done" || !strings.Contains(strings.Join(h.Notes, "\n"), "left as they are, since nobody knows which of them the step has changed: tree") {
		t.Errorf("the run is %s: %q", r.State, h.Notes)
	}
	if out := g.On(host, "dpkg-query -W -f '${db:Status-Status} ' tree cron"); strings.TrimSpace(out) != "installed installed" {
		t.Errorf("tree and cron are %s", out)
	}
	// One that fails by itself is taken back at once, and takes along what it brought and nothing else.
	g.DeclareText("# instead of [site.timetable]\n[kit.base]\npackages = [\"cron\", \"rsync\"]\n[kit.base.file.\"/srv/notice\"]\ntext = \"x\"\n[kit.base.service]\ncron = { running = true }\n")
	g.Ns(0, "declare", g.Dir)
	p = g.Plan(1)
	last := p.Hosts[0].Steps[len(p.Hosts[0].Steps)-1].Number
	g.Hold(host, last, "before")
	run = g.StartRun(p.Id)
	g.Reached(host, last, "before")
	g.On(host, "DEBIAN_FRONTEND=noninteractive apt-get install -y -q curl >/dev/null")
	if status, body := g.Post(fmt.Sprintf("/grounds/%s/runs/%d/cancel", g.Name, run), ""); status != 202 {
		t.Fatalf("%d %s", status, body)
	}
	g.Unhold(host)
	if r := g.Ended(run); r.State != "cancelled" {
		t.Errorf("the run is %s: %+v", r.State, r.Hosts)
	}
	if out := g.On(host, "dpkg-query -W -f '${Package} ${db:Status-Status}\n' curl rsync 2>/dev/null || true"); !strings.Contains(out, "curl installed") || strings.Contains(out, "rsync installed") {
		t.Errorf("there is\n%s", out)
	}
}
