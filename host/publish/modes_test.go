package publish

import (
	"fmt"
	"os"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

// Who could write somewhere still can, and a directory that nobody declared has all that
// it had, however a tree comes to its place and back: exchanged, or put in file by file.
func TestDirectoriesKeepAllThatTheyHave(t *testing.T) {
	old := unix.Umask(0o077)
	defer unix.Umask(old)
	const site = "/srv/site"
	modes := map[string]uint32{"uploads": 0o2770, "uploads/in": 0o3777, "uploads/boat": 0o640, "uploads/in/tool": 0o4755}
	when := time.Date(2024, 3, 9, 12, 0, 0, 0, time.UTC)
	for _, slow := range []bool{false, true} {
		m := systemtest.Folder(t)
		first := map[string]string{"index.html": "one", "a.html": "a"}
		publish(t, m, 1, content(site, first), first)
		for _, dir := range []string{"uploads", "uploads/in"} {
			if err := os.MkdirAll(m.Path(wire.Path(site+"/"+dir)), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		for _, file := range []string{"uploads/boat", "uploads/in/tool"} {
			systemtest.Put(t, m, site+"/"+file, "theirs")
		}
		for p, mode := range modes {
			full := m.Path(wire.Path(site + "/" + p))
			if err := unix.Lsetxattr(full, "user.harbour", []byte(p), 0); err != nil {
				t.Fatal(err)
			}
			if err := unix.Chmod(full, mode); err != nil {
				t.Fatal(err)
			}
		}
		for _, p := range []string{"uploads/in", "uploads"} {
			if err := os.Chtimes(m.Path(wire.Path(site+"/"+p)), when, when); err != nil {
				t.Fatal(err)
			}
		}
		second := map[string]string{"index.html": "two", "b.html": "b"}
		w := content(site, second)
		w.Drop = []string{"a.html"}
		how := publish
		if slow {
			how = slowly
		}
		same := func(what string) {
			t.Helper()
			for p, mode := range modes {
				var s unix.Stat_t
				full := m.Path(wire.Path(site + "/" + p))
				if err := unix.Lstat(full, &s); err != nil {
					t.Errorf("slowly %t, %s: %v", slow, what, err)
					continue
				}
				attribute := make([]byte, 100)
				n, err := unix.Lgetxattr(full, "user.harbour", attribute)
				if s.Mode&0o7777 != mode || err != nil || string(attribute[:n]) != p {
					t.Errorf("slowly %t, %s: %s has mode %o and is marked %q, %v", slow, what, p, s.Mode&0o7777, attribute[:max(n, 0)], err)
				}
				if at := time.Unix(s.Mtim.Unix()).UTC(); s.Mode&unix.S_IFMT == unix.S_IFDIR && !at.Equal(when) {
					t.Errorf("slowly %t, %s: %s was changed at %s", slow, what, p, at)
				}
			}
		}
		step := how(t, m, 2, w, second)
		same("published")
		if got := tree(t, m, site); got["index.html"] != "two" || got["a.html"] != "" {
			t.Fatal(fmt.Sprint(got))
		}
		backAll(t, step)
		same("taken back")
	}
}
