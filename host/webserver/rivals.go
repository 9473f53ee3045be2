package webserver

import (
	"cmp"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"northstake/core/wire"
	"northstake/host/system"
)

// configKey changes with the names and times of what lies in a server's directories of
// virtual hosts.
func configKey(m *system.Machine, dirs []wire.Path) string {
	key := ""
	for _, dir := range dirs {
		entries, err := os.ReadDir(m.Path(dir))
		if err != nil {
			continue
		}
		for _, e := range entries {
			key += e.Name() + m.FileKey(dir.Join(e.Name()))
			if full, err := filepath.EvalSymlinks(m.Path(dir.Join(e.Name()))); err == nil {
				if s, err := os.Stat(full); err == nil {
					key += s.ModTime().String()
				}
			}
		}
	}
	return key
}

// claim is a name that a file of a server's configuration claims on a port, 0 for any.
type claim struct {
	name string
	port int
}

// claimed are names on each of some ports, on any where none is known.
func claimed(names []string, ports []int) (out []claim) {
	if len(ports) == 0 {
		ports = []int{0}
	}
	for _, n := range names {
		for _, port := range ports {
			out = append(out, claim{n, port})
		}
	}
	return out
}

// Claimed are the files of a server's configuration that claim a name, by that, and those that
// answer on a port to the names that no site has.
type Claimed struct {
	names  map[claim][]wire.Path
	firsts map[int][]wire.Path
}

// files are those that claim a name on one of some ports.
func (c *Claimed) files(name string, ports []int) []wire.Path {
	out := slices.Clone(c.names[claim{name, 0}])
	for _, port := range ports {
		out = append(out, c.names[claim{name, port}]...)
	}
	return sorted(out)
}

// configDirs are the directories of virtual hosts that a server takes in.
func configDirs(l wire.Layout) []wire.Path {
	return slices.Compact([]wire.Path{cmp.Or(l.LinkDir, l.SitesDir), l.Dir.Join("conf.d")})
}

// ServedBy is by what files a server serves something: virtual hosts that its package does not bring.
func ServedBy(m *system.Machine, name string, l wire.Layout) ([]wire.Served, error) {
	is, ok := servers[name]
	if !ok {
		return nil, nil
	}
	dirs := configDirs(l)
	brought := wire.ServerWant{Server: name, Default: wire.DefaultRemoved, Own: l.Own}
	return system.Cached(m, "served in "+string(l.Dir), configKey(m, dirs)+m.FileKey(l.Config), func() ([]wire.Served, error) {
		var out []wire.Served
		eachConfig(m, l, dirs, func(file wire.Path, text string) {
			if slices.Contains(l.Own.Links, file) || slices.Contains(l.Own.Files, file) {
				return
			}
			if ports := is.hosts(brought.Edit(file, text)); len(ports) > 0 {
				out = append(out, wire.Served{File: file, Ports: sorted(ports)})
			}
		})
		return out, nil
	})
}

// ListenLines are the lines by which a server listens, in all that it takes in; nil of a server that
// listens where its virtual hosts are.
func ListenLines(m *system.Machine, name string, l wire.Layout) []wire.ListenLine {
	is := servers[name]
	main, err := m.Read(l.Config)
	if is.listens == nil || err != nil {
		return nil
	}
	out := []wire.ListenLine{}
	add := func(file wire.Path, text string) {
		for _, port := range is.listens(text) {
			out = append(out, wire.ListenLine{Port: port, File: file})
		}
	}
	add(l.Config, string(main))
	eachTaken(m, name, l, add)
	return out
}

// eachConfig hands over what a server takes in of its directories of virtual hosts, and its main file.
func eachConfig(m *system.Machine, l wire.Layout, dirs []wire.Path, do func(file wire.Path, text string)) {
	read := func(file wire.Path) {
		if b, err := m.Read(file); err == nil && len(b) <= configLimit {
			do(file, string(b))
		}
	}
	for _, dir := range dirs {
		entries, err := os.ReadDir(m.Path(dir))
		if err != nil {
			continue
		}
		for _, e := range entries {
			if !strings.HasSuffix(e.Name(), "~") && (dir == l.LinkDir || strings.HasSuffix(e.Name(), cmp.Or(l.Ending, ".conf"))) {
				read(dir.Join(e.Name()))
			}
		}
	}
	read(l.Config)
}

