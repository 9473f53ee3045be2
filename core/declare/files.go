package declare

import (
	"errors"
	"fmt"
	"path"
	"strings"
	"unicode/utf8"
)

// textLimit bounds a file that is written as text, in bytes.
const textLimit = 256 << 10

// ownPlaces are directories in which nothing can be declared.
var ownPlaces = []string{"/proc", "/sys", "/dev", "/run", "/var/lib/northstake", "/etc/northstake"}

// place checks the path of a declared file, link or directory.
func (l *linter) place(p string, at []string) bool {
	what, fix := "", ""
	switch {
	case !strings.HasPrefix(p, "/"):
		what, fix = fmt.Sprintf("%q is not an absolute path", p), "begin it with /"
	case path.Clean(p) != p || p == "/":
		what, fix = fmt.Sprintf("%q is not in its shortest form", p), fmt.Sprintf("write %q", path.Clean(p))
	case strings.IndexFunc(p, func(r rune) bool { return r < 0x20 || r == 0x7f }) >= 0:
		what, fix = fmt.Sprintf("%q has a control character", p), "use a plainer name"
	case len(p) > 1000 || longestPart(p) > 200:
		what, fix = "this path is too long", "use one of at most 1000 characters, and at most 200 for each part"
	default:
		for _, own := range ownPlaces {
			if p == own || strings.HasPrefix(p, own+"/") {
				what, fix = fmt.Sprintf("%s is kept by the system or by North Stake", own), "declare a path elsewhere"
			}
		}
	}
	if what == "" {
		return true
	}
	l.say(at, what, fix)
	return false
}

func (l *linter) ownerAndMode(owner, group, mode string, at []string) {
	sub := func(k string) []string { return append(append([]string{}, at...), k) }
	for _, a := range []struct{ key, v string }{{"owner", owner}, {"group", group}} {
		if a.v != "" && !account.MatchString(a.v) {
			l.say(sub(a.key), fmt.Sprintf("%q is not the name of an account", a.v), "use lower-case letters, digits, hyphens and underscores")
		}
	}
	if mode != "" && !octalMode.MatchString(mode) {
		l.say(sub("mode"), fmt.Sprintf("%q is not a mode", mode), "write three octal digits, such as \"0644\"")
	}
}

// things checks the directories, files and links of a kit or host.
func (l *linter) things(s Settings, at []string) {
	sub := func(k ...string) []string { return append(append([]string{}, at...), k...) }
	said := map[string]string{}
	once := func(p, sort string) bool {
		if other := said[p]; other != "" {
			l.say(sub(sort, p), fmt.Sprintf("%s is declared as a %s and as a %s", p, other, sort), "keep one of the two")
			return false
		}
		said[p] = sort
		return true
	}
	for _, name := range sortedKeys(s.Accounts) {
		l.account(name, s.Accounts[name], sub("account", name))
	}
	for _, p := range sortedKeys(s.Directories) {
		if l.place(p, sub("directory", p)) && once(p, "directory") {
			d := s.Directories[p]
			l.ownerAndMode(d.Owner, d.Group, d.Mode, sub("directory", p))
			if contains(systemDirs, p) {
				l.say(sub("directory", p), fmt.Sprintf("%s belongs to the system", p), "declare a directory below it")
			}
		}
	}
	for _, p := range sortedKeys(s.Contents) {
		if l.place(p, sub("content", p)) && once(p, "content") {
			l.absolute(p, sub("content", p))
			l.contentFiles(s.Contents[p], sub("content", p))
		}
	}
	for _, p := range sortedKeys(s.Files) {
		if l.place(p, sub("file", p)) && once(p, "file") {
			l.textFile(s.Files[p], sub("file", p))
		}
	}
	for _, p := range sortedKeys(s.Links) {
		if !l.place(p, sub("link", p)) || !once(p, "link") {
			continue
		}
		to := s.Links[p].PointsTo
		if to != "" && (strings.IndexFunc(to, func(r rune) bool { return r < 0x20 || r == 0x7f }) >= 0 || len(to) > 1000) {
			l.say(sub("link", p, "points_to"), fmt.Sprintf("%q cannot be what a link leads to", to), "use a plainer path")
		} else if to == p {
			l.say(sub("link", p, "points_to"), "the link leads to itself", "name what it should lead to")
		}
	}
}

func (l *linter) account(name string, a *Account, at []string) {
	sub := func(k ...string) []string { return append(append([]string{}, at...), k...) }
	switch {
	case !account.MatchString(name):
		l.say(at, fmt.Sprintf("%q is not the name of an account", name), "use lower-case letters, digits, hyphens and underscores")
	case name == "root":
		l.say(at, "root is the system's own account", "declare another")
	}
	for k, p := range map[string]string{"home": a.Home, "shell": a.Shell} {
		if p != "" && (!path.IsAbs(p) || path.Clean(p) != p || badText(p) != "" || strings.Contains(p, ":")) {
			l.say(sub(k), fmt.Sprintf("%q cannot be the %s of an account", p, k), "write a plain absolute path")
		}
	}
	for i, g := range a.Groups {
		if !account.MatchString(g) {
			l.say(sub("groups", fmt.Sprint(i)), fmt.Sprintf("%q is not the name of a group", g), "use lower-case letters, digits, hyphens and underscores")
		}
	}
}

