package publish

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"northstake/core/stake"
	_ "northstake/core/stake/judge"
	_ "northstake/core/stake/kinds"
	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

// judgedAt are the differences of a tree as the drift check has them.
func judgedAt(t *testing.T, m *system.Machine, w wire.ContentWant) []wire.Difference {
	t.Helper()
	return judging(t, m, w)()
}

// judging looks at a tree again and again.
func judging(t *testing.T, m *system.Machine, w wire.ContentWant) func() []wire.Difference {
	t.Helper()
	want := wire.JSON(w)
	var prepared Wanted
	if err := json.Unmarshal(want, &prepared); err != nil {
		t.Fatal(err)
	}
	kind, err := stake.KindOf("content")
	if err != nil {
		t.Fatal(err)
	}
	memo := wire.NewMemo()
	return func() []wire.Difference {
		t.Helper()
		found, err := Read(m, prepared)
		if err != nil {
			t.Fatal(err)
		}
		v, err := kind.Judge(stake.Input{Stake: stake.Stake{Place: "quay1", Type: "content", Name: string(w.Root), Want: want}, Found: wire.JSON(found), Memo: memo})
		if err != nil {
			t.Fatal(err)
		}
		return v.Differences
	}
}

// A difference is found in values: a size that reads the same in words is another size.
func TestOneByteMoreIsFound(t *testing.T) {
	m := systemtest.Folder(t)
	for _, size := range []int{0, 1, 999, 1000, 1499, 9949, 9950, 97_800, 98_499, 999_499, 999_500, 1_000_000, 10_499_999} {
		text := strings.Repeat("x", size)
		w := content("/srv/site", map[string]string{"index.html": text})
		systemtest.Put(t, m, "/srv/site/index.html", text)
		if d := judgedAt(t, m, w.ContentWant); len(d) > 0 {
			t.Fatalf("%d bytes as declared: %+v", size, d)
		}
		for _, more := range []string{"y", "<script>steal()</script>\n\n"} {
			systemtest.Put(t, m, "/srv/site/index.html", text+more)
			d := judgedAt(t, m, w.ContentWant)
			if len(d) != 1 || d[0].Attribute != "size of index.html" || d[0].Wanted == d[0].Found {
				t.Errorf("%d bytes and %d more: %+v", size, len(more), d)
			}
		}
	}
}

// What is judged by is whole, however much there is to list: one file that is no longer
// declared among many that nobody did, and three hundred that are not.
func TestFilesNoLongerDeclaredAreFoundAmongMany(t *testing.T) {
	m := systemtest.Folder(t)
	before := content("/srv/site", map[string]string{"index.html": "one", "zz.html": "z"})
	now := content("/srv/site", map[string]string{"index.html": "one"})
	for p, text := range map[string]string{"index.html": "one", "zz.html": "changed since"} {
		systemtest.Put(t, m, "/srv/site/"+p, text)
	}
	for i := range 300 {
		name := fmt.Sprintf("old%03d.html", i)
		before.Files = append(before.Files, wire.File{Path: name, Size: 1, SHA256: hash("o")})
		systemtest.Put(t, m, "/srv/site/"+name, "o")
		systemtest.Put(t, m, fmt.Sprintf("/srv/site/a%03d.jpg", i), "theirs")
	}
	kind, err := stake.KindOf("content")
	if err != nil {
		t.Fatal(err)
	}
	s := stake.Stake{Place: "quay1", Type: "content", Name: "/srv/site", Want: wire.JSON(now.ContentWant)}
	var asked Wanted
	if err := json.Unmarshal(stake.Asked(s, wire.JSON(before.ContentWant)), &asked); err != nil {
		t.Fatal(err)
	}
	found, err := Read(m, asked)
	if err != nil {
		t.Fatal(err)
	}
	v, err := kind.Judge(stake.Input{Stake: s, Found: wire.JSON(found)})
	if err != nil || len(v.Moves) != 1 {
		t.Fatalf("%+v, %v", v.Moves, err)
	}
	var work wire.ContentWork
	if err := json.Unmarshal(v.Moves[0].Work, &work); err != nil || len(work.Drop) != 301 || !slices.Contains(work.Drop, "zz.html") {
		t.Errorf("takes out %d files: %v", len(work.Drop), err)
	}
	if m := v.Moves[0]; !strings.Contains(m.Text, "take out 301 files that are no longer declared") || !strings.Contains(m.Details[0].Text, "and 281 more") || !strings.Contains(m.Details[0].Text, "kept     300 files that nobody declared") {
		t.Errorf("%s\n%s", m.Text, m.Details[0].Text)
	}
}

