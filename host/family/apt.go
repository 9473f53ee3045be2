package family

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	debversion "github.com/knqyf263/go-deb-version"

	"northstake/core/wire"
	"northstake/host/system"
)

// apt is the package manager of the Debian family (apt-get(8), dpkg(1)).
type apt struct{ m *system.Machine }

func (apt) Name() string { return "apt" }

func (apt) Locks() []string {
	return []string{"/var/lib/dpkg/lock-frontend", "/var/lib/dpkg/lock", "/var/lib/apt/lists/lock"}
}

// listsDir is where apt keeps what the sources offer.
const listsDir = "/var/lib/apt/lists"

// offersKey changes with what the sources offer and with what is installed.
func (a apt) offersKey() string {
	key := a.m.FileKey(listsDir, dpkgStatus, "/etc/apt")
	if key == "" {
		return ""
	}
	for _, p := range []string{"/etc/apt/preferences", "/etc/apt/preferences.d", "/etc/apt/sources.list", "/etc/apt/sources.list.d"} {
		key += a.m.FileKey(wire.Path(p))
	}
	return key
}

func (a apt) Offers(ctx context.Context, names []string) (map[string][]string, error) {
	taken, err := a.m.Read("/var/lib/dpkg/arch") // there where dpkg takes packages of other architectures
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read which architectures dpkg takes: %w", err)
	}
	names = slices.DeleteFunc(slices.Clone(names), func(n string) bool {
		_, arch, other := strings.Cut(n, ":")
		return other && !slices.Contains(strings.Fields(string(taken)), arch)
	})
	if len(names) == 0 {
		return nil, nil
	}
	return system.Cached(a.m, "offers "+strings.Join(names, " "), a.offersKey(), func() (map[string][]string, error) {
		b, err := a.m.Run(ctx, nil, "apt-cache", append([]string{"policy", "--"}, names...)...)
		var failed *system.Failed
		if errors.As(err, &failed) {
			return map[string][]string{}, nil
		}
		return ParsePolicy(b), err
	})
}

// ParsePolicy reads what apt-cache(8) says of packages: of each the versions that a
// source offers, the one that would be installed first.
func ParsePolicy(b []byte) map[string][]string {
	out := map[string][]string{}
	name, version, candidate := "", "", ""
	table := false
	for _, line := range strings.Split(string(b), "\n") {
		words := strings.Fields(strings.TrimPrefix(strings.TrimSpace(line), "*** "))
		switch {
		case len(words) == 0:
		case line[0] != ' ':
			name, version, candidate, table = strings.TrimSuffix(line, ":"), "", "", false
		case words[0] == "Candidate:" && len(words) > 1:
			candidate = words[1]
		case words[0] == "Version" && len(words) == 2:
			table = true
		case table && len(words) == 2:
			version = words[0]
		case table && len(words) > 2 && version != "" && words[1] != dpkgStatus && !slices.Contains(out[name], version):
			if version == candidate {
				out[name] = append([]string{version}, out[name]...)
			} else {
				out[name] = append(out[name], version)
			}
		}
	}
	return out
}

func (a apt) Offered(ctx context.Context) ([]string, error) {
	return system.Cached(a.m, "offered", a.offersKey(), func() ([]string, error) {
		b, err := a.m.Run(ctx, nil, "apt-cache", "pkgnames")
		return strings.Fields(string(b)), err
	})
}

func (a apt) Providers(ctx context.Context, name string) ([]string, error) {
	b, err := a.m.Run(ctx, nil, "apt-cache", "showpkg", "--", name)
	var failed *system.Failed
	if errors.As(err, &failed) {
		return nil, nil
	}
	return ParseProviders(b), err
}

// ParseProviders reads what apt-cache(8) says of a name by showpkg: the packages that provide it, sorted.
func ParseProviders(b []byte) []string {
	_, list, _ := strings.Cut(string(b), "\nReverse Provides:")
	var out []string
	for line := range strings.Lines(list) {
		if words := strings.Fields(line); len(words) > 1 && !slices.Contains(out, words[0]) {
			out = append(out, words[0])
		}
	}
	slices.Sort(out)
	return out
}

func (apt) Compare(a, b string) int {
	x, err := debversion.NewVersion(a)
	y, err2 := debversion.NewVersion(b)
	if err != nil || err2 != nil {
		return strings.Compare(a, b)
	}
	return x.Compare(y)
}

