package family

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	rpmversion "github.com/knqyf263/go-rpm-version"

	"northstake/core/wire"
	"northstake/host/system"
)

// dnf is the package manager of the Red Hat family (dnf(8), rpm(8)).
type dnf struct{ m *system.Machine }

func (dnf) Name() string { return "dnf" }

func (dnf) Locks() []string {
	return []string{"/var/lib/rpm/.rpm.lock", "/var/cache/dnf/metadata_lock.pid", "/var/cache/dnf/download_lock.pid", "/var/lib/dnf/rpmdb_lock.pid"}
}

// rpmFiles are where rpm keeps its records, by the forms it has had.
var rpmFiles = []string{"/var/lib/rpm", "/usr/lib/sysimage/rpm"}

// recordsKey changes with rpm's records: the database and its journal, which whoever reads the records
// touches, and which counts where something is in it (sqlite.org/walformat.html).
func (d dnf) recordsKey() string {
	for _, dir := range rpmFiles {
		if !d.m.Exists(wire.Path(dir + "/rpmdb.sqlite")) {
			continue
		}
		key := d.m.FileKey(wire.Path(dir + "/rpmdb.sqlite"))
		journal := dir + "/rpmdb.sqlite-wal"
		if s, err := os.Lstat(d.m.Path(wire.Path(journal))); err == nil && s.Size() > 0 {
			key += d.m.FileKey(wire.Path(journal))
		}
		return key
	}
	return ""
}

func (d dnf) Installed(ctx context.Context) (map[string]Package, error) {
	return system.Cached(d.m, "rpm packages", d.recordsKey(), func() (map[string]Package, error) {
		b, err := d.m.Run(ctx, nil, "rpm", "-qa", "--qf", `%{NAME}\t%|EPOCH?{%{EPOCH}:}|%{VERSION}-%{RELEASE}\n`)
		if err != nil {
			return nil, fmt.Errorf("read rpm's records: %w", err)
		}
		return ParseRPM(b), nil
	})
}

// Brought looks a file up in rpm's records, which have the SHA-256 of each.
func (d dnf) Brought(ctx context.Context, path string, text []byte) (same, known bool, err error) {
	sums, err := system.Cached(d.m, "rpm files with "+path, d.recordsKey(), func() (string, error) {
		b, err := d.m.Run(ctx, nil, "rpm", "-qf", "--qf", `[%{FILENAMES}\t%{FILEDIGESTS}\n]`, path)
		var failed *system.Failed
		if errors.As(err, &failed) {
			return "", nil // no package brings it
		}
		return "\n" + string(b), err
	})
	if err != nil {
		return false, false, fmt.Errorf("read rpm's records: %w", err)
	}
	_, line, known := strings.Cut(sums, "\n"+path+"\t")
	line, _, _ = strings.Cut(line, "\n")
	sum := sha256.Sum256(text)
	return known && line == hex.EncodeToString(sum[:]), known, nil
}

// ParseRPM reads lines of a name, a tab and a version.
func ParseRPM(b []byte) map[string]Package {
	out := map[string]Package{}
	for _, line := range strings.Split(string(b), "\n") {
		name, version, ok := strings.Cut(line, "\t")
		if ok && name != "" && name != "gpg-pubkey" {
			out[name] = Package{State: wire.PackageInstalled, Version: version}
		}
	}
	return out
}

const dnfCache = "/var/cache/dnf"

// look asks dnf something without changing what it keeps: from its own cache
// where it has one, else with one of North Stake's.
func (d dnf) look(ctx context.Context, args ...string) ([]byte, error) {
	if !d.ListsAt().IsZero() {
		b, err := d.m.Run(ctx, nil, "dnf", append([]string{"-q", "-C"}, args...)...)
		var failed *system.Failed
		if !errors.As(err, &failed) {
			return b, err
		}
	}
	return d.m.Run(ctx, nil, "dnf", append([]string{"-q", "--setopt=cachedir=" + d.m.State("cache", "dnf")}, args...)...)
}

// offersKey changes with what the sources offer and with what is installed.
func (d dnf) offersKey() string {
	key := d.m.FileKey("/etc/yum.repos.d")
	if key == "" || d.recordsKey() == "" {
		return ""
	}
	files, err := filepath.Glob(d.m.Path(dnfCache + "/*.solv"))
	if err != nil {
		return ""
	}
	for _, f := range files {
		if s, err := os.Stat(f); err == nil {
			key += fmt.Sprint(f, s.ModTime(), s.Size())
		}
	}
	return key + d.recordsKey()
}

