package publish

import (
	"cmp"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/host/system"
)

// follow brings into the tree that is live now what was written to one that was live
// before, since a census of that was taken: what came, what was put in the place of
// another, what directories became, and, unless somebody has begun to remove it, what went
// from it. Ours says which paths are North Stake's own in either tree; they are left out. It
// returns what it found in from, so that exactly that can be removed.
func follow(from, to string, since census, whole bool, ours func(p string) bool) ([]item, error) {
	items, err := walk(from)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil || items[0].stat.Mode&syscall.S_IFMT != syscall.S_IFDIR {
		return items, err
	}
	present := map[string]bool{}
	var dirs []string
	for i := range items[1:] {
		it := &items[i+1]
		present[it.path] = true
		before, known := since[it.path]
		now := wasOf(&it.stat)
		if ours(it.path) || known && before.Ino == now.Ino && (!now.Dir || before.Mode == now.Mode && before.UID == now.UID && before.GID == now.GID) {
			continue
		}
		if now.Dir {
			if err := makeBeneath(to, it.path, 0o700); err != nil && !isNoDirectory(err) {
				return items, err
			}
			dirs = append(dirs, it.path)
			continue
		}
		if err := moveNewer(from, to, it.path, now, before); err != nil {
			return items, err
		}
	}
	for _, d := range slices.Backward(dirs) {
		if err := both(from, to, d, sameDirectory); err != nil && !errors.Is(err, fs.ErrNotExist) && !isNoDirectory(err) {
			return items, err
		}
	}
	if !whole {
		return items, nil
	}
	return items, removeGone(from, to, since, present, ours)
}

// both does something with the places of one path in two trees.
func both(from, to, p string, do func(from, to string) error) error {
	return system.Beneath(from, p, func(a string) error {
		return system.Beneath(to, p, func(b string) error { return do(a, b) })
	})
}

// makeBeneath makes a directory of a tree, with those that it lies in and the root.
func makeBeneath(root, p string, mode uint32) error {
	make := func(at string) error { return unix.Mkdir(at, mode) }
	err := system.Beneath(root, p, make)
	if errors.Is(err, fs.ErrNotExist) && p != "." {
		if err = makeBeneath(root, path.Dir(p), mode); err == nil {
			err = system.Beneath(root, p, make)
		}
	}
	if errors.Is(err, syscall.EEXIST) {
		return nil
	}
	return err
}

func isNoDirectory(err error) bool {
	return errors.Is(err, syscall.ENOTDIR) || errors.Is(err, syscall.EEXIST)
}

// moveNewer moves a file that came to a tree, or replaced what was there before, to the
// same place in another, unless that has been given something else there meanwhile.
func moveNewer(from, to, p string, now, before was) error {
	move := func(a, b string) error { return moveFile(a, b, now, before) }
	err := both(from, to, p, move)
	if errors.Is(err, fs.ErrNotExist) && !before.CarriedIn { // what it lies in is not there yet
		if err = makeBeneath(to, path.Dir(p), 0o755); err == nil {
			err = both(from, to, p, move)
		}
	}
	if errors.Is(err, fs.ErrNotExist) || isNoDirectory(err) {
		return nil
	}
	return err
}

// moveFile is moveNewer where both directories are there.
func moveFile(from, to string, now, before was) error {
	var there syscall.Stat_t
	err := syscall.Lstat(to, &there)
	switch {
	case errors.Is(err, syscall.ENOENT) && before.CarriedIn:
		return nil // it was in the live tree, and somebody has taken it out there
	case errors.Is(err, syscall.ENOENT):
		err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
		if errors.Is(err, syscall.EEXIST) || errors.Is(err, syscall.ENOENT) {
			return nil
		}
		return err
	case err != nil:
		if errors.Is(err, syscall.ENOTDIR) {
			return nil
		}
		return &fs.PathError{Op: "lstat", Path: to, Err: err}
	case there.Ino == now.Ino:
		return nil
	case there.Mode&syscall.S_IFMT != syscall.S_IFDIR:
		return putNewer(from, to, before)
	}
	return nil
}

// putNewer exchanges a file of the former tree for the older one in the live tree. Where
// somebody has written to that one since, or put another in its place between two calls, it
// stays. Of two that both came since, on either side of an exchange, the one that was made or
// written last is the newer.
func putNewer(from, to string, before was) error {
	var newer, older syscall.Stat_t
	if syscall.Lstat(from, &newer) != nil || syscall.Lstat(to, &older) != nil {
		return nil
	}
	if older.Ino == before.Ino {
		if later(older.Mtim, newer.Ctim) {
			return nil
		}
	} else if made, err := lastMade(from, to); err != nil || !later(made[0], made[1]) {
		return unlessGone(err)
	}
	for range 2 { // the second time puts back what was taken by mistake
		err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_EXCHANGE)
		if errors.Is(err, syscall.ENOENT) {
			return nil
		}
		if err != nil {
			return &fs.PathError{Op: "exchange", Path: to, Err: err}
		}
		if out, err := inodeOf(from); err != nil || out == older.Ino {
			return err
		}
	}
	return nil
}

