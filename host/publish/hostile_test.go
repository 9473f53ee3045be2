package publish

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

const intruder = 4242

// secrets are root's files outside of any tree, named as those of one.
var secrets = []string{"one.html", "two.html", "b/three.html"}

// intrude has a user who owns a tree put links to root's directory in the place of its directories, in
// the live tree and in those that were live before, which are held open, until end is closed.
func intrude(site, root string, seed uint64, end <-chan struct{}, swaps *atomic.Int64) error {
	return system.As(intruder, intruder, func() error {
		random := rand.New(rand.NewPCG(seed, 3))
		var held []int
		defer func() {
			for _, fd := range held {
				unix.Close(fd)
			}
		}()
		for n := 0; ; n++ {
			select {
			case <-end:
				return nil
			default:
			}
			if n%20 == 0 {
				if fd, err := unix.Open(site, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0); err == nil {
					held = append(held, fd)
				}
				if len(held) > 6 {
					unix.Close(held[0])
					held = held[1:]
				}
			}
			if len(held) == 0 {
				continue
			}
			at, dir, target := held[random.IntN(len(held))], "a", root
			if random.IntN(3) == 0 {
				dir, target = "a/b", filepath.Join(root, "b")
			}
			aside := fmt.Sprintf("x%d-%d", seed%7, n%40)
			if unix.Renameat(at, dir, at, aside) == nil {
				if unix.Symlinkat(target, at, dir) == nil {
					swaps.Add(1)
				}
				for range random.IntN(3) {
					time.Sleep(20 * time.Microsecond)
				}
				unix.Unlinkat(at, dir, 0)
				unix.Renameat(at, aside, at, dir)
			} else {
				unix.Unlinkat(at, dir, 0)
			}
			if n%50 == 0 { // what went for good is made anew
				unix.Mkdirat(at, "a", 0o755)
				unix.Mkdirat(at, "a/b", 0o755)
			}
		}
	})
}

// stateOf is all that can be told of root's files: names, bytes, owners, modes, numbers of links, times
// of change.
func stateOf(t *testing.T, root string) string {
	t.Helper()
	var out []string
	items, err := walk(root)
	if err != nil {
		t.Fatal(err)
	}
	for _, it := range sortedItems(items) {
		s := it.stat
		text, _ := os.ReadFile(filepath.Join(root, it.path))
		out = append(out, fmt.Sprintf("%s %q %d:%d %o, %d links, %d.%09d", it.path, text, s.Uid, s.Gid, s.Mode, s.Nlink, s.Ctim.Sec, s.Ctim.Nsec))
	}
	return strings.Join(out, "\n")
}

