package publish

import (
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
)

// removeEmptied removes the directories of a tree that was taken away, the root with them,
// as far as they hold nothing. Where files went one by one, the root is the former one, and
// stays for taking back.
func removeEmptied(m *system.Machine, w wire.ContentWork, b Before) error {
	root := m.Path(w.Root)
	tree, err := treeOf(w.ContentWant)
	if err != nil {
		return err
	}
	if now, err := inodeOf(root); err != nil || now == b.Inode {
		return err
	}
	dirs := []string{"."}
	for d := range tree.dirs {
		dirs = append(dirs, d)
	}
	slices.Sort(dirs)
	for _, d := range slices.Backward(dirs) {
		err := system.Beneath(root, d, unix.Rmdir)
		if err != nil && !errors.Is(err, syscall.ENOTEMPTY) && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, syscall.ENOTDIR) {
			return &fs.PathError{Op: "rmdir", Path: string(w.Root.Join(d)), Err: err}
		}
	}
	return system.Flush(filepath.Dir(root))
}

// Close ends a publication whose run has ended well. What came to the former tree late, by
// programs that had begun with it when the trees were exchanged, is followed once more; the
// tree itself is kept until the next publication. One that was taken away is let go of, and
// what somebody still wrote to it goes into what is left at the root.
func Close(m *system.Machine, w wire.ContentWork, b Before) error {
	if err := ourStages(m, w.Root); err != nil {
		return err
	}
	stage := m.Path(b.Stage)
	if !w.Away {
		if b.One != nil || b.Entry.Kind != wire.EntryDirectory {
			return nil
		}
		if switched, err := wasSwitched(stage, m.Path(w.Root), b); err != nil || !switched {
			return err
		}
		return followLate(m, w, b)
	}
	since, err := censusOf(stage)
	if err != nil {
		return err
	}
	own, err := ownPaths(w)
	if err != nil {
		return err
	}
	if since != nil {
		err = removeTree(stage, m.Path(w.Root), since, false, since.ours(own))
		if err != nil {
			return err
		}
	}
	for _, left := range leftovers(stage) {
		if err := system.RemoveTree(left); err != nil {
			return err
		}
	}
	unix.Rmdir(m.Path(stageDir(w.Root))) // stays when it holds other trees
	return nil
}

// leftovers are what a publication keeps for taking it back.
func leftovers(stage string) []string {
	return []string{stage, stage + goneSuffix, formerTree(stage), censusFile(stage), censusFile(stage) + newSuffix, changesFile(stage)}
}
