package publish

import (
	"crypto/sha256"
	"encoding/gob"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
)

// formerTree is where the former files lie that a step replaces one by one.
func formerTree(stage string) string { return stage + ".before" }

// changes are what a step does to a tree whose files are replaced one by one. Each file
// and directory is told by its path in the tree.
type changes struct {
	Files   map[string]bool // whether something was there, which is kept in the former tree
	Dropped []string
	Made    []string       // directories
	Set     map[string]was // directories that get another owner or mode, as they were
}

func changesFile(stage string) string { return stage + ".changes" }

// switchSlowly puts the files that differ into place one by one, and takes the dropped
// ones out. What it replaces is copied first, and nothing else is touched.
func switchSlowly(m *system.Machine, w wire.ContentWork, stage string) error {
	root := m.Path(w.Root)
	c, err := changesOf(m, w, stage)
	if err != nil {
		return err
	}
	former := formerTree(stage)
	if err := system.RemoveTree(former); err != nil {
		return err
	}
	for p, there := range c.Files {
		if there {
			err = errors.Join(err, keepFormer(root, former, p))
		}
	}
	for _, p := range c.Dropped {
		err = errors.Join(err, keepFormer(root, former, p))
	}
	if err == nil {
		err = c.keep(stage)
	}
	if err != nil {
		return err
	}
	return c.apply(m, w, stage)
}

func keepFormer(root, former, p string) error {
	to := filepath.Join(former, p)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	return system.Beneath(root, p, func(live string) error { return copyFile(live, to) })
}

// lstatBeneath is what lies at a place of a tree, nil for nothing.
func lstatBeneath(root, p string) (s *syscall.Stat_t, err error) {
	err = system.Beneath(root, p, func(at string) error {
		s = &syscall.Stat_t{}
		return syscall.Lstat(at, s)
	})
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return nil, nil
	}
	return s, err
}

func changesOf(m *system.Machine, w wire.ContentWork, stage string) (changes, error) {
	c := changes{Files: map[string]bool{}, Set: map[string]was{}}
	root := m.Path(w.Root)
	tree, err := treeOf(w.ContentWant)
	if err != nil {
		return c, err
	}
	o, err := ownershipOf(m, w.ContentWant)
	if err != nil {
		return c, err
	}
	for p := range tree.files {
		s, err := lstatBeneath(root, p)
		if err != nil {
			return c, err
		}
		there := s != nil && s.Mode&syscall.S_IFMT != syscall.S_IFDIR
		if fresh, err := inodeOf(filepath.Join(stage, p)); err != nil {
			return c, err
		} else if !there || s.Ino != fresh {
			c.Files[p] = there
		}
	}
	for _, p := range w.Drop {
		if s, err := lstatBeneath(root, p); err != nil {
			return c, err
		} else if s != nil && s.Mode&syscall.S_IFMT != syscall.S_IFDIR {
			c.Dropped = append(c.Dropped, p)
		}
	}
	tree.dirs["."] = true
	for d := range tree.dirs {
		s, err := lstatBeneath(root, d)
		if err != nil {
			return c, err
		}
		switch {
		case s == nil || s.Mode&syscall.S_IFMT != syscall.S_IFDIR:
			c.Made = append(c.Made, d)
		case int(s.Uid) != o.uid || int(s.Gid) != o.gid || s.Mode&0o7777 != system.Bits(o.dirMode):
			c.Set[d] = wasOf(s)
		}
	}
	sort.Strings(c.Made)
	return c, nil
}

