// Package publish puts a tree of files into place on a host as a whole, in one instant,
// and takes it back; and it compares a tree with what is wanted there.
package publish

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/core/stake"
	"northstake/host/rod"
	"northstake/host/system"
)

// Before is where the tree that a step replaces is kept. Entry is what
// lay at the root; Made are the directories above it that the step makes; One is
// there when a single file is put into place and not a tree.
type Before struct {
	Entry stake.Entry `json:"entry"`
	Made  []string    `json:"made,omitempty"`
	Stage string      `json:"stage"` // the new tree before the switch, the old one after it
	Inode uint64      `json:"inode"` // of what lay at the root
	One   *oneFile    `json:"one,omitempty"`
}

// stageDir is where new trees are made ready: on the file system of the root,
// in a directory that a web server cannot enter.
func stageDir(root string) string { return filepath.Join(filepath.Dir(root), ".northstake") }

// Prepare notes what lies at the root, and where the new tree is made ready. Step is a
// name that no other publication at the root has.
func Prepare(m *system.Machine, step string, w stake.ContentWork) (Before, error) {
	e, err := m.Entry(w.Root)
	if err != nil {
		return Before{}, err
	}
	inode, err := inodeOf(m.Path(w.Root))
	if err != nil {
		return Before{}, err
	}
	one, err := onlyChange(m, w)
	if err != nil {
		return Before{}, err
	}
	return Before{Entry: e, Made: m.MissingParents(w.Root), Inode: inode, One: one,
		Stage: filepath.Join(stageDir(w.Root), filepath.Base(w.Root)+"."+step)}, nil
}

// Do publishes. It can be called again after it was cut off.
func Do(m *system.Machine, w stake.ContentWork, b Before, say func(string, ...any)) error {
	if e, err := m.Entry(w.Root); err != nil {
		return err
	} else if e.Kind != "" && e.Kind != "directory" && e.Kind != "link" {
		return &rod.Fault{What: fmt.Sprintf("%s is %s", w.Root, e.Words()), Fix: "move it away"}
	}
	if err := os.MkdirAll(filepath.Dir(m.Path(w.Root)), 0o755); err != nil {
		return err
	}
	if err := os.MkdirAll(m.Path(stageDir(w.Root)), 0o700); err != nil {
		return err
	}
	stage := m.Path(b.Stage)
	if err := os.RemoveAll(stage); err != nil {
		return err
	}
	var err error
	if b.One != nil {
		err = publishOne(m, w, b)
	} else if err = buildTree(m, w, stage); err == nil {
		err = switchTree(m, w.Root, stage, say)
	}
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return &rod.Fault{What: "the disk is full: " + err.Error(), Fix: "the old content is whole and still served; make room on the host"}
	}
	if err != nil {
		return err
	}
	dropOldStages(m, w.Root, b.Stage)
	dropBlobs(m, w)
	return nil
}

// Back brings back what Prepare noted, whatever of Do has happened.
func Back(m *system.Machine, w stake.ContentWork, b Before) error {
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
	if err := system.Flush(filepath.Dir(root)); err != nil && !errors.Is(err, fs.ErrNotExist) {
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
		return m.RemoveEmpty(b.Made[:len(b.Made)-1])
	}
	return nil
}
