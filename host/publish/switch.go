package publish

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/host/system"
)

// switchTree exchanges the live tree and the new one in one instant. Where the
// file system refuses that (an overlay's lower layer), files are renamed into
// place one by one, each atomically, and the old tree is copied first.
func switchTree(m *system.Machine, root, stage string, say func(string, ...any)) error {
	full := m.Path(root)
	if _, err := os.Lstat(full); errors.Is(err, fs.ErrNotExist) {
		if err := os.Rename(stage, full); err != nil {
			return err
		}
		return system.Flush(filepath.Dir(full))
	}
	err := unix.Renameat2(unix.AT_FDCWD, stage, unix.AT_FDCWD, full, unix.RENAME_EXCHANGE)
	if err == nil {
		return system.Flush(filepath.Dir(full))
	}
	if !errors.Is(err, syscall.EXDEV) && !errors.Is(err, syscall.EINVAL) {
		return fmt.Errorf("switch %s to the new tree: %w", root, err)
	}
	say("this file system cannot exchange %s as a whole; its files are replaced one by one, each at once", root)
	return switchSlowly(full, stage)
}

// formerTree is the copy of a tree whose files are replaced one by one.
func formerTree(stage string) string { return stage + ".before" }

// switchSlowly replaces the files of a tree one by one, after a whole copy of
// the tree has been made.
func switchSlowly(full, stage string) error {
	former := formerTree(stage)
	if err := os.RemoveAll(former + ".part"); err != nil {
		return err
	}
	if err := copyTree(full, former+".part"); err != nil {
		return err
	}
	if err := os.Rename(former+".part", former); err != nil {
		return err
	}
	return replaceFiles(full, stage)
}

// replaceFiles moves the files of one tree over those of another, each
// atomically, and removes what is left over.
func replaceFiles(full, stage string) error {
	fresh, err := walk(stage)
	if err != nil {
		return err
	}
	keep := map[string]bool{}
	for i := range fresh {
		it := &fresh[i]
		keep[it.path] = true
		to := filepath.Join(full, it.path)
		if it.stat.Mode&syscall.S_IFMT == syscall.S_IFDIR {
			if s, err := os.Lstat(to); err == nil && !s.IsDir() {
				if err := os.Remove(to); err != nil {
					return err
				}
			}
			if err := sameDirectory(to, &it.stat); err != nil {
				return err
			}
			continue
		}
		if s, err := os.Lstat(to); err == nil && s.IsDir() {
			if err := os.RemoveAll(to); err != nil { // the former tree has what was in it
				return err
			}
		}
		if err := os.Rename(filepath.Join(stage, it.path), to); err != nil {
			return err
		}
	}
	live, err := walk(full)
	if err != nil {
		return err
	}
	for i := len(live) - 1; i > 0; i-- {
		if !keep[live[i].path] {
			if err := os.Remove(filepath.Join(full, live[i].path)); err != nil {
				return err
			}
		}
	}
	return os.RemoveAll(stage)
}

// copyTree copies a tree with owners and modes.
func copyTree(from, to string) error {
	items, err := walk(from)
	if err != nil {
		return err
	}
	for i := range items {
		it := &items[i]
		src, dst := filepath.Join(from, it.path), filepath.Join(to, it.path)
		switch it.stat.Mode & syscall.S_IFMT {
		case syscall.S_IFDIR:
			err = sameDirectory(dst, &it.stat)
		case syscall.S_IFLNK:
			var target string
			if target, err = os.Readlink(src); err == nil {
				err = os.Symlink(target, dst)
			}
			if err == nil {
				err = os.Lchown(dst, int(it.stat.Uid), int(it.stat.Gid))
			}
		case syscall.S_IFREG:
			err = copyFile(src, dst, &it.stat)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func copyFile(src, dst string, like *syscall.Stat_t) error {
	in, err := os.Open(src)
	if err != nil {
		return err
	}
	defer in.Close()
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
	return err
}

// dropOldStages removes the trees of earlier publications; the one before this
// stays, for taking back.
func dropOldStages(m *system.Machine, root, keep string) {
	entries, err := os.ReadDir(m.Path(stageDir(root)))
	if err != nil {
		return
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), filepath.Base(root)+".") && !strings.HasPrefix(e.Name(), filepath.Base(keep)) {
			os.RemoveAll(filepath.Join(m.Path(stageDir(root)), e.Name()))
		}
	}
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
