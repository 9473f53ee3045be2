package declare

import (
	"maps"
	"regexp"
	"slices"
	"strings"
)

// Key is the key that says where the content comes from.
func (c *Content) Key() string {
	switch {
	case c.Archive != "":
		return "archive"
	case c.URL != "":
		return "url"
	case c.Git != "":
		return "git"
	}
	return "dir"
}

// Words name the place that the files come from.
func (c *Content) Words() string {
	if c.Fetched() != "" {
		return strings.TrimSuffix(c.URL+c.Git+", folder "+c.Folder, ", folder ")
	}
	return c.Place()
}

// Remote is content that the service fetches, with the place that declares it.
type Remote struct {
	Content *Content
	From    Position
}

// OfVersionControl says whether a file or directory of this name is what a version
// control system and its server keep for themselves, and so never content.
func OfVersionControl(name string) bool {
	return slices.Contains([]string{".git", ".gitignore", ".gitattributes", ".gitmodules", ".github"}, name)
}

// Remotes returns what the service fetches, each once, by the name of its place in
// the manifest. Where several folders of one place are published it is fetched whole.
func (d *Declaration) Remotes() []Remote {
	seen := map[string]Remote{}
	d.contents(func(c *Content, at []string) {
		key := c.Fetched()
		if key == "" {
			return
		}
		if before, twice := seen[key]; twice && before.Content.Folder != c.Folder {
			whole := *before.Content
			whole.Folder = ""
			seen[key] = Remote{&whole, before.From}
		} else if !twice {
			seen[key] = Remote{c, d.At(append(at, c.Key())...)}
		}
	})
	var out []Remote
	for _, k := range sortedKeys(seen) {
		out = append(out, seen[k])
	}
	return out
}

// contents calls each for all content that is declared, with the keys of its table.
func (d *Declaration) contents(each func(c *Content, at []string)) {
	d.EachTable(func(s Settings, at []string) {
		for _, key := range sortedKeys(s.values) {
			elements(s.values[key], func(name string, v any) {
				if c, ok := v.(*Content); ok {
					each(c, append(slices.Clone(at), key, name))
				}
			})
		}
	})
	for _, name := range sortedKeys(d.Sites) {
		s := d.Sites[name]
		if s.Content != nil {
			each(s.Content, []string{"site", name, "content"})
		}
		for _, u := range sortedKeys(s.Paths) {
			if c := s.Paths[u].Content; c != nil {
				each(c, []string{"site", name, "path", u, "content"})
			}
		}
	}
}

// Settled says whether what is fetched is known by its sum, or by a whole commit: it
// cannot be another thing tomorrow.
func (c *Content) Settled() bool { return c.URL != "" || fullCommit.MatchString(c.At) }

var fullCommit = regexp.MustCompile(`^[0-9a-f]{40}([0-9a-f]{24})?$`)

// ArchiveEndings are the names that archives have.
var ArchiveEndings = []string{".zip", ".tar", ".tar.gz", ".tgz", ".tar.xz", ".txz", ".tar.zst", ".tzst"}

func sortedKeys[V any](m map[string]V) []string {
	if len(m) == 0 {
		return nil // as most tables are, of thousands of hosts
	}
	return slices.Sorted(maps.Keys(m))
}
