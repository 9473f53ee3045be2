package wire

import (
	"fmt"
	"io/fs"
	"path"
	"strings"

	"northstake/core/form"
)

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

// ContentLimit is the most that one published file has, in bytes.
const ContentLimit = 256 << 20

// ContentWant is a tree of files that is published at Root as a whole.
type ContentWant struct {
	Root Path `json:"root"`
	Owners
	Modes Modes    `json:"modes"`
	Files []File   `json:"files"`
	Keep  []string `json:"keep,omitempty"` // patterns of paths that are left alone
	Rest  string   `json:"rest,omitempty"` // "removed" where files that nobody declared go
	Dirs  []string `json:"dirs,omitempty"` // directories that hold no files, relative to the root
	Seen  string   `json:"seen,omitempty"` // container that sees the root or a part of it, and would go on seeing a former tree
}

// Modes are those of a published tree, in octal.
type Modes struct {
	Files       Mode `json:"files,omitempty"`
	Directories Mode `json:"directories,omitempty"`
}

// Sound is what is wrong with the places that a tree names, nil for nothing: every path is below the
// root and in its shortest form, whoever has written the list.
func (w ContentWant) Sound() error {
	if what, _ := form.Place(string(w.Root)); what != "" {
		return fmt.Errorf("the root: %s", what)
	}
	for _, f := range w.Files {
		if err := soundPath(f.Path); err != nil {
			return err
		}
	}
	for _, d := range w.Dirs {
		if err := soundPath(d); err != nil {
			return err
		}
	}
	return nil
}

// Sound is what is wrong with the places that the work names, nil for nothing.
func (w ContentWork) Sound() error {
	for _, p := range w.Drop {
		if err := soundPath(p); err != nil {
			return err
		}
	}
	return w.ContentWant.Sound()
}

func soundPath(p string) error {
	if !fs.ValidPath(p) || p == "." || form.Control(p) {
		return fmt.Errorf("%q is no path below a root", p)
	}
	return nil
}

// ContentAsked is what a host is asked to read: the tree, and the files of the last
// publication there that it no longer has.
type ContentAsked struct {
	ContentWant
	Former []File `json:"former,omitempty"`
}

// RestGoes says whether files that nobody declared are removed.
func (w ContentWant) RestGoes() bool { return w.Rest == Removed }

// FileOff is one file or directory of the tree that is not as wanted. Path is
// relative to the root; "." is the root.
type FileOff struct {
	Path string `json:"path"`
	Difference
	Touched Touch `json:"touched,omitzero"`
}

// ContentFound is what differs between the tree on the host and what is wanted. Missing,
// Off and Extra are for people and hold at most ContentListed paths each, but for
// Extra where the rest is removed; what is judged by is whole: the counts, Former, InTheWay
// and Sum.
type ContentFound struct {
	Root     Entry        `json:"root"`
	Mounted  bool         `json:"mounted,omitempty"` // a file system is mounted at the root
	Below    []string     `json:"below,omitempty"`   // where something is mounted below the root, relative to it
	Missing  []string     `json:"missing,omitempty"`
	Missings int          `json:"missings"`
	Off      []FileOff    `json:"off,omitempty"`
	Offs     int          `json:"offs"`
	Extra    []string     `json:"extra,omitempty"` // what nobody declared, and no publication brought
	Extras   int          `json:"extras"`
	Former   []FormerFile `json:"former,omitempty"`     // what the last publication brought and this one has not
	InTheWay []string     `json:"in_the_way,omitempty"` // what nobody declared where a file or directory of the tree has to be
	TooDeep  []string     `json:"too_deep,omitempty"`   // what lies in the root and holds directories that are nested deeper than a path can be
	Nobody   []string     `json:"nobody,omitempty"`     // the owner or group that the host has not
	Sum      string       `json:"sum,omitempty"`        // SHA-256 of all that differs
}

// FormerFile is a file of the last publication that is no longer declared. Changed says
// that it is not as it was published.
type FormerFile struct {
	Path    string `json:"path"`
	Changed bool   `json:"changed,omitempty"`
}

// ContentListed bounds the lists of a ContentFound.
const ContentListed = 100

// ContentWork publishes a tree. Drop lists files of an earlier publication that
// are no longer declared; other files that are there are carried over.
type ContentWork struct {
	ContentWant
	Drop []string `json:"drop,omitempty"`
	Away bool     `json:"away,omitempty"` // nothing is published any more, and what is empty then goes
}
