package publish

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

// A writer that never stops, in a root with 2,000 files that is published fifty times and
// taken back ten times, misses nothing: whenever one of these has ended, what it made, replaced and
// removed is so.
func TestAWriterMissesNothing(t *testing.T) {
	const site = "/srv/site"
	m := systemtest.FolderInMemory(t)
	texts := func(n int) map[string]string {
		out := map[string]string{}
		for i := range 2000 {
			out[fmt.Sprintf("d%02d/f%04d.html", i%40, i)] = fmt.Sprintf("page %d, %d", i, map[bool]int{true: n}[i%7 == n%7])
		}
		return out
	}
	put := func(n int) published {
		files := texts(n)
		w := content(site, files)
		for _, text := range files {
			if f := m.Path(wire.Path(blobOnHost(text))); !exists(f) {
				systemtest.Put(t, m, blobOnHost(text), text)
			}
		}
		b, err := Prepare(m, fmt.Sprintf("%d-1", n), w)
		if err == nil {
			err = Do(m, w, b, silent)
		}
		if err != nil {
			t.Fatal(err)
		}
		return published{m, w, b}
	}
	put(1)
	uploads := m.Path(site + "/uploads")
	if err := os.MkdirAll(uploads, 0o775); err != nil {
		t.Fatal(err)
	}
	w := startWriter(uploads)
	var last published
	for n := 2; n <= 1+systemtest.Rounds(50); n++ {
		if last = put(n); n%5 == 0 {
			backAll(t, last)
		} else if err := Close(m, last.work, last.before); err != nil { // as when a run ends
			t.Fatal(err)
		}
		w.check(t, fmt.Sprintf("publication %d", n))
	}
	w.stop(t)
	put(60) // and what came late to a former tree is found when that goes
	w.check(t, "the last")
	if w.writes.Load() < int64(systemtest.Rounds(100)) {
		t.Errorf("only %d writes", w.writes.Load())
	}
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

type writer struct {
	dir    string
	pause  sync.Mutex        // held while it writes
	want   map[string]string // "" for what was removed
	fresh  map[string]bool   // what was written since the last check
	writes atomic.Int64
	end    chan struct{}
	done   sync.WaitGroup
	failed error
}

func startWriter(dir string) *writer {
	w := &writer{dir: dir, want: map[string]string{}, fresh: map[string]bool{}, end: make(chan struct{})}
	random := rand.New(rand.NewPCG(7, 11))
	write := func(n int) {
		w.pause.Lock()
		defer w.pause.Unlock()
		name, text := fmt.Sprintf("u%d", n%60), fmt.Sprintf("upload %d", n)
		full := filepath.Join(dir, name)
		switch random.IntN(4) {
		case 0:
			w.failed = os.WriteFile(full, []byte(text), 0o644)
		case 1: // as most programs do
			if w.failed = os.WriteFile(full+"~", []byte(text), 0o644); w.failed == nil {
				w.failed = os.Rename(full+"~", full)
			}
		case 2:
			if os.Remove(full) != nil {
				return
			}
			text = ""
		case 3:
			if os.MkdirAll(full+".d", 0o755) != nil {
				return
			}
			name += ".d/x"
			w.failed = os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644)
		}
		if w.failed != nil && strings.Contains(w.failed.Error(), "no such file") {
			w.failed = nil // the rename met the exchange; the writer would try again
			return
		}
		w.want[name] = text
		w.fresh[name] = w.fresh[name] || text != ""
		w.writes.Add(1)
	}
	w.done.Go(func() {
		for n := 0; w.failed == nil; n++ {
			select {
			case <-w.end:
				return
			case <-time.After(time.Millisecond):
				write(n)
			}
		}
	})
	return w
}

func (w *writer) stop(t *testing.T) {
	t.Helper()
	close(w.end)
	w.done.Wait()
	if w.failed != nil {
		t.Fatal(w.failed)
	}
}

