package lint

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/render"
	"northstake/core/wire"
)

// Caution is what is allowed in a declaration, and unwise: of one site.
type Caution struct {
	Site string `json:"site"`
	declare.Problem
}

// Cautions are what is unwise in what a sound declaration says of its sites: what they would
// show that nobody should see, and what they would never show.
func Cautions(d *declare.Declaration) []Caution {
	var out []Caution
	for _, name := range d.SiteNames() {
		s := d.Sites[name]
		say := func(at []string, what, fix string) { out = append(out, Caution{name, d.Problem(at, what, fix)}) }
		shown := func(at []string, url string, c *declare.Content) {
			if c == nil {
				return
			}
			files := d.FilesOf(c.Place())
			unwise(s, name, at, files, say)
			covered(s, at, url, files, say)
		}
		shown(keys("site", name, "content"), "/", s.Content)
		for _, u := range sorted(s.Paths) {
			shown(keys("site", name, "path", u, "content"), u, s.Paths[u].Content)
		}
		absent(d, s, name, say)
		otherServers(s, name, say)
	}
	return out
}

// Alike puts cautions together that say the same of the same lines, of several sites that take them
// from a kit, and names the sites.
func Alike(all []Caution) declare.Problems {
	var out declare.Problems
	for _, c := range all {
		out = append(out, c.Problem)
	}
	return out.Once()
}

// private are names of files that are rarely meant to be fetched by everybody, by what they
// are.
var private = []struct {
	is       string
	patterns []string
}{
	{"a key", []string{"*.pem", "*.key", "*.p12", "*.pfx", "id_rsa", "id_ecdsa", "id_ed25519", "*.kdbx", "*.jks"}},
	{"a dump", []string{"*.sql", "*.sql.gz", "*.sql.zip", "*.dump", "*.sqlite", "*.sqlite3", "*.db", "*.mdb"}},
	{"a backup", []string{"*.bak", "*.old", "*.orig", "*.save", "*.swp", "*~", "*.backup", "backup.*", "backup-*"}},
	{"an archive", []string{"*.zip", "*.tar", "*.tar.gz", "*.tgz", "*.tar.xz", "*.tar.zst", "*.tar.bz2", "*.7z", "*.rar"}},
	{"passwords", []string{"htpasswd", ".htpasswd", "*.htpasswd", "passwords.txt", "secrets.*", ".env", ".env.*"}},
}

// repositories are directories in which version control systems keep what they know.
var repositories = []string{".svn", ".hg", ".bzr", "CVS", "_darcs"}

// isPrivate says what a file is that is rarely meant for everybody, "" for all others.
func isPrivate(file string) string {
	for _, dir := range strings.Split(path.Dir(file), "/") {
		if slices.Contains(repositories, dir) {
			return "a repository's own"
		}
	}
	for _, p := range private {
		for _, pattern := range p.patterns {
			if ok, err := path.Match(pattern, strings.ToLower(path.Base(file))); err == nil && ok {
				return p.is
			}
		}
	}
	return ""
}

// hidden says whether a file has a dot in front, itself or a directory above it, and is not
// shown for that.
func hiddenIn(s *declare.Site, file string) bool {
	return !s.ServeDotFiles && strings.Contains("/"+strings.TrimPrefix(file, ".well-known/"), "/.")
}

// phpFiles are the endings of what PHP runs.
var phpFiles = []string{".php", ".phtml", ".php5", ".phar"}

func unwise(s *declare.Site, name string, at []string, files []declare.File, say func(at []string, what, fix string)) {
	var open, php []string
	for _, f := range files {
		is := isPrivate(f.Path)
		switch {
		case hiddenIn(s, f.Path):
		case is != "":
			open = append(open, fmt.Sprintf("%s (%s)", f.Path, is))
		case !s.PHP && slices.Contains(phpFiles, strings.ToLower(path.Ext(f.Path))):
			php = append(php, f.Path)
		}
	}
	if len(open) > 0 {
		say(at, "anybody could fetch "+few(open), "take them out of the content; or let only some see them, with the keys passwords or from")
	}
	if len(php) > 0 {
		say(at, "PHP is not declared, and these files would be sent as text: "+few(php), fmt.Sprintf("add php = true to %s, or take them out", declare.TableName(keys("site", name))))
	}
}