func (c changes) keep(stage string) error {
	f, err := os.OpenFile(changesFile(stage), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	err = gob.NewEncoder(f).Encode(c)
	if err == nil {
		err = unix.Syncfs(int(f.Fd())) // with the copies of what is replaced
	}
	if e := f.Close(); err == nil {
		err = e
	}
	return err
}

func (c changes) apply(m *system.Machine, w wire.ContentWork, stage string) error {
	root := m.Path(w.Root)
	o, err := ownershipOf(m, w.ContentWant)
	if err != nil {
		return err
	}
	for _, p := range c.Dropped {
		if err := unlessGone(system.Beneath(root, p, os.Remove)); err != nil {
			return err
		}
		removeEmptiedAbove(root, p)
	}
	for _, d := range c.Made {
		if err := system.Beneath(root, d, o.make); err != nil {
			return err
		}
	}
	for d := range c.Set {
		if err := system.Beneath(root, d, o.directory); err != nil {
			return err
		}
	}
	for p := range c.Files {
		err := system.Beneath(root, p, func(to string) error {
			if s, err := os.Lstat(to); err == nil && s.IsDir() {
				if err := unix.Rmdir(to); err != nil {
					return &fs.PathError{Op: "rmdir", Path: filepath.Join(root, p), Err: err}
				}
			}
			return os.Rename(filepath.Join(stage, p), to)
		})
		if err != nil {
			return err
		}
	}
	return system.RemoveTree(stage)
}

// make makes a declared directory, in the place of what is none.
func (o ownership) make(at string) error {
	if s, err := os.Lstat(at); err == nil && !s.IsDir() {
		if err := os.Remove(at); err != nil {
			return err
		}
	}
	if err := os.Mkdir(at, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return o.directory(at)
}

// removeEmptiedAbove removes the directories above a path that have become empty.
func removeEmptiedAbove(root, p string) {
	for d := filepath.Dir(p); d != "."; d = filepath.Dir(d) {
		if system.Beneath(root, d, unix.Rmdir) != nil {
			return
		}
	}
}

// backSlowly puts the former files back that were replaced one by one, as far as they are
// still as the step left them.
func (k keeper) backSlowly() error {
	stage, root := k.m.Path(k.b.Stage), k.m.Path(k.w.Root)
	f, err := os.Open(changesFile(stage))
	if errors.Is(err, fs.ErrNotExist) {
		return nil // nothing was switched
	}
	if err != nil {
		return err
	}
	defer f.Close()
	var c changes
	if gob.NewDecoder(f).Decode(&c) != nil {
		return nil // it was cut off before the first file
	}
	for p, there := range c.Files {
		published, err := fileAt(k.w.Files, p)
		if err == nil {
			err = k.fileBack(p, there, published)
		}
		if err != nil {
			return err
		}
	}
	for _, d := range slices.Backward(c.Made) {
		system.Beneath(root, d, unix.Rmdir) // one that somebody has put something into stays
	}
	for _, p := range c.Dropped {
		if s, err := lstatBeneath(root, p); err != nil {
			return err
		} else if s == nil {
			if err := putFormer(root, p, filepath.Join(formerTree(stage), p)); err != nil {
				return err
			}
		}
	}
	for d, before := range c.Set {
		err := system.Beneath(root, d, func(at string) error {
			return giveDirectory(at, int(before.UID), int(before.GID), before.Mode&0o7777)
		})
		if unlessGone(err) != nil {
			return err
		}
	}
	return nil
}

// fileBack puts a former file back, there says whether there was one, unless the published one was
// changed since.
func (k keeper) fileBack(p string, there bool, published wire.File) error {
	root, former := k.m.Path(k.w.Root), filepath.Join(formerTree(k.m.Path(k.b.Stage)), p)
	changed := false
	err := system.Beneath(root, p, func(live string) error {
		if _, err := os.Lstat(live); err != nil {
			return err
		}
		if changed = !isStill(k.m, live, published); !changed {
			return os.Remove(live)
		}
		if !there || sameFile(live, former) {
			return nil
		}
		k.say("left %s as it is: it was changed after the step; what was there before is kept in %s", k.w.Root.Join(p), k.place(p))
		return k.aside(former, p)
	})
	if err := unlessGone(err); err != nil || changed || !there {
		return err
	}
	return putFormer(root, p, former)
}

// unlessGone is an error, unless it says that nothing is there.
func unlessGone(err error) error {
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return nil
	}
	return err
}

// putFormer puts a copy of a former file where it was.
func putFormer(root, p, former string) error {
	if err := makeBeneath(root, filepath.Dir(p), 0o755); err != nil {
		return err
	}
	return system.Beneath(root, p, func(to string) error {
		tmp := to + ".northstake-back"
		os.Remove(tmp)
		if err := copyFile(former, tmp); err != nil {
			return err
		}
		return os.Rename(tmp, to)
	})
}

// sameFile says whether two files have the same bytes. Those of other sizes are not read.
func sameFile(a, b string) bool {
	one, err := os.Lstat(a)
	two, err2 := os.Lstat(b)
	if err != nil || err2 != nil || one.Size() != two.Size() || one.Size() > wire.ContentLimit {
		return false
	}
	x, err := sumOf(a)
	y, err2 := sumOf(b)
	return err == nil && err2 == nil && x == y
}

func sumOf(at string) (sum digest, err error) {
	f, err := openFile(at)
	if err != nil {
		return sum, err
	}
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, io.LimitReader(f, wire.ContentLimit+1))
	h.Sum(sum[:0])
	return sum, err
}
