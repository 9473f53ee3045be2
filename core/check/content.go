package check

import (
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/near"
	"northstake/core/wire"
)

// Content checks what a site publishes, and that a visitor of its root finds a page.
func (c *Checker) Content(w *declare.Content, at []string, index []string, indexAt []string) {
	c.ContentAt("/", w, at, index, indexAt)
}

// ContentAt is Content for what is shown at a path of a site.
func (c *Checker) ContentAt(url string, w *declare.Content, at []string, index []string, indexAt []string) {
	sub := func(k string) []string { return append(append([]string{}, at...), k) }
	files, ok := c.ContentFiles(w, at)
	if !ok {
		return
	}
	if len(index) == 0 {
		index = []string{"index.html"}
	}
	var top []string
	for _, f := range files {
		if !strings.Contains(f.Path, "/") {
			top = append(top, f.Path)
			if slices.Contains(index, f.Path) {
				return
			}
		}
	}
	place := append(append([]string{}, indexAt...), "0")
	if !c.D.Written(indexAt...) {
		place = sub(w.Key())
	}
	c.Say(place, fmt.Sprintf("no file in %s is an index file (%s): visitors of %s would get 403", w.Words(), strings.Join(index, ", "), url), indexFix(w, index, top, files))
}

// ContentFiles checks what is published somewhere, and finds its files; false says
// that there are none, or none that can be known yet.
func (c *Checker) ContentFiles(w *declare.Content, at []string) ([]declare.File, bool) {
	sub := func(k string) []string { return append(append([]string{}, at...), k) }
	c.Owner(w.Owner, w.Group, at)
	c.Mode(w.Modes.Files, At(at, "modes", "files"))
	c.Mode(w.Modes.Directories, At(at, "modes", "directories"))
	for i, p := range w.LeftAlone {
		if _, err := path.Match(p, ""); err != nil || p == "" || path.IsAbs(p) || path.Clean(p) != p || strings.HasPrefix(p, "..") {
			c.Say(append(sub("left_alone"), strconv.Itoa(i)), fmt.Sprintf("%q is not a pattern of paths below the root", p), "write one such as \"uploads\" or \"*.log\"")
		}
	}
	files, ok := c.published(w, at)
	if !ok {
		return nil, false
	}
	for _, o := range c.D.Beside().OddBelow(w.Place()) {
		fix := "put the file itself there, or take it out"
		if strings.HasPrefix(o.Is, "a link") {
			fix += "; a directory outside that several grounds share may be named with --allow-links"
		}
		c.Say(sub(w.Key()), fmt.Sprintf("%q in %s is %s, which cannot be published", o.Path, w.Words(), o.Is), fix)
	}
	for _, f := range files {
		if kept := wire.Kept(w.LeftAlone, f.Path); kept != "" {
			c.Say(sub("left_alone"), fmt.Sprintf("content file %q would be published where %q is to be left alone", f.Path, kept), "take it out of the content, or change the pattern")
			return nil, false
		}
		switch {
		case !utf8.ValidString(f.Path):
			c.Say(sub(w.Key()), fmt.Sprintf("content file %q has a name that is not UTF-8", f.Path), "rename it")
		case form.Control(f.Path):
			c.Say(sub(w.Key()), fmt.Sprintf("content file %q has a control character in its name", f.Path), "rename it")
		case !fs.ValidPath(f.Path):
			c.Say(sub(w.Key()), fmt.Sprintf("content file %q lies at no place below a root", f.Path), "give it a path in its shortest form that climbs nowhere")
		}
		if f.Size > wire.ContentLimit {
			c.Say(at, fmt.Sprintf("content file %q has %d MB, and a published file has %d at most", f.Path, f.Size>>20, wire.ContentLimit>>20), "take it out, put it on the hosts by other means, and name it in left_alone")
		}
	}
	return files, true
}

// contentOfKit names the kit whose content a site's own table takes the place of, "" where
// there is none.
func (c *Checker) contentOfKit(at []string) string {
	if len(at) != 3 || at[0] != "site" || c.D.Sites[at[1]] == nil {
		return ""
	}
	for _, name := range slices.Backward(c.D.Taken(c.D.Sites[at[1]].Kits)) {
		if kit := c.D.Kits[name]; kit != nil && kit.Site != nil && kit.Site.Content != nil {
			return name
		}
	}
	return ""
}

