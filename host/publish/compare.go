package publish

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"syscall"

	"northstake/core/wire"
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
	wire.ContentWant
	tree   wantedTree
	former map[string]wantedFile // what the last publication had beside that
	memory *treeMemory           // of looks with this very wish
}

func (w *Wanted) UnmarshalJSON(b []byte) error {
	var asked wire.ContentAsked
	err := json.Unmarshal(b, &asked)
	if err == nil {
		w.ContentWant = asked.ContentWant
		w.tree, err = treeOf(w.ContentWant)
	}
	if err == nil {
		w.former, err = filesOf(asked.Former)
	}
	w.memory = &treeMemory{}
	return err
}

func treeOf(w wire.ContentWant) (t wantedTree, err error) {
	if err := w.Sound(); err != nil {
		return t, err
	}
	t.dirs = map[string]bool{}
	t.files, err = filesOf(w.Files)
	for _, f := range w.Files {
		t.above(f.Path)
	}
	for _, d := range w.Dirs {
		t.dirs[d] = true
		t.above(d)
	}
	return t, err
}

// above wants the directories that a path lies in.
func (t wantedTree) above(p string) {
	for d := path.Dir(p); d != "." && !t.dirs[d]; d = path.Dir(d) {
		t.dirs[d] = true
	}
}

func filesOf(files []wire.File) (map[string]wantedFile, error) {
	out := make(map[string]wantedFile, len(files))
	for _, f := range files {
		w := wantedFile{size: f.Size}
		if n, err := hex.Decode(w.sum[:], []byte(f.SHA256)); err != nil || n != len(w.sum) {
			return nil, fmt.Errorf("the sum of %s is not a SHA-256: %q", f.Path, f.SHA256)
		}
		out[f.Path] = w
	}
	return out, nil
}

// Read compares the tree at a root with what is wanted there.
func Read(m *system.Machine, w Wanted) (found wire.ContentFound, err error) {
	err = m.ByWhoMay(w.Root, w.Group, func() error {
		found, err = read(m, w)
		return err
	})
	return found, err
}

func read(m *system.Machine, w Wanted) (wire.ContentFound, error) {
	root, err := m.Entry(w.Root)
	if err != nil {
		return wire.ContentFound{}, err
	}
	found := wire.ContentFound{Root: root, Mounted: m.Mounted(w.Root)}
	if found.Root.Kind != wire.EntryDirectory {
		for _, f := range w.Files {
			found.Missing = listed(found.Missing, f.Path)
		}
		found.Missings = len(w.Files)
	}
	c := comparison{root: m.Path(w.Root), want: w, hashes: hashesOf(m), found: found}
	if c.names, err = m.Names(); err != nil {
		return found, err
	}
	if c.uid, c.gid, err = c.names.IDs(w.Owners); err != nil {
		c.uid, c.gid = -1, -1
		c.found.Nobody = c.names.Without(w.Owners)
	}
	if found.Root.Kind != wire.EntryDirectory {
		return c.found, nil
	}
	if c.fileMode, err = system.FileMode(w.Modes.Files); err != nil {
		return found, err
	}
	if c.dirMode, err = system.FileMode(w.Modes.Directories); err != nil {
		return found, err
	}
	if c.found.Below, err = system.MountsBelow(c.root); err != nil {
		return found, err
	}
	if !keepsTimes(c.root) {
		c.want.memory = nil
	}
	c.want.memory.wants(c.uid, c.gid)
	if err := walkEach(c.root, c.found.Below, c.want.memory, c.dir, c.deep); err != nil {
		return found, err
	}
	if c.seen < len(w.tree.files)+len(w.Dirs) {
		if err := c.missing(); err != nil {
			return found, err
		}
	}
	sort.Strings(c.found.Extra)
	sort.Strings(c.found.InTheWay)
	sort.Slice(c.found.Former, func(i, j int) bool { return c.found.Former[i].Path < c.found.Former[j].Path })
	slices.SortFunc(c.found.Off, func(a, b wire.FileOff) int {
		return cmp.Or(cmp.Compare(a.Path, b.Path), cmp.Compare(a.Attribute, b.Attribute))
	})
	c.found.Off = c.found.Off[:min(len(c.found.Off), wire.ContentListed)]
	if !c.want.RestGoes() {
		c.found.Extra = c.found.Extra[:min(len(c.found.Extra), wire.ContentListed)]
	}
	c.found.Sum = c.sum()
	return c.found, nil
}

