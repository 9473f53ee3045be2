package publish

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"northstake/core/wire"
	"northstake/host/system"
)

// keeper takes one publication back and loses nothing by it.
type keeper struct {
	m   *system.Machine
	w   wire.ContentWork
	b   Before
	say func(string, ...any)
}

// place is where bytes are kept that could not be put back, below the state directory.
func (k keeper) place(rel string) string {
	return k.m.State("former", k.b.Stage.Base(), rel)
}

// aside moves a file to where it is kept.
func (k keeper) aside(full, rel string) error {
	to := k.place(rel)
	if system.Borrowed() {
		return asideOf(full, to)
	}
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

// asideOf moves a file of a user to where only root gets: it is read and removed by that user's rights,
// and written by our own.
func asideOf(full, to string) error {
	in, err := openFile(full)
	if errors.Is(err, syscall.ELOOP) { // what a link leads to is not ours to keep
		return os.Remove(full)
	}
	if err != nil {
		return err
	}
	defer in.Close()
	if s, err := in.Stat(); err != nil || s.Size() > wire.ContentLimit {
		return errors.Join(err, &fs.PathError{Op: "keep", Path: full, Err: syscall.EFBIG})
	}
	err = system.Self(func() error {
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return err
		}
		out, err := os.Create(to)
		if err != nil {
			return err
		}
		_, err = io.Copy(out, io.LimitReader(in, wire.ContentLimit))
		return errors.Join(err, out.Close())
	})
	if err != nil {
		return err
	}
	return os.Remove(full)
}

// isStill says whether a file is as it was published.
func isStill(m *system.Machine, full string, f wire.File) bool {
	var s syscall.Stat_t
	if syscall.Lstat(full, &s) != nil || s.Mode&syscall.S_IFMT != syscall.S_IFREG || s.Size != f.Size {
		return false
	}
	sum, err := hashesOf(m).sum(full, "", &s)
	return err == nil && sum.String() == f.SHA256
}

// keepChanged lets a published file that somebody has changed since stay, at its place in
// the former tree.
func (k keeper) keepChanged(newer, former string, f wire.File) error {
	a, err := lstatBeneath(newer, f.Path)
	if err != nil || a == nil {
		return err
	}
	b, err := lstatBeneath(former, f.Path)
	if err != nil || b != nil && a.Ino == b.Ino {
		return err
	}
	still := false
	err = system.Beneath(newer, f.Path, func(at string) error {
		still = isStill(k.m, at, f)
		return nil
	})
	if err != nil || still {
		return unlessGone(err)
	}
	return k.replace(newer, former, f.Path, "it was changed after the step")
}

// replace puts a file of one tree that somebody else has written in the place of the former one, which
// is kept, in another.
func (k keeper) replace(from, to, rel, why string) error {
	if err := makeBeneath(to, filepath.Dir(rel), 0o755); isNoDirectory(err) {
		return unlessGone(system.Beneath(from, rel, func(newer string) error { return k.aside(newer, rel) }))
	} else if err != nil {
		return err
	}
	return unlessGone(both(from, to, rel, func(newer, former string) error {
		kept := ""
		if s, err := os.Lstat(former); err == nil && s.IsDir() {
			return k.aside(newer, rel)
		} else if err == nil {
			if err := k.aside(former, rel); err != nil {
				return err
			}
			kept = "; what was there before is kept in " + k.place(rel)
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		k.say("left %s as it is: %s%s", k.w.Root.Join(rel), why, kept)
		return os.Rename(newer, former)
	}))
}

// fileAt is the file that is published at a path.
func fileAt(files []wire.File, path string) (wire.File, error) {
	for _, f := range files {
		if f.Path == path {
			return f, nil
		}
	}
	return wire.File{}, fmt.Errorf("the step cannot be understood: it does not publish %s", path)
}
