package publish

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

// away takes what was published at a root out of it, as the step of a number.
func away(t *testing.T, m *system.Machine, number int, was wire.ContentWork) published {
	t.Helper()
	w := was
	w.Files, w.Away = nil, true
	for _, f := range was.Files {
		w.Drop = append(w.Drop, f.Path)
	}
	b, err := Prepare(m, fmt.Sprintf("1-%d", number), w)
	for range 2 { // the second time as after a cut
		if err == nil {
			err = Do(m, w, b, silent)
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	return published{m, w, b}
}

// What was published goes with its directories and its root, and nothing of it is kept once
// the run has ended; what others put there stays with the root that it lies in; and until the
// run has ended all of it can come back.
func TestWhatWasPublishedIsTakenAway(t *testing.T) {
	const site = "/srv/www/ebb"
	files := map[string]string{"index.html": "one", "a/b/c.html": "c", "a/d.html": "d"}
	for name, theirs := range map[string]map[string]string{
		"nothing else":     {},
		"others' files":    {"a/theirs": "t", "uploads/boat": "u"},
		"a changed file":   {"index.html": "by hand"},
		"something at all": {"index.html": "by hand", "a/theirs": "t"},
	} {
		m := systemtest.Folder(t)
		w := content(site, files)
		w.Dirs = []string{"empty/deep"}
		publish(t, m, 1, w, files)
		for p, text := range theirs {
			systemtest.Put(t, m, site+"/"+p, text)
		}
		before := tree(t, m, site)
		stays := maps.Clone(theirs)
		delete(stays, "index.html")

		step := away(t, m, 2, w)
		if got := tree(t, m, site); !maps.Equal(got, stays) {
			t.Errorf("%s: left %v, want %v", name, got, stays)
		}
		if m.Exists(site) != (len(stays) > 0) {
			t.Errorf("%s: the root is there: %t", name, m.Exists(site))
		}
		backAll(t, step)
		if got := tree(t, m, site); !maps.Equal(got, before) {
			t.Errorf("%s: taken back it holds %v, want %v", name, got, before)
		}
		if !m.Exists(site + "/empty/deep") {
			t.Errorf("%s: its empty directory has not come back", name)
		}

		step = away(t, m, 3, w)
		systemtest.Put(t, m, string(step.before.Stage+"/uploads/late"), "written to the tree that went")
		if err := Close(m, step.work, step.before); err != nil {
			t.Fatal(err)
		}
		if got := tree(t, m, site); got["uploads/late"] == "" || len(got) != len(stays)+1 {
			t.Errorf("%s: closed, left %v", name, got)
		}
		if m.Exists("/srv/www/.northstake") {
			left, err := os.ReadDir(m.Path("/srv/www/.northstake"))
			t.Errorf("%s: %v is kept: %v", name, left, err)
		}
	}
}

// The same where a file system cannot exchange a tree as a whole.
func TestWhatWasPublishedIsTakenAwaySlowly(t *testing.T) {
	const site = "/srv/ebb"
	files := map[string]string{"index.html": "one", "a/b.html": "b"}
	m := systemtest.Folder(t)
	publish(t, m, 1, content(site, files), files)
	systemtest.Put(t, m, site+"/theirs", "t")
	w := content(site, nil)
	w.Away, w.Drop = true, slices.Sorted(maps.Keys(files))
	step := slowly(t, m, 2, w, nil)
	if got := tree(t, m, site); fmt.Sprint(got) != "map[theirs:t]" {
		t.Errorf("left %v", got)
	}
	backAll(t, step)
	if got := tree(t, m, site); got["a/b.html"] != "b" || got["index.html"] != "one" || got["theirs"] != "t" {
		t.Errorf("taken back it holds %v", got)
	}
}

// What is not taken away is kept for taking back when its run ends.
func TestAPublicationIsKeptWhenItsRunEnds(t *testing.T) {
	m := systemtest.Folder(t)
	one, two := map[string]string{"index.html": "one", "a": "a"}, map[string]string{"index.html": "two", "b": "b"}
	publish(t, m, 1, content("/srv/site", one), one)
	step := publish(t, m, 2, content("/srv/site", two), two)
	if err := Close(m, step.work, step.before); err != nil {
		t.Fatal(err)
	}
	backAll(t, step)
	if got := tree(t, m, "/srv/site"); !strings.Contains(got["index.html"], "one") {
		t.Errorf("taken back it holds %v", got)
	}
}