// lastMade is when each of two files was last written, or made: neither a link to it nor an exchange
// changes that.
func lastMade(a, b string) (of [2]syscall.Timespec, err error) {
	for i, full := range []string{a, b} {
		var s unix.Statx_t
		if err := unix.Statx(unix.AT_FDCWD, full, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_MTIME|unix.STATX_BTIME, &s); err != nil {
			return of, &fs.PathError{Op: "statx", Path: full, Err: err}
		}
		of[i] = syscall.Timespec{Sec: s.Mtime.Sec, Nsec: int64(s.Mtime.Nsec)}
		if made := (syscall.Timespec{Sec: s.Btime.Sec, Nsec: int64(s.Btime.Nsec)}); s.Mask&unix.STATX_BTIME != 0 && later(made, of[i]) {
			of[i] = made
		}
	}
	return of, nil
}

// later says whether a time comes after another.
func later(a, b syscall.Timespec) bool {
	return a.Sec > b.Sec || a.Sec == b.Sec && a.Nsec > b.Nsec
}

// writtenSince says whether a file was written, or made, at a time or after it. One that was removed and
// made anew may have the number that it had.
func writtenSince(full string, at unix.StatxTimestamp) (bool, error) {
	var s unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, full, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_MTIME|unix.STATX_BTIME, &s); err != nil {
		return false, &fs.PathError{Op: "statx", Path: full, Err: err}
	}
	since := func(a unix.StatxTimestamp) bool { return a.Sec > at.Sec || a.Sec == at.Sec && a.Nsec >= at.Nsec }
	return since(s.Mtime) || s.Mask&unix.STATX_BTIME != 0 && since(s.Btime), nil
}

// takeOut removes a file of the live tree, if it still is the one that is meant and nobody has written
// to it since a time: it is moved aside first, and what turns out to be another goes back.
func takeOut(full, aside string, ino uint64, at unix.StatxTimestamp) error {
	if since, err := writtenSince(full, at); err != nil || since {
		return err
	}
	err := unix.Renameat2(unix.AT_FDCWD, full, unix.AT_FDCWD, aside, unix.RENAME_NOREPLACE)
	if err != nil {
		return err
	}
	is, err := inodeOf(aside)
	since, err2 := writtenSince(aside, at)
	if err := cmp.Or(err, err2); err != nil {
		return err
	}
	if is != ino || since {
		err := unix.Renameat2(unix.AT_FDCWD, aside, unix.AT_FDCWD, full, unix.RENAME_NOREPLACE)
		if !errors.Is(err, syscall.EEXIST) {
			return err
		}
	}
	return os.Remove(aside)
}

// removeGone removes what somebody removed from a tree before the exchange, after its census, from the
// other where it is still the same. What was written there since the exchange stays.
func removeGone(from, to string, since census, present map[string]bool, ours func(string) bool) error {
	var gone []string
	for p, before := range since {
		if before.CarriedIn && !present[p] && !ours(p) {
			gone = append(gone, p)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	exchanged, err := stampOf(from)
	if err != nil {
		return err
	}
	slices.Sort(gone)
	for _, p := range slices.Backward(gone) { // what is in a directory before it
		before := since[p]
		err := system.Beneath(to, p, func(full string) error {
			var s syscall.Stat_t
			switch err := syscall.Lstat(full, &s); {
			case err != nil:
			case before.Dir && s.Mode&syscall.S_IFMT == syscall.S_IFDIR:
				if err := unix.Rmdir(full); !errors.Is(err, syscall.ENOTEMPTY) {
					return err
				}
			case !before.Dir && s.Ino == before.Ino:
				return takeOut(full, from+goneSuffix, before.Ino, exchanged)
			}
			return nil
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, syscall.ENOTDIR) {
			return err
		}
	}
	return nil
}

// goneSuffix is what follows a stage in the name of a file that is being removed.
const goneSuffix = ".gone"

// removeTree removes a tree that was live before, and brings what is written to it until
// its last directory has gone into the one that is live now. Whole says that nothing of it was
// removed yet.
func removeTree(tree, live string, since census, whole bool, ours func(string) bool) error {
	for n := range 20 {
		items, err := follow(tree, live, since, whole && n == 0, ours)
		if err != nil || items == nil {
			return err
		}
		done := true
		for _, it := range slices.Backward(sortedItems(items)) {
			err := system.Beneath(tree, it.path, func(full string) error { return removeItem(full, it) })
			switch {
			case errors.Is(err, syscall.ENOTEMPTY), errors.Is(err, errAnother), errors.Is(err, syscall.ENOTDIR):
				done = false
			case err != nil && !errors.Is(err, fs.ErrNotExist):
				return &fs.PathError{Op: "remove", Path: filepath.Join(tree, it.path), Err: err}
			}
		}
		if done {
			return system.RemoveTree(tree) // nothing is left but a link or a file at most
		}
	}
	return errors.New("somebody goes on writing to " + tree + ", which was published before")
}

// errAnother says that what was to go has another in its place by now.
var errAnother = errors.New("another is there by now")

func removeItem(full string, it item) error {
	if it.stat.Mode&syscall.S_IFMT == syscall.S_IFDIR {
		return unix.Rmdir(full)
	}
	if now, err := inodeOf(full); err != nil || now != it.stat.Ino {
		return cmp.Or(err, errAnother)
	}
	return os.Remove(full)
}

// sortedItems has each directory before what is in it.
func sortedItems(items []item) []item {
	out := slices.Clone(items)
	slices.SortFunc(out, func(a, b item) int {
		switch {
		case a.path < b.path:
			return -1
		case a.path > b.path:
			return 1
		}
		return 0
	})
	return out
}
