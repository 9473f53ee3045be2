package wire

import (
	"path"
	"strings"
)

// Path is where something lies on a host: absolute, in its shortest form, with the separators of systems of the
// POSIX kind. What is written in an archive, a URL or below a root is none.
type Path string

// Base is the last name of it.
func (p Path) Base() string { return path.Base(string(p)) }

// Dir is the directory that it lies in; that of "/" is "/".
func (p Path) Dir() Path { return Path(path.Dir(string(p))) }

// Join is what lies below it by some names; one that leads up leads no further than to "/".
func (p Path) Join(names ...string) Path {
	return Path(path.Join(append([]string{string(p)}, names...)...))
}

// Names are those of the directories on the way to it from "/", and its own.
func (p Path) Names() []string { return strings.Split(strings.Trim(string(p), "/"), "/") }

// Leads is where a link at the path leads that points to something: from its own directory, unless that is
// absolute.
func (p Path) Leads(to string) Path {
	if path.IsAbs(to) {
		return Path(path.Clean(to))
	}
	return p.Dir().Join(to)
}

// Within says whether it is a directory or lies below that.
func (p Path) Within(dir Path) bool {
	return p == dir || strings.HasPrefix(string(p), strings.TrimSuffix(string(dir), "/")+"/")
}

// Below says whether it lies below a directory.
func (p Path) Below(dir Path) bool { return p != dir && p.Within(dir) }

// Meets says whether one of two paths lies within the other.
func (p Path) Meets(o Path) bool { return p.Within(o) || o.Within(p) }

// Texts are some paths as text, for people and for commands.
func Texts(paths []Path) []string {
	out := make([]string, len(paths))
	for i, p := range paths {
		out[i] = string(p)
	}
	return out
}
