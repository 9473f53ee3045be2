package system

import (
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"slices"
	"strings"
	"syscall"

	"northstake/core/wire"

	"golang.org/x/sys/unix"
)

// The tags of an access list's entries, as the kernel keeps them (acl(5), linux/posix_acl.h), and the
// bits by which one may write, or pass through a directory.
const (
	aclOwner    = 0x01
	aclUser     = 0x02
	aclGroupObj = 0x04
	aclGroup    = 0x08
	aclMask     = 0x10
	aclOther    = 0x20

	aclMayWrite = 0x02
	aclMayPass  = 0x01
)

// aclEntry is one entry of an access list.
type aclEntry struct {
	tag, perm uint16
	id        uint32
}

// accessList is that of a file or directory, nil where it has none but its mode.
func accessList(path string) ([]aclEntry, error) {
	b := make([]byte, 4096)
	n, err := unix.Lgetxattr(path, "system.posix_acl_access", b)
	for errors.Is(err, syscall.ERANGE) && len(b) < 64<<10 {
		b = make([]byte, 4*len(b))
		n, err = unix.Lgetxattr(path, "system.posix_acl_access", b)
	}
	if errors.Is(err, syscall.ENODATA) || errors.Is(err, syscall.ENOTSUP) || errors.Is(err, syscall.ENOENT) {
		return nil, nil
	}
	if err != nil {
		return nil, &fs.PathError{Op: "getxattr", Path: path, Err: err}
	}
	var out []aclEntry
	for b = b[min(n, 4):n]; len(b) >= 8; b = b[8:] {
		out = append(out, aclEntry{binary.LittleEndian.Uint16(b), binary.LittleEndian.Uint16(b[2:]), binary.LittleEndian.Uint32(b[4:])})
	}
	return out, nil
}

// accessOf is the access list of a file or directory, or its mode in that form, and the most that others
// than its owner and everybody get by it. Where that is nothing, the kernel does not look at the list
// (fs/namei.c, acl_permission_check).
func accessOf(path string, s *syscall.Stat_t) (list []aclEntry, most uint16, err error) {
	if s.Mode&0o070 != 0 {
		if list, err = accessList(path); err != nil {
			return nil, 0, err
		}
	}
	if list == nil {
		list = []aclEntry{{aclOwner, uint16(s.Mode>>6) & 7, 0}, {aclGroupObj, uint16(s.Mode>>3) & 7, 0}, {aclOther, uint16(s.Mode) & 7, 0}}
	}
	most = 7
	if i := slices.IndexFunc(list, func(e aclEntry) bool { return e.tag == aclMask }); i >= 0 {
		most = list[i].perm
	}
	return list, most, nil
}

// LetsThrough says whether a directory lets a user who is in some groups pass through it to what is in it
// (acl(5), "Access check algorithm").
func LetsThrough(path string, s *syscall.Stat_t, uid int, groups map[int]bool) (bool, error) {
	list, most, err := accessOf(path, s)
	if err != nil {
		return false, err
	}
	among, some := false, false
	var everybody bool
	for _, e := range list {
		may := e.perm&aclMayPass != 0
		switch {
		case e.tag == aclOwner && int(s.Uid) == uid:
			return may, nil
		case e.tag == aclUser && int(e.id) == uid:
			return may && most&aclMayPass != 0, nil
		case e.tag == aclGroupObj && groups[int(s.Gid)], e.tag == aclGroup && groups[int(e.id)]:
			among, some = true, some || may && most&aclMayPass != 0
		case e.tag == aclOther:
			everybody = may
		}
	}
	if among {
		return some, nil
	}
	return everybody, nil
}

// writer is who beside root may put something into a directory that root owns, and take out of it what
// is not theirs where it has not the bit against that: nil for nobody. Where it has an access list, the
// mode's bits of the group are the most that others get, and not what the group has.
func writer(path, at string, s *syscall.Stat_t, names *Names) (*Control, error) {
	if s.Mode&0o022 == 0 {
		return nil, nil // the most that an access list gives stands in the mode
	}
	list, most, err := accessOf(path, s)
	if err != nil {
		return nil, err
	}
	me := uint32(os.Geteuid())
	var who []string
	uid := -1
	for _, e := range list {
		switch may := e.perm&most&aclMayWrite != 0; {
		case e.tag == aclOther && e.perm&aclMayWrite != 0:
			return &Control{"everybody", wire.Path(at), -1}, nil
		case e.tag == aclUser && may && e.id != 0 && e.id != me:
			uid = int(e.id)
			who = append(who, names.User(uid))
		case e.tag == aclGroupObj && may && s.Gid != 0:
			who = append(who, "group "+names.Group(int(s.Gid)))
		case e.tag == aclGroup && may && e.id != 0:
			who = append(who, "group "+names.Group(int(e.id)))
		}
	}
	switch {
	case len(who) == 0:
		return nil, nil
	case len(who) > 1:
		uid = -1
	}
	return &Control{strings.Join(who, " and "), wire.Path(at), uid}, nil
}
