package system

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"runtime"
	"unsafe"

	"northstake/core/wire"

	"golang.org/x/sys/unix"
)

// nobody is a user, and a group, that own nothing.
const nobody = 65534

// ByWhoMay does something at a path by the rights of whoever beside root can change what lies there,
// and of a group of theirs: what they put in the way leads no further than they get. What a whole group
// or everybody can change is done by the rights of nobody. Do has no goroutines but those that it has
// from Lent.
func (m *Machine) ByWhoMay(path wire.Path, group string, do func() error) error {
	names, err := m.Names()
	if err != nil {
		return err
	}
	under, err := m.Under(path, names)
	if err != nil {
		return err
	}
	if under == nil {
		return do()
	}
	return under.by(group, names, do)
}

func (c Control) by(group string, names *Names, do func() error) error {
	if os.Geteuid() != 0 {
		return do() // it has no rights but its own
	}
	uid := c.UID
	if uid < 0 {
		uid = nobody
	}
	own, known := names.FirstGroup(uid)
	if !known {
		own = nobody
	}
	gid, known := names.GroupID(group)
	if !known {
		gid = own
	}
	already := Borrowed()
	err := As(uid, gid, do, own)
	if errors.Is(err, fs.ErrPermission) && !already {
		err = fmt.Errorf("by the rights of %s: %w", c.Who, err)
	}
	return err
}

// As does something with files by the rights of a user and of groups, the first of which is that of what
// is made, and with no others.
func As(uid, gid int, do func() error, also ...int) error {
	done := make(chan error)
	go func() {
		// The thread ends with the goroutine: it is never given back.
		runtime.LockOSThread()
		done <- func() error {
			if err := onlyGroups(also); err != nil {
				return fmt.Errorf("let go of the groups of root: %w", err)
			}
			// They return what was before, and no errors: it is asked again.
			unix.RawSyscall(unix.SYS_SETFSGID, uintptr(gid), 0, 0)
			unix.RawSyscall(unix.SYS_SETFSUID, uintptr(uid), 0, 0)
			if user, group := rights(); user != uid || group != gid {
				return fmt.Errorf("take on the rights of user %d and group %d: not permitted", uid, gid)
			}
			return do()
		}()
	}()
	return <-done
}

// onlyGroups gives this thread, and no other, the groups that it is in beside its first one.
func onlyGroups(gids []int) error {
	list := make([]uint32, len(gids), len(gids)+1)
	for i, g := range gids {
		list[i] = uint32(g)
	}
	if _, _, errno := unix.RawSyscall(unix.SYS_SETGROUPS, uintptr(len(list)), uintptr(unsafe.Pointer(unsafe.SliceData(list))), 0); errno != 0 {
		return errno
	}
	return nil
}

// rights are the user and the group by whose rights this thread does things with files
// (setfsuid(2): a number that is none changes nothing).
func rights() (uid, gid int) {
	group, _, _ := unix.RawSyscall(unix.SYS_SETFSGID, ^uintptr(0), 0, 0)
	user, _, _ := unix.RawSyscall(unix.SYS_SETFSUID, ^uintptr(0), 0, 0)
	return int(user), int(group)
}

// RightsOf is the user by whose rights things with files are done here.
func RightsOf() int {
	uid, _ := rights()
	return uid
}

// Borrowed says whether that is another than the program's own.
func Borrowed() bool { return RightsOf() != os.Geteuid() }

// Self does something with files of North Stake's own by its own rights.
func Self(do func() error) error {
	if !Borrowed() {
		return do()
	}
	return As(os.Geteuid(), os.Getegid(), do)
}

// Lent is something for another goroutine to do by the rights that there are here.
func Lent(do func() error) func() error {
	uid, gid := rights()
	if uid == os.Geteuid() {
		return do
	}
	also, err := unix.Getgroups()
	return func() error {
		if err != nil {
			return err
		}
		return As(uid, gid, do, also...)
	}
}