func (d dnf) Offers(ctx context.Context, names []string) (map[string][]string, error) {
	return system.Cached(d.m, "offers "+strings.Join(names, " "), d.offersKey(), func() (map[string][]string, error) {
		b, err := d.look(ctx, append([]string{"repoquery", "--available", "--showduplicates", "--qf", "%{name}\t%{evr}", "--"}, names...)...)
		var failed *system.Failed
		if err != nil && !errors.As(err, &failed) {
			return nil, err
		}
		out := map[string][]string{}
		for _, line := range strings.Split(string(b), "\n") {
			name, version, ok := strings.Cut(line, "\t")
			if ok && !slices.Contains(out[name], version) {
				out[name] = append(out[name], version)
			}
		}
		for _, list := range out {
			slices.SortFunc(list, func(a, b string) int { return d.Compare(b, a) })
		}
		return out, nil
	})
}

func (d dnf) Offered(ctx context.Context) ([]string, error) {
	return system.Cached(d.m, "offered", d.offersKey(), func() ([]string, error) {
		b, err := d.look(ctx, "repoquery", "--available", "--qf", "%{name}", "*")
		return strings.Fields(string(b)), err
	})
}

func (d dnf) Providers(ctx context.Context, name string) ([]string, error) {
	return system.Cached(d.m, "providers of "+name, d.offersKey(), func() ([]string, error) {
		b, err := d.look(ctx, "repoquery", "--available", "--qf", "%{name}", "--whatprovides", name)
		var failed *system.Failed
		if errors.As(err, &failed) {
			return nil, nil
		}
		names := strings.Fields(string(b))
		slices.Sort(names)
		return slices.Compact(names), err
	})
}

func (dnf) Compare(a, b string) int {
	return rpmversion.NewVersion(a).Compare(rpmversion.NewVersion(b))
}

func (d dnf) ListsAt() time.Time {
	lists, err := filepath.Glob(d.m.Path(dnfCache + "/*.solv"))
	if err != nil || len(lists) == 0 {
		return time.Time{}
	}
	return newestTime(append(lists, refreshed(d.m))...)
}

func (d dnf) Refresh(ctx context.Context) error {
	if err := d.run(ctx, "--refresh", "makecache"); err != nil {
		return err
	}
	return noteRefreshed(d.m)
}

// run runs dnf without questions; it waits for other holders of its locks by
// itself.
func (d dnf) run(ctx context.Context, args ...string) error {
	_, err := d.m.Run(ctx, nil, "dnf", append([]string{"-y", "-q"}, args...)...)
	return err
}

func (d dnf) Install(ctx context.Context, versions map[string]string) error {
	return d.install(ctx, append([]string{"install", "--"}, atVersions(versions, "-")...)...)
}

func (d dnf) InstallAgain(ctx context.Context, versions map[string]string) error {
	return d.install(ctx, append([]string{"reinstall", "--"}, atVersions(versions, "-")...)...)
}

// Files asks rpm for the package's files, but for those that it only knows of, and those it was told to leave out.
func (d dnf) Files(ctx context.Context, name string) ([]string, error) {
	return system.Cached(d.m, "files of "+name, d.recordsKey(), func() ([]string, error) {
		b, err := d.m.Run(ctx, nil, "rpm", "-q", "--qf", `[%{FILEFLAGS:fflags}\t%{FILESTATES}\t%{FILENAMES}\n]`, "--", name)
		if err != nil {
			return nil, fmt.Errorf("read rpm's list of the files of %s: %w", name, err)
		}
		return ParseRPMList(b), nil
	})
}

// ParseRPMList reads lines of a file's flags, its state (0 where it was installed) and its path.
func ParseRPMList(b []byte) []string {
	var out []string
	for _, line := range strings.Split(string(b), "\n") {
		f := strings.SplitN(line, "\t", 3)
		if len(f) == 3 && !strings.Contains(f[0], "g") && f[1] == "0" && kept(f[2]) {
			out = append(out, f[2])
		}
	}
	return out
}