// covered finds files of what is shown at a path that another path hides.
func covered(s *declare.Site, at []string, url string, files []declare.File, say func(at []string, what, fix string)) {
	behind := map[string][]string{}
	for _, f := range files {
		full := strings.TrimSuffix(url, "/") + "/" + f.Path
		if by := render.Deciding(s, full); by != "" && (by != url || url == "/") {
			behind[by] = append(behind[by], f.Path)
		}
	}
	for _, by := range sorted(behind) {
		say(at, fmt.Sprintf("path %s hides what is published here: %s", by, few(behind[by])), "take them out of the content, or give that path another name")
	}
}

// otherServers finds lines of the configurations of other servers alone, which this site's has none of.
func otherServers(s *declare.Site, name string, say func(at []string, what, fix string)) {
	at := func(raw map[string]string, keys []string) {
		if len(raw) > 0 && raw[s.Server] == "" && s.Server != "" {
			say(keys, fmt.Sprintf("%s serves this site, and these lines are for %s alone", s.Server, strings.Join(sorted(raw), " and ")), fmt.Sprintf("add lines for %s, or take them out", s.Server))
		}
	}
	at(s.Raw, keys("site", name, "raw"))
	for _, u := range sorted(s.Paths) {
		at(s.Paths[u].Raw, keys("site", name, "path", u, "raw"))
	}
}

// absent finds pages that a site answers with and that are not among what is published in its root.
func absent(d *declare.Declaration, s *declare.Site, name string, say func(at []string, what, fix string)) {
	lacks := func(c *declare.Content, file string) bool {
		if c == nil || c.URL != "" || c.Git != "" {
			return false // what comes from elsewhere is known later
		}
		return wire.Kept(c.LeftAlone, file) == "" && !slices.ContainsFunc(d.FilesOf(c.Place()), func(f declare.File) bool { return f.Path == file })
	}
	page := func(at []string, c *declare.Content, file string) {
		if lacks(c, file) {
			say(at, fmt.Sprintf("no file %s is published, which is to answer there", file), "publish one, or take the key out")
		}
	}
	for _, status := range sorted(s.ErrorPages) {
		if url := s.ErrorPages[status]; render.Deciding(s, url) == "" {
			page(keys("site", name, "error_pages", status), s.Content, strings.TrimPrefix(url, "/"))
		}
	}
	if s.Otherwise != "" {
		page(keys("site", name, "otherwise"), s.Content, s.Otherwise)
	}
	for _, u := range sorted(s.Paths) {
		if p := s.Paths[u]; p.Otherwise != "" && p.Root != "" {
			page(keys("site", name, "path", u, "otherwise"), p.Content, p.Otherwise)
		}
	}
}

// few names the first of many.
func few(names []string) string {
	const most = 5
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// loops finds redirects of a site that come back to themselves.
func (l linter) loops(name string, s *declare.Site) {
	for _, u := range sorted(s.Paths) {
		seen := []string{u}
		for at := u; ; {
			p := s.Paths[at]
			if p == nil || p.MovedTo == "" {
				break
			}
			to, own := ownPath(s, p.MovedTo)
			if !own {
				break
			}
			at = render.Deciding(s, to)
			if i := slices.Index(seen, at); i >= 0 {
				if i == 0 && len(seen) > 1 && u == slices.Min(seen) { // once for each loop
					l.Say(check.At(keys("site", name, "path", u), "moved_to"), fmt.Sprintf("visitors are sent round and round: %s", strings.Join(append(seen, u), " to ")), "lead one of them elsewhere")
				}
				break
			}
			seen = append(seen, at)
		}
	}
}

// ownPath is the path that a redirect leads to, where that is one of the site itself.
func ownPath(s *declare.Site, to string) (string, bool) {
	if rest, ok := strings.CutPrefix(to, "http://"); ok {
		host, below, _ := strings.Cut(rest, "/")
		name, _, _ := strings.Cut(host, ":")
		if !slices.Contains(s.Names, name) {
			return "", false
		}
		to = "/" + below
	}
	if !strings.HasPrefix(to, "/") {
		return "", false
	}
	if end := strings.IndexAny(to, "?#"); end >= 0 {
		to = to[:end]
	}
	return to, true
}
