package webserver

import (
	"cmp"
	"os"
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

// claimed are the names that files of a server's configuration claim, by the file: what
// is loaded of its directories of virtual hosts, and its main file.
func claimed(m *system.Machine, name string, l stake.Layout) (map[string][]string, error) {
	dirs := []string{l.SitesDir, l.Dir + "/conf.d"}
	if l.LinkDir != "" {
		dirs[0] = l.LinkDir
	}
	return system.Cached(m, "names claimed in "+l.Dir, configKey(m, dirs)+m.FileKey(l.Config), func() (map[string][]string, error) {
		out := map[string][]string{}
		read := func(path string) {
			b, err := m.Read(path)
			if err == nil && len(b) <= configLimit {
				out[path] = servers[name].names(string(b))
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
// it.
func Rivals(m *system.Machine, l stake.Layout, w stake.SiteWant) ([]stake.Rival, error) {
	if _, ok := servers[w.Server]; !ok {
		return nil, nil
	}
	all, err := claimed(m, w.Server, l)
	if err != nil {
		return nil, err
	}
	var out []stake.Rival
	for file, names := range all {
		if file == w.File || file == w.Link {
			continue
		}
		for _, n := range w.Names {
			if slices.Contains(names, n) {
				out = append(out, stake.Rival{Name: n, File: file})
			}
		}
	}
	slices.SortFunc(out, func(a, b stake.Rival) int { return strings.Compare(a.File+a.Name, b.File+b.Name) })
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
