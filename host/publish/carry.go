package publish

import (
	"encoding/gob"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/host/system"
)

// was is one thing as it lay in a tree before another took its place.
type was struct {
	Ino       uint64
	Dir       bool
	Mode      uint32 // with the bits of its sort
	UID, GID  uint32
	CarriedIn bool // it is in the new tree as well
}

// census is what lay in a tree, by relative path: by it is told what somebody has
// written since.
type census map[string]was

func wasOf(s *syscall.Stat_t) was {
	return was{Ino: s.Ino, Dir: s.Mode&syscall.S_IFMT == syscall.S_IFDIR, Mode: s.Mode, UID: s.Uid, GID: s.Gid}
}

// censusFile is where the census of the tree that a stage replaces is kept.
func censusFile(stage string) string { return stage + ".census" }

// newSuffix is what follows it in the name of one that is being written.
const newSuffix = ".new"

// ours says which paths of the tree were North Stake's own in it, or are in the one that is
// live now: all that was not carried over.
func (c census) ours(own owned) func(p string) bool {
	return func(p string) bool {
		before, known := c[p]
		return known && !before.CarriedIn || own.has(p)
	}
}

func (c census) keep(stage string) error {
	fresh := censusFile(stage) + newSuffix
	f, err := os.OpenFile(fresh, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	err = gob.NewEncoder(f).Encode(c)
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(fresh, censusFile(stage))
	}
	if err == nil {
		err = system.Flush(filepath.Dir(stage))
	}
	return err
}

// stampCensus notes that the trees are exchanged from now on: what is written from here on is meant
// for the other one.
func stampCensus(stage string) error {
	now := unix.Timespec{Nsec: unix.UTIME_NOW}
	return unix.UtimesNanoAt(unix.AT_FDCWD, censusFile(stage), []unix.Timespec{now, now}, unix.AT_SYMLINK_NOFOLLOW)
}

// stampOf is the time at which the trees of a stage were exchanged last.
func stampOf(stage string) (unix.StatxTimestamp, error) {
	var s unix.Statx_t
	err := unix.Statx(unix.AT_FDCWD, censusFile(stage), unix.AT_SYMLINK_NOFOLLOW, unix.STATX_MTIME, &s)
	return s.Mtime, err
}

// censusOf reads the census that was kept with a stage; nil where there is none.
func censusOf(stage string) (census, error) {
	f, err := os.Open(censusFile(stage))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var c census
	return c, gob.NewDecoder(f).Decode(&c)
}

// carryOver links into the new tree what lies in the live one and is neither
// declared nor dropped, and makes directories with all that they have.
func carryOver(root, stage string, tree wantedTree, drop []string) (census, error) {
	out := census{}
	items, err := walk(root)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil || items[0].stat.Mode&syscall.S_IFMT != syscall.S_IFDIR {
		return out, err
	}
	dropped := map[string]bool{}
	for _, p := range drop {
		dropped[p] = true
	}
	emptied := onlyDropped(items, dropped)
	var dirs []string
	for i := range items[1:] {
		it := &items[i+1]
		w := wasOf(&it.stat)
		if _, ok := tree.files[it.path]; !ok && !tree.dirs[it.path] && !dropped[it.path] && !emptied[it.path] && !underFile(tree, it.path) {
			to := filepath.Join(stage, it.path)
			if w.Dir {
				err = os.MkdirAll(to, 0o700)
				dirs = append(dirs, it.path)
			} else if err = system.Beneath(root, it.path, func(at string) error { return os.Link(at, to) }); errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
				continue // it has gone meanwhile
			}
			if err == nil && !w.Dir {
				w.Ino, err = inodeOf(to) // somebody may have put another in its place since it was listed
			}
			if err != nil {
				return nil, err
			}
			w.CarriedIn = true
		}
		out[it.path] = w
	}
	for i := len(dirs) - 1; i >= 0; i-- {
		err := system.Beneath(root, dirs[i], func(from string) error { return sameDirectory(from, filepath.Join(stage, dirs[i])) })
		if err != nil && !errors.Is(err, fs.ErrNotExist) && !isNoDirectory(err) {
			return nil, err
		}
	}
	return out, nil
}

// sameDirectory makes a directory like another in all that it has: owner, group, mode with
// the bits for groups and deletion, extended attributes with access lists, and times.
func sameDirectory(from, to string) error {
	var s syscall.Stat_t
	if err := syscall.Lstat(from, &s); err != nil {
		return &fs.PathError{Op: "lstat", Path: from, Err: err}
	}
	if s.Mode&syscall.S_IFMT != syscall.S_IFDIR {
		return syscall.ENOTDIR
	}
	if err := os.Mkdir(to, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err := giveDirectory(to, int(s.Uid), int(s.Gid), s.Mode&0o7777); err != nil {
		return err
	}
	if err := system.SameAttributes(from, to); err != nil {
		return err
	}
	return unix.UtimesNanoAt(unix.AT_FDCWD, to, []unix.Timespec{unix.Timespec(s.Atim), unix.Timespec(s.Mtim)}, unix.AT_SYMLINK_NOFOLLOW)
}

// onlyDropped are the directories that hold nothing but dropped files.
func onlyDropped(items []item, dropped map[string]bool) map[string]bool {
	out := map[string]bool{}
	for p := range dropped {
		for d := filepath.Dir(p); d != "."; d = filepath.Dir(d) {
			out[d] = true
		}
	}
	for i := range items[1:] {
		it := &items[i+1]
		if dropped[it.path] || out[it.path] {
			continue
		}
		for d := filepath.Dir(it.path); d != "."; d = filepath.Dir(d) {
			delete(out, d)
		}
	}
	return out
}