// install is run for what installs. dnf calls it a success when a script fails that a package runs once
// it is unpacked: that, and what the script said, stands in its log.
func (d dnf) install(ctx context.Context, args ...string) error {
	log := d.m.Path("/var/log/dnf.rpm.log")
	from := int64(0)
	if s, err := os.Stat(log); err == nil {
		from = s.Size()
	}
	if err := d.run(ctx, args...); err != nil {
		return err
	}
	f, err := os.Open(log)
	if err != nil {
		return nil // it keeps none
	}
	defer f.Close()
	said, err := io.ReadAll(io.NewSectionReader(f, from, 64<<10))
	if err != nil {
		return fmt.Errorf("read dnf's log: %w", err)
	}
	if scriptFailed.Match(said) {
		return &ScriptFailed{string(said)}
	}
	return nil
}

// scriptFailed is how dnf tells of it (dnf/yum/rpmtrans.py).
var scriptFailed = regexp.MustCompile(`(?m) Error in (?:PREIN|POSTIN|POSTTRANS|TRIGGERIN|TRIGGERPREIN) scriptlet in rpm package `)

// Needs asks dnf(8), which says it before it would ask whether to go on.
func (d dnf) Needs(ctx context.Context, versions map[string]string) (Need, error) {
	b, err := d.m.Run(ctx, nil, "dnf", append([]string{"-C", "--assumeno", "install", "--"}, atVersions(versions, "-")...)...)
	var failed *system.Failed
	if err != nil && !errors.As(err, &failed) {
		return Need{}, err
	}
	return ParseDnfNeed(b), nil
}

var (
	dnfFetches  = regexp.MustCompile(`(?m)^Total download size: ([\d.]+) ?(\w*)`)
	dnfInstalls = regexp.MustCompile(`(?m)^Installed size: ([\d.]+) ?(\w*)`)
)

// ParseDnfNeed reads what dnf(8) says of the room that an installation takes, "Total
// download size: 1.2 M" and "Installed size: 3.4 M".
func ParseDnfNeed(b []byte) Need {
	var n Need
	if f := dnfFetches.FindSubmatch(b); f != nil {
		n.Fetched = amount(string(f[1]), string(f[2]), 1024)
	}
	if f := dnfInstalls.FindSubmatch(b); f != nil {
		n.Installed = amount(string(f[1]), string(f[2]), 1024)
	}
	return n
}

// InstallVersions leaves packages that came along with others marked so.
func (d dnf) InstallVersions(ctx context.Context, versions map[string]string) error {
	names := slices.Sorted(maps.Keys(versions))
	b, err := d.look(ctx, append([]string{"repoquery", "--installed", "--qf", "%{name} %{reason}", "--"}, names...)...)
	var failed *system.Failed
	if err != nil && !errors.As(err, &failed) {
		return err
	}
	if err := d.install(ctx, append([]string{"--allowerasing", "install", "--"}, atVersions(versions, "-")...)...); err != nil {
		return err
	}
	var came []string
	for _, line := range strings.Split(string(b), "\n") {
		if name, reason, ok := strings.Cut(line, " "); ok && strings.HasSuffix(reason, "dependency") {
			came = append(came, name)
		}
	}
	if len(came) == 0 {
		return nil
	}
	return d.run(ctx, append([]string{"mark", "remove", "--"}, came...)...) // as a dependency, that is
}

// removal keeps dnf from removing what nobody asked for: packages that only the
// removed one needed.
const removal = "--setopt=clean_requirements_on_remove=False"

// Purge is Remove: rpm keeps only configuration that somebody has changed.
func (d dnf) Purge(ctx context.Context, names []string) error { return d.Remove(ctx, names) }

func (d dnf) Remove(ctx context.Context, names []string) error {
	return d.run(ctx, append([]string{removal, "remove", "--"}, names...)...)
}

// WouldRemove asks dnf itself: of what needs the package, some may have it from another.
func (d dnf) WouldRemove(ctx context.Context, name string) ([]string, error) {
	removed, refused, err := d.would(ctx, removal, "remove", "--", name)
	if err == nil && refused != "" {
		err = errors.New(refused)
	}
	return slices.DeleteFunc(removed, func(n string) bool { return n == name }), err
}

