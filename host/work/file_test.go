package work

import (
	"context"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

// snapshot is all that lies on a machine beside North Stake's own files: paths,
// sorts, modes, and texts.
func snapshot(t *testing.T, m *Host) string {
	t.Helper()
	var lines []string
	err := filepath.WalkDir(m.Root, func(path string, e os.DirEntry, err error) error {
		if err != nil || strings.HasPrefix(path, m.Path("/var")) {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		line := path + " " + info.Mode().String()
		switch {
		case info.Mode().IsRegular():
			b, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			line += " " + string(b)
		case info.Mode()&os.ModeSymlink != 0:
			target, err := os.Readlink(path)
			if err != nil {
				return err
			}
			line += " " + target
		}
		lines = append(lines, line)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	sort.Strings(lines)
	return strings.Join(lines, "\n")
}

// Steps with files and links make a stake so, twice as well as once, and know
// their way back to what was there, from wherever they were cut off.
func TestFilesAndLinksKnowTheirWayBack(t *testing.T) {
	file := func(w wire.FileWant) any {
		if w.Portion == "" {
			w.Owner, w.Group, w.Mode = "me", "me", "0640"
		}
		return w
	}
	for name, c := range map[string]struct {
		typ   string
		want  any
		there func(m *Host)
	}{
		"a new file in new directories": {"file", file(wire.FileWant{Path: "/srv/a/b/tide", Text: "ebb\n"}), func(*Host) {}},
		"a file that is there":          {"file", file(wire.FileWant{Path: "/srv/tide", Text: "ebb\n"}), func(m *Host) { systemtest.Put(t, m.Machine, "/srv/tide", "flood\n") }},
		"a link in place of the file":   {"file", file(wire.FileWant{Path: "/srv/tide", Text: "ebb\n"}), func(m *Host) { link(t, m, "/etc/passwd", "/srv/tide") }},
		"a portion":                     {"file", file(wire.FileWant{Path: "/srv/list", Text: "pier\n", Portion: "piers", Comment: ";", Owners: wire.Owners{Owner: "me", Group: "me"}}), func(m *Host) { systemtest.Put(t, m.Machine, "/srv/list", "theirs, no end") }},
		"a new link":                    {"link", wire.LinkWant{Path: "/srv/x/now", PointsTo: "/srv/data"}, func(*Host) {}},
		"a link that leads elsewhere":   {"link", wire.LinkWant{Path: "/srv/now", PointsTo: "/srv/data"}, func(m *Host) { link(t, m, "/tmp", "/srv/now") }},
	} {
		t.Run(name, func(t *testing.T) {
			m := folder(t)
			c.there(m)
			before := snapshot(t, m)
			w, err := workerOf(c.typ)
			if err != nil {
				t.Fatal(err)
			}
			ctx := context.Background()
			j := Job{Run: "1", Number: 1, Work: wire.JSON(c.want), Say: func(string, ...any) {}}
			kept, err := w.Before(ctx, m, j)
			if err != nil {
				t.Fatal(err)
			}
			if err := w.Back(ctx, m, j, kept); err != nil || snapshot(t, m) != before {
				t.Fatalf("taken back before it was done: %v\n%s", err, snapshot(t, m))
			}
			for range 2 {
				if state, err := w.Do(ctx, m, j, kept); err != nil || state != wire.Done {
					t.Fatalf("%s, %v", state, err)
				}
			}
			judged := false
			for _, r := range w.Read(ctx, m, []wire.Want{{Type: c.typ, Name: "x", Want: wire.JSON(c.want)}}) {
				kind, err := stake.KindOf(c.typ)
				if err != nil || r.Unread != "" {
					t.Fatal(err, r.Unread)
				}
				v, err := kind.Judge(stake.Input{Stake: stake.Stake{Type: c.typ, Name: "x", Want: wire.JSON(c.want)}, Found: r.Found})
				if err != nil || len(v.Differences) > 0 {
					t.Errorf("done, it differs: %+v, %v", v.Differences, err)
				}
				judged = true
			}
			if !judged || snapshot(t, m) == before {
				t.Error("nothing was done")
			}
			for range 2 {
				if err := w.Back(ctx, m, j, kept); err != nil {
					t.Fatal(err)
				}
			}
			if after := snapshot(t, m); after != before {
				t.Errorf("taken back, it is\n%s\nand was\n%s", after, before)
			}
		})
	}
}

func link(t *testing.T, m *Host, target, path string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(m.Path(wire.Path(path))), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(target, m.Path(wire.Path(path))); err != nil {
		t.Fatal(err)
	}
}

// What is in the way of a file or link stays there.
func TestAFileIsNotPutInPlaceOfADirectory(t *testing.T) {
	m := folder(t)
	systemtest.Put(t, m.Machine, "/srv/tide/kept", "theirs")
	for typ, want := range map[string]any{"file": wire.FileWant{Path: "/srv/tide", Text: "x", Owners: wire.Owners{Owner: "me", Group: "me"}, Mode: "0644"}, "link": wire.LinkWant{Path: "/srv/tide", PointsTo: "/x"}} {
		w, err := workerOf(typ)
		if err != nil {
			t.Fatal(err)
		}
		j := Job{Run: "1", Number: 1, Work: wire.JSON(want), Say: func(string, ...any) {}}
		kept, err := w.Before(context.Background(), m, j)
		if err == nil {
			_, err = w.Do(context.Background(), m, j, kept)
		}
		if err == nil || !strings.Contains(err.Error(), "move it away") && !strings.Contains(err.Error(), "is a directory") {
			t.Errorf("%s: %v", typ, err)
		}
		if b, err := m.Read("/srv/tide/kept"); err != nil || string(b) != "theirs" {
			t.Errorf("%s: %q, %v", typ, b, err)
		}
	}
}
