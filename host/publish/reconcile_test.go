package publish

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"northstake/host/system/systemtest"
)

// Each of these is what a writer can do between two calls of ours; beside
// TestAWriterMissesNothing, which meets them by chance, each is met here for certain.

// What came to the former tree after it was looked at is followed when the run ends: a file
// that came, one that took another's place, and one that went. What was written to the live
// tree since stays, and so does what was taken out of it.
func TestWhatComesLateIsFollowedAtTheEnd(t *testing.T) {
	const site = "/srv/site"
	m := systemtest.Folder(t)
	first := map[string]string{"index.html": "one", "page.html": "page"}
	publish(t, m, 1, content(site, first), first)
	for _, name := range []string{"changed", "both", "removed", "gone"} {
		systemtest.Put(t, m, site+"/up/"+name, "early")
	}
	second := map[string]string{"index.html": "two", "page.html": "page two"}
	step := publish(t, m, 2, content(site, second), second)
	replace := func(dir, name string) {
		t.Helper()
		systemtest.Put(t, m, dir+"/up/"+name+"~", "late")
		if err := os.Rename(m.Path(dir+"/up/"+name+"~"), m.Path(dir+"/up/"+name)); err != nil {
			t.Fatal(err)
		}
	}
	former := step.before.Stage
	systemtest.Put(t, m, former+"/up/came", "late")
	replace(former, "changed")
	replace(former, "both")
	time.Sleep(20 * time.Millisecond)
	systemtest.Put(t, m, site+"/up/both", "later still")
	replace(former, "gone")
	for _, p := range []string{former + "/up/removed", site + "/up/gone"} {
		if err := os.Remove(m.Path(p)); err != nil {
			t.Fatal(err)
		}
	}
	if err := Close(m, step.work, step.before); err != nil {
		t.Fatal(err)
	}
	got := tree(t, m, site)
	for name, want := range map[string]string{"up/came": "late", "up/changed": "late", "up/both": "later still", "up/removed": "", "up/gone": "", "index.html": "two"} {
		if got[name] != want {
			t.Errorf("%s holds %q, want %q", name, got[name], want)
		}
	}
}

// A former tree of which a part was removed already says nothing of what went from it.
func TestAFormerTreeThatIsGoingTakesNothingAlong(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	if err := os.WriteFile(filepath.Join(to, "upload"), []byte("theirs"), 0o644); err != nil {
		t.Fatal(err)
	}
	ino, err := inodeOf(filepath.Join(to, "upload"))
	if err != nil {
		t.Fatal(err)
	}
	since := census{"upload": was{Ino: ino, CarriedIn: true}}
	none := func(string) bool { return false }
	if _, err := follow(from, to, since, false, none); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Lstat(filepath.Join(to, "upload")); err != nil {
		t.Error("it was removed from the live tree")
	}
	if _, err := follow(from, to, since, true, none); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Lstat(filepath.Join(to, "upload")); err == nil {
		t.Error("what somebody removed from a whole tree is in the other still")
	}
}

// A file that took another's place between two calls is neither removed nor replaced.
func TestWhatTookAnothersPlaceStays(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string) string {
		t.Helper()
		full := filepath.Join(dir, name)
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return full
	}
	holds := func(full, want string) {
		t.Helper()
		if b, err := os.ReadFile(full); err != nil || string(b) != want {
			t.Errorf("%s holds %q, %v; want %q", filepath.Base(full), b, err, want)
		}
	}
	live := put("live", "another's")
	ino, err := inodeOf(live)
	if err != nil {
		t.Fatal(err)
	}
	if err := takeOut(live, filepath.Join(dir, "aside"), ino+1); err != nil {
		t.Fatal(err)
	}
	holds(live, "another's")
	time.Sleep(20 * time.Millisecond)
	former := put("former", "late")
	if err := putNewer(former, live, was{Ino: ino + 1}); err != nil {
		t.Fatal(err)
	}
	holds(live, "another's")
	holds(former, "late")
	if err := putNewer(former, live, was{Ino: ino}); err != nil {
		t.Fatal(err)
	}
	holds(live, "late")
	if err := takeOut(former, filepath.Join(dir, "aside"), ino); err != nil {
		t.Fatal(err)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "*")); len(left) != 1 {
		t.Errorf("there are %v", left)
	}
}
