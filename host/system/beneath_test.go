package system_test

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

// A place below a root is reached through directories alone, and never outside of it; where the kernel
// has no openat2(2), too.
func TestBeneath(t *testing.T) {
	for how, beneath := range map[string]func(string, string, func(string) error) error{"by the kernel": system.Beneath, "by hand": system.BeneathByHand} {
		t.Run(how, func(t *testing.T) { testBeneath(t, beneath) })
	}
}

func testBeneath(t *testing.T, beneath func(string, string, func(string) error) error) {
	m := systemtest.Folder(t)
	systemtest.Put(t, m, "/srv/www/a/b/page", "tide")
	systemtest.Put(t, m, "/srv/other/page", "other")
	link(t, m, "../other", "/srv/www/out", 0)
	link(t, m, "a", "/srv/www/in", 0)
	link(t, m, "www", "/srv/root", 0)
	for rel, want := range map[string]error{
		"a/b/page": nil, "a/b": nil, "a": nil, "out": nil, "in": nil, // a link itself, and not what it leads to
		"out/page": syscall.ENOTDIR, "in/b/page": syscall.ENOTDIR, "a/b/page/x": syscall.ENOTDIR, "a/x/page": fs.ErrNotExist,
		"../other/page": syscall.EXDEV, "a/../../other/page": syscall.EXDEV, "a/..": syscall.EXDEV, "..": syscall.EXDEV,
	} {
		var s syscall.Stat_t
		err := beneath(m.Path("/srv/www"), rel, func(at string) error { return syscall.Lstat(at, &s) })
		if !errors.Is(err, want) || want == nil && err != nil {
			t.Errorf("%s: %v, want %v", rel, err, want)
		}
		if now, e := os.Lstat(m.Path(wire.Path(filepath.Join("/srv/www", rel)))); want == nil && (e != nil || now.Sys().(*syscall.Stat_t).Ino != s.Ino) {
			t.Errorf("%s: another file was reached", rel)
		}
	}
	if err := beneath(m.Path("/srv/root"), "a/b", func(string) error { return nil }); !errors.Is(err, syscall.ENOTDIR) {
		t.Errorf("a root that is a link: %v", err)
	}
	// What takes the place of the directory meanwhile changes nothing.
	err := beneath(m.Path("/srv/www"), "a/b/page", func(at string) error {
		if err := os.Rename(m.Path("/srv/www/a"), m.Path("/srv/www/dismiss")); err != nil {
			return err
		}
		if err := os.Symlink("../../other", m.Path("/srv/www/a")); err != nil {
			return err
		}
		return os.WriteFile(at, []byte("ebb"), 0o644)
	})
	if b, _ := os.ReadFile(m.Path("/srv/www/dismiss/b/page")); err != nil || string(b) != "ebb" {
		t.Errorf("there is %q, %v", b, err)
	}
}