func (d dnf) WouldOrphan(ctx context.Context, name string) ([]string, error) {
	with, err := d.WouldRemove(ctx, name)
	if err != nil {
		return nil, err
	}
	removed, refused, err := d.would(ctx, "--setopt=clean_requirements_on_remove=True", "remove", "--", name)
	if err == nil && refused != "" {
		err = errors.New(refused)
	}
	return without(removed, append(with, name)), err
}

func (d dnf) WouldInstall(ctx context.Context, versions map[string]string, change bool) ([]string, string, error) {
	args := []string{"install", "--"}
	if change {
		args = append([]string{"--allowerasing"}, args...)
	}
	return d.would(ctx, append(args, atVersions(versions, "-")...)...)
}

// would asks what dnf would remove, without letting it.
func (d dnf) would(ctx context.Context, args ...string) (removed []string, refused string, err error) {
	from := "-C"
	if d.ListsAt().IsZero() {
		from = "--setopt=cachedir=" + d.m.State("cache", "dnf")
	}
	b, err := d.m.Run(ctx, nil, "dnf", append([]string{from, "--assumeno"}, args...)...)
	var failed *system.Failed
	if err != nil && !errors.As(err, &failed) {
		return nil, "", err
	}
	if failed != nil && !strings.Contains(string(b)+failed.Output, "Operation aborted") {
		return nil, dnfRefusal(failed.Output + "\n" + failed.Printed), nil
	}
	return ParseDnfRemoved(b), "", nil
}

// ParseDnfRemoved reads which packages a transaction would remove from the table that
// dnf(8) shows before it asks.
func ParseDnfRemoved(b []byte) []string {
	var out []string
	removing := false
	for _, line := range strings.Split(string(b), "\n") {
		f := strings.Fields(line)
		switch {
		case len(f) == 0:
		case strings.HasSuffix(line, ":") && line[0] != ' ':
			removing = strings.HasPrefix(line, "Removing")
		case strings.HasPrefix(line, "Transaction Summary"):
			removing = false
		case f[0] == "replacing" && len(f) > 1:
			name := f[1]
			if i := strings.LastIndexByte(name, '.'); i > 0 {
				name = name[:i]
			}
			out = append(out, name)
		case removing && strings.HasPrefix(line, " ") && !strings.HasPrefix(line, "   "):
			out = append(out, f[0])
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// dnfRefusal is why dnf(8) would not do something: its lines about packages.
func dnfRefusal(said string) string {
	var out []string
	for _, line := range strings.Split(said, "\n") {
		text := strings.TrimSpace(line)
		if strings.HasPrefix(text, "- ") || strings.HasPrefix(text, "Problem") || strings.HasPrefix(text, "Error: ") && len(text) > 8 {
			out = append(out, strings.TrimPrefix(strings.TrimPrefix(text, "- "), "Error: "))
		}
	}
	if len(out) == 0 {
		return strings.TrimSpace(said)
	}
	return strings.Join(out, "; ")
}

func (d dnf) NeededBy(ctx context.Context, name string) ([]string, error) {
	b, err := d.m.Run(ctx, nil, "dnf", "-q", "-C", "repoquery", "--installed", "--whatrequires", name, "--qf", "%{name}")
	out := strings.Fields(string(b))
	slices.Sort(out)
	return slices.Compact(out), err
}

func (d dnf) Services(ctx context.Context, name string) ([]string, error) {
	b, err := d.m.Run(ctx, nil, "rpm", "-ql", name)
	return servicesIn(string(b)), err
}

func (d dnf) Upgrades(ctx context.Context) ([]Upgrade, error) {
	b, err := d.look(ctx, "repoquery", "--upgrades", "--latest-limit=1", "--qf", "%{name}\t%{evr}")
	if err != nil {
		return nil, err
	}
	all, err := d.Installed(ctx)
	if err != nil {
		return nil, err
	}
	var out []Upgrade
	for name, p := range ParseRPM(b) {
		out = append(out, Upgrade{name, all[name].Version, p.Version})
	}
	slices.SortFunc(out, func(a, b Upgrade) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// Finish removes the older of two records of one package, which is what a
// transaction that was cut off leaves behind.
func (d dnf) Finish(ctx context.Context) error {
	b, err := d.m.Run(ctx, nil, "dnf", "-q", "repoquery", "--duplicates", "--qf", "%{name}")
	if err != nil || len(strings.TrimSpace(string(b))) == 0 {
		return err
	}
	return d.run(ctx, "remove", "--duplicates")
}
