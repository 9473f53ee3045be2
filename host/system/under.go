package system

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// Control is who, beside root, can change which directory above a path, and so what lies at it: a
// user, a group, or everybody.
type Control struct {
	Who string
	At  string
	UID int // of a user, -1 otherwise
}

// maxLinks bounds the links on a path, as the kernel does.
const maxLinks = 40

// Under says who can change what lies at a path by what is above it, nil for root alone. The path is
// walked one name at a time, through links: whoever owns one of those leads wherever they like. It is
// the rule by which systemd refuses unsafe path transitions, with directories that others may write to
// besides.
func (m *Machine) Under(path string, names *Names) (*Control, error) {
	me := os.Geteuid()
	at, rest := "/", strings.Split(strings.Trim(filepath.Dir(path), "/"), "/")
	for links := 0; ; {
		s, err := lstat(m.Path(at))
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
			return nil, nil // what is not there is made by who asks
		}
		if err != nil {
			return nil, err
		}
		owned := int(s.Uid) != 0 && int(s.Uid) != me
		switch kind := s.Mode & syscall.S_IFMT; {
		case owned:
			return &Control{names.User(int(s.Uid)), at, int(s.Uid)}, nil
		case kind == syscall.S_IFLNK:
			if links++; links > maxLinks {
				return nil, fmt.Errorf("%s: too many links", path)
			}
			target, err := os.Readlink(m.Path(at))
			if err != nil {
				return nil, err
			}
			if !filepath.IsAbs(target) {
				target = filepath.Join(filepath.Dir(at), target)
			}
			at, rest = "/", append(strings.Split(strings.Trim(filepath.Clean(target), "/"), "/"), rest...)
			continue
		case kind == syscall.S_IFDIR && s.Mode&0o002 != 0 && s.Mode&syscall.S_ISVTX == 0:
			return &Control{"everybody", at, -1}, nil
		case kind == syscall.S_IFDIR && s.Mode&0o020 != 0 && s.Gid != 0 && s.Mode&syscall.S_ISVTX == 0:
			return &Control{"group " + names.Group(int(s.Gid)), at, -1}, nil
		}
		for len(rest) > 0 && (rest[0] == "" || rest[0] == ".") {
			rest = rest[1:]
		}
		if len(rest) == 0 {
			return nil, nil
		}
		at, rest = filepath.Join(at, rest[0]), rest[1:]
	}
}

// As does something with files by the rights of a user, and of a group, and with no others: what that
// user has put in the way leads no further than the user gets. It has to do it by itself, and to start
// no goroutines for it.
func As(uid, gid int, do func() error) error {
	done := make(chan error)
	go func() {
		// The thread ends with the goroutine: it is never given back.
		runtime.LockOSThread()
		done <- func() error {
			if _, _, errno := unix.RawSyscall(unix.SYS_SETGROUPS, 0, 0, 0); errno != 0 {
				return fmt.Errorf("let go of the groups of root: %w", errno)
			}
			// They return what was before, and no errors: it is asked again.
			unix.RawSyscall(unix.SYS_SETFSGID, uintptr(gid), 0, 0)
			unix.RawSyscall(unix.SYS_SETFSUID, uintptr(uid), 0, 0)
			group, _, _ := unix.RawSyscall(unix.SYS_SETFSGID, ^uintptr(0), 0, 0)
			user, _, _ := unix.RawSyscall(unix.SYS_SETFSUID, ^uintptr(0), 0, 0)
			if int(user) != uid || int(group) != gid {
				return fmt.Errorf("take on the rights of user %d and group %d: not permitted", uid, gid)
			}
			return do()
		}()
	}()
	return <-done
}
