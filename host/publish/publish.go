// Package publish puts content into place on a host, in one instant, and takes it back.
// Whatever nobody declared is there afterwards as it was, and so is what was written to the
// tree meanwhile.
package publish

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
)

// Before is where the tree that a step replaces is kept. Entry is what
// lay at the root; Made are the directories above it that the step makes; One is
// there when a single file is put into place and not a tree.
type Before struct {
	Entry wire.Entry  `json:"entry"`
	Made  []wire.Path `json:"made,omitempty"`
	Stage wire.Path   `json:"stage"` // the new tree before the switch, the old one after it
	Inode uint64      `json:"inode"` // of what lay at the root
	One   *oneFile    `json:"one,omitempty"`
}

// stageDir is where new trees are made ready: on the file system of the root,
// in a directory that a web server cannot enter.
func stageDir(root wire.Path) wire.Path { return root.Dir().Join(".northstake") }

// Prepare notes what lies at the root, and where the new tree is made ready. Step is a
// name that no other publication at the root has.
func Prepare(m *system.Machine, step string, w wire.ContentWork) (Before, error) {
	if err := w.Sound(); err != nil {
		return Before{}, err
	}
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
		Stage: stageDir(w.Root).Join(w.Root.Base() + "." + step)}, nil
}

// Do publishes. It can be called again after it was cut off.
func Do(m *system.Machine, w wire.ContentWork, b Before, say func(string, ...any)) error {
	if err := w.Sound(); err != nil {
		return err
	}
	if e, err := m.Entry(w.Root); err != nil {
		return err
	} else if e.Kind != "" && e.Kind != wire.EntryDirectory && e.Kind != wire.EntryLink {
		return &wire.Fault{What: fmt.Sprintf("%s is %s", w.Root, e.Words()), Fix: "move it away"}
	}
	if err := os.MkdirAll(filepath.Dir(m.Path(w.Root)), 0o755); err != nil {
		return err
	}
	if err := ownStages(m, w.Root); err != nil {
		return err
	}
	var err error
	if b.One != nil {
		err = publishOne(m, w, b)
	} else {
		err = publishTree(m, w, b, say)
	}
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return &wire.Fault{What: "the disk is full: " + err.Error(), Fix: "the old content is whole and still served; make room on the host"}
	}
	if err == nil {
		err = dropOldStages(m, w, b.Stage)
	}
	if err != nil {
		return err
	}
	if w.Away {
		return removeEmptied(m, w, b)
	}
	return system.Self(func() error { return dropBlobs(m, w) })
}

// ownStages makes the directory where trees are made ready. One that somebody else has made there
// beforehand, or a link, is none: what lies in it is removed as our own. Below what a user can change
// it is that user's, as all that is done there.
func ownStages(m *system.Machine, root wire.Path) error {
	dir := m.Path(stageDir(root))
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return soundStages(m, root)
}

// ourStages is what is wrong with that directory for somebody who takes back what lies in it by root's
// rights. By a user's own it does not matter: it leads no further than the user gets.
func ourStages(m *system.Machine, root wire.Path) error {
	if system.Borrowed() {
		return nil
	}
	return soundStages(m, root)
}

// soundStages is what is wrong with the directory where trees are made ready, nil where there is none.
func soundStages(m *system.Machine, root wire.Path) error {
	var s syscall.Stat_t
	if err := syscall.Lstat(m.Path(stageDir(root)), &s); err != nil {
		return unlessGone(&fs.PathError{Op: "lstat", Path: string(stageDir(root)), Err: err})
	}
	if s.Mode&unix.S_IFMT != unix.S_IFDIR || int(s.Uid) != system.RightsOf() || s.Mode&0o077 != 0 {
		return &wire.Fault{What: fmt.Sprintf("%s is there already, and is not a directory of North Stake's own", stageDir(root)), Fix: "look at who has made it, and take it away"}
	}
	return nil
}

// publishTree makes a whole tree ready, switches to it, and brings into it what was
// written to the former one in between.
func publishTree(m *system.Machine, w wire.ContentWork, b Before, say func(string, ...any)) error {
	stage, root := m.Path(b.Stage), m.Path(w.Root)
	if switched, err := wasSwitched(stage, root, b); err != nil {
		return err
	} else if !switched {
		if err := system.RemoveTree(stage); err != nil {
			return err
		}
		in, err := inPlace(w, root)
		if err != nil {
			return err
		}
		since, err := buildTree(m, w, stage, in)
		if err != nil {
			return err
		}
		if in {
			return switchSlowly(m, w, stage)
		}
		if err := since.keep(stage); err != nil {
			return err
		}
		if slowly, err := switchTree(m, w, stage, say); err != nil || slowly {
			return err
		}
	}
	if b.Entry.Kind != wire.EntryDirectory || w.Away && !m.Exists(w.Root) {
		return nil
	}
	return followLate(m, w, b)
}