func (a apt) ListsAt() time.Time {
	lists, err := filepath.Glob(a.m.Path(listsDir + "/*Packages*"))
	if err != nil || len(lists) == 0 {
		return time.Time{}
	}
	// A list has the time that its server gives it; the directory that of the reading.
	return newestTime(a.m.Path(listsDir), a.m.Path(listsDir+"/partial"), refreshed(a.m))
}

func (a apt) Refresh(ctx context.Context) error {
	if err := a.run(ctx, "update", "-o", "APT::Update::Error-Mode=any"); err != nil {
		return err
	}
	return noteRefreshed(a.m)
}

var aptArgs = []string{"-y", "-q", "-o", "DPkg::Lock::Timeout=120", "-o", "Dpkg::Options::=--force-confdef",
	"-o", "Dpkg::Options::=--force-confold", "-o", "APT::Get::Assume-Yes=true", "-o", "Dpkg::Use-Pty=0"}

// run runs apt-get without questions; another holder of dpkg's lock is waited
// for, two minutes.
func (a apt) run(ctx context.Context, args ...string) error {
	_, err := a.m.Run(ctx, nil, "apt-get", append(append([]string{}, aptArgs...), args...)...)
	return err
}

func (a apt) Install(ctx context.Context, versions map[string]string) error {
	return a.run(ctx, append([]string{"install", "--"}, atVersions(versions, "=")...)...)
}

// WouldInstall asks apt-get(8) -s, which changes nothing.
func (a apt) WouldInstall(ctx context.Context, versions map[string]string, change bool) ([]string, string, error) {
	args := append(slices.Clone(aptArgs), "-s")
	if change {
		args = append(args, "--allow-downgrades")
	}
	b, err := a.m.Run(ctx, nil, "apt-get", append(append(args, "install", "--"), atVersions(versions, "=")...)...)
	var failed *system.Failed
	if errors.As(err, &failed) {
		return nil, aptRefusal(failed.Printed + "\n" + failed.Output), nil
	}
	return removedIn(b, ""), "", err
}

// aptRefusal is why apt-get(8) would not do something: what it says of packages, else its
// errors.
func aptRefusal(said string) string {
	var reasons, errs []string
	inReasons := false
	for _, line := range strings.Split(said, "\n") {
		switch {
		case strings.HasPrefix(line, "The following packages have unmet dependencies"):
			inReasons = true
		case strings.HasPrefix(line, "E: "):
			inReasons = false
			errs = append(errs, strings.TrimPrefix(line, "E: "))
		case inReasons && strings.HasPrefix(line, " "):
			reasons = append(reasons, strings.Join(strings.Fields(line), " "))
		}
	}
	if len(reasons) == 0 {
		reasons = errs
	}
	return strings.Join(reasons, "; ")
}

