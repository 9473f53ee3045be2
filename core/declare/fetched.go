package declare

import (
	"fmt"
	"net/url"
	"path"
	"regexp"
	"strings"
)

var (
	hexSum  = regexp.MustCompile(`^[0-9a-f]{64}$`)
	gitAt   = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._/-]{0,199}$`)
	gitSSH  = regexp.MustCompile(`^([a-z_][a-z0-9_-]*@)?[A-Za-z0-9.-]+:[A-Za-z0-9._/~-]+$`)
	schemes = map[string][]string{"url": {"http", "https"}, "git": {"http", "https", "ssh"}}
)

// fetching checks what is said of content that the service fetches; false says
// that something is wrong.
func (l *linter) fetching(c *Content, sub func(string) []string) bool {
	before := len(l.problems)
	for key, v := range map[string]string{"url": c.URL, "git": c.Git} {
		if v == "" || key == "git" && gitSSH.MatchString(v) {
			continue
		}
		u, err := url.Parse(v)
		switch {
		case err == nil && u.User != nil && (key == "url" || u.Scheme != "ssh"):
			l.say(sub(key), "an account stands in the URL, where many can read it", "give it to northstake secret keep NAME, and write secret = \"NAME\"")
		case err != nil || !contains(schemes[key], u.Scheme) || u.Host == "" || badText(strings.ReplaceAll(strings.ReplaceAll(v, "?", ""), "&", "")) != "":
			l.say(sub(key), fmt.Sprintf("%q cannot be fetched from", v), "write a URL that begins with "+strings.Join(schemes[key], ":, ")+":")
		}
	}
	switch {
	case c.URL != "" && c.SHA256 == "":
		l.say(sub("url"), "what is fetched from a URL has to be known by its sum", "add sha256 = \"…\" (sha256sum prints it)")
	case c.SHA256 != "" && c.URL == "":
		l.say(sub("sha256"), "a sum belongs to a URL", "take it out")
	case c.SHA256 != "" && !hexSum.MatchString(c.SHA256):
		l.say(sub("sha256"), fmt.Sprintf("%q is not a SHA-256 in hex", c.SHA256), "write the 64 small letters and digits that sha256sum prints")
	case c.At != "" && c.Git == "":
		l.say(sub("at"), "a branch, tag or commit belongs to a repository", "take it out")
	case c.At != "" && (!gitAt.MatchString(c.At) || strings.Contains(c.At, "..")):
		l.say(sub("at"), fmt.Sprintf("%q is not the name of a branch, tag or commit", c.At), "write it as git does")
	case c.Secret != "" && c.Fetched() == "":
		l.say(sub("secret"), "a secret is for what is fetched", "take it out")
	case c.Secret != "" && !plainName.MatchString(c.Secret):
		l.say(sub("secret"), "secret names a secret, and this is not a secret's name", "write the secret's name here, and give its value to northstake secret keep NAME")
	}
	return len(l.problems) == before
}

// key is the key that says where the content comes from.
func (c *Content) key() string {
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

// words name the place that the files come from.
func (c *Content) words() string {
	if c.Fetched() != "" {
		return strings.TrimSuffix(c.URL+c.Git+", folder "+c.Folder, ", folder ")
	}
	return c.Place()
}

// Kept is the pattern by which a path below a root is left alone, "" where it is
// not: the path itself or a directory above it fits the pattern.
func Kept(patterns []string, p string) string {
	for ; p != "." && p != "/"; p = path.Dir(p) {
		for _, k := range patterns {
			if ok, err := path.Match(k, p); ok && err == nil {
				return k
			}
			if ok, err := path.Match(k, path.Base(p)); ok && err == nil && !strings.Contains(k, "/") {
				return k
			}
		}
	}
	return ""
}

// Remote is content that the service fetches, with the place that declares it.
type Remote struct {
	Content *Content
	From    Position
}

// Remotes returns what the service fetches, each once, by the name of its place in
// the manifest.
func (d *Declaration) Remotes() []Remote {
	seen := map[string]Remote{}
	d.contents(func(c *Content, at []string) {
		if c.Fetched() != "" {
			seen[c.Fetched()] = Remote{c, d.At(append(at, c.key())...)}
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
	for _, name := range sortedKeys(d.Kits) {
		for _, p := range sortedKeys(d.Kits[name].Contents) {
			each(d.Kits[name].Contents[p], []string{"kit", name, "content", p})
		}
	}
	for _, name := range sortedKeys(d.Hosts) {
		for _, p := range sortedKeys(d.Hosts[name].Contents) {
			each(d.Hosts[name].Contents[p], []string{"host", name, "content", p})
		}
	}
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
