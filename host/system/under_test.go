package system_test

import (
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"reflect"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

const stranger = 4242 // a user that is nobody here

func owned(t *testing.T, m *system.Machine, path string, uid, gid int, mode os.FileMode) {
	t.Helper()
	if err := os.MkdirAll(m.Path(wire.Path(path)), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(m.Path(wire.Path(path)), mode); err != nil {
		t.Fatal(err)
	}
	if err := os.Lchown(m.Path(wire.Path(path)), uid, gid); err != nil {
		t.Fatalf("these tests give files to others, and so run as root: %v", err)
	}
}

// reachable lets everybody get to the folder that the machine is.
func reachable(t *testing.T, m *system.Machine) {
	t.Helper()
	for dir := m.Root; len(dir) > len("/tmp"); dir = dir[:strings.LastIndexByte(dir, '/')] {
		if err := os.Chmod(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
}

func link(t *testing.T, m *system.Machine, target, path string, uid int) {
	t.Helper()
	if err := os.Symlink(target, m.Path(wire.Path(path))); err != nil {
		t.Fatal(err)
	}
	if err := os.Lchown(m.Path(wire.Path(path)), uid, uid); err != nil {
		t.Fatal(err)
	}
}

// access is an access list of words such as u4242:7, for a user, a group, or m for the mask, beside
// what a mode of 0755 says.
func access(words string) string {
	out := "\x02\x00\x00\x00"
	entry := func(tag, perm uint16, id uint32) {
		out += string(binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint16(binary.LittleEndian.AppendUint16(nil, tag), perm), id))
	}
	entry(1, 7, ^uint32(0))
	sorted := map[byte]uint16{'u': 2, 'g': 8, 'm': 16}
	ofGroup := false
	for _, w := range strings.Fields(words) {
		who, perm, _ := strings.Cut(w[1:], ":")
		id, err := strconv.Atoi(who)
		if err != nil {
			id = -1
		}
		if w[0] != 'u' && !ofGroup {
			entry(4, 5, ^uint32(0))
			ofGroup = true
		}
		entry(sorted[w[0]], uint16(perm[0]-'0'), uint32(id))
	}
	entry(32, 5, ^uint32(0))
	return out
}

// Who can change a path is whoever owns a directory or a link on the way to it, or may write to one.
func TestWhoCanChangeAPath(t *testing.T) {
	m := systemtest.Folder(t)
	reachable(t, m)
	owned(t, m, "/srv/www", 0, 0, 0o755)
	owned(t, m, "/srv/tides/conf", 0, 0, 0o755)
	owned(t, m, "/srv/tides", stranger, stranger, 0o755)
	owned(t, m, "/srv/open", 0, 0, 0o777)
	owned(t, m, "/srv/sticky", 0, 0, os.ModeSticky|0o777)
	owned(t, m, "/srv/group", 0, stranger, 0o775)
	for path, list := range map[string]string{
		"/srv/listed":  access("u4242:7 u0:7 m:7"),
		"/srv/masked":  access("u4242:7 g4242:7 m:5"),
		"/srv/readers": access("u4242:5 g4242:4 m:7"),
		"/srv/several": access("u4242:7 g4343:6 m:7"),
		"/srv/groups":  access("g4343:3 m:7"),
		"/srv/stuck":   access("u4242:7 m:7"),
	} {
		owned(t, m, path, 0, 0, 0o755)
		if err := unix.Lsetxattr(m.Path(wire.Path(path)), "system.posix_acl_access", []byte(list), 0); err != nil {
			t.Fatalf("%s: %v", path, err)
		}
	}
	if err := syscall.Chmod(m.Path("/srv/stuck"), syscall.S_ISVTX|0o775); err != nil {
		t.Fatal(err)
	}
	owned(t, m, "/srv/stuck/ours", 0, 0, 0o755)
	owned(t, m, "/srv/sticky-group", 0, stranger, os.ModeSticky|0o775)
	link(t, m, "www", "/srv/ours", 0)
	link(t, m, "/srv/tides/conf", "/srv/into", 0)
	link(t, m, "www", "/srv/theirs", stranger)
	link(t, m, "round", "/srv/round", 0)
	names, err := m.Names()
	if err != nil {
		t.Fatal(err)
	}
	sight, err := m.Sight() // of all paths, in any order
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{
		"/srv/www/index.html": "", "/srv/new/deep/file": "", "/srv/tides": "", "/srv/sticky/new": "", "/srv/ours/page": "",
		"/srv/tides/x": "4242 at /srv/tides", "/srv/tides/conf/tables": "4242 at /srv/tides", "/srv/into/tables": "4242 at /srv/tides",
		"/srv/theirs/page": "4242 at /srv/theirs", "/srv/open/x": "everybody at /srv/open", "/srv/sticky/new/deep": "everybody at /srv/sticky", "/srv/group/x/y": "group 4242 at /srv/group",
		"/srv/listed/page": "4242 at /srv/listed", "/srv/masked/page": "", "/srv/readers/page": "", "/srv/several/page": "4242 and group 4343 at /srv/several", "/srv/groups/page": "group 4343 at /srv/groups",
		"/srv/stuck/ours/page": "", "/srv/stuck/page": "", "/srv/stuck/new/page": "4242 at /srv/stuck", "/srv/sticky-group/new/page": "group 4242 at /srv/sticky-group",
	} {
		c, err := m.Under(wire.Path(path), names)
		got := ""
		if c != nil {
			got = c.Who + " at " + string(c.At)
		}
		if err != nil || got != want {
			t.Errorf("%s: %q, %v; wanted %q", path, got, err, want)
		}
		e, err := m.Entry(wire.Path(path))
		if err != nil || (e.Under == "") != (want == "") {
			t.Errorf("%s: the entry is %+v, %v", path, e, err)
		}
		if seen, err := sight.Entry(wire.Path(path)); err != nil || !reflect.DeepEqual(seen, e) {
			t.Errorf("%s: among others the entry is %+v, %v; by itself %+v", path, seen, err, e)
		}
	}
	if _, err := m.Under("/srv/round/x", names); err == nil || !strings.Contains(err.Error(), "links") {
		t.Errorf("links without an end: %v", err)
	}
}

// With the rights of a user nothing is reached that the user cannot reach, whatever links lead there;
// and the rest of the program keeps its own.
func TestWithTheRightsOfAUser(t *testing.T) {
	m := systemtest.Folder(t)
	reachable(t, m)
	owned(t, m, "/etc/cron.d", 0, 0, 0o755)
	owned(t, m, "/srv/tides", stranger, stranger, 0o755)
	link(t, m, m.Path("/etc/cron.d"), "/srv/tides/conf", stranger)
	err := system.As(stranger, stranger, func() error {
		return system.WriteAtomically(m.Path("/srv/tides/conf/tables"), []byte("evil"), 0o644)
	})
	if !errors.Is(err, fs.ErrPermission) || m.Exists("/etc/cron.d/tables") {
		t.Errorf("through a link: %v", err)
	}
	err = system.As(stranger, stranger, func() error {
		return system.WriteAtomically(m.Path("/srv/tides/own/tables"), []byte("ebb"), 0o640)
	})
	if err != nil {
		t.Fatal(err)
	}
	var s syscall.Stat_t
	if err := syscall.Stat(m.Path("/srv/tides/own/tables"), &s); err != nil || s.Uid != stranger || s.Gid != stranger || s.Mode&0o777 != 0o640 {
		t.Errorf("what is theirs is of %d:%d, mode %o (%v)", s.Uid, s.Gid, s.Mode&0o777, err)
	}
	for range 50 { // no other goroutine has these rights
		if err := system.WriteAtomically(m.Path("/etc/cron.d/ours"), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// What was kept is put back where only root can change it, or with the rights of whoever had it; a
// file of root's goes back nowhere else.
func TestPuttingBackBelowAnother(t *testing.T) {
	m := systemtest.Folder(t)
	reachable(t, m)
	owned(t, m, "/etc/cron.d", 0, 0, 0o755)
	owned(t, m, "/srv/conf", 0, 0, 0o755)
	systemtest.Put(t, m, "/srv/conf/tables", "roots")
	k, err := m.KeepFile("/srv/conf/tables")
	if err != nil {
		t.Fatal(err)
	}
	owned(t, m, "/srv", stranger, stranger, 0o755)
	if err := os.RemoveAll(m.Path("/srv/conf")); err != nil {
		t.Fatal(err)
	}
	link(t, m, m.Path("/etc/cron.d"), "/srv/conf", stranger)
	if err := k.PutBack(m); err == nil || m.Exists("/etc/cron.d/tables") {
		t.Errorf("it is put back through a link: %v", err)
	}
}
