package publish

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

func statOf(t *testing.T, path string) *syscall.Stat_t {
	t.Helper()
	var s syscall.Stat_t
	if err := syscall.Lstat(path, &s); err != nil {
		t.Fatal(err)
	}
	return &s
}

// A change of one file touches no other, is taken back, and wherever it is cut off
// the next run finds the former file or the new one whole.
func TestOneFileIsPublishedAlone(t *testing.T) {
	const site = "/srv/www/site"
	first := map[string]string{"index.html": "one", "a/b.html": "b", "a/c.html": "c"}
	change := map[string]func(map[string]string) (path string){
		"replaced": func(f map[string]string) string { f["a/b.html"] = "changed"; return "a/b.html" },
		"new":      func(f map[string]string) string { f["a/d.html"] = "d"; return "a/d.html" },
		"a copy":   func(f map[string]string) string { f["a/d.html"] = "c"; return "a/d.html" },
	}
	for name, change := range change {
		t.Run(name, func(t *testing.T) {
			m := systemtest.Folder(t)
			one := publish(t, m, 1, content(site, first), first)
			kept := idOf(statOf(t, m.Path(site+"/index.html")))
			second := map[string]string{}
			for p, text := range first {
				second[p] = text
			}
			path := change(second)
			two := publish(t, m, 2, content(site, second), map[string]string{path: second[path]})
			if got := tree(t, m, site); fmt.Sprint(got) != fmt.Sprint(second) {
				t.Errorf("published %v", got)
			}
			if s := statOf(t, m.Path(wire.Path(site+"/"+path))); s.Mode&0o7777 != 0o644 {
				t.Errorf("its mode is %o", s.Mode)
			}
			if now := idOf(statOf(t, m.Path(site+"/index.html"))); now != kept {
				t.Errorf("another file was touched: %+v, before %+v", now, kept)
			}
			backAll(t, one, two)
			if m.Exists("/srv/www") {
				t.Errorf("after both were taken back there is %v", tree(t, m, "/srv"))
			}
		})
	}
}

// Whatever more than one file differs is exchanged as a whole.
func TestMoreThanOneFileIsATree(t *testing.T) {
	const site = "/srv/site"
	first := map[string]string{"index.html": "one", "a/b.html": "b"}
	for name, spoil := range map[string]func(*system.Machine, *wire.ContentWork) error{
		"two files": func(_ *system.Machine, w *wire.ContentWork) error {
			w.Files[0].SHA256, w.Files[1].SHA256 = hash("x"), hash("y")
			return nil
		},
		"a file to drop": func(_ *system.Machine, w *wire.ContentWork) error {
			w.Files, w.Drop = w.Files[:1], []string{"z"}
			return nil
		},
		"nothing":         func(*system.Machine, *wire.ContentWork) error { return nil },
		"a folder's mode": func(m *system.Machine, _ *wire.ContentWork) error { return os.Chmod(m.Path(site+"/a"), 0o700) },
		"the root's mode": func(m *system.Machine, w *wire.ContentWork) error {
			w.Files[0].SHA256 = hash("x")
			return os.Chmod(m.Path(site), 0o700)
		},
		"a folder for a file": func(m *system.Machine, _ *wire.ContentWork) error {
			return os.Rename(m.Path(site+"/a"), m.Path(site+"/index.html/"))
		},
		"a missing folder": func(m *system.Machine, _ *wire.ContentWork) error { return os.RemoveAll(m.Path(site + "/a")) },
		"no root":          func(m *system.Machine, _ *wire.ContentWork) error { return os.RemoveAll(m.Path(site)) },
	} {
		m := systemtest.Folder(t)
		publish(t, m, 1, content(site, first), first)
		w := content(site, first)
		if name == "a folder for a file" {
			if err := os.Remove(m.Path(site + "/index.html")); err != nil {
				t.Fatal(err)
			}
		}
		if err := spoil(m, &w); err != nil {
			t.Fatal(name, err)
		}
		if one, err := onlyChange(m, w); err != nil || one != nil {
			t.Errorf("%s: %+v, %v", name, one, err)
		}
	}
}