// sum is that of all that differs, whole.
func (c *comparison) sum() string {
	if len(c.values) == 0 {
		return ""
	}
	sort.Strings(c.values)
	h := sha256.New()
	for _, v := range c.values {
		io.WriteString(h, v+"\x00")
	}
	return hex.EncodeToString(h.Sum(nil))
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

	mu     sync.Mutex
	found  wire.ContentFound
	values []string // of all that differs
	seen   int      // wanted files, and directories without any, that something is there for
}

// dir compares what lies in one directory.
func (c *comparison) dir(rel string, l *listing) error {
	seen := l.there
	found := make([]standing, len(l.items))
	for i := range l.items {
		it := &l.items[i]
		believed := settled(&it.stat) // before it is read
		there, as, err := c.item(it)
		if err != nil {
			return err
		}
		if there {
			seen++
		}
		if as && believed {
			found[i] = asWanted
			if there {
				found[i] = wantedThere
			}
		}
	}
	c.want.memory.keep(rel, l, found)
	c.mu.Lock()
	c.seen += seen
	c.mu.Unlock()
	return nil
}

// item compares one thing. There says that a file, or a directory without any, is wanted at its path; as that
// nothing about it is to be told.
func (c *comparison) item(it *item) (there, as bool, err error) {
	if len(c.want.Keep) > 0 && wire.Kept(c.want.Keep, it.path) != "" {
		return false, true, nil
	}
	s := &it.stat
	kind := s.Mode & syscall.S_IFMT
	f, wanted := c.want.tree.files[it.path]
	wantDir := !wanted && c.want.tree.dirs[it.path]
	switch {
	case !wanted && !wantDir:
		return false, false, c.other(it)
	case wantDir && kind != syscall.S_IFDIR:
		if _, was := c.want.former[it.path]; !was {
			c.note(it, &c.found.InTheWay)
		}
		c.off(it, "what it is", "a directory", system.EntryOf(s, c.names).Words(), "")
		return false, false, nil
	case wanted && kind != syscall.S_IFREG:
		e := system.EntryOf(s, c.names)
		if e.Kind == wire.EntryLink {
			var err error
			if e.Target, err = os.Readlink(filepath.Join(c.root, it.path)); err != nil {
				return false, false, err
			}
		}
		c.off(it, "what it is", "a file", e.Words(), "")
		return true, false, nil
	}
	mode := c.fileMode
	if wantDir {
		mode = c.dirMode
	}
	as = c.owners(it, mode)
	if wantDir {
		return slices.Contains(c.want.Dirs, it.path), as, nil
	}
	there, same, err := c.text(it, f)
	return there, as && same, err
}

// owners compares whose a thing is, and its mode.
func (c *comparison) owners(it *item, mode fs.FileMode) bool {
	s, as := &it.stat, true
	if int(s.Uid) != c.uid {
		as = false
		c.off(it, "owner", c.want.Owner, c.names.User(int(s.Uid)), "")
	}
	if int(s.Gid) != c.gid {
		as = false
		c.off(it, "group", c.want.Group, c.names.Group(int(s.Gid)), "")
	}
	if s.Mode&0o7777 != system.Bits(mode) {
		as = false
		c.off(it, "mode", string(wire.ModeOf(system.Bits(mode))), string(wire.ModeOf(s.Mode)), "")
	}
	return as
}