// inPlace says whether files are put into the tree that lies there one by one, because the tree
// itself has to stay: a container sees it, something is mounted in it, or it holds what is another's
// than the user's by whose rights it is published, who cannot carry that over.
func inPlace(w wire.ContentWork, root string) (bool, error) {
	if s, err := os.Lstat(root); err != nil || !s.IsDir() {
		return false, nil
	}
	if w.Seen != "" {
		return true, nil
	}
	if mounts, err := system.MountsBelow(root); err != nil || len(mounts) > 0 {
		return true, err
	}
	if !system.Borrowed() {
		return false, nil
	}
	items, err := walk(root)
	return slices.ContainsFunc(items, func(it item) bool { return int(it.stat.Uid) != system.RightsOf() }), err
}

// followLate brings into the live tree what was written to the former one since its census.
func followLate(m *system.Machine, w wire.ContentWork, b Before) error {
	own, err := ownPaths(w)
	if err != nil {
		return err
	}
	since, err := censusOf(m.Path(b.Stage))
	if err != nil || since == nil {
		return err
	}
	_, err = follow(m.Path(b.Stage), m.Path(w.Root), since, true, own.has)
	return err
}

// wasSwitched says whether the stage holds the former tree already.
func wasSwitched(stage, root string, b Before) (bool, error) {
	now, err := inodeOf(root)
	if err != nil || now == b.Inode {
		return false, err
	}
	if _, err := os.Lstat(censusFile(stage)); err != nil {
		return false, nil
	}
	former, err := inodeOf(stage)
	return former == b.Inode, err
}

// owned are the paths of a tree that a publication makes or takes out.
type owned struct {
	tree wantedTree
	drop map[string]bool
}

func ownPaths(w wire.ContentWork) (owned, error) {
	tree, err := treeOf(w.ContentWant)
	o := owned{tree, map[string]bool{}}
	for _, p := range w.Drop {
		o.drop[p] = true
	}
	return o, err
}

func (o owned) has(p string) bool {
	_, file := o.tree.files[p]
	return file || o.tree.dirs[p] || o.drop[p] || underFile(o.tree, p)
}

