package family

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
)

// Package is one record of a package manager. State is "installed", or another
// word of the manager for what is not whole, such as "config-files" or
// "half-configured" (dpkg(1)).
type Package struct {
	State   string
	Version string
	Held    bool // somebody keeps it at its version
}

// There says whether something of the package is on the machine beside its
// configuration.
func (p Package) There() bool {
	return p.State != "" && p.State != "not-installed" && p.State != wire.PackageConfigured
}

// Upgrade is a package of which there is a newer version. From is "" for one that
// comes with others.
type Upgrade struct{ Name, From, To string }

// Need is the room that an installation takes, in bytes: what is fetched for it, and
// what is installed.
type Need struct{ Fetched, Installed int64 }

// PackageManager installs and removes packages without questions. Another
// holder of its lock is waited for.
type PackageManager interface {
	Name() string
	// Installed reads the manager's records.
	Installed(ctx context.Context) (map[string]Package, error)
	// Offers asks which versions of packages the sources offer, of each the one
	// that would be installed first; a package that none offers is left out.
	Offers(ctx context.Context, names []string) (map[string][]string, error)
	// Offered lists the names of all packages that the sources offer.
	Offered(ctx context.Context) ([]string, error)
	// Providers are the packages that the sources offer, or that are installed, for a name that is none of
	// their own: a virtual package, in the Debian family.
	Providers(ctx context.Context, name string) ([]string, error)
	// Compare orders two versions: below 0 when a is older than b.
	Compare(a, b string) int
	// ListsAt is when the lists of what the sources offer were last read, zero
	// when there are none.
	ListsAt() time.Time
	// Refresh reads the lists anew.
	Refresh(ctx context.Context) error
	// Upgrades lists the installed packages of which the sources offer a newer
	// version, by name.
	Upgrades(ctx context.Context) ([]Upgrade, error)
	// Sources says where extra sources are declared, and reads the lists of one.
	Sources() SourceForm
	// Disabled lists the sources that are switched off.
	Disabled() []string
	// Brought says whether a configuration file that a package brings has the text that came
	// with it; known is false of files that no package brings.
	Brought(ctx context.Context, path string, text []byte) (same, known bool, err error)
	// Install installs packages by name, each in the version given, "" for the one
	// that the sources offer first.
	Install(ctx context.Context, versions map[string]string) error
	// Needs asks how much room Install of the same would take, with what the packages
	// bring along.
	Needs(ctx context.Context, versions map[string]string) (Need, error)
	// InstallVersions installs packages in exactly these versions, older ones
	// included.
	InstallVersions(ctx context.Context, versions map[string]string) error
	// InstallAgain installs packages that are there, or half there, once more, in these versions.
	InstallAgain(ctx context.Context, versions map[string]string) error
	// Files lists the programs, shared libraries and units that a package has brought (kept), but
	// with rpm for what that was told to leave out.
	Files(ctx context.Context, name string) ([]string, error)
	// Purge removes packages with their configuration.
	Purge(ctx context.Context, names []string) error
	// Remove removes packages and keeps their configuration.
	Remove(ctx context.Context, names []string) error
	// WouldRemove lists what Remove of a package would remove beside it, sorted.
	WouldRemove(ctx context.Context, name string) ([]string, error)
	// WouldOrphan lists the packages that came along with others, and that nothing would need
	// any more if a package were removed, sorted.
	WouldOrphan(ctx context.Context, name string) ([]string, error)
	// WouldInstall says what would be removed if packages were installed in these
	// versions, sorted, older ones included with change; refused is why the manager would
	// not, "" where it would.
	WouldInstall(ctx context.Context, versions map[string]string, change bool) (removed []string, refused string, err error)
	// NeededBy lists the installed packages that need one, sorted.
	NeededBy(ctx context.Context, name string) ([]string, error)
	// Services lists the services that a package has brought, sorted.
	Services(ctx context.Context, name string) ([]string, error)
	// Finish carries on with what an interrupted installation left undone.
	Finish(ctx context.Context) error
	// Locks are the files by which the manager keeps others out.
	Locks() []string
}

// kept says whether a path that a package brings is a program's, a shared library's or a unit's: the rest is
// anybody's to take out, pages and documentation, or parts that a program changes itself as it is kept up to date.
func kept(p string) bool {
	dir, name := path.Split(strings.TrimPrefix(strings.TrimPrefix(p, "/"), "usr/"))
	switch {
	case dir == "bin/" || dir == "sbin/" || strings.HasPrefix(dir, "lib/systemd/system/"):
		return true
	}
	return strings.HasPrefix(dir, "lib") && (strings.HasSuffix(name, ".so") || strings.Contains(name, ".so."))
}

// Lacks lists files of a package that are not there any more, sorted, 100 at most.
func Lacks(ctx context.Context, m *system.Machine, manager PackageManager, name string) ([]string, error) {
	files, err := manager.Files(ctx, name)
	var out []string
	for _, f := range files {
		if _, err := os.Lstat(m.Path(wire.Path(f))); errors.Is(err, fs.ErrNotExist) && len(out) < 100 {
			out = append(out, f)
		}
	}
	slices.Sort(out)
	return out, err
}

