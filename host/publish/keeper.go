package publish

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/host/system"
)

// keeper takes one publication back and loses nothing by it.
type keeper struct {
	m   *system.Machine
	w   stake.ContentWork
	b   Before
	say func(string, ...any)
}

// place is where bytes are kept that could not be put back, below the state directory.
func (k keeper) place(rel string) string {
	return k.m.State("former", filepath.Base(k.b.Stage), rel)
}

// aside moves a file to where it is kept.
func (k keeper) aside(full, rel string) error {
	to := k.place(rel)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	err := os.Rename(full, to)
	if errors.Is(err, syscall.EXDEV) {
		if err = copyFile(full, to); err == nil {
			err = os.Remove(full)
		}
	}
	return err
}

// isStill says whether a file is as it was published.
func isStill(m *system.Machine, full string, f declare.File) bool {
	var s syscall.Stat_t
	if syscall.Lstat(full, &s) != nil || s.Mode&syscall.S_IFMT != syscall.S_IFREG || s.Size != f.Size {
		return false
	}
	sum, err := hashesOf(m).sum(full, "", &s)
	return err == nil && sum.String() == f.SHA256
}

// keepChanged lets a published file that somebody has changed since stay, at its place in
// the former tree.
func (k keeper) keepChanged(newer, former string, f declare.File) error {
	a, err := inodeOf(newer)
	if err != nil || a == 0 {
		return err
	}
	if b, err := inodeOf(former); err != nil || a == b || isStill(k.m, newer, f) {
		return err
	}
	return k.replace(newer, former, f.Path, "it was changed after the step")
}

// replace puts a file that somebody else has written in the place of the former one, which
// is kept.
func (k keeper) replace(newer, former, rel, why string) error {
	kept := ""
	switch s, err := os.Lstat(former); {
	case err == nil && s.IsDir():
		return k.aside(newer, rel)
	case err == nil:
		if err := k.aside(former, rel); err != nil {
			return err
		}
		kept = "; what was there before is kept in " + k.place(rel)
	case errors.Is(err, fs.ErrNotExist):
		if err := os.MkdirAll(filepath.Dir(former), 0o755); err != nil {
			return err
		}
	default:
		return err
	}
	k.say("left %s as it is: %s%s", filepath.Join(k.w.Root, rel), why, kept)
	return os.Rename(newer, former)
}

// fileAt is the file that is published at a path.
func fileAt(files []declare.File, path string) (declare.File, error) {
	for _, f := range files {
		if f.Path == path {
			return f, nil
		}
	}
	return declare.File{}, fmt.Errorf("the step cannot be understood: it does not publish %s", path)
}
