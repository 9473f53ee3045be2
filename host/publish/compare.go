package publish

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sort"
	"sync"
	"syscall"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/host/system"
)

// wantedTree is a ContentWant prepared for comparing: what is wanted at each
// relative path.
type wantedTree struct {
	files map[string]wantedFile
	dirs  map[string]bool
}

type wantedFile struct {
	size int64
	sum  digest
}

// Wanted is a ContentWant with its tree, decoded once.
type Wanted struct {
	stake.ContentWant
	tree wantedTree
}

func (w *Wanted) UnmarshalJSON(b []byte) (err error) {
	if err = json.Unmarshal(b, &w.ContentWant); err == nil {
		w.tree, err = treeOf(w.Files)
	}
	return err
}

func treeOf(files []declare.File) (wantedTree, error) {
	t := wantedTree{files: make(map[string]wantedFile, len(files)), dirs: map[string]bool{}}
	for _, f := range files {
		w := wantedFile{size: f.Size}
		if n, err := hex.Decode(w.sum[:], []byte(f.SHA256)); err != nil || n != len(w.sum) {
			return t, fmt.Errorf("the sum of %s is not a SHA-256: %q", f.Path, f.SHA256)
		}
		t.files[f.Path] = w
		for d := path.Dir(f.Path); d != "."; d = path.Dir(d) {
			t.dirs[d] = true
		}
	}
	return t, nil
}

// Read compares the tree at a root with what is wanted there.
func Read(m *system.Machine, w Wanted) (stake.ContentFound, error) {
	found := stake.ContentFound{}
	var err error
	if found.Root, err = m.Entry(w.Root); err != nil {
		return found, err
	}
	found.Mounted = m.Mounted(w.Root)
	if found.Root.Kind != "directory" {
		for _, f := range w.Files {
			found.Missing = listed(found.Missing, f.Path)
		}
		found.Missings = len(w.Files)
		return found, nil
	}
	c := comparison{root: m.Path(w.Root), want: w, hashes: hashesOf(m), found: found}
	if c.names, err = m.Names(); err != nil {
		return found, err
	}
	if c.uid, c.gid, err = c.names.IDs(w.Owner, w.Group); err != nil {
		c.uid, c.gid = -1, -1
	}
	if c.fileMode, err = system.ParseMode(w.Modes.Files); err != nil {
		return found, err
	}
	if c.dirMode, err = system.ParseMode(w.Modes.Directories); err != nil {
		return found, err
	}
	if err := walkEach(c.root, c.dir); err != nil {
		return found, err
	}
	if c.seen < len(w.tree.files) {
		if err := c.missing(); err != nil {
			return found, err
		}
	}
	sort.Strings(c.found.Extra)
	sort.Slice(c.found.Off, func(i, j int) bool { return c.found.Off[i].Path < c.found.Off[j].Path })
	return c.found, nil
}

// comparison holds what is wanted of a tree beside what is there. Directories
// are compared side by side.
type comparison struct {
	root              string
	want              Wanted
	names             *system.Names
	uid, gid          int
	fileMode, dirMode os.FileMode
	hashes            *hashCache

	mu    sync.Mutex
	found stake.ContentFound
	seen  int // wanted files that something is there for
}

// dir compares what lies in one directory.
func (c *comparison) dir(items []item) error {
	seen := 0
	for i := range items {
		there, err := c.item(&items[i])
		if err != nil {
			return err
		}
		if there {
			seen++
		}
	}
	c.mu.Lock()
	c.seen += seen
	c.mu.Unlock()
	return nil
}

// item compares one thing, and says whether a file is wanted at its path.
func (c *comparison) item(it *item) (bool, error) {
	if len(c.want.Keep) > 0 && declare.Kept(c.want.Keep, it.path) != "" {
		return false, nil
	}
	s := &it.stat
	kind := s.Mode & syscall.S_IFMT
	f, wanted := c.want.tree.files[it.path]
	wantDir := !wanted && c.want.tree.dirs[it.path]
	switch {
	case !wanted && !wantDir:
		if kind != syscall.S_IFDIR {
			c.extra(it.path)
		}
		return false, nil
	case wantDir && kind != syscall.S_IFDIR:
		c.off(it, "what it is", "a directory", system.EntryOf(s, c.names).Words())
		return false, nil
	case wanted && kind != syscall.S_IFREG:
		e := system.EntryOf(s, c.names)
		if e.Kind == "link" {
			var err error
			if e.Target, err = os.Readlink(filepath.Join(c.root, it.path)); err != nil {
				return false, err
			}
		}
		c.off(it, "what it is", "a file", e.Words())
		return true, nil
	}
	if int(s.Uid) != c.uid {
		c.off(it, "owner", c.want.Owner, c.names.User(int(s.Uid)))
	}
	if int(s.Gid) != c.gid {
		c.off(it, "group", c.want.Group, c.names.Group(int(s.Gid)))
	}
	mode := c.fileMode
	if wantDir {
		mode = c.dirMode
	}
	if s.Mode&0o7777 != uint32(mode.Perm()) {
		c.off(it, "mode", fmt.Sprintf("%04o", mode.Perm()), fmt.Sprintf("%04o", s.Mode&0o7777))
	}
	if wantDir {
		return false, nil
	}
	if s.Size != f.size {
		c.off(it, "size", stake.Bytes(f.size), stake.Bytes(s.Size))
		return true, nil
	}
	sum, err := c.hashes.sum(c.root, it.path, s)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if sum != f.sum {
		c.off(it, "text", "as declared", "different, of the same size")
	}
	return true, nil
}

func (c *comparison) off(it *item, attribute, wanted, got string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.found.Offs++
	if len(c.found.Off) < stake.ContentListed {
		c.found.Off = append(c.found.Off, stake.FileOff{Path: it.path, Difference: stake.Difference{Attribute: attribute, Wanted: wanted, Found: got}, Touched: system.EntryOf(&it.stat, c.names).Touched})
	}
}

func (c *comparison) extra(path string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.found.Extras++
	if c.want.RestGoes() {
		c.found.Extra = append(c.found.Extra, path)
		return
	}
	c.found.Extra = listed(c.found.Extra, path)
}

// missing lists the wanted files that nothing is there for.
func (c *comparison) missing() error {
	items, err := walk(c.root)
	if err != nil {
		return err
	}
	present := map[string]bool{}
	for _, it := range items {
		present[it.path] = true
	}
	for _, f := range c.want.Files {
		if !present[f.Path] {
			c.found.Missings++
			c.found.Missing = listed(c.found.Missing, f.Path)
		}
	}
	return nil
}

func listed(list []string, p string) []string {
	if len(list) < stake.ContentListed {
		return append(list, p)
	}
	return list
}