// refreshed is a file whose time is when North Stake last had the lists read.
func refreshed(m *system.Machine) string { return m.State("lists-read") }

// noteRefreshed notes that the lists have just been read.
func noteRefreshed(m *system.Machine) error {
	if err := os.MkdirAll(m.State(), 0o700); err != nil {
		return err
	}
	return os.WriteFile(refreshed(m), nil, 0o600)
}

// newestTime is the newest change of some files and of those in the directories
// among them, zero when none is there.
func newestTime(paths ...string) time.Time {
	var newest time.Time
	for _, p := range paths {
		if s, err := os.Stat(p); err == nil && s.ModTime().After(newest) {
			newest = s.ModTime()
		}
	}
	return newest
}

// atVersions writes packages with the versions that they are to have.
func atVersions(versions map[string]string, between string) []string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(versions)) {
		if versions[name] != "" {
			name += between + versions[name]
		}
		out = append(out, name)
	}
	return out
}

var packageManagers = map[string]func(*system.Machine) PackageManager{
	"apt": func(m *system.Machine) PackageManager { return apt{m} },
	"dnf": func(m *system.Machine) PackageManager { return dnf{m} },
}

// PackageManager is the family's, for one machine.
func (f *Family) PackageManager(m *system.Machine) PackageManager {
	return packageManagers[f.Packages](m)
}

// servicesIn are the services of some unit files.
func servicesIn(files string) []string {
	var out []string
	for _, f := range strings.Split(files, "\n") {
		dir, name := path.Split(strings.TrimSpace(f))
		if service, ok := strings.CutSuffix(name, ".service"); ok && strings.HasSuffix(dir, "/systemd/system/") && !slices.Contains(out, service) {
			out = append(out, service)
		}
	}
	slices.Sort(out)
	return out
}

// Broken lists packages that are neither installed nor gone.
func Broken(all map[string]Package) []string {
	var out []string
	for name, p := range all {
		if p.There() && p.State != wire.PackageInstalled {
			out = append(out, name+" ("+p.State+")")
		}
	}
	return out
}

// LockHolder is the program that holds one of the locks, in words such as
// "apt-get (process 412)"; "" when none does.
func LockHolder(m *system.Machine, locks []string) string {
	for _, lock := range locks {
		pid := fcntlHolder(m.Path(wire.Path(lock)))
		if pid == 0 {
			pid = writtenHolder(m.Path(wire.Path(lock)))
		}
		if pid == 0 || pid == os.Getpid() {
			continue
		}
		name := "another program"
		if b, err := os.ReadFile(m.Path(wire.Path("/proc/" + strconv.Itoa(pid) + "/comm"))); err == nil {
			name = strings.TrimSpace(string(b))
		}
		return fmt.Sprintf("%s (process %d)", name, pid)
	}
	return ""
}

// fcntlHolder asks the kernel whose record lock is on a file (fcntl(2), F_GETLK).
func fcntlHolder(path string) int {
	fd, err := unix.Open(path, unix.O_RDWR|unix.O_CLOEXEC|unix.O_NOFOLLOW, 0)
	if err != nil {
		return 0
	}
	defer unix.Close(fd)
	l := unix.Flock_t{Type: unix.F_WRLCK}
	if unix.FcntlFlock(uintptr(fd), unix.F_GETLK, &l) != nil || l.Type == unix.F_UNLCK {
		return 0
	}
	return int(l.Pid)
}

// writtenHolder reads a lock file that holds the process id of a program that
// still runs.
func writtenHolder(path string) int {
	b, err := os.ReadFile(path)
	if err != nil || len(b) > 20 {
		return 0
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil || pid <= 1 || syscall.Kill(pid, 0) != nil {
		return 0
	}
	return pid
}

// amount reads a number with a unit as package managers write it, "1,234 kB" or
// "1.2 M"; thousand is what the units are powers of.
func amount(number, unit string, thousand float64) int64 {
	n, err := strconv.ParseFloat(strings.ReplaceAll(number, ",", ""), 64)
	if err != nil || n < 0 {
		return 0
	}
	unit = strings.ToUpper(strings.TrimSuffix(unit, "B"))
	if power := strings.Index(" KMGT", unit); unit != "" && power > 0 {
		n *= math.Pow(thousand, float64(power))
	}
	return int64(min(n, 1<<60))
}

// without is a list but for some of it.
func without(list, but []string) []string {
	return slices.DeleteFunc(list, func(n string) bool { return slices.Contains(but, n) })
}

// ScriptFailed says that a package lies on the host, and that a script failed which it runs once it is
// unpacked. Output is what was said.
type ScriptFailed struct{ Output string }

func (f *ScriptFailed) Error() string { return f.Output }