// published finds the files that content publishes; false says that there are
// none, or none that can be known yet.
func (c *Checker) published(w *declare.Content, at []string) ([]declare.File, bool) {
	sub := func(k string) []string { return append(append([]string{}, at...), k) }
	key, given := "dir", w.Dir
	var ways []string
	for _, way := range [][2]string{{"dir", w.Dir}, {"archive", w.Archive}, {"url", w.URL}, {"git", w.Git}} {
		if way[1] != "" {
			ways = append(ways, way[0])
		}
	}
	switch {
	case len(ways) == 0:
		fix := "give it one of dir = \"DIRECTORY\", archive = \"FILE\", url = \"URL\" and git = \"REPOSITORY\""
		if kit := c.contentOfKit(at); kit != "" {
			fix = fmt.Sprintf("say here where it comes from, too: this table stands in place of the one of kit %s, of which nothing is taken", kit)
		}
		c.Say(at, "this content comes from nowhere", fix)
		return nil, false
	case len(ways) > 1:
		c.Say(sub(ways[1]), fmt.Sprintf("content comes from one place, and both %s and %s are given", ways[0], ways[1]), "keep one of the two")
		return nil, false
	case !c.fetching(w, sub):
		return nil, false
	case w.Fetched() != "":
		return c.inFetched(w, sub)
	case w.Archive != "":
		key, given = "archive", w.Archive
	case w.Folder != "":
		c.Say(sub("folder"), "a folder is chosen in an archive or a repository", "write the sub-directory into dir")
		return nil, false
	}
	if path.IsAbs(given) || path.Clean(given) != strings.TrimSuffix(given, "/") || strings.HasPrefix(given, "..") || given == "." {
		c.Say(sub(key), fmt.Sprintf("%q does not lie beside the declaration", given), "write a path below the declaration's directory, such as \"content/site\"")
		return nil, false
	}
	if w.Archive != "" {
		return c.inArchive(w, sub)
	}
	files, ok := c.D.Beside().Below(w.Dir)
	switch {
	case !ok:
		c.Say(sub("dir"), fmt.Sprintf("there is no directory %q beside the declaration", w.Dir), near.DidYouMean(w.Dir, c.allDirs()))
	case len(files) == 0:
		c.Say(sub("dir"), fmt.Sprintf("directory %q is empty: visitors would get 403", w.Dir), "put the site's files there")
	}
	return files, len(files) > 0
}

// inArchive finds the files of an archive's folder. An archive that nobody has
// opened yet is only looked for.
func (c *Checker) inArchive(w *declare.Content, sub func(string) []string) ([]declare.File, bool) {
	if !slices.ContainsFunc(declare.ArchiveEndings, func(e string) bool { return strings.HasSuffix(strings.ToLower(w.Archive), e) }) {
		c.Say(sub("archive"), fmt.Sprintf("%q is no archive of a type that is known", w.Archive), "it may be "+strings.Join(declare.ArchiveEndings, ", "))
		return nil, false
	}
	if w.Folder != "" && !form.Folder(w.Folder) {
		c.Say(sub("folder"), fmt.Sprintf("%q is no folder in an archive", w.Folder), "write its path as the archive has it")
		return nil, false
	}
	all, opened := c.D.Beside().Below(w.Archive)
	if !opened {
		var names []string
		for _, f := range c.D.Beside().Files {
			if f.Path == w.Archive {
				return nil, false
			}
			names = append(names, f.Path)
		}
		c.Say(sub("archive"), fmt.Sprintf("there is no file %q beside the declaration", w.Archive), near.DidYouMean(w.Archive, names))
		return nil, false
	}
	return c.inFolder(w, all, w.Archive, sub)
}

// inFetched finds the files of what the service has fetched. Before it has, nothing
// can be known of them.
func (c *Checker) inFetched(w *declare.Content, sub func(string) []string) ([]declare.File, bool) {
	if w.Folder != "" && !form.Folder(w.Folder) {
		c.Say(sub("folder"), fmt.Sprintf("%q is no folder in what is fetched", w.Folder), "write its path as the archive or repository has it")
		return nil, false
	}
	all, fetched := c.D.Beside().Below(w.Fetched())
	if !fetched {
		return nil, false
	}
	return c.inFolder(w, all, w.URL+w.Git, sub)
}

// inFolder finds the files of a chosen folder.
func (c *Checker) inFolder(w *declare.Content, all []declare.File, from string, sub func(string) []string) ([]declare.File, bool) {
	files, ok := c.D.Beside().Below(w.Place())
	if !ok {
		folders := map[string]bool{}
		for _, f := range all {
			for d := path.Dir(f.Path); d != "."; d = path.Dir(d) {
				folders[d] = true
			}
		}
		c.Say(sub("folder"), fmt.Sprintf("there is no folder %q in %s", w.Folder, from), near.DidYouMean(w.Folder, sorted(folders)))
	}
	return files, ok
}

