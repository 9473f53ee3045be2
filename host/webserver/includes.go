package webserver

import (
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"northstake/core/wire"
	"northstake/host/system"
)

const (
	mostIncluded = 200 // files that are followed, to see what they take in
	deepestTaken = 3   // files that take in one another
)

// Includes says whether a server's configuration takes a file in, by the lines of its main file and of
// those that it takes in: what lies there as it should is served by nobody where such a line is gone.
// A main file that is not there, or a server of whose lines nothing is known, takes in everything.
func Includes(m *system.Machine, name string, l wire.Layout, file wire.Path) (bool, error) {
	is, ok := servers[name]
	if !ok || is.includes == nil || !m.Exists(l.Config) {
		return true, nil
	}
	base := l.Dir
	main, err := system.Cached(m, "taken in by "+string(l.Config), m.FileKey(l.Config), func() ([]string, error) {
		b, err := m.Read(l.Config)
		return is.taken(string(b), base), err
	})
	if err != nil {
		return false, err
	}
	found := false
	all := is.follow(m, base, main, func(patterns []string) bool {
		found = slices.ContainsFunc(patterns, func(p string) bool { return fits(p, file) })
		return !found
	}, func(wire.Path, string) {})
	return found || !all, nil
}

// eachTaken hands over the files that the main file of a server takes in, and those that they do.
func eachTaken(m *system.Machine, name string, l wire.Layout, do func(file wire.Path, text string)) {
	is := servers[name]
	b, err := m.Read(l.Config)
	if is.includes == nil || err != nil {
		return
	}
	is.follow(m, l.Dir, is.taken(string(b), l.Dir), func([]string) bool { return true }, do)
}

// follow goes from the patterns of a main file to the files that fit them and the patterns of these, as
// long as more says so. It says whether it has seen all that are taken in: it reads mostIncluded at most.
func (s server) follow(m *system.Machine, base wire.Path, patterns []string, more func(patterns []string) bool, do func(file wire.Path, text string)) bool {
	seen := 0
	for depth := 0; depth < deepestTaken && len(patterns) > 0 && more(patterns); depth++ {
		var next []string
		for _, p := range patterns {
			found, err := filepath.Glob(m.Path(wire.Path(p)))
			if err != nil {
				continue // the server would say so
			}
			for _, f := range found {
				if seen++; seen > mostIncluded {
					return false
				}
				file := m.Own(f)
				if b, err := m.Read(file); err == nil && len(b) <= configLimit {
					do(file, string(b))
					next = append(next, s.taken(string(b), base)...)
				}
			}
		}
		patterns = next
	}
	return true
}

// fits says whether a pattern of files, or a directory with all that is in it, has a file.
func fits(pattern string, file wire.Path) bool {
	if ok, err := path.Match(pattern, string(file)); ok || err != nil { // what it means is the server's to say
		return true
	}
	return strings.HasPrefix(string(file), strings.TrimSuffix(pattern, "/")+"/") && !strings.ContainsAny(pattern, "*?[")
}

// taken are the patterns of files that a configuration file takes in.
func (s server) taken(text string, base wire.Path) []string {
	var out []string
	for _, m := range s.includes.FindAllStringSubmatch(comments.ReplaceAllString(text, ""), -1) {
		pattern := strings.Trim(m[1], `"'`)
		if strings.ContainsAny(pattern, "$") {
			return []string{"["} // it depends on what nobody knows here, and so fits everything
		}
		if !path.IsAbs(pattern) {
			pattern = path.Join(string(base), pattern)
		}
		out = append(out, pattern)
	}
	return out
}

// The lines by which servers take files in.
var (
	nginxIncludes = regexp.MustCompile(`(?m)(?:^|[\s;{}])include\s+([^;]+?)\s*;`)
	httpdIncludes = regexp.MustCompile(`(?mi)^\s*Include(?:Optional)?\s+(\S+)`)
)
