// Package systemtest makes folders that look like a machine, for tests.
package systemtest

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"testing"

	"northstake/host/system"
)

// Folder is a machine that is a folder, with one account, "me", which is that of the
// test.
func Folder(t testing.TB) *system.Machine {
	t.Helper()
	m := &system.Machine{Root: t.TempDir(), StateDir: "/var/lib/northstake", Run: system.Command}
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
	if err := os.MkdirAll(filepath.Dir(m.Path(path)), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(m.Path(path), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}
