package publish

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

func hash(s string) string {
	sum := sha256.Sum256([]byte(s))
	return hex.EncodeToString(sum[:])
}

// blobOnHost is where a text lies that was sent.
func blobOnHost(text string) string {
	return blobFile(&system.Machine{Root: "/", StateDir: "/var/lib/northstake"}, hash(text))
}

func content(root string, files map[string]string) wire.ContentWork {
	w := wire.ContentWork{ContentWant: wire.ContentWant{Root: wire.Path(root), Owners: wire.Owners{Owner: "me", Group: "me"}, Modes: wire.Modes{Files: "0644", Directories: "0755"}}}
	for p, text := range files {
		w.Files = append(w.Files, wire.File{Path: p, Size: int64(len(text)), SHA256: hash(text)})
	}
	return w
}

func tree(t *testing.T, m *system.Machine, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	items, err := walk(m.Path(wire.Path(root)))
	if err != nil {
		return out
	}
	for _, it := range items {
		if b, err := os.ReadFile(filepath.Join(m.Path(wire.Path(root)), it.path)); err == nil {
			out[it.path] = string(b)
		}
	}
	return out
}

// published is what was done on a machine, for taking it back.
type published struct {
	m      *system.Machine
	work   wire.ContentWork
	before Before
}

func silent(string, ...any) {}

// publish publishes texts that were sent, as the step of a number.
func publish(t *testing.T, m *system.Machine, number int, w wire.ContentWork, texts map[string]string) published {
	t.Helper()
	for _, text := range texts {
		systemtest.Put(t, m, blobOnHost(text), text)
	}
	b, err := Prepare(m, fmt.Sprintf("1-%d", number), w)
	if err == nil {
		err = Do(m, w, b, silent)
	}
	if err != nil {
		t.Fatal(err)
	}
	return published{m, w, b}
}

// backAll takes back what was published, the last first.
func backAll(t *testing.T, list ...published) {
	t.Helper()
	for i := len(list) - 1; i >= 0; i-- {
		if err := Back(list[i].m, list[i].work, list[i].before, silent); err != nil {
			t.Fatal(err)
		}
	}
}

func TestContentIsPublishedReadAndTakenBack(t *testing.T) {
	m := systemtest.Folder(t)
	first := map[string]string{"index.html": "one", "a/b.html": "b"}
	one := publish(t, m, 1, content("/srv/www/site", first), first)
	if got := tree(t, m, "/srv/www/site"); fmt.Sprint(got) != fmt.Sprint(first) {
		t.Fatalf("published %v", got)
	}
	systemtest.Put(t, m, "/srv/www/site/theirs.txt", "theirs")
	second := map[string]string{"index.html": "two", "c.html": "c"}
	w := content("/srv/www/site", second)
	w.Drop = []string{"a/b.html"}
	two := publish(t, m, 2, w, second)
	want := map[string]string{"index.html": "two", "c.html": "c", "theirs.txt": "theirs"}
	if got := tree(t, m, "/srv/www/site"); fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("published again: %v, want %v", got, want)
	}
	var prepared Wanted
	if err := json.Unmarshal(wire.JSON(w.ContentWant), &prepared); err != nil {
		t.Fatal(err)
	}
	found, err := Read(m, prepared)
	if f := found; err != nil || f.Missings != 0 || f.Offs != 0 || f.Extras != 1 {
		t.Errorf("read as %+v, %v", found, err)
	}
	backAll(t, one, two)
	if got := tree(t, m, "/srv/www"); fmt.Sprint(got) != fmt.Sprint(map[string]string{"site/theirs.txt": "theirs"}) {
		t.Errorf("after both were taken back there is %v", got)
	}
}

// slowly publishes as where a directory cannot be exchanged as a whole.
func slowly(t *testing.T, m *system.Machine, number int, w wire.ContentWork, texts map[string]string) published {
	t.Helper()
	for _, text := range texts {
		systemtest.Put(t, m, blobOnHost(text), text)
	}
	b, err := Prepare(m, fmt.Sprintf("1-%d", number), w)
	if err == nil {
		b.One = nil
		_, err = buildTree(m, w, m.Path(b.Stage), false)
	}
	if err == nil {
		err = switchSlowly(m, w, m.Path(b.Stage))
	}
	if err != nil {
		t.Fatal(err)
	}
	return published{m, w, b}
}

// Where a directory cannot be exchanged as a whole its files are replaced one by
// one, and that too can be taken back.
func TestSlowSwitchAndBack(t *testing.T) {
	const site = "/srv/site"
	m := systemtest.Folder(t)
	before := map[string]string{"index.html": "one", "old/x.html": "x", "file": "f"}
	publish(t, m, 1, content(site, before), before)
	systemtest.Put(t, m, site+"/theirs.txt", "theirs")
	after := map[string]string{"index.html": "two", "new/y.html": "y", "file/inside.html": "now a directory"}
	w := content(site, after)
	w.Drop = []string{"old/x.html", "file"}
	step := slowly(t, m, 2, w, after)
	after["theirs.txt"] = "theirs"
	if got := tree(t, m, site); fmt.Sprint(got) != fmt.Sprint(after) {
		t.Errorf("switched to %v", got)
	}
	systemtest.Put(t, m, site+"/late.txt", "late")
	backAll(t, step)
	before["theirs.txt"], before["late.txt"] = "theirs", "late"
	if got := tree(t, m, site); fmt.Sprint(got) != fmt.Sprint(before) {
		t.Errorf("back at %v, want %v", got, before)
	}
}
