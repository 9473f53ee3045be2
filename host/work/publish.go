package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sort"
	"strings"
	"syscall"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/host/platform"
	"northstake/host/rod"
)

// buildTree makes the whole new tree ready beside the live one and flushes it to
// disk. Unchanged files are linked, files that nobody declared carried over.
func buildTree(m *platform.Machine, w stake.ContentWork, stage string) error {
	o, err := ownershipOf(m, w.ContentWant)
	if err != nil {
		return err
	}
	live, err := liveSums(m, w.ContentWant)
	if err != nil {
		return err
	}
	tree, err := treeOf(w.Files)
	if err != nil {
		return err
	}
	dirs := []string{"."}
	for d := range tree.dirs {
		dirs = append(dirs, d)
	}
	sort.Strings(dirs)
	for _, d := range dirs {
		full := filepath.Join(stage, d)
		if err := os.MkdirAll(full, 0o700); err != nil {
			return err
		}
	}
	uses := map[string]int{}
	for _, f := range w.Files {
		uses[f.SHA256]++
	}
	root := m.Path(w.Root)
	var placing errgroup.Group
	placing.SetLimit(4)
	for _, f := range w.Files {
		placing.Go(func() error {
			if err := placeFile(m, f, filepath.Join(root, f.Path), filepath.Join(stage, f.Path), live[f.SHA256], uses[f.SHA256] == 1, o); err != nil {
				return fmt.Errorf("publish %s: %w", f.Path, err)
			}
			return nil
		})
	}
	if err := placing.Wait(); err != nil {
		return err
	}
	if err := carryOver(root, stage, tree, w.Drop); err != nil {
		return err
	}
	for i := len(dirs) - 1; i >= 0; i-- {
		full := filepath.Join(stage, dirs[i])
		if err := os.Chown(full, o.uid, o.gid); err != nil {
			return err
		}
		if err := os.Chmod(full, o.dirMode); err != nil {
			return err
		}
	}
	d, err := os.Open(stage)
	if err != nil {
		return err
	}
	defer d.Close()
	return unix.Syncfs(int(d.Fd()))
}

// ownership is who owns the files and directories of a tree, and with which modes.
type ownership struct {
	uid, gid          int
	fileMode, dirMode os.FileMode
}

func ownershipOf(m *platform.Machine, w stake.ContentWant) (ownership, error) {
	var o ownership
	names, err := m.Names()
	if err != nil {
		return o, err
	}
	if o.uid, o.gid, err = names.IDs(w.Owner, w.Group); err != nil {
		return o, &rod.Fault{What: err.Error(), Fix: "declare an owner that exists on this host, or the package that brings the account"}
	}
	if o.fileMode, err = parseMode(w.Modes.Files); err != nil {
		return o, err
	}
	o.dirMode, err = parseMode(w.Modes.Directories)
	return o, err
}

// labelAttribute is where SELinux keeps the label of a file (xattr(7)).
const labelAttribute = "security.selinux"

// placeFile puts one file of the new tree into place: a link to the live file
// where that is already as wanted, what was sent where this is its only place (once
// says so) and can be moved, a copy elsewhere.
func placeFile(m *platform.Machine, f declare.File, livePath, to, same string, once bool, o ownership) error {
	var s syscall.Stat_t
	if same != "" && syscall.Lstat(livePath, &s) == nil && s.Mode&syscall.S_IFMT == syscall.S_IFREG && s.Size == f.Size &&
		int(s.Uid) == o.uid && int(s.Gid) == o.gid && s.Mode&0o7777 == uint32(o.fileMode.Perm()) {
		if sum, err := hashesOf(m).sum(livePath, "", &s); err == nil && sum.String() == f.SHA256 && os.Link(livePath, to) == nil {
			return nil
		}
	}
	from := same
	if from == "" {
		from = blobFile(m, f.SHA256)
		if moved, err := moveBlob(from, to, f.Size, once, o); moved || err != nil {
			return err
		}
	}
	src, err := os.Open(from)
	if err != nil {
		return fmt.Errorf("its text was not sent: %w", err)
	}
	defer src.Close()
	dst, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	n, err := io.Copy(dst, src)
	if err == nil && n != f.Size {
		err = fmt.Errorf("%d bytes instead of %d", n, f.Size)
	}
	if err == nil {
		err = dst.Chown(o.uid, o.gid)
	}
	if err == nil {
		err = dst.Chmod(o.fileMode)
	}
	if e := dst.Close(); err == nil {
		err = e
	}
	return err
}

// moveBlob moves what was sent into place, and says whether it could. Where SELinux
// labels files a new one takes the label of its directory, and a moved one keeps the
// label of where it came from, which a web server may not read: that is copied.
func moveBlob(from, to string, size int64, once bool, o ownership) (bool, error) {
	if _, err := unix.Lgetxattr(from, labelAttribute, nil); err == nil || !once {
		return false, nil
	}
	var s syscall.Stat_t
	if err := syscall.Lstat(from, &s); err != nil || s.Size != size || os.Rename(from, to) != nil {
		return false, nil
	}
	if int(s.Uid) != o.uid || int(s.Gid) != o.gid {
		if err := os.Lchown(to, o.uid, o.gid); err != nil {
			return true, err
		}
	}
	if s.Mode&0o7777 == uint32(o.fileMode.Perm()) {
		return true, nil
	}
	return true, os.Chmod(to, o.fileMode)
}