// A user who owns the tree of a site, or the directory that it lies in, and puts links in the way all
// the time while it is published, taken back, closed and taken away, gets nothing of root's written,
// owned, linked, removed or copied (B1, B2, B3).
func TestLinksInATreeLeadNowhere(t *testing.T) {
	for _, how := range []struct {
		name, site string
		theirs     string // directory above the tree that is the user's
		seen       string
	}{
		{name: "exchanged", site: "/srv/www/site"},
		{name: "in place", site: "/srv/www/site", seen: "a container"},
		{name: "below the user's own", site: "/srv/tides/site", theirs: "/srv/tides"},
		{name: "in place below the user's own", site: "/srv/tides/site", theirs: "/srv/tides", seen: "a container"},
	} {
		t.Run(how.name, func(t *testing.T) {
			seed := rand.Uint64()
			t.Logf("seed %d", seed)
			m := systemtest.FolderInMemory(t)
			if err := os.Chmod(m.Root, 0o755); err != nil {
				t.Fatal(err)
			}
			systemtest.Put(t, m, "/etc/passwd", fmt.Sprintf("root:x:0:0::/:/bin/sh\ntides:x:%d:%d::/:/bin/sh\n", intruder, intruder))
			systemtest.Put(t, m, "/etc/group", fmt.Sprintf("root:x:0:\ntides:x:%d:\n", intruder))
			for i, s := range secrets {
				systemtest.Put(t, m, "/etc/secret.d/"+s, fmt.Sprintf("secret %d", i))
				if err := os.Chmod(m.Path(wire.Path("/etc/secret.d/"+s)), 0o600); err != nil {
					t.Fatal(err)
				}
			}
			if err := os.MkdirAll(m.Path(wire.Path(filepath.Dir(how.site))), 0o755); err != nil {
				t.Fatal(err)
			}
			if how.theirs != "" {
				if err := os.Chown(m.Path(wire.Path(how.theirs)), intruder, intruder); err != nil {
					t.Fatalf("these tests give files to others, and so run as root: %v", err)
				}
			}
			before := stateOf(t, m.Path("/etc/secret.d"))
			work := func(n int) (wire.ContentWork, map[string]string) {
				texts := map[string]string{"index.html": fmt.Sprint("index ", n)}
				for i, s := range secrets { // of the sizes that root's have
					texts["a/"+s] = fmt.Sprintf("tide %c%d", "abc"[n%3], i)
				}
				w := content(how.site, texts)
				w.Owner, w.Group, w.Seen = "tides", "tides", how.seen
				return w, texts
			}
			by := func(do func() error) error { return m.ByWhoMay(wire.Path(how.site), "tides", do) }
			end, done := make(chan struct{}), sync.WaitGroup{}
			var swaps atomic.Int64
			random := rand.New(rand.NewPCG(seed, 1))
			went := 0
			for n := 1; n <= systemtest.Rounds(100); n++ {
				w, texts := work(n)
				for _, text := range texts {
					systemtest.Put(t, m, blobOnHost(text), text)
				}
				if n%15 == 0 {
					w.Files, w.Away = nil, true
					for p := range texts {
						w.Drop = append(w.Drop, p)
					}
				}
				var b Before
				err := by(func() (err error) {
					if b, err = Prepare(m, fmt.Sprintf("%d-1", n), w); err == nil {
						err = Do(m, w, b, silent)
					}
					return err
				})
				if err == nil {
					went++
				}
				if n == 1 { // there is a tree to intrude upon
					if err != nil {
						t.Fatal(err)
					}
					for i := range uint64(2) {
						done.Go(func() {
							if err := intrude(m.Path(wire.Path(how.site)), m.Path("/etc/secret.d"), seed+i, end, &swaps); err != nil {
								t.Error(err)
							}
						})
					}
					continue
				}
				if b.Stage == "" { // it could not even be prepared, and there is nothing to take back
					continue
				}
				if err != nil || random.IntN(3) == 0 {
					by(func() error { return Back(m, w, b, silent) })
				} else {
					by(func() error { return Close(m, w, b) })
				}
				if _, err := Read(m, Wanted{ContentWant: w.ContentWant, tree: treeFor(t, w)}); err == nil {
					Missing(m, w)
				}
			}
			close(end)
			done.Wait()
			if after := stateOf(t, m.Path("/etc/secret.d")); after != before {
				t.Errorf("root's files were\n%s\nand are\n%s", before, after)
			}
			for p, text := range tree(t, m, "/srv") {
				if strings.HasPrefix(text, "secret") {
					t.Errorf("/srv/%s has %q", p, text)
				}
			}
			if left := tree(t, m, "/var/lib/northstake/former"); strings.Contains(fmt.Sprint(left), "secret") {
				t.Errorf("of root's there is kept %v", left)
			}
			if swaps.Load() < int64(systemtest.Rounds(60)) || went < systemtest.Rounds(5) {
				t.Errorf("only %d swaps, and %d publications that went through", swaps.Load(), went)
			}
		})
	}
}

