package publish

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sort"
	"strings"
	"syscall"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"northstake/core/stake"
	"northstake/host/system"
)

// buildTree makes the whole new tree ready beside the live one and flushes it to
// disk. Unchanged files are linked, files that nobody declared carried over.
func buildTree(m *system.Machine, w stake.ContentWork, stage string) error {
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
				if err := sameDirectory(to, &it.stat); err != nil {
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

// sameDirectory makes a directory with the owner, group and mode of another, its bits for
// groups and deletion too: who could write there still can.
func sameDirectory(at string, s *syscall.Stat_t) error {
	if err := os.MkdirAll(at, 0o755); err != nil {
		return err
	}
	if err := os.Chown(at, int(s.Uid), int(s.Gid)); err != nil {
		return err
	}
	return unix.Chmod(at, s.Mode&0o7777)
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
