package system_test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
)

// acl is an access list as the kernel keeps it (acl(5)): the owner reads and writes, user 4242
// reads, the group reads, and others nothing.
const acl = "\x02\x00\x00\x00" + "\x01\x00\x06\x00\xff\xff\xff\xff" + "\x02\x00\x04\x00\x92\x10\x00\x00" + "\x04\x00\x04\x00\xff\xff\xff\xff" + "\x10\x00\x04\x00\xff\xff\xff\xff" + "\x20\x00\x00\x00\xff\xff\xff\xff"

// What nobody declares of a file stays as it is when the file is written: access lists, extended
// attributes, and its other names (M2).
func TestAFileThatIsWrittenKeepsWhatItHad(t *testing.T) {
	dir, err := os.MkdirTemp("/var/tmp", "northstake-") // where the file system has access lists
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "tide.conf")
	if err := os.WriteFile(path, []byte("ebb\n"), 0o640); err != nil {
		t.Fatal(err)
	}
	for name, value := range map[string]string{"user.harbour": "north", "system.posix_acl_access": acl} {
		if err := unix.Lsetxattr(path, name, []byte(value), 0); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
	}
	attribute := func(name string) string {
		b := make([]byte, 256)
		n, err := unix.Lgetxattr(path, name, b)
		if err != nil {
			return err.Error()
		}
		return string(b[:n])
	}
	if err := system.WriteAtomically(path, []byte("flood\n"), 0o640); err != nil {
		t.Fatal(err)
	}
	if got := attribute("user.harbour"); got != "north" {
		t.Errorf("its attribute is %q", got)
	}
	if got := attribute("system.posix_acl_access"); got != acl {
		t.Errorf("its access list is %q, not %q", got, acl)
	}
	// A declared mode counts, and user 4242 gets no more than the group may.
	if err := system.WriteAtomically(path, []byte("flood\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if i, err := os.Stat(path); err != nil || i.Mode().Perm() != 0o600 {
		t.Errorf("its mode is %v, %v", i.Mode(), err)
	}
	if got := attribute("system.posix_acl_access"); !strings.Contains(got, "\x02\x00\x04\x00\x92\x10\x00\x00") {
		t.Errorf("its access list is %q", got)
	}
	// Another name of it goes on being the same file.
	other := filepath.Join(dir, "linked.conf")
	if err := os.Link(path, other); err != nil {
		t.Fatal(err)
	}
	if err := system.WriteAtomically(path, []byte("slack\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if b, err := os.ReadFile(other); err != nil || string(b) != "slack\n" {
		t.Errorf("under its other name it holds %q, %v", b, err)
	}
	// But not where others may put names.
	if err := os.Chmod(dir, 0o777); err != nil {
		t.Fatal(err)
	}
	if err := system.WriteAtomically(path, []byte("ours\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if b, err := os.ReadFile(other); err != nil || string(b) != "slack\n" {
		t.Errorf("what somebody may have linked holds %q, %v", b, err)
	}
}

// A change of owner leaves all of a file's mode (M12).
func TestAFileKeepsItsModeWithAnotherOwner(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Fatal("this has to be root's")
	}
	m := &system.Machine{Root: t.TempDir()}
	if err := os.MkdirAll(m.Path("/etc"), 0o755); err != nil {
		t.Fatal(err)
	}
	for file, text := range map[string]string{"/etc/passwd": "root:x:0:0::/:\nkeeper:x:4242:4242::/:\n", "/etc/group": "root:x:0:\nkeeper:x:4242:\n", "/etc/tool": "#!/bin/sh\n"} {
		if err := os.WriteFile(m.Path(wire.Path(file)), []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(m.Path("/etc/tool"), 0o755|os.ModeSetgid); err != nil {
		t.Fatal(err)
	}
	if err := m.Chown("/etc/tool", wire.Owners{Owner: "root", Group: "keeper"}); err != nil {
		t.Fatal(err)
	}
	var s syscall.Stat_t
	if err := syscall.Lstat(m.Path("/etc/tool"), &s); err != nil || s.Gid != 4242 || s.Mode&0o7777 != 0o2755 {
		t.Errorf("group %d, mode %04o, %v", s.Gid, s.Mode&0o7777, err)
	}
}