// Whoever may move a tree may do so between a publication and its being taken back: the former tree
// comes back where it is still kept, and else what lies there is left, and said. It is never a step that
// cannot be taken back, which would hold up the next one.
func TestTreesThatSomebodyMovedAreTakenBack(t *testing.T) {
	one, two := map[string]string{"index.html": "one"}, map[string]string{"index.html": "two", "new.html": "two"}
	for what, c := range map[string]struct {
		before, after func(m *system.Machine, b Before) error
		wanted        string
	}{
		"the tree is moved away": {after: func(m *system.Machine, _ Before) error {
			return os.Rename(m.Path("/srv/www/site"), m.Path("/srv/www/y"))
		}, wanted: "one"},
		"a link is in its place": {after: func(m *system.Machine, _ Before) error {
			systemtest.Put(t, m, "/etc/secret/index.html", "secret")
			return errors.Join(os.Rename(m.Path("/srv/www/site"), m.Path("/srv/www/y")), os.Symlink(m.Path("/etc/secret"), m.Path("/srv/www/site")))
		}, wanted: "one"},
		"a file is in its place": {after: func(m *system.Machine, _ Before) error {
			return errors.Join(os.Rename(m.Path("/srv/www/site"), m.Path("/srv/www/y")), os.WriteFile(m.Path("/srv/www/site"), nil, 0o644))
		}, wanted: "one"},
		"the former tree is gone": {after: func(m *system.Machine, b Before) error { return os.RemoveAll(m.Path(b.Stage)) }, wanted: "two"},
		"it is moved before that": {before: func(m *system.Machine, _ Before) error {
			return os.Rename(m.Path("/srv/www/site"), m.Path("/srv/www/y"))
		}, wanted: ""},
	} {
		m := systemtest.Folder(t)
		publish(t, m, 1, content("/srv/www/site", one), one)
		w := content("/srv/www/site", two)
		for _, text := range two {
			systemtest.Put(t, m, blobOnHost(text), text)
		}
		b, err := Prepare(m, "1-2", w)
		if err == nil && c.before != nil {
			err = c.before(m, b)
		}
		if err == nil && c.after != nil {
			err = Do(m, w, b, silent)
		}
		if err == nil && c.after != nil {
			err = c.after(m, b)
		}
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		for range 2 { // once more, as after a cut
			if err := Back(m, w, b, silent); err != nil {
				t.Errorf("%s: %v", what, err)
			}
		}
		got, err := m.Read("/srv/www/site/index.html")
		if string(got) != c.wanted || (err != nil) != (c.wanted == "") {
			t.Errorf("%s: there is %q, %v; wanted %q", what, got, err, c.wanted)
		}
		if secret, err := m.Read("/etc/secret/index.html"); err == nil && string(secret) != "secret" {
			t.Errorf("%s: through the link there is %q", what, secret)
		}
		publish(t, m, 3, w, two)
	}
}

// Whoever owns a page can make it as long as no disk is; no look reads it, nor does a publication or
// its being taken back (X1).
func TestAFileWithoutAnEnd(t *testing.T) {
	m := systemtest.Folder(t)
	texts := map[string]string{"index.html": "one", "old.html": "old", "theirs/page.html": "p"}
	was := content("/srv/site", texts)
	publish(t, m, 1, was, texts)
	for _, name := range []string{"index.html", "old.html"} {
		if err := os.Truncate(m.Path(wire.Path("/srv/site/"+name)), 8<<40); err != nil {
			t.Fatal(err)
		}
	}
	systemtest.Put(t, m, "/srv/site/nobodys.html", "")
	if err := os.Truncate(m.Path("/srv/site/nobodys.html"), 8<<40); err != nil {
		t.Fatal(err)
	}
	now := content("/srv/site", map[string]string{"index.html": "two", "theirs/page.html": "p"})
	s := stake.Stake{Place: "quay1", Type: "content", Name: "/srv/site", Want: wire.JSON(now.ContentWant)}
	var asked Wanted
	if err := json.Unmarshal(stake.Asked(s, wire.JSON(was.ContentWant)), &asked); err != nil {
		t.Fatal(err)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		one, err := Read(m, asked)
		if err != nil || len(one.Off) != 1 || one.Off[0].Attribute != "size" || fmt.Sprint(one.Former) != "[{old.html true}]" {
			t.Errorf("off %+v, former %v, %v", one.Off, one.Former, err)
		}
		// What is longer still is another state, though it is not read.
		if err := os.Truncate(m.Path("/srv/site/index.html"), 9<<40); err != nil {
			t.Error(err)
		}
		if two, err := Read(m, asked); err != nil || two.Sum == one.Sum {
			t.Errorf("a longer one is not told apart: %v", err)
		}
		now.Drop = []string{"old.html"}
		p := publish(t, m, 2, now, map[string]string{"index.html": "two", "theirs/page.html": "p"})
		if b, err := os.ReadFile(m.Path("/srv/site/index.html")); err != nil || string(b) != "two" {
			t.Errorf("published, it holds %d bytes, %v", len(b), err)
		}
		backAll(t, p)
		if i, err := os.Stat(m.Path("/srv/site/index.html")); err != nil || i.Size() != 9<<40 {
			t.Errorf("taken back: %v", err)
		}
	}()
	select {
	case <-done:
	case <-time.After(2 * time.Minute):
		t.Fatal("it goes on and on")
	}
}