// Two thousand random edits of a tree of more than ten thousand real files: each is found
// and named, and nothing else is.
func TestEveryEditOfARealTreeIsFound(t *testing.T) {
	const atOnce = 50
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	m := systemtest.FolderInMemory(t)
	w := realTree(t, m, "/srv/site")
	if len(w.Files) < 10_000 {
		t.Fatalf("the tree has %d files", len(w.Files))
	}
	differences := judging(t, m, w.ContentWant)
	if d := differences(); len(d) > 0 {
		t.Fatalf("before any edit: %+v", d[:min(len(d), 5)])
	}
	for done := 0; done < systemtest.Rounds(2000); done += atOnce {
		edited := map[string]string{}
		var undo []func() error
		for len(edited) < atOnce {
			p := w.Files[random.IntN(len(w.Files))].Path
			if edited[p] != "" {
				continue
			}
			what, back, err := edit(m.Path(wire.Path("/srv/site/"+p)), random)
			if err != nil {
				t.Fatal(err)
			}
			edited[p], undo = what, append(undo, back)
		}
		named := map[string]bool{}
		for _, d := range differences() {
			p := strings.TrimPrefix(d.Attribute, "file ")
			if _, rest, ok := strings.Cut(d.Attribute, " of "); ok && !strings.HasPrefix(d.Attribute, "file ") {
				p = rest
			}
			if p = strings.TrimPrefix(p, "it is of "); edited[p] == "" {
				t.Errorf("named, and not edited: %+v", d)
			}
			named[p] = true
		}
		for p, what := range edited {
			if !named[p] {
				t.Errorf("%s was %s, and is not named", p, what)
			}
		}
		for _, back := range undo {
			if err := back(); err != nil {
				t.Fatal(err)
			}
		}
		if d := differences(); len(d) > 0 {
			t.Fatalf("after all was put back: %+v", d)
		}
		if t.Failed() {
			return
		}
	}
}