func (a apt) NeededBy(ctx context.Context, name string) ([]string, error) {
	b, err := a.m.Run(ctx, nil, "apt-cache", "--installed", "--important", "rdepends", name)
	if err != nil {
		return nil, err
	}
	all, err := a.Installed(ctx)
	var out []string
	for _, line := range strings.Split(string(b), "\n") {
		n := strings.Trim(line, " |")
		if strings.HasPrefix(line, " ") && all[n].There() && !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out, err
}

func (a apt) Services(ctx context.Context, name string) ([]string, error) {
	b, err := a.m.Run(ctx, nil, "dpkg-query", "-L", name)
	return servicesIn(string(b)), err
}

// Needs asks apt-get(8), which says it before it would ask whether to go on.
func (a apt) Needs(ctx context.Context, versions map[string]string) (Need, error) {
	b, err := a.m.Run(ctx, nil, "apt-get", append([]string{"-q", "--assume-no", "-o", "Debug::NoLocking=true", "install", "--"}, atVersions(versions, "=")...)...)
	var failed *system.Failed
	if err != nil && !errors.As(err, &failed) {
		return Need{}, err
	}
	return ParseAptNeed(b), nil
}

var (
	aptFetches  = regexp.MustCompile(`(?m)^Need to get ([\d.,]+) ?(\w*)(?:/[\d.,]+ ?\w*)? of archives`)
	aptInstalls = regexp.MustCompile(`(?m)^After this operation, ([\d.,]+) ?(\w*) of additional disk space will be used`)
)

// ParseAptNeed reads what apt-get(8) says of the room that an installation takes,
// "Need to get 58.9 kB/1,234 kB of archives." and "After this operation, 3,456 kB of
// additional disk space will be used."
func ParseAptNeed(b []byte) Need {
	var n Need
	if f := aptFetches.FindSubmatch(b); f != nil {
		n.Fetched = amount(string(f[1]), string(f[2]), 1000)
	}
	if f := aptInstalls.FindSubmatch(b); f != nil {
		n.Installed = amount(string(f[1]), string(f[2]), 1000)
	}
	return n
}

func (a apt) InstallAgain(ctx context.Context, versions map[string]string) error {
	return a.run(ctx, append([]string{"--reinstall", "--allow-downgrades", "install", "--"}, atVersions(versions, "=")...)...)
}

// InstallVersions leaves packages that came along with others marked so.
func (a apt) InstallVersions(ctx context.Context, versions map[string]string) error {
	names := slices.Sorted(maps.Keys(versions))
	came, err := a.m.Run(ctx, nil, "apt-mark", append([]string{"showauto"}, names...)...)
	if err != nil {
		return err
	}
	if err := a.run(ctx, append([]string{"--allow-downgrades", "install", "--"}, atVersions(versions, "=")...)...); err != nil {
		return err
	}
	if auto := strings.Fields(string(came)); len(auto) > 0 {
		_, err = a.m.Run(ctx, nil, "apt-mark", append([]string{"auto"}, auto...)...)
	}
	return err
}

func (a apt) Purge(ctx context.Context, names []string) error {
	return a.run(ctx, append([]string{"purge", "--"}, names...)...)
}

func (a apt) Remove(ctx context.Context, names []string) error {
	return a.run(ctx, append([]string{"remove", "--"}, names...)...)
}

func (a apt) WouldRemove(ctx context.Context, name string) ([]string, error) {
	b, err := a.m.Run(ctx, nil, "apt-get", "-s", "-q", "remove", "--", name)
	if err != nil {
		return nil, err
	}
	return removedIn(b, name), nil
}

func (a apt) WouldOrphan(ctx context.Context, name string) ([]string, error) {
	already, err := a.m.Run(ctx, nil, "apt-get", "-s", "-q", "autoremove")
	if err != nil {
		return nil, err
	}
	with, err := a.WouldRemove(ctx, name)
	if err != nil {
		return nil, err
	}
	b, err := a.m.Run(ctx, nil, "apt-get", "-s", "-q", "--auto-remove", "remove", "--", name)
	return without(removedIn(b, name), append(with, removedIn(already, "")...)), err
}

// removedIn reads what apt-get(8) -s would remove beside a package: lines such as
// "Remv nginx-common [1.22.1-9] [nginx:amd64 ]".
func removedIn(b []byte, besides string) []string {
	var out []string
	for _, line := range strings.Split(string(b), "\n") {
		if f := strings.Fields(line); len(f) > 1 && f[0] == "Remv" && f[1] != besides {
			out = append(out, f[1])
		}
	}
	slices.Sort(out)
	return out
}

func (a apt) Upgrades(ctx context.Context) ([]Upgrade, error) {
	b, err := a.m.Run(ctx, nil, "apt-get", "-s", "-q", "--with-new-pkgs", "upgrade")
	return ParseUpgrades(b), err
}

// ParseUpgrades reads what apt-get(8) -s would install: lines such as
// "Inst nginx [1.22.1-9] (1.22.1-9+deb12u1 Debian:12/stable [amd64])".
func ParseUpgrades(b []byte) []Upgrade {
	var out []Upgrade
	for _, line := range strings.Split(string(b), "\n") {
		f := strings.Fields(line)
		if len(f) < 3 || f[0] != "Inst" {
			continue
		}
		u := Upgrade{Name: f[1]}
		for _, word := range f[2:] {
			if v, ok := strings.CutPrefix(word, "("); ok {
				u.To = strings.TrimSuffix(v, ")")
				break
			}
			u.From = strings.Trim(word, "[]")
		}
		if u.To != "" {
			out = append(out, u)
		}
	}
	slices.SortFunc(out, func(a, b Upgrade) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func (a apt) Finish(ctx context.Context) error {
	if _, err := a.m.Run(ctx, nil, "dpkg", "--force-confdef", "--force-confold", "--configure", "-a"); err != nil {
		return err
	}
	return a.run(ctx, "-f", "install")
}
