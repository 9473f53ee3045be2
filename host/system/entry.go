package system

import (
	"io/fs"
	"syscall"
	"time"

	"northstake/core/wire"
)

func lstat(path string) (*syscall.Stat_t, error) {
	var s syscall.Stat_t
	if err := syscall.Lstat(path, &s); err != nil {
		return nil, &fs.PathError{Op: "lstat", Path: path, Err: err}
	}
	return &s, nil
}

// Entry reads what lies at a path, without following a link.
func (m *Machine) Entry(path wire.Path) (wire.Entry, error) {
	s, err := m.Sight()
	if err != nil {
		return wire.Entry{}, err
	}
	return s.Entry(path)
}

// EntryOf describes a stat(2) result; a link's target is left out.
func EntryOf(s *syscall.Stat_t, names *Names) wire.Entry {
	owner := names.User(int(s.Uid))
	return wire.Entry{
		Kind: kindOfMode(s.Mode), Owners: wire.Owners{Owner: owner, Group: names.Group(int(s.Gid))},
		Mode:      wire.ModeOf(s.Mode),
		AlsoOwner: names.AlsoUser(int(s.Uid)), AlsoGroup: names.AlsoGroup(int(s.Gid)),
		Touched: wire.Touch{Owner: owner, At: time.Unix(s.Ctim.Unix()).UTC()},
	}
}

func kindOfMode(mode uint32) string {
	switch mode & syscall.S_IFMT {
	case syscall.S_IFDIR:
		return wire.EntryDirectory
	case syscall.S_IFREG:
		return wire.EntryFile
	case syscall.S_IFLNK:
		return wire.EntryLink
	case syscall.S_IFIFO:
		return "pipe"
	case syscall.S_IFSOCK:
		return "socket"
	}
	return "device"
}

// Mounted says whether a file system is mounted at a path.
func (m *Machine) Mounted(path wire.Path) bool {
	here, err := lstat(m.Path(path))
	above, err2 := lstat(m.Path(path.Dir()))
	return err == nil && err2 == nil && here.Mode&syscall.S_IFMT == syscall.S_IFDIR && here.Dev != above.Dev
}