// carryOver links into the new tree what lies in the live one and is neither
// declared nor dropped.
func carryOver(root, stage string, tree wantedTree, drop []string) error {
	items, err := walk(root)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil || items[0].stat.Mode&syscall.S_IFMT != syscall.S_IFDIR {
		return err
	}
	dropped := map[string]bool{}
	for _, p := range drop {
		dropped[p] = true
	}
	for i := range items[1:] {
		it := &items[i+1]
		if _, ok := tree.files[it.path]; ok || tree.dirs[it.path] || dropped[it.path] || underFile(tree, it.path) {
			continue
		}
		to := filepath.Join(stage, it.path)
		switch it.stat.Mode & syscall.S_IFMT {
		case syscall.S_IFDIR:
			if !onlyDropped(items, it.path, dropped) {
				if err := os.MkdirAll(to, os.FileMode(it.stat.Mode&0o777)); err != nil {
					return err
				}
				if err := os.Chown(to, int(it.stat.Uid), int(it.stat.Gid)); err != nil {
					return err
				}
			}
		default:
			if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
				return err
			}
			if err := os.Link(filepath.Join(root, it.path), to); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	return nil
}

// underFile says whether a path lies below what is declared as a file.
func underFile(tree wantedTree, p string) bool {
	for d := path.Dir(p); d != "."; d = path.Dir(d) {
		if _, ok := tree.files[d]; ok {
			return true
		}
	}
	return false
}

// onlyDropped says whether a directory holds nothing but dropped files.
func onlyDropped(items []item, dir string, dropped map[string]bool) bool {
	any := false
	for i := range items {
		p := items[i].path
		if strings.HasPrefix(p, dir+"/") && items[i].stat.Mode&syscall.S_IFMT != syscall.S_IFDIR {
			if !dropped[p] {
				return false
			}
			any = true
		}
	}
	return any
}

// switchTree exchanges the live tree and the new one in one instant. Where the
// file system refuses that (an overlay's lower layer), files are renamed into
// place one by one, each atomically, and the old tree is copied first.
func switchTree(m *platform.Machine, j Job, root, stage string, b contentBefore) error {
	full := m.Path(root)
	if _, err := os.Lstat(full); errors.Is(err, fs.ErrNotExist) {
		if err := os.Rename(stage, full); err != nil {
			return err
		}
		return flush(filepath.Dir(full))
	}
	err := unix.Renameat2(unix.AT_FDCWD, stage, unix.AT_FDCWD, full, unix.RENAME_EXCHANGE)
	if err == nil {
		return flush(filepath.Dir(full))
	}
	if !errors.Is(err, syscall.EXDEV) && !errors.Is(err, syscall.EINVAL) {
		return fmt.Errorf("switch %s to the new tree: %w", root, err)
	}
	j.Say("this file system cannot exchange %s as a whole; its files are replaced one by one, each at once", root)
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
			if err := os.MkdirAll(to, 0o755); err != nil {
				return err
			}
			if err := os.Chown(to, int(it.stat.Uid), int(it.stat.Gid)); err != nil {
				return err
			}
			if err := os.Chmod(to, os.FileMode(it.stat.Mode&0o777)); err != nil {
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
			err = os.MkdirAll(dst, os.FileMode(it.stat.Mode&0o777))
		case syscall.S_IFLNK:
			var target string
			if target, err = os.Readlink(src); err == nil {
				err = os.Symlink(target, dst)
			}
		case syscall.S_IFREG:
			err = copyFile(src, dst, os.FileMode(it.stat.Mode&0o777))
		}
		if err == nil {
			err = os.Lchown(dst, int(it.stat.Uid), int(it.stat.Gid))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func copyFile(src, dst string, mode os.FileMode) error {
	in, err := os.Open(src)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(dst, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err == nil {
		err = out.Chmod(mode)
	}
	if e := out.Close(); err == nil {
		err = e
	}
	return err
}

// dropOldStages removes the trees of earlier publications; the one before this
// stays, for taking back.
func dropOldStages(m *platform.Machine, root, keep string) {
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

// dropBlobs removes pieces that are published now.
func dropBlobs(m *platform.Machine, w stake.ContentWork) {
	left, err := filepath.Glob(m.State("blobs", "?", "*"))
	if err != nil || len(left) == 0 {
		return
	}
	published := map[string]bool{}
	for _, f := range w.Files {
		published[f.SHA256] = true
	}
	for _, file := range left {
		if published[filepath.Base(file)] {
			os.Remove(file)
		}
	}
}

func backContent(_ context.Context, m *platform.Machine, _ Job, w stake.ContentWork, b contentBefore) error {
	if b.One != nil {
		return backOne(m, w, b)
	}
	stage, root := m.Path(b.Stage), m.Path(w.Root)
	now, err := inodeOf(root)
	if err != nil {
		return err
	}
	former := formerTree(stage)
	switch {
	case now == b.Inode:
		if _, err := os.Lstat(former); err == nil { // it was replaced file by file
			if err := replaceFiles(root, former); err != nil {
				return err
			}
		}
	case b.Entry.Kind == "":
		if err := os.MkdirAll(filepath.Dir(stage), 0o700); err != nil {
			return err
		}
		if err := os.Rename(root, stage); err != nil {
			return err
		}
	default:
		if err := unix.Renameat2(unix.AT_FDCWD, stage, unix.AT_FDCWD, root, unix.RENAME_EXCHANGE); err != nil {
			return fmt.Errorf("switch %s back to the former tree: %w", w.Root, err)
		}
	}
	if err := flush(filepath.Dir(root)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, left := range []string{former, former + ".part"} {
		if err := os.RemoveAll(left); err != nil {
			return err
		}
	}
	if err := os.RemoveAll(stage); err != nil {
		return err
	}
	os.Remove(m.Path(stageDir(w.Root))) // stays when it holds other trees
	if len(b.Made) > 0 {
		return removeEmpty(m, b.Made[:len(b.Made)-1])
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