// indexFix looks for the file that was probably meant as the index.
func indexFix(w *declare.Content, index, top []string, files []declare.File) string {
	for _, want := range index {
		for _, have := range top {
			if strings.EqualFold(want, have) {
				return fmt.Sprintf("there is %q, which differs in upper and lower case: rename the file or write %q", have, have)
			}
			if strings.HasPrefix(strings.ToLower(have), strings.ToLower(want)+".") {
				return fmt.Sprintf("there is %q, which has a second ending: rename it to %q", have, want)
			}
		}
		for _, f := range files {
			if path.Base(f.Path) == want {
				if w.Dir == "" {
					return fmt.Sprintf("there is %q: choose it with folder = %q", f.Path, path.Join(w.Folder, path.Dir(f.Path)))
				}
				return fmt.Sprintf("there is %q: publish the sub-folder %q instead", f.Path, path.Dir(f.Path))
			}
		}
		if n := near.One(want, top); n != "" {
			return fmt.Sprintf("did you mean %q?", n)
		}
	}
	if len(top) > 0 && len(top) <= 8 {
		return "there is: " + strings.Join(top, ", ")
	}
	return ""
}

func (c *Checker) allDirs() []string {
	seen := map[string]bool{}
	for _, d := range c.D.Beside().Dirs {
		seen[d] = true
	}
	for _, f := range c.D.Beside().Files {
		for d := path.Dir(f.Path); d != "."; d = path.Dir(d) {
			seen[d] = true
		}
	}
	return sorted(seen)
}

func hasPassword(u *url.URL) bool {
	_, has := u.User.Password()
	return has
}

// fetching checks what is said of content that the service fetches; false says
// that something is wrong.
func (c *Checker) fetching(w *declare.Content, sub func(string) []string) bool {
	before := len(c.Problems)
	c.fetchedFrom(w, sub)
	switch {
	case w.URL != "" && w.SHA256 == "":
		c.Say(sub("url"), "what is fetched from a URL has to be known by its sum", "add sha256 = \"…\" (sha256sum prints it)")
	case w.SHA256 != "" && w.URL == "":
		c.Say(sub("sha256"), "a sum belongs to a URL", "take it out")
	case w.SHA256 != "" && !form.SHA256.MatchString(w.SHA256):
		c.Say(sub("sha256"), fmt.Sprintf("%q is not a SHA-256 in hex", w.SHA256), "write the 64 small letters and digits that sha256sum prints")
	case w.At != "" && w.Git == "":
		c.Say(sub("at"), "a branch, tag or commit belongs to a repository", "take it out")
	case w.At != "" && (!form.GitRef.MatchString(w.At) || strings.Contains(w.At, "..")):
		c.Say(sub("at"), fmt.Sprintf("%q is not the name of a branch, tag or commit", w.At), "write it as git does")
	case w.FetchSecret != "" && w.Fetched() == "":
		c.Say(sub("fetch_secret"), "a secret is for what is fetched", "take it out")
	default:
		c.Secret(w.FetchSecret, "fetch_secret", sub("fetch_secret"))
	}
	return len(c.Problems) == before
}

// fetchedFrom checks the URL of an archive or a repository.
func (c *Checker) fetchedFrom(w *declare.Content, sub func(string) []string) {
	for key, v := range map[string]string{"url": w.URL, "git": w.Git} {
		if v == "" || key == "git" && form.GitSSH.MatchString(v) {
			continue
		}
		u, err := url.Parse(v)
		switch {
		case err == nil && u.User != nil && (key == "url" || u.Scheme != "ssh" || hasPassword(u)):
			c.Say(sub(key), "an account stands in the URL, where many can read it", "take it out, give it to northstake secret keep NAME, and write fetch_secret = \"NAME\"")
		case err != nil || !slices.Contains(schemes[key], u.Scheme) || u.Host == "" || form.Bad(strings.ReplaceAll(strings.ReplaceAll(v, "?", ""), "&", "")) != "":
			c.Say(sub(key), fmt.Sprintf("%q cannot be fetched from", v), "write a URL that begins with "+strings.Join(schemes[key], ":, ")+":")
		}
	}
}

// schemes are those of what is fetched, by the key that it is declared with.
var schemes = map[string][]string{"url": {"http", "https"}, "git": {"http", "https", "ssh"}}

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
