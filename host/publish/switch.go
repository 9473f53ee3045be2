package publish

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
)

// switchTree exchanges the live tree and the new one in one instant. Where the
// file system refuses that (an overlay's lower layer), the files that change are renamed
// into place one by one, each atomically, and slowly says so.
func switchTree(m *system.Machine, w wire.ContentWork, stage string, say func(string, ...any)) (slowly bool, err error) {
	full := m.Path(w.Root)
	if _, err := os.Lstat(full); errors.Is(err, fs.ErrNotExist) {
		if err := os.Rename(stage, full); err != nil {
			return false, err
		}
		return false, system.Flush(filepath.Dir(full))
	}
	if err := stampCensus(stage); err != nil {
		return false, err
	}
	err = unix.Renameat2(unix.AT_FDCWD, stage, unix.AT_FDCWD, full, unix.RENAME_EXCHANGE)
	if err == nil {
		return false, system.Flush(filepath.Dir(full))
	}
	if !errors.Is(err, syscall.EXDEV) && !errors.Is(err, syscall.EINVAL) {
		return false, fmt.Errorf("switch %s to the new tree: %w", w.Root, err)
	}
	say("this file system cannot exchange %s as a whole; its files are replaced one by one, each at once", w.Root)
	return true, switchSlowly(m, w, stage)
}

// copyFile copies a file or a link with owner, mode, times and extended attributes.
func copyFile(src, dst string) error {
	var like syscall.Stat_t
	if err := syscall.Lstat(src, &like); err != nil {
		return &fs.PathError{Op: "lstat", Path: src, Err: err}
	}
	if like.Mode&syscall.S_IFMT == syscall.S_IFLNK {
		target, err := os.Readlink(src)
		if err == nil {
			err = os.Symlink(target, dst)
		}
		if err == nil {
			err = os.Lchown(dst, int(like.Uid), int(like.Gid))
		}
		return err
	}
	if like.Mode&syscall.S_IFMT != syscall.S_IFREG {
		return &fs.PathError{Op: "copy", Path: src, Err: errors.New("it is neither a file nor a link")}
	}
	in, err := openFile(src)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := syscall.Fstat(int(in.Fd()), &like); err != nil {
		return err
	}
	out, err := os.OpenFile(dst, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err == nil {
		err = out.Chown(int(like.Uid), int(like.Gid))
	}
	if err == nil {
		err = unix.Fchmod(int(out.Fd()), like.Mode&0o7777) // after the owner, who takes bits away
	}
	if e := out.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = system.SameAttributes(src, dst)
	}
	if err == nil {
		err = unix.UtimesNanoAt(unix.AT_FDCWD, dst, []unix.Timespec{unix.Timespec(like.Atim), unix.Timespec(like.Mtim)}, unix.AT_SYMLINK_NOFOLLOW)
	}
	return err
}

// stageName is what follows a root's own name in that of a stage, the run and the step,
// and in those of what is kept beside the tree.
var stageName = regexp.MustCompile(`^\.[0-9]+(x[0-9a-f]{12}x[0-9a-f]{12})?-[0-9]+(\.[a-z]+)*$`)

// dropOldStages removes the trees of earlier publications at a root; the one before this
// stays, for taking back. What somebody still wrote to one goes into the live tree first.
func dropOldStages(m *system.Machine, w wire.ContentWork, keep wire.Path) error {
	dir, base, kept := m.Path(stageDir(w.Root)), w.Root.Base(), keep.Base()
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil
	}
	own, err := ownPaths(w)
	if err != nil {
		return err
	}
	for _, e := range entries {
		name, ok := strings.CutPrefix(e.Name(), base)
		if !ok || !stageName.MatchString(name) || e.Name() == kept || strings.HasPrefix(e.Name(), kept+".") {
			continue
		}
		full := filepath.Join(dir, e.Name())
		if mounts, err := system.MountsBelow(full); err != nil || len(mounts) > 0 {
			continue // what somebody has mounted there stays, and the tree with it
		}
		since, err := censusOf(full)
		if err != nil {
			return err
		}
		if since != nil { // what was there then has had its time; only what came late is followed
			err = removeTree(full, m.Path(w.Root), since, false, since.ours(own))
		}
		if err == nil {
			err = system.RemoveTree(full)
		}
		if err == nil {
			err = os.RemoveAll(censusFile(full))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// inodeOf is the inode number of a path, 0 when nothing is there.
func inodeOf(path string) (uint64, error) {
	var s syscall.Stat_t
	err := syscall.Lstat(path, &s)
	if errors.Is(err, syscall.ENOENT) || errors.Is(err, syscall.ENOTDIR) {
		return 0, nil
	}
	if err != nil {
		return 0, &fs.PathError{Op: "lstat", Path: path, Err: err}
	}
	return s.Ino, nil
}
