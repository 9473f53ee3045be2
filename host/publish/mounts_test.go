package publish

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

// mountAt mounts a file system of memory at a directory of a machine that is a folder.
func mountAt(t *testing.T, m *system.Machine, at string) {
	t.Helper()
	if err := os.MkdirAll(m.Path(wire.Path(at)), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount("none", m.Path(wire.Path(at)), "tmpfs", 0, "size=1m"); err != nil {
		t.Fatalf("these tests mount file systems, and so run as root: %v", err)
	}
	t.Cleanup(func() { syscall.Unmount(m.Path(wire.Path(at)), syscall.MNT_DETACH) })
}

// What is mounted below a root is published around: nothing of it moves or goes, whether or not it has
// files yet, and whether the publication is made, taken back, or is the last one there (A3).
func TestMountsBelowARootStay(t *testing.T) {
	for _, empty := range []bool{true, false} {
		m := systemtest.Folder(t)
		first := content("/srv/www", map[string]string{"index.html": "one", "a/b.html": "one"})
		publish(t, m, 1, first, map[string]string{"1": "one"})
		mountAt(t, m, "/srv/www/uploads")
		if !empty {
			systemtest.Put(t, m, "/srv/www/uploads/theirs", "theirs")
		}
		second := content("/srv/www", map[string]string{"index.html": "two", "a/b.html": "two", "c.html": "two"})
		did := publish(t, m, 2, second, map[string]string{"2": "two"})
		systemtest.Put(t, m, "/srv/www/uploads/late", "late")
		want := map[string]string{"index.html": "two", "a/b.html": "two", "c.html": "two", "uploads/late": "late"}
		if !empty {
			want["uploads/theirs"] = "theirs"
		}
		same(t, "published", tree(t, m, "/srv/www"), want)
		backAll(t, did)
		want["index.html"], want["a/b.html"] = "one", "one"
		delete(want, "c.html")
		same(t, "taken back", tree(t, m, "/srv/www"), want)
		for n := 3; n < 6; n++ { // and what is kept of former ones is dropped
			publish(t, m, n, second, map[string]string{"2": "two"})
			back := first
			back.Drop = []string{"c.html"}
			publish(t, m, 10+n, back, map[string]string{"1": "one"})
		}
		same(t, "again and again", tree(t, m, "/srv/www"), want)
		found, err := Read(m, Wanted{ContentWant: first.ContentWant, tree: treeFor(t, first)})
		if err != nil || len(found.Below) != 1 || found.Below[0] != "uploads" || found.Extras != 0 {
			t.Errorf("below the root %v, and besides %d files (%v)", found.Below, found.Extras, err)
		}
	}
}

func treeFor(t *testing.T, w wire.ContentWork) wantedTree {
	t.Helper()
	tree, err := treeOf(w.ContentWant)
	if err != nil {
		t.Fatal(err)
	}
	return tree
}

func same(t *testing.T, what string, got, want map[string]string) {
	t.Helper()
	for p := range got {
		if _, ok := want[p]; !ok {
			t.Errorf("%s: there is %s", what, p)
		}
	}
	for p, text := range want {
		if got[p] != text {
			t.Errorf("%s: %s is %q, not %q", what, p, got[p], text)
		}
	}
}

// A tree with something mounted in it is not removed, and neither is anything of it.
func TestNothingThatIsMountedIsRemoved(t *testing.T) {
	m := systemtest.Folder(t)
	systemtest.Put(t, m, "/srv/former/page", "x")
	mountAt(t, m, "/srv/former/deep/uploads")
	systemtest.Put(t, m, "/srv/former/deep/uploads/theirs", "theirs")
	var mounted *system.MountedBelow
	if err := system.RemoveTree(m.Path("/srv/former")); !errors.As(err, &mounted) || mounted.At != "deep/uploads" {
		t.Errorf("it says %v", err)
	}
	if !m.Exists("/srv/former/page") || !m.Exists("/srv/former/deep/uploads/theirs") {
		t.Error("something of it is gone")
	}
	// A link to it is only a link.
	if err := os.Symlink(m.Path("/srv/former"), m.Path("/srv/link")); err != nil {
		t.Fatal(err)
	}
	if err := system.RemoveTree(m.Path("/srv/link")); err != nil || m.Exists("/srv/link") || !m.Exists("/srv/former/deep/uploads/theirs") {
		t.Errorf("a link to it: %v", err)
	}
	if err := system.RemoveTree(m.Path("/srv/none")); err != nil {
		t.Errorf("of nothing it says %v", err)
	}
	// A tree beside it that begins with its name is another.
	systemtest.Put(t, m, "/srv/form/page", "x")
	if err := system.RemoveTree(m.Path("/srv/form")); err != nil || m.Exists("/srv/form") {
		t.Errorf("another tree: %v", err)
	}
}

// What a list of files names lies below the root, whoever sends it (B5).
func TestNothingIsPublishedElsewhere(t *testing.T) {
	m := systemtest.Folder(t)
	for _, bad := range []string{"../evil", "c/../../evil", "/etc/evil", "c//evil", "./evil", "c/", "", ".", "a\nb", "a\x00b", "c/../d"} {
		w := content("/srv/www", map[string]string{"index.html": "x"})
		systemtest.Put(t, m, blobOnHost("x"), "x")
		for what, change := range map[string]func(w *wire.ContentWork){
			"file":      func(w *wire.ContentWork) { w.Files[0].Path = bad },
			"directory": func(w *wire.ContentWork) { w.Dirs = []string{bad} },
			"dropped":   func(w *wire.ContentWork) { w.Drop = []string{bad} },
			"root":      func(w *wire.ContentWork) { w.Root = wire.Path("/srv/" + bad + "/../x") },
		} {
			one := w
			one.Files = append(one.Files[:0:0], one.Files...)
			change(&one)
			if _, err := Prepare(m, "1-1", one); err == nil {
				t.Errorf("%s %q is taken", what, bad)
			}
			if err := Do(m, one, Before{Stage: "/srv/.northstake/www.1-1"}, silent); err == nil {
				t.Errorf("%s %q is published", what, bad)
			}
		}
	}
	filepath.WalkDir(m.Path("/"), func(p string, _ os.DirEntry, err error) error {
		if strings.Contains(p, "evil") {
			t.Errorf("there is %s", p)
		}
		return err
	})
}