// Back brings back what Prepare noted, whatever of Do has happened. It touches only what
// is still as the step left it: what somebody has changed since stays, and so does what
// nobody declared. Say tells what was left, and where the former bytes are.
func Back(m *system.Machine, w wire.ContentWork, b Before, say func(string, ...any)) error {
	if b.Stage == "" {
		return fmt.Errorf("take %s back: nobody has noted what was there", w.Root)
	}
	if err := ourStages(m, w.Root); err != nil {
		return err
	}
	if b.One != nil {
		return backOne(m, w, b, say)
	}
	stage, root := m.Path(b.Stage), m.Path(w.Root)
	own, err := ownPaths(w)
	if err != nil {
		return err
	}
	k := keeper{m: m, w: w, b: b, say: say}
	now, err := inodeOf(root)
	if err != nil {
		return err
	}
	switch {
	case now == b.Inode && wasExchanged(stage):
		err = k.bringOver(own, false) // again, after it was cut off
	case now == b.Inode:
		err = k.backSlowly()
	case b.Entry.Kind == "":
		err = k.emptyTree(own)
	default:
		err = k.switchBack(own)
	}
	if err != nil {
		return err
	}
	if err := system.Flush(filepath.Dir(root)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, left := range leftovers(stage) {
		if err := system.RemoveTree(left); err != nil {
			return err
		}
	}
	unix.Rmdir(m.Path(stageDir(w.Root))) // stays when it holds other trees
	if len(b.Made) > 0 && now != b.Inode {
		return m.RemoveEmpty(b.Made)
	}
	return nil
}

// switchBack exchanges the trees, and brings into the former one what others have written
// to the newer one since. Whoever may move the trees may have done so at any time.
func (k keeper) switchBack(own owned) error {
	stage, root := k.m.Path(k.b.Stage), k.m.Path(k.w.Root)
	if kept, err := inodeOf(stage); err != nil {
		return err
	} else if kept != k.b.Inode { // it was not switched yet, or the former tree is not there any more
		k.say("left %s as it is: somebody else has moved its trees meanwhile", k.w.Root)
		return nil
	}
	if k.w.Away && !k.m.Exists(k.w.Root) { // it was empty, and went
		return os.Rename(stage, root)
	}
	if err := onlyPresent(stage); err != nil {
		return err
	}
	if err := putBackAt(stage, root); err != nil {
		return fmt.Errorf("switch %s back to the former tree: %w", k.w.Root, err)
	}
	return k.bringOver(own, true)
}

// wasExchanged says whether a stage holds a tree that was made ready for an exchange, or lay at the
// root until it was exchanged back.
func wasExchanged(stage string) bool {
	_, slow := os.Lstat(changesFile(stage))
	_, census := os.Lstat(censusFile(stage))
	return slow != nil && census == nil
}

// onlyPresent leaves out of the census what has gone from the tree since: what has come by its name to
// the tree that is live is new to it. The census has the time of the exchange that is next.
func onlyPresent(stage string) error {
	since, err := censusOf(stage)
	if err != nil || since == nil {
		return err
	}
	items, err := walk(stage)
	if err != nil {
		return err
	}
	present := map[string]bool{}
	for _, it := range items {
		present[it.path] = true
	}
	maps.DeleteFunc(since, func(p string, w was) bool { return w.CarriedIn && !present[p] })
	return since.keep(stage)
}

// bringOver brings into the tree that is back what others have written to the newer one, and removes
// that. Whole says that nothing of it was removed yet.
func (k keeper) bringOver(own owned, whole bool) error {
	stage, root := k.m.Path(k.b.Stage), k.m.Path(k.w.Root)
	since, err := censusOf(stage)
	if err != nil {
		return err
	}
	var newer syscall.Stat_t
	if err := syscall.Lstat(stage, &newer); err != nil || newer.Mode&syscall.S_IFMT != syscall.S_IFDIR {
		return unlessGone(err) // nothing that the step had published
	}
	if k.b.Entry.Kind != wire.EntryDirectory { // it was a link, and what that leads to is another's
		return k.keepOthers(stage, own)
	}
	for _, f := range k.w.Files {
		if err := k.keepChanged(stage, root, f); err != nil {
			return err
		}
	}
	for p := range own.drop {
		if s, err := lstatBeneath(stage, p); err != nil {
			return err
		} else if s != nil {
			if err := k.replace(stage, root, p, "it was put there after the step had taken it out"); err != nil {
				return err
			}
		}
	}
	return removeTree(stage, root, since, whole, own.has)
}

// putBackAt exchanges a former tree with what lies at a root, or puts it there where nothing lies.
func putBackAt(stage, root string) error {
	for {
		err := unix.Renameat2(unix.AT_FDCWD, stage, unix.AT_FDCWD, root, unix.RENAME_EXCHANGE)
		if !errors.Is(err, unix.ENOENT) {
			return err
		}
		if err = unix.Renameat2(unix.AT_FDCWD, stage, unix.AT_FDCWD, root, unix.RENAME_NOREPLACE); !errors.Is(err, unix.EEXIST) {
			return err
		}
	}
}

// emptyTree takes files out again of a root that was not there before; one that others
// have written to stays, with what is theirs.
func (k keeper) emptyTree(own owned) error {
	root := k.m.Path(k.w.Root)
	for _, f := range k.w.Files {
		err := system.Beneath(root, f.Path, func(live string) error {
			if isStill(k.m, live, f) {
				return os.Remove(live)
			}
			if _, err := os.Lstat(live); err == nil {
				k.say("left %s as it is: it was changed after the step", k.w.Root.Join(f.Path))
			}
			return nil
		})
		if unlessGone(err) != nil {
			return err
		}
	}
	dirs := []string{}
	for d := range own.tree.dirs {
		dirs = append(dirs, d)
	}
	slices.Sort(dirs)
	for _, d := range append(slices.Collect(backward(dirs)), ".") {
		err := system.Beneath(root, d, unix.Rmdir)
		if errors.Is(err, syscall.ENOTEMPTY) {
			if d == "." {
				k.say("left %s: it holds files that somebody else has put there since", k.w.Root)
			}
		} else if err != nil && unlessGone(err) != nil {
			return &fs.PathError{Op: "rmdir", Path: string(k.w.Root.Join(d)), Err: err}
		}
	}
	return nil
}

// keepOthers puts what others have written to a tree that is taken away where it can be
// found, and removes the rest of it.
func (k keeper) keepOthers(stage string, own owned) error {
	items, err := walk(stage)
	if err != nil {
		return err
	}
	kept := 0
	for _, it := range items[1:] {
		if it.stat.Mode&syscall.S_IFMT == syscall.S_IFDIR {
			continue
		}
		err := system.Beneath(stage, it.path, func(at string) error {
			if f, err := fileAt(k.w.Files, it.path); err == nil && isStill(k.m, at, f) {
				return nil
			}
			kept++
			return k.aside(at, it.path)
		})
		if unlessGone(err) != nil {
			return err
		}
	}
	if kept > 0 {
		k.say("%d files that others had written to %s are kept in %s", kept, k.w.Root, k.place(""))
	}
	return nil
}

func backward(list []string) func(func(string) bool) {
	return func(yield func(string) bool) {
		for _, v := range slices.Backward(list) {
			if !yield(v) {
				return
			}
		}
	}
}