func (l *linter) textFile(f *TextFile, at []string) {
	sub := func(k string) []string { return append(append([]string{}, at...), k) }
	ways := 0
	for _, given := range []bool{f.Text != nil, f.From != "", f.Template != ""} {
		if given {
			ways++
		}
	}
	if ways != 1 {
		l.say(at, "a file takes its text in one way", "give it one of text = \"…\", from = \"FILE\" and template = \"FILE\"")
		return
	}
	l.ownerAndMode(f.Owner, f.Group, f.Mode, at)
	if f.Portion != "" && !plainName.MatchString(f.Portion) {
		l.say(sub("portion"), fmt.Sprintf("portion name %q has characters it cannot have", f.Portion), "use lower-case letters, digits and hyphens")
	}
	if f.Portion == "" && f.Comment != "" {
		l.say(sub("comment"), "a comment sign is for the lines around a portion", "add portion = \"NAME\", or take comment out")
	}
	for key, list := range map[string][]string{"reload": f.Reload, "restart": f.Restart} {
		for i, s := range list {
			if !serviceName.MatchString(s) || strings.HasSuffix(s, ".service") {
				l.say(append(sub(key), fmt.Sprint(i)), fmt.Sprintf("%q is not a service name", s), "use the unit's name without .service")
			}
		}
	}
	if f.Text != nil && len(*f.Text) > textLimit {
		l.say(sub("text"), fmt.Sprintf("the text is longer than %d KB", textLimit>>10), "publish large files as content")
	}
	for key, p := range map[string]string{"from": f.From, "template": f.Template} {
		if p == "" {
			continue
		}
		l.besides(p, sub(key))
	}
}

// besides checks a file beside the declaration that is needed as text.
func (l *linter) besides(p string, at []string) {
	var names []string
	for _, f := range l.d.manifest.Files {
		if f.Path != p {
			names = append(names, f.Path)
			continue
		}
		switch {
		case f.Size > textLimit:
			l.say(at, fmt.Sprintf("%s is larger than %d KB", p, textLimit>>10), "publish large files as content")
		case f.Text != nil && !utf8.ValidString(*f.Text):
			l.say(at, fmt.Sprintf("%s is not text in UTF-8", p), "publish other files as content")
		}
		return
	}
	l.say(at, fmt.Sprintf("there is no file %q beside the declaration", p), didYouMean(p, names))
}

// texts makes the text of every declared file for every host that gets it, and
// reports what a template lacks, once for each place.
func (l *linter) texts() {
	if l.d.manifest == nil {
		return
	}
	said := map[string]bool{}
	for _, host := range l.d.HostNames() {
		for _, f := range l.d.FilesFor(host) {
			if f.Is.Template == "" || !l.d.atHand(f.Is.Template) {
				continue
			}
			_, err := l.d.TextOf(f.Is, host)
			var e *TextError
			if !errors.As(err, &e) || said[e.Error()] {
				continue
			}
			said[e.Error()] = true
			line := ""
			text, _ := l.d.TextBeside(f.Is.Template)
			if lines := strings.Split(text, "\n"); e.Line <= len(lines) {
				line = lines[e.Line-1]
			}
			l.problems = append(l.problems, Problem{Position: e.Position, Width: 1, Text: line, What: brief(e.What),
				Fix: fmt.Sprintf("it is the template of %s on host %s (%s:%d)", f.Name, host, f.From.File, f.From.Line)})
		}
	}
}

func (d *Declaration) atHand(path string) bool {
	_, err := d.TextBeside(path)
	return err == nil
}

// For is what is declared under a name or path, as one host gets it: what its kits
// declare, a later kit over an earlier one, and what it declares itself over both.
type For[T any] struct {
	Name string // or path
	Is   T
	From Position
}

// FilesFor returns the declared files of a host by path.
func (d *Declaration) FilesFor(host string) []For[*TextFile] {
	return nearest(d, host, "file", func(s Settings) map[string]*TextFile { return s.Files })
}

// AccountsFor returns the declared accounts of a host by name.
func (d *Declaration) AccountsFor(host string) []For[*Account] {
	return nearest(d, host, "account", func(s Settings) map[string]*Account { return s.Accounts })
}

// ContentsFor returns the content of a host beside that of its sites, by path.
func (d *Declaration) ContentsFor(host string) []For[*Content] {
	return nearest(d, host, "content", func(s Settings) map[string]*Content { return s.Contents })
}

// LinksFor returns the declared links of a host by path.
func (d *Declaration) LinksFor(host string) []For[*Link] {
	return nearest(d, host, "link", func(s Settings) map[string]*Link { return s.Links })
}

// DirectoriesFor returns the declared directories of a host by path, so that one
// stands before those inside it.
func (d *Declaration) DirectoriesFor(host string) []For[*Directory] {
	return nearest(d, host, "directory", func(s Settings) map[string]*Directory { return s.Directories })
}

// nearest collects what a host's kits and the host itself declare under the same
// sort of key; of two for one name the nearest is taken.
func nearest[T any](d *Declaration, host, sort string, of func(Settings) map[string]T) []For[T] {
	h := d.Hosts[host]
	all := map[string]For[T]{}
	take := func(s Settings, at ...string) {
		for name, v := range of(s) {
			all[name] = For[T]{name, v, d.At(append(append([]string{}, at...), sort, name)...)}
		}
	}
	for _, k := range h.Kits {
		if kit := d.Kits[k]; kit != nil {
			take(kit.Settings, "kit", k)
		}
	}
	take(h.Settings, "host", host)
	out := make([]For[T], 0, len(all))
	for _, name := range sortedKeys(all) {
		out = append(out, all[name])
	}
	return out
}
