package publish

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/host/system"
)

// item is one thing in a tree on the host.
type item struct {
	path string // relative, "" for the root
	stat syscall.Stat_t
	at   int // in what is remembered of its directory
}

// listing is what lies in one directory. What is as it was when it was found as wanted is only counted.
type listing struct {
	items []item
	below []string // directories, of those that are only counted
	there int      // of those that are only counted, what something was wanted for
	state entryState
	kept  bool // state tells whether a name is added or taken away from now on
	was   []entry
}

// walk lists a tree, the root first and each directory before what is in it,
// without following links. What vanishes meanwhile is left out.
func walk(root string) ([]item, error) {
	var s syscall.Stat_t
	if err := syscall.Lstat(root, &s); err != nil {
		return nil, &fs.PathError{Op: "lstat", Path: root, Err: err}
	}
	all := []item{{stat: s}}
	if s.Mode&syscall.S_IFMT != syscall.S_IFDIR {
		return all, nil
	}
	var mu sync.Mutex
	err := walkEach(root, nil, nil, func(_ string, l *listing) error {
		mu.Lock()
		defer mu.Unlock()
		all = append(all, l.items...)
		return nil
	}, func(path string) error { return &tooDeep{root, path} })
	return all, err
}

// walkEach calls visit with what is in each directory of a tree, once for a
// directory and with a directory before those below it. Directories are read,
// and visit is called, side by side. What is remembered of the tree, nil for
// nothing, is not visited again while it is the same.
func walkEach(root string, but []string, known *treeMemory, visit func(dir string, l *listing) error, deep func(path string) error) error {
	w := &walker{root: root, but: but, known: known, visit: visit, deep: deep, gate: make(chan struct{}, runtime.GOMAXPROCS(0))}
	w.dir("")
	w.wait.Wait()
	return w.err
}

// deepest is how long a path below a root may be. The kernel takes 4,096 bytes of a path at once
// (PATH_MAX), of which some are the root's, or those of where a tree is made ready.
const deepest = 3000

// tooDeep says that directories are nested deeper than anything can be done with by a path.
type tooDeep struct{ root, path string }

func (d *tooDeep) Error() string {
	top, _, _ := strings.Cut(d.path, "/")
	return fmt.Sprintf("directories are nested in %s until their path is longer than %d bytes; take it away: rm -r %s", filepath.Join(d.root, top), deepest, filepath.Join(d.root, top))
}

type walker struct {
	root  string
	but   []string // directories that are not gone into
	known *treeMemory
	visit func(dir string, l *listing) error
	deep  func(path string) error // told of a directory that is not gone into because its path is too long
	gate  chan struct{}
	wait  sync.WaitGroup

	mu  sync.Mutex
	err error
}

// dir visits one directory, and starts on those below it.
func (w *walker) dir(rel string) {
	l, err := listDir(w.root, rel, w.known.of(rel))
	if err == nil {
		err = w.visit(rel, l)
	}
	w.fail(err)
	for i := range l.items {
		if l.items[i].stat.Mode&syscall.S_IFMT == syscall.S_IFDIR {
			w.into(l.items[i].path)
		}
	}
	for _, path := range l.below {
		w.into(path)
	}
}

// into visits a directory that was listed, where it is to be gone into.
func (w *walker) into(path string) {
	if slices.Contains(w.but, path) {
		return
	}
	if len(path) > deepest {
		w.fail(w.deep(path))
		return
	}
	select {
	case w.gate <- struct{}{}:
		dir := system.Lent(func() error { w.dir(path); return nil })
		w.wait.Go(func() {
			defer func() { <-w.gate }()
			w.fail(dir())
		})
	default:
		w.dir(path)
	}
}

// fail keeps the first error.
func (w *walker) fail(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err == nil {
		w.err = err
	}
}

// listDir lists a directory, of which was is remembered.
func listDir(root, rel string, was *dirMemory) (*listing, error) {
	l := &listing{}
	fd, err := system.OpenDir(root, rel)
	if errors.Is(err, fs.ErrNotExist) || rel != "" && errors.Is(err, syscall.ENOTDIR) { // it was one when it was listed
		return l, nil
	}
	if err != nil {
		return l, err
	}
	defer unix.Close(fd)
	prefix := rel
	if prefix != "" {
		prefix += "/"
	}
	var own syscall.Stat_t
	if err := syscall.Fstat(fd, &own); err != nil {
		return l, &fs.PathError{Op: "stat", Path: filepath.Join(root, rel), Err: err}
	}
	l.state, l.kept = entryStateOf(&own), settled(&own)
	if was != nil && was.state == l.state {
		return l, l.again(fd, root, prefix, was.entries)
	}
	names, err := namesIn(fd)
	if err != nil {
		return l, &fs.PathError{Op: "read", Path: filepath.Join(root, rel), Err: err}
	}
	l.items = make([]item, 0, len(names))
	for _, n := range names {
		it := item{path: prefix + n, at: len(l.items)}
		if there, err := it.look(fd, root, n); err != nil {
			return l, err
		} else if there {
			l.items = append(l.items, it)
		}
	}
	return l, nil
}

// again lists a directory in which the same names are as before.
func (l *listing) again(fd int, root, prefix string, was []entry) error {
	l.was = was
	for i := range was {
		it := item{path: was[i].path, at: i}
		there, err := it.look(fd, root, it.path[len(prefix):])
		switch {
		case err != nil:
			return err
		case !there:
			l.kept = false // for it goes just now
		case was[i].as == notAsWanted || was[i].state != entryStateOf(&it.stat):
			l.items = append(l.items, it)
		default:
			if was[i].as == wantedThere {
				l.there++
			}
			if it.stat.Mode&syscall.S_IFMT == syscall.S_IFDIR {
				l.below = append(l.below, it.path)
			}
		}
	}
	return nil
}

// look asks what has a name in an open directory; what has vanished is not there.
func (it *item) look(fd int, root, name string) (there bool, err error) {
	var s unix.Stat_t
	if err := unix.Fstatat(fd, name, &s, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		if errors.Is(err, syscall.ENOENT) {
			return false, nil
		}
		return false, &fs.PathError{Op: "lstat", Path: filepath.Join(root, it.path), Err: err}
	}
	it.stat = syscall.Stat_t{Dev: s.Dev, Ino: s.Ino, Nlink: s.Nlink, Mode: s.Mode, Uid: s.Uid, Gid: s.Gid, Size: s.Size,
		Mtim: syscall.Timespec(s.Mtim), Ctim: syscall.Timespec(s.Ctim)}
	return true, nil
}

// direntBuffers are for the names of a directory: what getdents64(2) fills at once.
var direntBuffers = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// namesIn lists what lies in an open directory.
func namesIn(fd int) (names []string, err error) {
	buf := direntBuffers.Get().(*[]byte)
	defer direntBuffers.Put(buf)
	for {
		n, err := unix.ReadDirent(fd, *buf)
		if errors.Is(err, syscall.EINTR) {
			continue
		}
		if err != nil || n <= 0 {
			return names, err
		}
		_, _, names = unix.ParseDirent((*buf)[:n], -1, names)
	}
}
