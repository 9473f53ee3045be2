package publish

import (
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"
)

// Who could write somewhere still can, however a tree comes to its place: carried over
// into the next one, copied to another file system, or put in file by file.
func TestDirectoriesKeepTheirModes(t *testing.T) {
	old := unix.Umask(0o077)
	defer unix.Umask(old)
	modes := map[string]uint32{".": 0o2775, "uploads": 0o2770, "uploads/in": 0o3777, "uploads/boat": 0o640, "uploads/in/tool": 0o4755}
	made := func(base string) string {
		root := filepath.Join(t.TempDir(), base)
		for _, dir := range []string{".", "uploads", "uploads/in"} {
			if err := os.MkdirAll(filepath.Join(root, dir), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		for _, file := range []string{"uploads/boat", "uploads/in/tool"} {
			if err := os.WriteFile(filepath.Join(root, file), []byte("theirs"), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		for p, mode := range modes {
			if err := unix.Chmod(filepath.Join(root, p), mode); err != nil {
				t.Fatal(err)
			}
		}
		return root
	}
	same := func(what, root string, besides ...string) {
		t.Helper()
		for p, mode := range modes {
			var s unix.Stat_t
			if err := unix.Lstat(filepath.Join(root, p), &s); err != nil {
				t.Errorf("%s: %v", what, err)
			} else if s.Mode&0o7777 != mode && (len(besides) == 0 || besides[0] != p) {
				t.Errorf("%s: %s has mode %o, and had %o", what, p, s.Mode&0o7777, mode)
			}
		}
	}
	copied := filepath.Join(t.TempDir(), "copy")
	if err := copyTree(made("live"), copied); err != nil {
		t.Fatal(err)
	}
	same("copied", copied)

	carried := filepath.Join(t.TempDir(), "stage")
	if err := os.Mkdir(carried, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := carryOver(made("live"), carried, wantedTree{}, nil); err != nil {
		t.Fatal(err)
	}
	same("carried over", carried, ".") // whose mode is declared

	full := filepath.Join(t.TempDir(), "full")
	if err := os.MkdirAll(filepath.Join(full, "uploads"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := replaceFiles(full, made("stage")); err != nil {
		t.Fatal(err)
	}
	same("put in file by file", full)
}