// Whoever may write to a tree can nest directories until no path leads to them, and hold leases on
// files: what is declared is compared all the same, and what cannot be is told in words (X10).
func TestATreeThatNoPathReaches(t *testing.T) {
	m := systemtest.Folder(t)
	texts := map[string]string{"index.html": "one", "b/old.html": "old"}
	w := content("/srv/site", texts)
	publish(t, m, 1, w, texts)
	at, err := unix.Open(m.Path("/srv/site"), unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 40 { // 8,000 bytes
		name := strings.Repeat("x", 200)
		if i == 0 {
			name = "deep"
		}
		if err := unix.Mkdirat(at, name, 0o755); err != nil {
			t.Fatal(err)
		}
		below, err := unix.Openat(at, name, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			t.Fatal(err)
		}
		unix.Close(at)
		at = below
	}
	unix.Close(at)
	read := func() (wire.ContentFound, error) {
		var asked Wanted
		st := stake.Stake{Place: "quay1", Type: "content", Name: "/srv/site", Want: wire.JSON(w.ContentWant)}
		if err := json.Unmarshal(stake.Asked(st, nil), &asked); err != nil {
			t.Fatal(err)
		}
		return Read(m, asked)
	}
	found, err := read()
	if err != nil || fmt.Sprint(found.TooDeep) != "[deep]" || !slices.Contains(found.Extra, "deep") || found.Offs+found.Missings > 0 {
		t.Fatalf("there is %+v, %v", found, err)
	}
	if err := os.WriteFile(m.Path("/srv/site/index.html"), []byte("two"), 0o644); err != nil {
		t.Fatal(err)
	}
	if found, err = read(); err != nil || found.Offs != 1 {
		t.Errorf("beside it an edit is %+v, %v", found.Off, err)
	}
	// What has to go along cannot, and says so; what was there is there.
	b, err := Prepare(m, "1-2", w)
	if err == nil {
		err = Do(m, w, b, silent)
	}
	if err == nil || !strings.Contains(err.Error(), "nested in "+m.Path("/srv/site/deep")) {
		t.Errorf("published over it: %v", err)
	}
	backAll(t, published{m, w, b})
	if got, err := os.ReadFile(m.Path("/srv/site/index.html")); err != nil || string(got) != "two" || !m.Exists("/srv/site/deep") {
		t.Errorf("taken back, it holds %q, %v", got, err)
	}

	// A lease, which its holder does not give back.
	held, err := os.OpenFile(m.Path("/srv/site/index.html"), os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer held.Close()
	if _, err := unix.FcntlInt(held.Fd(), unix.F_SETLEASE, unix.F_WRLCK); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(m.Path("/srv/site/index.html"), time.Now(), time.Now()); err != nil { // so that it is read anew
		t.Fatal(err)
	}
	if _, err := read(); err == nil || !strings.Contains(err.Error(), "index.html: somebody holds a lease on it") {
		t.Errorf("a lease: %v", err)
	}
}