// text compares what a file holds. There says that it still is there.
func (c *comparison) text(it *item, f wantedFile) (there, as bool, err error) {
	s := &it.stat
	if endless(s) { // what no published file is as large as is not read
		wanted, got := wire.TwoSizes(f.size, s.Size)
		c.off(it, "size", wanted, got, sizeOf(s))
		return true, false, nil
	}
	sum, err := c.hashes.sum(c.root, it.path, s)
	if errors.Is(err, fs.ErrNotExist) {
		return false, false, nil
	}
	if errors.Is(err, fs.ErrPermission) && system.Borrowed() {
		c.off(it, "text", "as declared", "closed to "+c.want.Owner, "")
		return true, false, nil
	}
	if err != nil {
		return false, false, err
	}
	switch {
	case s.Size != f.size:
		wanted, got := wire.TwoSizes(f.size, s.Size)
		c.off(it, "size", wanted, got, sum.String())
	case sum != f.sum:
		c.off(it, "text", "as declared", "different, of the same size", sum.String())
	default:
		as = true
	}
	return true, as, nil
}

// other sorts what is not declared: a file of the last publication, one in the way of
// this, or one that nobody declared.
func (c *comparison) other(it *item) error {
	if it.stat.Mode&syscall.S_IFMT == syscall.S_IFDIR {
		return nil
	}
	was, former := c.want.former[it.path]
	if !former {
		if underFile(c.want.tree, it.path) {
			c.note(it, &c.found.InTheWay)
		} else {
			c.extra(it.path)
		}
		return nil
	}
	one := wire.FormerFile{Path: it.path, Changed: it.stat.Mode&syscall.S_IFMT != syscall.S_IFREG}
	sum := sizeOf(&it.stat) // of one that is not read
	if one.Changed = one.Changed || endless(&it.stat); !one.Changed {
		var err error
		var read digest
		if read, err = c.hashes.sum(c.root, it.path, &it.stat); errors.Is(err, fs.ErrNotExist) {
			return nil
		} else if err != nil && !(errors.Is(err, fs.ErrPermission) && system.Borrowed()) {
			return err
		}
		one.Changed, sum = read != was.sum, read.String()
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.found.Former = append(c.found.Former, one)
	c.values = append(c.values, "former "+it.path+" "+sum)
	return nil
}

// deep notes directories that somebody has nested until no path leads to them: nobody declared them,
// and a publication could not carry them along.
func (c *comparison) deep(path string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	top, _, _ := strings.Cut(path, "/")
	c.found.Extras++
	c.found.Extra = append(c.found.Extra, top)
	if c.found.TooDeep = append(c.found.TooDeep, top); c.want.RestGoes() {
		c.values = append(c.values, "extra "+top)
	}
	return nil
}

// note adds a path to a list that is judged by.
func (c *comparison) note(it *item, list *[]string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	*list = append(*list, it.path)
	c.values = append(c.values, "in the way "+it.path)
}

// off notes that something is not as wanted. Value is what was found where the words do
// not say it whole.
func (c *comparison) off(it *item, attribute, wanted, got, value string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.found.Offs++
	c.values = append(c.values, strings.Join([]string{it.path, attribute, got, value}, "\x01"))
	c.found.Off = append(c.found.Off, wire.FileOff{Path: it.path, Difference: wire.Difference{Attribute: attribute, Wanted: wanted, Found: got}, Touched: system.EntryOf(&it.stat, c.names).Touched})
}

func (c *comparison) extra(path string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.found.Extras++
	c.found.Extra = append(c.found.Extra, path)
	if c.want.RestGoes() {
		c.values = append(c.values, "extra "+path)
	}
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
	lacks := func(p string) {
		if !present[p] {
			c.found.Missings++
			c.found.Missing = listed(c.found.Missing, p)
			c.values = append(c.values, "missing "+p)
		}
	}
	for _, f := range c.want.Files {
		lacks(f.Path)
	}
	for _, d := range c.want.Dirs {
		lacks(d)
	}
	return nil
}

func listed(list []string, p string) []string {
	if len(list) < wire.ContentListed {
		return append(list, p)
	}
	return list
}
