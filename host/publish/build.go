package publish

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
)

// buildTree makes the whole new tree ready beside the live one and flushes it to
// disk. Unchanged files are linked, files that nobody declared carried over. It returns
// what was in the live tree.
func buildTree(m *system.Machine, w wire.ContentWork, stage string, inPlace bool) (census, error) {
	o, err := ownershipOf(m, w.ContentWant)
	if err != nil {
		return nil, err
	}
	live, err := liveSums(m, w.ContentWant)
	if err != nil {
		return nil, err
	}
	tree, err := treeOf(w.ContentWant)
	if err != nil {
		return nil, err
	}
	dirs := []string{"."}
	for d := range tree.dirs {
		dirs = append(dirs, d)
	}
	sort.Strings(dirs)
	for _, d := range dirs {
		if err := os.MkdirAll(filepath.Join(stage, d), 0o700); err != nil {
			return nil, err
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
		placing.Go(system.Lent(func() error {
			if err := placeFile(m, f, root, filepath.Join(stage, f.Path), live[f.SHA256], uses[f.SHA256] == 1, o); err != nil {
				return fmt.Errorf("publish %s: %w", f.Path, err)
			}
			return nil
		}))
	}
	if err := placing.Wait(); err != nil {
		return nil, err
	}
	var was census
	if !inPlace { // what else is there stays where it is
		if was, err = carryOver(root, stage, tree, w.Drop); err != nil {
			return nil, err
		}
	}
	for _, d := range slices.Backward(dirs) {
		err := system.Beneath(root, d, func(live string) error { return system.SameAttributes(live, filepath.Join(stage, d)) })
		if err != nil && !errors.Is(err, fs.ErrNotExist) && !isNoDirectory(err) {
			return nil, err
		}
		if err := o.directory(filepath.Join(stage, d)); err != nil {
			return nil, err
		}
	}
	d, err := os.Open(stage)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return was, unix.Syncfs(int(d.Fd()))
}

// directory gives a directory its declared owner and mode.
func (o ownership) directory(at string) error {
	return giveDirectory(at, o.uid, o.gid, system.Bits(o.dirMode))
}

// giveDirectory gives the directory that is at a path, and nothing that a link leads to, an owner and a
// mode.
func giveDirectory(at string, uid, gid int, mode uint32) error {
	fd, err := unix.Open(at, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return &fs.PathError{Op: "open", Path: at, Err: err}
	}
	defer unix.Close(fd)
	if err := unix.Fchown(fd, uid, gid); err != nil {
		return &fs.PathError{Op: "chown", Path: at, Err: err}
	}
	if err := unix.Fchmod(fd, mode); err != nil {
		return &fs.PathError{Op: "chmod", Path: at, Err: err}
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
