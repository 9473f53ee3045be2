// Package systemtest makes folders that look like a machine, for tests.
package systemtest

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"testing"

	"northstake/core/wire"
	"northstake/host/system"
)

// Folder is a machine that is a folder, with one account, "me", which is that of the
// test.
func Folder(t testing.TB) *system.Machine {
	t.Helper()
	return FolderAt(t, t.TempDir())
}

// FolderInMemory is a Folder on a file system in memory, for tests that make and remove
// many files.
func FolderInMemory(t testing.TB) *system.Machine {
	t.Helper()
	dir, err := os.MkdirTemp("/dev/shm", "northstake-*")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return FolderAt(t, dir)
}

// FolderAt is a machine that is an empty folder.
func FolderAt(t testing.TB, dir string) *system.Machine {
	t.Helper()
	m := &system.Machine{Root: dir, StateDir: "/var/lib/northstake", Run: system.Command}
	u, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	Put(t, m, "/etc/passwd", fmt.Sprintf("me:x:%s:%s::/:/bin/sh\n", u.Uid, u.Gid))
	Put(t, m, "/etc/group", fmt.Sprintf("me:x:%s:\n", u.Gid))
	return m
}

// Put writes a file, with the directories above it.
func Put(t testing.TB, m *system.Machine, path, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(m.Path(wire.Path(path))), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(m.Path(wire.Path(path)), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// Rounds is how often a test does what it does so many times: a fifth where it is to be short, as with the race
// detector, which takes five times as long for each.
func Rounds(n int) int {
	if testing.Short() {
		return n / 5
	}
	return n
}
