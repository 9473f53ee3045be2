package webserver

import (
	"cmp"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"northstake/core/stake"
	"northstake/host/system"
)

// configKey changes with the names and times of what lies in a server's directories of
// virtual hosts.
func configKey(m *system.Machine, dirs []string) string {
	key := ""
	for _, dir := range dirs {
		entries, err := os.ReadDir(m.Path(dir))
		if err != nil {
			continue
		}
		for _, e := range entries {
			key += e.Name() + m.FileKey(dir+"/"+e.Name())
			if full, err := filepath.EvalSymlinks(m.Path(dir + "/" + e.Name())); err == nil {
				if s, err := os.Stat(full); err == nil {
					key += s.ModTime().String()
				}
			}
		}
	}
	return key
}

// claims are what a file of a server's configuration claims: names, and the ports on which
// it answers to all others.
type claims struct {
	names  []string
	firsts []int
}

// claimed is what files of a server's configuration claim, by the file: of what is loaded of
// its directories of virtual hosts, and of its main file.
func claimed(m *system.Machine, name string, l stake.Layout) (map[string]claims, error) {
	dirs := []string{l.SitesDir, l.Dir + "/conf.d"}
	if l.LinkDir != "" {
		dirs[0] = l.LinkDir
	}
	return system.Cached(m, "names claimed in "+l.Dir, configKey(m, dirs)+m.FileKey(l.Config), func() (map[string]claims, error) {
		out := map[string]claims{}
		read := func(file string) {
			b, err := m.Read(file)
			if err == nil && len(b) <= configLimit {
				c := claims{names: servers[name].names(string(b))}
				if firsts := servers[name].firsts; firsts != nil {
					c.firsts = firsts(string(b))
				}
				out[file] = c
			}
		}
		for _, dir := range slices.Compact(dirs) {
			entries, err := os.ReadDir(m.Path(dir))
			if err != nil {
				continue
			}
			for _, e := range entries {
				if !strings.HasSuffix(e.Name(), "~") && (dir == l.LinkDir || strings.HasSuffix(e.Name(), cmp.Or(l.Ending, ".conf"))) {
					read(dir + "/" + e.Name())
				}
			}
		}
		read(l.Config)
		return out, nil
	})
}

// Rivals are the files of a server's configuration beside a site's own that claim a name of
// it, or, where it is the first one, answer in its place to names that no site has.
func Rivals(m *system.Machine, l stake.Layout, w stake.SiteWant) ([]stake.Rival, error) {
	if _, ok := servers[w.Server]; !ok {
		return nil, nil
	}
	all, err := claimed(m, w.Server, l)
	if err != nil {
		return nil, err
	}
	var out []stake.Rival
	for file, c := range all {
		if file == w.File || file == w.Link {
			continue
		}
		for _, n := range w.Names {
			if slices.Contains(c.names, n) {
				out = append(out, stake.Rival{Name: n, File: file})
			}
		}
		aside := w.Own != nil && w.Own.Default != stake.DefaultKept && (slices.Contains(w.Own.Links, file) || file == w.Own.Block.File)
		if !w.First || aside || servers[w.Server].byName && path.Base(file) > path.Base(w.File) {
			continue
		}
		for _, port := range w.Listen {
			if slices.Contains(c.firsts, port) {
				out = append(out, stake.Rival{First: port, File: file})
			}
		}
	}
	slices.SortFunc(out, func(a, b stake.Rival) int {
		return cmp.Or(strings.Compare(a.File+a.Name, b.File+b.Name), a.First-b.First)
	})
	return out, nil
}

var comments = regexp.MustCompile(`(?m)^\s*#.*$`)

// listed are the words behind a directive, without quotes, in small letters.
func listed(text string, directive *regexp.Regexp) []string {
	var out []string
	for _, m := range directive.FindAllStringSubmatch(comments.ReplaceAllString(text, ""), -1) {
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
