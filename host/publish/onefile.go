package publish

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
)

// oneFile is the only file of a tree that is not as wanted. It is put into place by
// itself: one rename is as whole as the exchange of the tree, and the other files are
// not touched, so that their sums stay known.
type oneFile struct {
	Path  string `json:"path"`  // relative to the root
	Inode uint64 `json:"inode"` // of what lies there, 0 for nothing
}

// onlyChange finds the file that alone is to be published, nil where the tree has to
// be exchanged as a whole.
func onlyChange(m *system.Machine, w wire.ContentWork) (*oneFile, error) {
	var root syscall.Stat_t
	if len(w.Drop) > 0 || syscall.Lstat(m.Path(w.Root), &root) != nil || root.Mode&syscall.S_IFMT != syscall.S_IFDIR {
		return nil, nil
	}
	o, err := ownershipOf(m, w.ContentWant)
	if err != nil || int(root.Uid) != o.uid || int(root.Gid) != o.gid || root.Mode&0o7777 != system.Bits(o.dirMode) {
		return nil, nil // doing the step says what is wrong with an owner
	}
	tree, err := treeOf(w.ContentWant)
	if err != nil {
		return nil, err
	}
	found, err := Read(m, Wanted{ContentWant: w.ContentWant, tree: tree})
	if err != nil {
		return nil, err
	}
	p := onlyPath(found)
	if _, declared := tree.files[p]; !declared {
		return nil, nil
	}
	parent, err := lstatBeneath(m.Path(w.Root), filepath.Dir(p))
	if err != nil || parent == nil || parent.Mode&syscall.S_IFMT != syscall.S_IFDIR {
		return nil, err
	}
	s, err := lstatBeneath(m.Path(w.Root), p)
	switch {
	case err != nil:
		return nil, err
	case s == nil:
		return &oneFile{p, 0}, nil
	case s.Mode&syscall.S_IFMT == syscall.S_IFDIR:
		return nil, nil
	}
	return &oneFile{p, s.Ino}, nil
}

// onlyPath is the path at which alone a tree is not as wanted, "" where there are more, or none.
func onlyPath(found wire.ContentFound) string {
	if found.Missings != len(found.Missing) || found.Offs != len(found.Off) {
		return "" // not all of them were told
	}
	paths := slices.Clone(found.Missing)
	for _, off := range found.Off {
		paths = append(paths, off.Path)
	}
	slices.Sort(paths)
	if paths = slices.Compact(paths); len(paths) != 1 {
		return ""
	}
	return paths[0]
}

// publishOne puts the only file that is not as wanted into place. What lay there is
// kept beside the stage.
func publishOne(m *system.Machine, w wire.ContentWork, b Before) error {
	return system.Beneath(m.Path(w.Root), b.One.Path, func(live string) error { return publishAt(m, w, b, live) })
}

func publishAt(m *system.Machine, w wire.ContentWork, b Before, live string) error {
	stage := m.Path(b.Stage)
	f, err := fileAt(w.Files, b.One.Path)
	if err != nil {
		return err
	}
	if now, err := inodeOf(live); err != nil {
		return err
	} else if now != b.One.Inode {
		return publishedAlready(m, live, f)
	}
	o, err := ownershipOf(m, w.ContentWant)
	if err != nil {
		return err
	}
	if err := system.RemoveTree(stage); err != nil {
		return err
	}
	same := ""
	if !wasSent(m, f.SHA256) {
		sums, err := liveSums(m, w.ContentWant)
		if err != nil {
			return err
		}
		same = sums[f.SHA256]
	}
	if err := placeLike(m, f, m.Path(w.Root), live, stage, same, true, o); err != nil {
		return fmt.Errorf("publish %s: %w", f.Path, err)
	}
	if err := system.Flush(stage); err != nil {
		return err
	}
	if b.One.Inode != 0 {
		former := formerTree(stage)
		if err := system.RemoveTree(former); err != nil {
			return err
		}
		if err := os.Link(live, former); err != nil {
			return err
		}
		if err := system.Flush(filepath.Dir(former)); err != nil {
			return err
		}
	}
	if err := os.Rename(stage, live); err != nil {
		return err
	}
	return system.Flush(filepath.Dir(live))
}

// publishedAlready accepts a file that was put into place before the step was cut
// off, and no other.
func publishedAlready(m *system.Machine, live string, f wire.File) error {
	if isStill(m, live, f) {
		return nil
	}
	return &wire.Fault{What: fmt.Sprintf("%s has changed since the step began", f.Path), Fix: "plan the host again"}
}

// backOne brings the former file back, unless somebody has changed the new one since.
func backOne(m *system.Machine, w wire.ContentWork, b Before, say func(string, ...any)) error {
	err := system.Beneath(m.Path(w.Root), b.One.Path, func(live string) error { return backAt(m, w, b, live, say) })
	if unlessGone(err) != nil { // without a former file nothing was put into place
		return err
	}
	stage := m.Path(b.Stage)
	for _, left := range []string{stage, formerTree(stage)} {
		if err := system.RemoveTree(left); err != nil {
			return err
		}
	}
	unix.Rmdir(m.Path(stageDir(w.Root))) // stays when it holds other trees
	return nil
}

func backAt(m *system.Machine, w wire.ContentWork, b Before, live string, say func(string, ...any)) error {
	former := formerTree(m.Path(b.Stage))
	f, err := fileAt(w.Files, b.One.Path)
	if err != nil {
		return err
	}
	now, err := inodeOf(live)
	if err != nil {
		return err
	}
	switch still := isStill(m, live, f); {
	case now == b.One.Inode: // nothing was put into place
	case b.One.Inode == 0 && still:
		err = os.Remove(live)
	case b.One.Inode == 0: // it is somebody else's
	case still || now == 0:
		err = os.Rename(former, live)
	default:
		k := keeper{m: m, w: w, b: b, say: say}
		if err = k.aside(former, b.One.Path); err == nil {
			say("left %s as it is: it was changed after the step; what was there before is kept in %s", w.Root.Join(b.One.Path), k.place(b.One.Path))
		}
	}
	if err != nil {
		return err
	}
	return system.Flush(filepath.Dir(live))
}
