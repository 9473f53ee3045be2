package publish

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

// What is remembered of a tree never hides what was done to it since: after each of many changes, some made in
// the moment of the last look and some long after it, all with the times put back, a look finds what a plain
// walk over the files finds.
func TestWhatIsRememberedHidesNothing(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	m := systemtest.Folder(t)
	files := map[string]string{}
	for i := range 120 {
		p := fmt.Sprintf("d%d/e%d/page%d.html", i%4, i%7, i)
		files[p] = fmt.Sprintf("page %04d", i)
		systemtest.Put(t, m, "/srv/site/"+p, files[p])
	}
	root := m.Path("/srv/site")
	want := wire.JSON(content("/srv/site", files).ContentWant)
	var asked Wanted
	if err := json.Unmarshal(want, &asked); err != nil {
		t.Fatal(err)
	}
	paths := slices.Sorted(maps.Keys(files))
	some := func() string { return filepath.Join(root, paths[random.IntN(len(paths))]) }
	write := func(p, text string) error {
		s, err := os.Lstat(p)
		if err != nil || !s.Mode().IsRegular() {
			return nil // it is gone or another thing by now
		}
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			return err
		}
		return os.Chtimes(p, s.ModTime(), s.ModTime())
	}
	changes := map[string]func() error{
		"changed, of the same size": func() error { return write(some(), fmt.Sprintf("page %04d", random.IntN(200))) },
		"put back":                  func() error { p := some(); rel, _ := filepath.Rel(root, p); return write(p, files[rel]) },
		"removed":                   func() error { return ignored(os.Remove(some())) },
		"made anew": func() error {
			p := paths[random.IntN(len(paths))]
			if err := os.MkdirAll(filepath.Join(root, filepath.Dir(p)), 0o755); err != nil {
				return ignored(err)
			}
			return ignored(os.WriteFile(filepath.Join(root, p), []byte(files[p]), 0o644))
		},
		"given another mode": func() error { return ignored(os.Chmod(some(), 0o600)) },
		"given its mode":     func() error { return ignored(os.Chmod(some(), 0o644)) },
		"exchanged with another": func() error {
			a, b := some(), some()
			return ignored(os.Rename(a, a+".x"), os.Rename(b, a), os.Rename(a+".x", b))
		},
		"made a link to another": func() error { a, b := some(), some(); return ignored(os.Remove(a), os.Symlink(b, a)) },
		"one name more":          func() error { return ignored(os.WriteFile(some()+"~", nil, 0o644)) },
		"one name less":          func() error { return ignored(os.Remove(some() + "~")) },
		"a directory exchanged": func() error {
			a, b := filepath.Dir(some()), filepath.Dir(some())
			return ignored(os.Rename(a, root+"/aside"), os.Rename(b, a), os.Rename(root+"/aside", b))
		},
		"a directory's time put back": func() error {
			d := filepath.Dir(some())
			s, err := os.Lstat(d)
			if err != nil {
				return nil
			}
			return ignored(os.WriteFile(d+"/more", nil, 0o644), os.Chtimes(d, s.ModTime(), s.ModTime()))
		},
	}
	names := slices.Sorted(maps.Keys(changes))
	spared := 0
	for round := range 400 {
		var did []string
		for range random.IntN(3) {
			n := names[random.IntN(len(names))]
			did = append(did, n)
			if err := changes[n](); err != nil {
				t.Fatalf("round %d, %s: %v", round, n, err)
			}
		}
		if random.IntN(8) == 0 {
			time.Sleep(fineSettle + 20*time.Millisecond)
		}
		found, err := Read(m, asked)
		if err != nil {
			t.Fatalf("round %d, after %v: %v", round, did, err)
		}
		got := map[string]bool{}
		for _, p := range slices.Concat(found.Missing, found.Extra, found.InTheWay) {
			got[p] = true
		}
		for _, off := range found.Off {
			got[off.Path] = true
		}
		if wanted := differing(t, root, files); !sameKeys(got, wanted) {
			t.Fatalf("round %d, after %v: a look finds\n%v\nand a walk\n%v", round, did, got, wanted)
		}
		for _, d := range asked.memory.dirs {
			for _, e := range d.entries {
				if e.as == wantedThere {
					spared++
				}
			}
		}
		if random.IntN(30) == 0 { // as declared again, so that there is something to remember
			if err := os.RemoveAll(root); err != nil {
				t.Fatal(err)
			}
			for p, text := range files {
				systemtest.Put(t, m, "/srv/site/"+p, text)
			}
			time.Sleep(fineSettle + 20*time.Millisecond)
		}
	}
	if spared < 400*len(files)/4 {
		t.Errorf("%d files in 400 looks were remembered: too few to show anything", spared)
	}
}

// ignored is what is left of some errors where things were gone, or in the way, already.
func ignored(errs ...error) error {
	for _, err := range errs {
		if err != nil && !os.IsNotExist(err) && !os.IsExist(err) && !strings.Contains(err.Error(), "directory") {
			return err
		}
	}
	return nil
}

