package family

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/md5"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"runtime"
	"strings"

	"northstake/core/wire"
	"northstake/host/system"
)

const dpkgStatus = "/var/lib/dpkg/status"

// Installed reads the dpkg database; it is remembered until the file changes.
func (a apt) Installed(context.Context) (map[string]Package, error) {
	return system.Cached(a.m, "packages", a.m.FileKey(dpkgStatus), func() (map[string]Package, error) {
		b, err := a.m.Read(dpkgStatus)
		if err != nil {
			return nil, fmt.Errorf("read the dpkg database: %w", err)
		}
		return ParseDpkg(b)
	})
}

// Brought looks a configuration file up in the dpkg database, which has the MD5 of each.
func (a apt) Brought(_ context.Context, path string, text []byte) (same, known bool, err error) {
	b, err := a.m.Read(dpkgStatus)
	if err != nil {
		return false, false, fmt.Errorf("read the dpkg database: %w", err)
	}
	_, line, known := bytes.Cut(b, []byte("\n "+path+" "))
	line, _, _ = bytes.Cut(line, []byte("\n"))
	sum := md5.Sum(text)
	return known && strings.HasPrefix(string(line), hex.EncodeToString(sum[:])), known, nil
}

// ParseDpkg reads the text of a dpkg database (deb-control(5), dpkg(1)). A package of
// another architecture than that of dpkg itself has it in its name, as in "libc6:i386".
func ParseDpkg(b []byte) (map[string]Package, error) {
	type record struct {
		name, arch string
		Package
	}
	var all []record
	var r record
	native := ""
	flush := func() {
		if r.name == "dpkg" {
			native = r.arch
		}
		if r.name != "" {
			all = append(all, r)
		}
		r = record{}
	}
	p := &r.Package
	lines := bufio.NewScanner(bytes.NewReader(b))
	lines.Buffer(make([]byte, 64<<10), 16<<20)
	for lines.Scan() {
		line := lines.Text()
		if line == "" {
			flush()
			continue
		}
		key, value, ok := strings.Cut(line, ":")
		if !ok || line[0] == ' ' {
			continue
		}
		switch key {
		case "Package":
			r.name = strings.TrimSpace(value)
		case "Architecture":
			r.arch = strings.TrimSpace(value)
		case "Version":
			p.Version = strings.TrimSpace(value)
		case "Status":
			// "install ok installed": what was asked for, errors, the state.
			f := strings.Fields(value)
			if len(f) == 3 {
				p.State, p.Held = f[2], f[0] == "hold"
				if f[1] == "reinstreq" {
					p.State = "half-installed"
				}
			}
		}
	}
	flush()
	out := map[string]Package{}
	for _, r := range all {
		name := r.name
		if native != "" && r.arch != "" && r.arch != "all" && r.arch != native {
			name += ":" + r.arch
		}
		// Of two records of one name, the installed one counts.
		if old, ok := out[name]; !ok || old.State != wire.PackageInstalled {
			out[name] = r.Package
		}
	}
	return out, lines.Err()
}

const dpkgInfo = "/var/lib/dpkg/info"

// Files reads dpkg's list of the package; what dpkg-divert(1) has put elsewhere is looked for there.
func (a apt) Files(_ context.Context, name string) ([]string, error) {
	list := a.list(name)
	const diversions = "/var/lib/dpkg/diversions"
	return system.Cached(a.m, "files of "+name, a.m.FileKey(wire.Path(list), diversions), func() ([]string, error) {
		b, err := a.m.Read(wire.Path(list))
		if errors.Is(err, fs.ErrNotExist) {
			return nil, nil // as dpkg has it, the package has no files then
		}
		if err != nil {
			return nil, fmt.Errorf("read dpkg's list of the files of %s: %w", name, err)
		}
		diverted, err := a.m.Read(diversions)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("read what dpkg has diverted: %w", err)
		}
		return ParseDpkgList(b, diverted, name), nil
	})
}

// list is where dpkg has its list of a package: of those that can be there for several architectures alone
// the architecture is in its name.
func (a apt) list(name string) string {
	bare, _, _ := strings.Cut(name, ":")
	for _, n := range []string{name, bare, name + ":" + runtime.GOARCH} {
		if list := dpkgInfo + "/" + n + ".list"; a.m.Exists(wire.Path(list)) {
			return list
		}
	}
	if others, err := filepath.Glob(a.m.Path(wire.Path(dpkgInfo + "/" + name + ":*.list"))); err == nil && len(others) > 0 {
		return dpkgInfo + "/" + filepath.Base(others[0])
	}
	return dpkgInfo + "/" + name + ".list"
}

// ParseDpkgList reads dpkg's list of a package's files, and where its diversions (three lines each: the place,
// where that is now, and for which package) have put them.
func ParseDpkgList(list, diversions []byte, name string) []string {
	name, _, _ = strings.Cut(name, ":")
	elsewhere := map[string]string{}
	for d := strings.Split(string(diversions), "\n"); len(d) >= 3; d = d[3:] {
		if d[2] != name {
			elsewhere[d[0]] = d[1]
		}
	}
	var out []string
	for _, p := range strings.Split(string(list), "\n") {
		if kept(p) {
			out = append(out, cmp.Or(elsewhere[p], p))
		}
	}
	return out
}
