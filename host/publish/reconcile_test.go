package publish

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
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
		if err := os.Rename(m.Path(wire.Path(dir+"/up/"+name+"~")), m.Path(wire.Path(dir+"/up/"+name))); err != nil {
			t.Fatal(err)
		}
	}
	former := step.before.Stage
	systemtest.Put(t, m, string(former+"/up/came"), "late")
	replace(string(former), "changed")
	replace(string(former), "both")
	time.Sleep(20 * time.Millisecond)
	systemtest.Put(t, m, site+"/up/both", "later still")
	replace(string(former), "gone")
	for _, p := range []string{string(former + "/up/removed"), site + "/up/gone"} {
		if err := os.Remove(m.Path(wire.Path(p))); err != nil {
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

// Of two that were put under one name on either side of an exchange, the later one stays, however often
// they are looked at, and it is the one that comes back when the trees are exchanged again.
func TestOfTwoThatCameSinceTheLaterStays(t *testing.T) {
	none := func(string) bool { return false }
	for _, c := range []struct {
		what   string
		before string // what was there when the census was taken
		former bool   // the former tree gets its own last
	}{{"the live tree's is later", "early", false}, {"the former tree's is later", "early", true}, {"new, the live tree's is later", "", false}, {"new, the former tree's is later", "", true}} {
		base := t.TempDir()
		former, live := filepath.Join(base, "former"), filepath.Join(base, "live")
		put := func(dir, text string) {
			t.Helper()
			name := filepath.Join(dir, "upload")
			if err := errors.Join(os.MkdirAll(dir, 0o755), os.WriteFile(name+"~", []byte(text), 0o644), os.Rename(name+"~", name)); err != nil {
				t.Fatal(err)
			}
			time.Sleep(20 * time.Millisecond)
		}
		put(former, c.before)
		if err := errors.Join(os.Mkdir(live, 0o755), os.Link(filepath.Join(former, "upload"), filepath.Join(live, "upload"))); err != nil {
			t.Fatal(err)
		}
		since := census{}
		ino, err := inodeOf(filepath.Join(former, "upload"))
		if err != nil {
			t.Fatal(err)
		}
		if since["upload"] = (was{Ino: ino, CarriedIn: true}); c.before == "" {
			delete(since, "upload")
			if err := errors.Join(os.Remove(filepath.Join(former, "upload")), os.Remove(filepath.Join(live, "upload"))); err != nil {
				t.Fatal(err)
			}
		}
		first, second := former, live
		if c.former {
			first, second = live, former
		}
		put(first, "sooner")
		put(second, "later")
		holds := func(dir, when string) {
			t.Helper()
			if b, err := os.ReadFile(filepath.Join(dir, "upload")); err != nil || string(b) != "later" {
				t.Errorf("%s, %s: %q, %v", c.what, when, b, err)
			}
		}
		for range 3 {
			if _, err := follow(former, live, since, true, none); err != nil {
				t.Fatal(err)
			}
			holds(live, "after the exchange")
		}
		for range 3 { // the former tree is live again
			if _, err := follow(live, former, since, true, none); err != nil {
				t.Fatal(err)
			}
			holds(former, "taken back")
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
	time.Sleep(20 * time.Millisecond)
	if err := since.keep(from); err != nil {
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
	after := unix.StatxTimestamp{Sec: time.Now().Unix() + 60}
	if err := takeOut(live, filepath.Join(dir, "aside"), ino+1, after); err != nil {
		t.Fatal(err)
	}
	holds(live, "another's")
	sooner := put("sooner", "sooner")
	time.Sleep(20 * time.Millisecond)
	if err := os.Remove(live); err != nil {
		t.Fatal(err)
	}
	put("live", "another's") // later than what the former tree has
	if ino, err = inodeOf(live); err != nil {
		t.Fatal(err)
	}
	if err := putNewer(sooner, live, was{Ino: ino + 1}); err != nil {
		t.Fatal(err)
	}
	holds(live, "another's")
	holds(sooner, "sooner")
	time.Sleep(20 * time.Millisecond)
	former := put("former", "late")
	if err := errors.Join(putNewer(former, live, was{Ino: ino}), os.Remove(sooner)); err != nil {
		t.Fatal(err)
	}
	holds(live, "late")
	if err := takeOut(former, filepath.Join(dir, "aside"), ino, after); err != nil {
		t.Fatal(err)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "*")); len(left) != 1 {
		t.Errorf("there are %v", left)
	}
}

// A file that a program removed just before the trees were exchanged, and wrote anew just after, is
// there, and is so when the publication is taken back: by its name, and often its number, it is the one
// that was carried over.
func TestWhatWasRemovedAndWrittenAnewStays(t *testing.T) {
	const site = "/srv/site"
	m := systemtest.Folder(t)
	first := map[string]string{"index.html": "one", "page.html": "page"}
	publish(t, m, 1, content(site, first), first)
	for _, name := range []string{"anew", "inplace", "gone"} {
		systemtest.Put(t, m, site+"/up/"+name, "early")
	}
	second := map[string]string{"index.html": "two", "page.html": "page two"}
	for _, text := range second {
		systemtest.Put(t, m, blobOnHost(text), text)
	}
	w := content(site, second)
	b, err := Prepare(m, "1-2", w)
	if err != nil {
		t.Fatal(err)
	}
	stage := m.Path(b.Stage)
	if err := ownStages(m, site); err != nil {
		t.Fatal(err)
	}
	since, err := buildTree(m, w, stage, false)
	if err == nil {
		err = since.keep(stage)
	}
	if err != nil {
		t.Fatal(err)
	}
	remove := func() {
		t.Helper()
		for _, name := range []string{"anew", "inplace", "gone"} {
			if err := os.Remove(m.Path(wire.Path(site + "/up/" + name))); err != nil {
				t.Fatal(err)
			}
		}
		time.Sleep(20 * time.Millisecond)
	}
	write := func() {
		t.Helper()
		systemtest.Put(t, m, site+"/up/inplace", "late")
		if err := os.Remove(m.Path(site + "/up/anew")); err != nil {
			t.Fatal(err)
		}
		systemtest.Put(t, m, site+"/up/anew", "late") // often by the same number
		old := time.Now().Add(-time.Hour)
		if err := os.Chtimes(m.Path(site+"/up/anew"), old, old); err != nil {
			t.Fatal(err)
		}
	}
	holds := func(when string) {
		t.Helper()
		got := tree(t, m, site)
		for name, want := range map[string]string{"up/anew": "late", "up/inplace": "late", "up/gone": ""} {
			if got[name] != want {
				t.Errorf("%s: %s holds %q, want %q", when, name, got[name], want)
			}
		}
	}
	remove()
	if _, err := switchTree(m, w, stage, silent); err != nil {
		t.Fatal(err)
	}
	write()
	if err := Do(m, w, b, silent); err != nil {
		t.Fatal(err)
	}
	holds("published")
	if err := Close(m, w, b); err != nil {
		t.Fatal(err)
	}
	holds("at the end")
	if err := Back(m, w, b, silent); err != nil {
		t.Fatal(err)
	}
	holds("taken back")
}

// Taking back that was cut off after the trees were exchanged, at whatever it was doing, loses nothing of
// what others had written to the newer tree.
func TestTakingBackThatWasCutOffLosesNothing(t *testing.T) {
	const site = "/srv/site"
	for name, cut := range map[string]func(k keeper, own owned){
		"exchanged": func(keeper, owned) {},
		"half removed": func(k keeper, own owned) {
			stage := k.m.Path(k.b.Stage)
			since, err := censusOf(stage)
			if err == nil {
				_, err = follow(stage, k.m.Path(site), since, true, own.has)
			}
			if err == nil {
				err = os.RemoveAll(filepath.Join(stage, "up"))
			}
			if err != nil {
				t.Fatal(err)
			}
		},
	} {
		m := systemtest.Folder(t)
		first := map[string]string{"index.html": "one", "page.html": "page"}
		publish(t, m, 1, content(site, first), first)
		systemtest.Put(t, m, site+"/up/early", "early")
		second := map[string]string{"index.html": "two", "page.html": "page two"}
		step := publish(t, m, 2, content(site, second), second)
		systemtest.Put(t, m, site+"/up/late", "late")
		systemtest.Put(t, m, site+"/page.html", "edited")
		k := keeper{m: m, w: step.work, b: step.before, say: silent}
		own, err := ownPaths(step.work)
		if err == nil {
			err = putBackAt(m.Path(step.before.Stage), m.Path(site))
		}
		if err != nil {
			t.Fatal(err)
		}
		cut(k, own)
		backAll(t, step)
		got := tree(t, m, site)
		for p, want := range map[string]string{"up/early": "early", "up/late": "late", "page.html": "edited", "index.html": "one"} {
			if got[p] != want {
				t.Errorf("%s: %s holds %q, want %q", name, p, got[p], want)
			}
		}
	}
}