// check holds what lies there against what was written, while the writer waits. A name that was given and
// removed several times around one exchange may be there: nobody can tell then which came last.
func (w *writer) check(t *testing.T, when string) {
	t.Helper()
	w.pause.Lock()
	defer w.pause.Unlock()
	for name, text := range w.want {
		b, err := os.ReadFile(filepath.Join(w.dir, name))
		if text == "" && err == nil && w.fresh[name] {
			w.want[name] = string(b)
		} else if text == "" && err == nil {
			t.Errorf("%s: %s was removed and is there: %q", when, name, b)
		} else if text != "" && string(b) != text {
			t.Errorf("%s: %s holds %q, and %q was written: %v", when, name, b, text, err)
		}
	}
	clear(w.fresh)
}

// Taking back touches what is as the step left it, and nothing that came since.
func TestTakingBackKeepsWhatCameSince(t *testing.T) {
	const site = "/srv/site"
	for name, how := range map[string]func(*testing.T, *system.Machine, int, wire.ContentWork, map[string]string) published{"exchanged": publish, "slowly": slowly} {
		m := systemtest.Folder(t)
		first := map[string]string{"index.html": "one", "page.html": "page one", "gone.html": "gone"}
		publish(t, m, 1, content(site, first), first)
		systemtest.Put(t, m, site+"/uploads/early", "early")
		systemtest.Put(t, m, site+"/uploads/removed", "removed")
		second := map[string]string{"index.html": "two", "page.html": "page two", "new.html": "new"}
		w := content(site, second)
		w.Drop = []string{"gone.html"}
		step := how(t, m, 2, w, second)
		systemtest.Put(t, m, site+"/page.html", "edited by hand since")
		systemtest.Put(t, m, site+"/uploads/late", "late")
		systemtest.Put(t, m, site+"/fresh/dir/x", "x")
		if err := os.Remove(m.Path(site + "/uploads/removed")); err != nil {
			t.Fatal(err)
		}
		var said []string
		if err := Back(m, w, step.before, func(format string, args ...any) { said = append(said, fmt.Sprintf(format, args...)) }); err != nil {
			t.Fatal(err)
		}
		want := map[string]string{"index.html": "one", "page.html": "edited by hand since", "gone.html": "gone", "uploads/early": "early", "uploads/late": "late", "fresh/dir/x": "x"}
		if got := tree(t, m, site); fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s: %v, want %v", name, got, want)
		}
		if len(said) != 1 || !strings.Contains(said[0], "left /srv/site/page.html as it is") {
			t.Errorf("%s: said %q", name, said)
		}
		if got := tree(t, m, "/var/lib/northstake/former"); got["site.1-2/page.html"] != "page one" {
			t.Errorf("%s: kept %v", name, got)
		}
	}
}

// A root that the step made goes again, unless somebody has put something into it.
func TestARootThatWasMadeKeepsWhatIsTheirs(t *testing.T) {
	m := systemtest.Folder(t)
	files := map[string]string{"index.html": "one", "a/b.html": "b"}
	step := publish(t, m, 1, content("/srv/www/site", files), files)
	systemtest.Put(t, m, "/srv/www/site/uploads/boat", "theirs")
	backAll(t, step)
	if got := tree(t, m, "/srv"); fmt.Sprint(got) != fmt.Sprint(map[string]string{"www/site/uploads/boat": "theirs"}) {
		t.Errorf("left %v", got)
	}
}

// Roots whose names begin alike are taken back each by itself.
func TestANeighbourIsNoStage(t *testing.T) {
	m := systemtest.Folder(t)
	one, two := map[string]string{"index.html": "one", "a": "a"}, map[string]string{"index.html": "two", "b": "b"}
	var before []published
	for i, root := range []string{"/srv/www/ex.org", "/srv/www/ex", "/srv/www/ex.7"} {
		publish(t, m, 10+i, content(root, one), one)
	}
	for i, root := range []string{"/srv/www/ex.org", "/srv/www/ex", "/srv/www/ex.7"} {
		before = append(before, publish(t, m, 20+i, content(root, two), two))
	}
	backAll(t, before...)
	for _, root := range []string{"/srv/www/ex.org", "/srv/www/ex", "/srv/www/ex.7"} {
		if got := tree(t, m, root); got["index.html"] != "one" {
			t.Errorf("%s holds %v", root, got)
		}
	}
}
