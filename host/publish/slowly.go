package publish

import (
	"encoding/gob"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/core/stake"
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
func switchSlowly(m *system.Machine, w stake.ContentWork, stage string) error {
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
	return copyFile(filepath.Join(root, p), to)
}

func changesOf(m *system.Machine, w stake.ContentWork, stage string) (changes, error) {
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
		var s syscall.Stat_t
		there := syscall.Lstat(filepath.Join(root, p), &s) == nil && s.Mode&syscall.S_IFMT != syscall.S_IFDIR
		if fresh, err := inodeOf(filepath.Join(stage, p)); err != nil {
			return c, err
		} else if !there || s.Ino != fresh {
			c.Files[p] = there
		}
	}
	for _, p := range w.Drop {
		if s, err := os.Lstat(filepath.Join(root, p)); err == nil && !s.IsDir() {
			c.Dropped = append(c.Dropped, p)
		}
	}
	tree.dirs["."] = true
	for d := range tree.dirs {
		var s syscall.Stat_t
		err := syscall.Lstat(filepath.Join(root, d), &s)
		switch {
		case err != nil || s.Mode&syscall.S_IFMT != syscall.S_IFDIR:
			c.Made = append(c.Made, d)
		case int(s.Uid) != o.uid || int(s.Gid) != o.gid || s.Mode&0o7777 != system.Bits(o.dirMode):
			c.Set[d] = wasOf(&s)
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

func (c changes) apply(m *system.Machine, w stake.ContentWork, stage string) error {
	root := m.Path(w.Root)
	o, err := ownershipOf(m, w.ContentWant)
	if err != nil {
		return err
	}
	for _, p := range c.Dropped {
		if err := os.Remove(filepath.Join(root, p)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		removeEmptiedAbove(root, p)
	}
	for _, d := range c.Made {
		at := filepath.Join(root, d)
		if s, err := os.Lstat(at); err == nil && !s.IsDir() {
			if err := os.Remove(at); err != nil {
				return err
			}
		}
		if err := os.Mkdir(at, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		if err := o.directory(at); err != nil {
			return err
		}
	}
	for d := range c.Set {
		if err := o.directory(filepath.Join(root, d)); err != nil {
			return err
		}
	}
	for p := range c.Files {
		to := filepath.Join(root, p)
		if s, err := os.Lstat(to); err == nil && s.IsDir() {
			if err := unix.Rmdir(to); err != nil {
				return &fs.PathError{Op: "rmdir", Path: to, Err: err}
			}
		}
		if err := os.Rename(filepath.Join(stage, p), to); err != nil {
			return err
		}
	}
	return system.RemoveTree(stage)
}

// removeEmptiedAbove removes the directories above a path that have become empty.
func removeEmptiedAbove(root, p string) {
	for d := filepath.Dir(p); d != "."; d = filepath.Dir(d) {
		if unix.Rmdir(filepath.Join(root, d)) != nil {
			return
		}
	}
}

// backSlowly puts the former files back that were replaced one by one, as far as they are
// still as the step left them.
func (k keeper) backSlowly(_ owned) error {
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
		live, former := filepath.Join(root, p), filepath.Join(formerTree(stage), p)
		published, err := fileAt(k.w.Files, p)
		if err != nil {
			return err
		}
		switch _, err := os.Lstat(live); {
		case err == nil && !isStill(k.m, live, published):
			if there && !sameFile(live, former) {
				k.say("left %s as it is: it was changed after the step; what was there before is kept in %s", filepath.Join(k.w.Root, p), k.place(p))
				if err := k.aside(former, p); err != nil {
					return err
				}
			}
			continue
		case err == nil:
			if err := os.Remove(live); err != nil {
				return err
			}
		}
		if there {
			if err := putFormer(former, live); err != nil {
				return err
			}
		}
	}
	for _, d := range slices.Backward(c.Made) {
		unix.Rmdir(filepath.Join(root, d)) // one that somebody has put something into stays
	}
	for _, p := range c.Dropped {
		if _, err := os.Lstat(filepath.Join(root, p)); errors.Is(err, fs.ErrNotExist) {
			if err := putFormer(filepath.Join(formerTree(stage), p), filepath.Join(root, p)); err != nil {
				return err
			}
		}
	}
	for d, before := range c.Set {
		at := filepath.Join(root, d)
		if err := os.Chown(at, int(before.UID), int(before.GID)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := unix.Chmod(at, before.Mode&0o7777); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// putFormer puts a copy of a former file where it was.
func putFormer(former, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	tmp := to + ".northstake-back"
	os.Remove(tmp)
	if err := copyFile(former, tmp); err != nil {
		return err
	}
	return os.Rename(tmp, to)
}

// sameFile says whether two files have the same bytes.
func sameFile(a, b string) bool {
	x, err := os.ReadFile(a)
	y, err2 := os.ReadFile(b)
	return err == nil && err2 == nil && string(x) == string(y)
}