// A file that somebody made where the step was to put a new one is not removed.
func TestSomebodyElsesFileStays(t *testing.T) {
	const site = "/srv/site"
	m := systemtest.Folder(t)
	publish(t, m, 1, content(site, map[string]string{"index.html": "one"}), map[string]string{"index.html": "one"})
	w := content(site, map[string]string{"index.html": "one", "new.html": "new"})
	before, err := Prepare(m, "1-2", w)
	if err != nil {
		t.Fatal(err)
	}
	systemtest.Put(t, m, site+"/new.html", "theirs")
	if err := Back(m, w, before, silent); err != nil {
		t.Fatal(err)
	}
	if got := tree(t, m, site)["new.html"]; got != "theirs" {
		t.Errorf("what somebody made is %q now", got)
	}
}

// A step that was cut off at any point is done again or taken back, and a file that
// somebody else changed meanwhile is theirs.
func TestOneFileThatWasCutOff(t *testing.T) {
	const site = "/srv/site"
	first := map[string]string{"index.html": "one", "a.html": "a"}
	for _, c := range []struct {
		point string
		cut   func(m *system.Machine, live, stage string) error
		again string // what doing it again makes of the file
		back  string // what taking it back makes of it
	}{
		{"before anything", func(*system.Machine, string, string) error { return nil }, "two", "one"},
		{"staged", func(m *system.Machine, _, stage string) error { return os.WriteFile(stage, []byte("tw"), 0o600) }, "two", "one"},
		{"former kept", func(m *system.Machine, live, stage string) error { return os.Link(live, formerTree(stage)) }, "two", "one"},
		{"in place", func(m *system.Machine, live, stage string) error {
			if err := os.Link(live, formerTree(stage)); err != nil {
				return err
			}
			return os.Rename(blobFile(m, hash("two")), live)
		}, "two", "one"},
		{"changed by hand", func(m *system.Machine, live, _ string) error {
			if err := os.WriteFile(live+"~", []byte("theirs"), 0o644); err != nil {
				return err
			}
			return os.Rename(live+"~", live)
		}, "theirs", "theirs"},
	} {
		for _, ending := range []string{"again", "back", "back twice"} {
			m := systemtest.Folder(t)
			publish(t, m, 1, content(site, first), first)
			systemtest.Put(t, m, blobOnHost("two"), "two")
			w := content(site, map[string]string{"index.html": "two", "a.html": "a"})
			b, err := Prepare(m, "1-2", w)
			if err != nil || b.One == nil || b.One.Path != "index.html" {
				t.Fatalf("%+v, %v", b, err)
			}
			if err := os.MkdirAll(filepath.Dir(m.Path(b.Stage)), 0o700); err != nil {
				t.Fatal(err)
			}
			live := m.Path(site + "/index.html")
			if err := c.cut(m, live, m.Path(b.Stage)); err != nil {
				t.Fatal(err)
			}
			want := c.back
			if ending == "again" {
				want = c.again
				err := Do(m, w, b, silent)
				if want == "two" && err != nil || want == "theirs" && (err == nil || !strings.Contains(err.Error(), "index.html has changed since the step began")) {
					t.Errorf("%s, again: %v", c.point, err)
				}
			}
			for range strings.Count(ending, "back") + strings.Count(ending, "twice") {
				if err := Back(m, w, b, silent); err != nil {
					t.Errorf("%s, %s: %v", c.point, ending, err)
				}
			}
			if got := tree(t, m, site); got["index.html"] != want || got["a.html"] != "a" || len(got) != 2 {
				t.Errorf("%s, %s: %v", c.point, ending, got)
			}
			if left, _ := filepath.Glob(m.Path("/srv/.northstake/site.1-2*")); strings.HasPrefix(ending, "back") && len(left) > 0 {
				t.Errorf("%s, %s leaves %q", c.point, ending, left)
			}
		}
	}
}