// ClaimedOf is what is claimed in what is loaded of a server's directories of virtual hosts, and
// in its main file; nil of a server that is not known.
func ClaimedOf(m *system.Machine, name string, l wire.Layout) (*Claimed, error) {
	is, ok := servers[name]
	if !ok {
		return nil, nil
	}
	dirs := configDirs(l)
	return system.Cached(m, "names claimed in "+string(l.Dir), configKey(m, dirs)+m.FileKey(l.Config), func() (*Claimed, error) {
		out := &Claimed{map[claim][]wire.Path{}, map[int][]wire.Path{}}
		eachConfig(m, l, dirs, func(file wire.Path, text string) {
			for _, n := range is.names(comments.ReplaceAllString(text, "")) {
				out.names[n] = append(out.names[n], file)
			}
			if is.firsts != nil {
				for _, port := range sorted(is.firsts(text)) {
					out.firsts[port] = append(out.firsts[port], file)
				}
			}
		})
		return out, nil
	})
}

// sorted are values in their order, each once.
func sorted[T cmp.Ordered](values []T) []T {
	return slices.Compact(slices.Sorted(slices.Values(values)))
}

// Rivals are the files beside a site's own that claim a name of it, or, where it is the first
// one, answer in its place to names that no site has.
func (c *Claimed) Rivals(w wire.SiteWant) []wire.Rival {
	if c == nil {
		return nil
	}
	var out []wire.Rival
	for _, n := range w.Names {
		for _, file := range c.files(n, w.Listen.Ports()) {
			if !w.LiesAt(file) {
				out = append(out, wire.Rival{Name: n, File: file})
			}
		}
	}
	if w.First {
		for _, port := range w.Listen.Ports() {
			for _, file := range c.firsts[port] {
				aside := w.Own != nil && w.Own.Default != wire.DefaultKept && (slices.Contains(w.Own.Links, file) || file == w.Own.Block.File)
				if !w.LiesAt(file) && !aside && !(servers[w.Server].byName && file.Base() > w.File.Base()) {
					out = append(out, wire.Rival{First: port, File: file})
				}
			}
		}
	}
	slices.SortFunc(out, func(a, b wire.Rival) int {
		return cmp.Or(strings.Compare(string(a.File)+a.Name, string(b.File)+b.Name), a.First-b.First)
	})
	return out
}

// Takes is what a site that is not written yet will take from somebody's files: visitors of its names that
// a wildcard there stands for, and, of a server that has the first file answer to names that no site has,
// those. What sites of North Stake's take from one another is declared.
func (c *Claimed) Takes(w wire.SiteWant) []wire.Taking {
	if c == nil {
		return nil
	}
	var out []wire.Taking
	theirs := func(file wire.Path) bool { return !strings.Contains(file.Base(), "northstake-") }
	for _, n := range w.Names {
		if strings.HasPrefix(n, "*.") {
			continue
		}
		for _, rest, more := strings.Cut(n, "."); more; _, rest, more = strings.Cut(rest, ".") {
			for _, by := range []string{"*." + rest, "." + rest} {
				for _, file := range c.files(by, w.Listen.Ports()) {
					if theirs(file) {
						out = append(out, wire.Taking{Name: n, By: by, File: file})
					}
				}
			}
		}
	}
	if servers[w.Server].byName && !w.First {
		for _, port := range w.Listen.Ports() {
			first := wire.Path("")
			for _, file := range c.firsts[port] {
				if w.Own != nil && w.Own.Default != wire.DefaultKept && slices.Contains(w.Own.Links, file) {
					continue // it goes, as is declared
				}
				if first == "" || file.Base() < first.Base() {
					first = file
				}
			}
			if first != "" && theirs(first) && w.File.Base() < first.Base() {
				out = append(out, wire.Taking{First: port, File: first})
			}
		}
	}
	return out
}

var comments = regexp.MustCompile(`(?m)^\s*#.*$`)

// listed are the words behind a directive, without quotes, in small letters.
func listed(text string, directive *regexp.Regexp) []string {
	var out []string
	for _, m := range directive.FindAllStringSubmatch(text, -1) {
		for _, word := range strings.Fields(m[1]) {
			word = strings.ToLower(strings.Trim(word, "\"'"))
			if host, port, ok := strings.Cut(word, ":"); ok && port != "" && strings.Trim(port, "0123456789") == "" {
				word = host // as ServerName may have it
			}
			out = append(out, word)
		}
	}
	return out
}