// realTree copies the console's packages to a root.
func realTree(t *testing.T, m *system.Machine, root string) wire.ContentWork {
	t.Helper()
	w := content(root, nil)
	from := filepath.Join("..", "..", "web", "node_modules")
	err := filepath.WalkDir(from, func(p string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		rel, err := filepath.Rel(from, p)
		if err != nil {
			return err
		}
		b, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		systemtest.Put(t, m, root+"/"+rel, string(b))
		sum := sha256.Sum256(b)
		w.Files = append(w.Files, wire.File{Path: rel, Size: int64(len(b)), SHA256: hex.EncodeToString(sum[:])})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// edit changes a file in one of the ways that people and accidents do, and returns the way
// back.
func edit(path string, random *rand.Rand) (what string, back func() error, err error) {
	old, err := os.ReadFile(path)
	if err != nil {
		return "", nil, err
	}
	s, err := os.Stat(path)
	if err != nil {
		return "", nil, err
	}
	rewrite := func() error {
		if err := os.RemoveAll(path); err != nil {
			return err
		}
		return os.WriteFile(path, old, 0o644)
	}
	keepTime := func(err error) error { return errors.Join(err, os.Chtimes(path, s.ModTime(), s.ModTime())) }
	grow := func(n int) func() error {
		return func() error {
			return keepTime(os.WriteFile(path, append(slices.Clone(old), make([]byte, n)...), 0o644))
		}
	}
	ways := map[string]func() error{
		"removed":               func() error { return os.Remove(path) },
		"made a directory":      func() error { return errors.Join(os.Remove(path), os.Mkdir(path, 0o755)) },
		"made a link":           func() error { return errors.Join(os.Rename(path, path+"~"), os.Symlink(path+"~", path)) },
		"given another mode":    func() error { return os.Chmod(path, 0o640) },
		"made to run":           func() error { return os.Chmod(path, 0o4755) },
		"made a byte longer":    grow(1),
		"made 26 bytes longer":  grow(26),
		"made much longer":      grow(1000 + random.IntN(5000)),
		"given another owner":   func() error { return os.Chown(path, 12345, -1) },
		"given another group":   func() error { return os.Chown(path, -1, 12345) },
		"replaced with a queue": func() error { return errors.Join(os.Remove(path), syscall.Mkfifo(path, 0o644)) },
	}
	if len(old) > 0 {
		ways["changed in one bit"] = func() error {
			b := slices.Clone(old)
			b[random.IntN(len(b))] ^= 1 << random.IntN(8)
			return keepTime(os.WriteFile(path, b, 0o644))
		}
		ways["cut by a byte"] = func() error { return keepTime(os.WriteFile(path, old[:len(old)-1], 0o644)) }
		ways["emptied"] = func() error { return keepTime(os.Truncate(path, 0)) }
	}
	names := slices.Sorted(maps.Keys(ways))
	what = names[random.IntN(len(names))]
	back = rewrite
	if what == "made a link" {
		back = func() error { return os.Rename(path+"~", path) }
	}
	return what, back, ways[what]()
}

// What is left alone is left alone, though it was content once; and what nobody declared is
// in the way of a file or directory that has to be where it lies, which is said before.
func TestWhatIsTheirsIsLeftOrInTheWay(t *testing.T) {
	m := systemtest.Folder(t)
	before := content("/srv/site", map[string]string{"index.html": "one", "uploads/index.html": "two", "old": "o"})
	for p, text := range map[string]string{"index.html": "one", "uploads/index.html": "edited since", "old": "o", "docs": "theirs", "page/their.txt": "theirs"} {
		systemtest.Put(t, m, "/srv/site/"+p, text)
	}
	now := content("/srv/site", map[string]string{"index.html": "one", "docs/a.html": "a", "page": "p"})
	now.Keep = []string{"uploads"}
	s := stake.Stake{Place: "quay1", Type: "content", Name: "/srv/site", Want: wire.JSON(now.ContentWant)}
	var asked Wanted
	if err := json.Unmarshal(stake.Asked(s, wire.JSON(before.ContentWant)), &asked); err != nil {
		t.Fatal(err)
	}
	found, err := Read(m, asked)
	if err != nil || fmt.Sprint(found.Former) != "[{old false}]" || fmt.Sprint(found.InTheWay) != "[docs page/their.txt]" {
		t.Errorf("former %v, in the way %v, %v", found.Former, found.InTheWay, err)
	}
	kind, err := stake.KindOf("content")
	if err != nil {
		t.Fatal(err)
	}
	v, err := kind.Judge(stake.Input{Stake: s, Found: wire.JSON(found)})
	if err != nil || len(v.Blockers) != 1 || !strings.Contains(v.Blockers[0].What, "2 files in /srv/site, which nobody declared, lie where a declared file or directory has to be: docs, page/their.txt") || len(v.Moves) > 0 {
		t.Errorf("%+v, %v", v, err)
	}
}

// Directories without files are published, found missing and made again.
func TestDirectoriesWithoutFiles(t *testing.T) {
	m := systemtest.Folder(t)
	w := content("/srv/site", map[string]string{"index.html": "one", "a/b.html": "b"})
	w.Dirs = []string{"empty", "a/also/empty"}
	publish(t, m, 1, w, map[string]string{"index.html": "one", "a/b.html": "b"})
	if d := judgedAt(t, m, w.ContentWant); len(d) > 0 {
		t.Errorf("published it differs: %+v", d)
	}
	if err := os.Remove(m.Path("/srv/site/a/also/empty")); err != nil {
		t.Fatal(err)
	}
	if d := judgedAt(t, m, w.ContentWant); len(d) != 1 || d[0].Attribute != "file a/also/empty" {
		t.Errorf("with one gone: %+v", d)
	}
	publish(t, m, 2, w, nil)
	if d := judgedAt(t, m, w.ContentWant); len(d) > 0 {
		t.Errorf("published again it differs: %+v", d)
	}
}

// Two readings of one tree are the same reading, however many things differ of each file,
// and in whatever order its directories are looked at: a plan rests on them.
func TestAReadingIsTheSameTwice(t *testing.T) {
	m := systemtest.Folder(t)
	files := map[string]string{}
	for i := range 60 {
		p := fmt.Sprintf("d%d/page%d.html", i%7, i)
		files[p] = "declared"
		systemtest.Put(t, m, "/srv/site/"+p, "other")
		if err := os.Chmod(m.Path(wire.Path("/srv/site/"+p)), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	w := content("/srv/site", files)
	w.Owner = "nobody-here"
	want := wire.JSON(w.ContentWant)
	var asked Wanted
	if err := json.Unmarshal(want, &asked); err != nil {
		t.Fatal(err)
	}
	first := ""
	for i := range 30 {
		found, err := Read(m, asked)
		if err != nil {
			t.Fatal(err)
		}
		if now := string(wire.JSON(found)); i == 0 {
			first = now
		} else if now != first {
			t.Fatalf("reading %d is another:\n%s\n%s", i, first, now)
		}
	}
}
