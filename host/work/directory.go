package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
)

// directoryBefore is what lay at the path, and which of its parents the step
// has to make.
type directoryBefore struct {
	Entry wire.Entry  `json:"entry"`
	Made  []wire.Path `json:"made,omitempty"` // outermost first, the path itself included
}

var _ = register("directory", ownParents(joining(placed(typed[wire.DirectoryAsked, wire.DirectoryWork, directoryBefore]{
	read: sighted(readDirectory), before: beforeDirectory, do: doDirectory, back: backDirectory, early: true,
}, func(w wire.DirectoryWork) spot { return spot{w.Path, w.Owners, w.Away} }))))

// ownParents has each of several directories count as its own only what none before it makes: a
// directory within another is taken back by whoever may write there, who may not remove that one.
func ownParents(all typed[wire.DirectoryAsked, wire.Works[wire.DirectoryWork], befores[directoryBefore]]) typed[wire.DirectoryAsked, wire.Works[wire.DirectoryWork], befores[directoryBefore]] {
	look := all.before
	all.before = func(ctx context.Context, m *Host, j Job, works wire.Works[wire.DirectoryWork]) (befores[directoryBefore], error) {
		out, err := look(ctx, m, j, works)
		made := map[wire.Path]bool{}
		for i := range out {
			out[i].Made = slices.DeleteFunc(out[i].Made, func(p wire.Path) bool { return made[p] })
			for _, p := range out[i].Made {
				made[p] = true
			}
		}
		return out, err
	}
	return all
}

func readDirectory(m *Host, s *system.Sight, w wire.DirectoryAsked) (any, error) {
	e, err := s.Entry(w.Path)
	f := wire.DirectoryFound{Entry: e, Nobody: s.Names.Without(w.Owners)}
	if err == nil && e.Kind == wire.EntryDirectory && w.Holds {
		err = s.ByWhoMay(w.Path, func() (err error) {
			f.Holds, err = holds(m.Path(w.Path))
			return err
		})
	}
	return f, err
}

// holds lists what lies in a directory.
func holds(dir string) ([]string, error) {
	f, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	names, err := f.Readdirnames(wire.DirectoryListed)
	if errors.Is(err, io.EOF) {
		return nil, nil
	}
	slices.Sort(names)
	return names, err
}

func beforeDirectory(_ context.Context, m *Host, _ Job, w wire.DirectoryWork) (directoryBefore, error) {
	e, err := m.Entry(w.Path)
	return directoryBefore{Entry: e, Made: m.MissingParents(w.Path)}, err
}

func doDirectory(_ context.Context, m *Host, j Job, w wire.DirectoryWork, b directoryBefore) (wire.StepState, error) {
	if w.Away {
		err := m.RemoveEmpty([]wire.Path{w.Path})
		if err == nil && m.Exists(w.Path) {
			j.Say("left %s as it is: it holds something", w.Path)
		}
		return wire.Done, err
	}
	now, err := m.Entry(w.Path)
	if err != nil {
		return "", err
	}
	switch now.Kind {
	case wire.EntryLink:
		if err := os.Remove(m.Path(w.Path)); err != nil {
			return "", err
		}
	case "", wire.EntryDirectory:
	default:
		return "", &wire.Fault{What: fmt.Sprintf("%s is %s", w.Path, now.Words()), Fix: "move it away"}
	}
	if err := os.MkdirAll(m.Path(w.Path), 0o755); err != nil {
		return "", err
	}
	return wire.Done, setDirectory(m, w.Path, w.Owners, w.Mode)
}

// setDirectory gives a directory its owner, group and mode: the one that it has opened, whatever takes
// its place meanwhile.
func setDirectory(m *Host, path wire.Path, owners wire.Owners, mode wire.Mode) error {
	bits, err := system.FileMode(mode)
	if err != nil {
		return err
	}
	names, err := m.Names()
	if err != nil {
		return err
	}
	uid, gid, err := names.IDs(owners)
	if err != nil {
		return err
	}
	d, err := os.OpenFile(m.Path(path), os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer d.Close()
	var s unix.Stat_t
	if err := unix.Fstat(int(d.Fd()), &s); err != nil {
		return err
	}
	if int(s.Uid) != uid || int(s.Gid) != gid {
		if err := d.Chown(uid, gid); err != nil {
			return err
		}
	}
	if err := d.Chmod(bits); err != nil {
		return err
	}
	return system.Flush(filepath.Dir(m.Path(path)))
}

// backDirectory gives back the owner, the group and the mode that the step changed, each if
// nobody has changed it since.
func backDirectory(_ context.Context, m *Host, j Job, w wire.DirectoryWork, b directoryBefore) error {
	now, err := m.Entry(w.Path)
	if err != nil {
		return err
	}
	switch b.Entry.Kind {
	case wire.EntryDirectory:
		return backToDirectory(m, j, w, b.Entry, now)
	case wire.EntryLink:
		return backToLink(m, j, w, b.Entry, now)
	}
	return m.RemoveEmpty(b.Made)
}

// backToDirectory gives back what the step changed of a directory, or the directory that it took away.
func backToDirectory(m *Host, j Job, w wire.DirectoryWork, was, now wire.Entry) error {
	switch {
	case now.Kind == "" && w.Away:
		if err := os.Mkdir(m.Path(w.Path), 0o700); err != nil {
			return err
		}
		return setDirectory(m, w.Path, was.Owners, was.Mode)
	case now.Kind == "":
		return nil
	case now.Kind != wire.EntryDirectory:
		leave(j, string(w.Path), "")
		return nil
	}
	owners, mode := now.Owners, string(now.Mode)
	for _, one := range []struct {
		now          *string
		also         []string // other names of it
		before, left string
	}{{&owners.Owner, now.AlsoOwner, was.Owner, w.Owner}, {&owners.Group, now.AlsoGroup, was.Group, w.Group}, {&mode, nil, string(was.Mode), string(w.Mode)}} {
		switch {
		case *one.now == one.before:
		case *one.now == one.left || slices.Contains(one.also, one.left):
			*one.now = one.before
		default:
			leave(j, string(w.Path), ": it is "+*one.now+" now, and was "+one.before+" before")
		}
	}
	if owners == now.Owners && mode == string(now.Mode) {
		return nil
	}
	err := setDirectory(m, w.Path, owners, wire.Mode(mode))
	if err != nil || owners != was.Owners || mode != string(was.Mode) {
		return err // something of it is somebody's of later
	}
	return system.Self(func() error { return m.NoteOwn(w.Path, was.Touched) })
}

// backToLink puts back the link in whose place the step made a directory.
func backToLink(m *Host, j Job, w wire.DirectoryWork, was, now wire.Entry) error {
	if now.Kind == wire.EntryDirectory {
		err := m.RemoveEmpty([]wire.Path{w.Path})
		if err != nil {
			return err
		}
		if now, err = m.Entry(w.Path); err != nil {
			return err
		}
	}
	switch {
	case now.Kind == "":
		return system.LinkAtomically(was.Target, m.Path(w.Path))
	case now.Kind != wire.EntryLink || now.Target != was.Target:
		leave(j, string(w.Path), ": it was a link to "+was.Target)
	}
	return nil
}