// differing are the paths at which a tree is not made of some files, as a plain walk over it finds.
func differing(t *testing.T, root string, files map[string]string) map[string]bool {
	t.Helper()
	out := map[string]bool{}
	for p, text := range files {
		full := filepath.Join(root, p)
		s, err := os.Lstat(full)
		if err != nil || s.Mode() != 0o644 {
			out[p] = true
			continue
		}
		b, err := os.ReadFile(full)
		if err != nil {
			t.Fatal(err)
		}
		if string(b) != text {
			out[p] = true
		}
	}
	err := filepath.WalkDir(root, func(p string, e fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(root, p)
		if _, declared := files[rel]; err == nil && !declared && !e.IsDir() {
			out[rel] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func sameKeys(a, b map[string]bool) bool {
	return slices.Equal(slices.Sorted(maps.Keys(a)), slices.Sorted(maps.Keys(b)))
}

// Whose owner has another number by now is compared anew.
func TestWhatIsRememberedIsOfOneOwner(t *testing.T) {
	m := systemtest.Folder(t)
	w := content("/srv/site", map[string]string{"index.html": "one"})
	systemtest.Put(t, m, "/srv/site/index.html", "one")
	w.Owner, w.Group = "keeper", "keeper"
	account := func(id int) {
		systemtest.Put(t, m, "/etc/passwd", fmt.Sprintf("root:x:0:0::/root:/bin/sh\nkeeper:x:%d:%d::/:/bin/sh\n", id, id))
		systemtest.Put(t, m, "/etc/group", fmt.Sprintf("root:x:0:\nkeeper:x:%d:\n", id))
	}
	account(12345)
	for _, p := range []string{"/srv/site", "/srv/site/index.html"} {
		if err := os.Chown(m.Path(wire.Path(p)), 12345, 12345); err != nil {
			t.Fatal(err)
		}
	}
	time.Sleep(fineSettle + 20*time.Millisecond)
	asked := Wanted{}
	if err := json.Unmarshal(wire.JSON(w.ContentWant), &asked); err != nil {
		t.Fatal(err)
	}
	look := func() wire.ContentFound {
		t.Helper()
		found, err := Read(m, asked)
		if err != nil {
			t.Fatal(err)
		}
		return found
	}
	if found := look(); found.Offs > 0 || asked.memory.dirs[""].entries[0].as != wantedThere {
		t.Fatalf("%+v, remembered %+v", found.Off, asked.memory.dirs)
	}
	account(12346)
	if found := look(); found.Offs != 2 {
		t.Errorf("the account has another number, and %+v differs", found.Off)
	}
}

// No more is remembered of a tree than there is room for, and what no longer is makes room.
func TestATreesMemoryHasAnEnd(t *testing.T) {
	m := &treeMemory{}
	m.wants(0, 0)
	dir := func(name string, things int) {
		l := &listing{kept: true, items: make([]item, things)}
		for i := range l.items {
			l.items[i].at = i
		}
		m.keep(name, l, make([]standing, things))
	}
	dir("large", treeMemoryLimit)
	dir("more", 1)
	if m.of("large") == nil || m.of("more") != nil {
		t.Error("more is remembered than there is room for")
	}
	dir("large", 10)
	dir("more", 1)
	if m.of("more") == nil || m.entries != 11 {
		t.Errorf("%d things are remembered", m.entries)
	}
}

// Of two changes within one tick of the file system's clock the second leaves no trace in the times: what was
// seen between them is not believed.
func TestTwoChangesWithinOneTickAreFound(t *testing.T) {
	m := systemtest.Folder(t)
	w := content("/srv/site", map[string]string{"index.html": "one", "other.html": "two"})
	systemtest.Put(t, m, "/srv/site/other.html", "two")
	index := m.Path("/srv/site/index.html")
	var asked Wanted
	if err := json.Unmarshal(wire.JSON(w.ContentWant), &asked); err != nil {
		t.Fatal(err)
	}
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(index, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	look := func() wire.ContentFound {
		t.Helper()
		found, err := Read(m, asked)
		if err != nil {
			t.Fatal(err)
		}
		return found
	}
	extra := m.Path("/srv/site/more.html")
	for range 300 {
		write("one")
		if found := look(); found.Offs > 0 || found.Extras > 0 {
			t.Fatalf("as declared: %+v", found)
		}
		write("eno")
		if found := look(); found.Offs != 1 {
			t.Fatalf("a file that was changed in the moment of the last look: %+v", found)
		}
		write("one")
		look()
		if err := os.WriteFile(extra, nil, 0o644); err != nil {
			t.Fatal(err)
		}
		if found := look(); found.Extras != 1 {
			t.Fatalf("a name that came in the moment of the last look: %+v", found)
		}
		if err := os.Remove(extra); err != nil {
			t.Fatal(err)
		}
		if found := look(); found.Extras != 0 {
			t.Fatalf("a name that went in the moment of the last look: %+v", found)
		}
	}
}

// Nothing is remembered of a tree on a file system whose directories' times tell nothing.
func TestOnlyTreesThatKeepTimesAreRemembered(t *testing.T) {
	if keepsTimes("/proc") || keepsTimes("/nowhere") || !keepsTimes(systemtest.Folder(t).Root) {
		t.Errorf("/proc %v, nowhere %v, a folder %v", keepsTimes("/proc"), keepsTimes("/nowhere"), keepsTimes(systemtest.Folder(t).Root))
	}
}
