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
}

// walk lists a tree, the root first and each directory before what is in it,
// without following links. What vanishes meanwhile is left out.
func walk(root string) ([]item, error) {
	var s syscall.Stat_t
	if err := syscall.Lstat(root, &s); err != nil {
		return nil, &fs.PathError{Op: "lstat", Path: root, Err: err}
	}
	all := []item{{"", s}}
	if s.Mode&syscall.S_IFMT != syscall.S_IFDIR {
		return all, nil
	}
	var mu sync.Mutex
	err := walkEach(root, nil, func(items []item) error {
		mu.Lock()
		defer mu.Unlock()
		all = append(all, items...)
		return nil
	}, func(path string) error { return &tooDeep{root, path} })
	return all, err
}

// walkEach calls visit with what is in each directory of a tree, once for a
// directory and with a directory before those below it. Directories are read,
// and visit is called, side by side.
func walkEach(root string, but []string, visit func([]item) error, deep func(path string) error) error {
	w := &walker{root: root, but: but, visit: visit, deep: deep, gate: make(chan struct{}, runtime.GOMAXPROCS(0))}
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
	visit func([]item) error
	deep  func(path string) error // told of a directory that is not gone into because its path is too long
	gate  chan struct{}
	wait  sync.WaitGroup

	mu  sync.Mutex
	err error
}

// dir visits one directory, and starts on those below it.
func (w *walker) dir(rel string) {
	items, err := listDir(w.root, rel)
	if err == nil {
		err = w.visit(items)
	}
	w.fail(err)
	for i := range items {
		if items[i].stat.Mode&syscall.S_IFMT != syscall.S_IFDIR || slices.Contains(w.but, items[i].path) {
			continue
		}
		if len(items[i].path) > deepest {
			w.fail(w.deep(items[i].path))
			continue
		}
		select {
		case w.gate <- struct{}{}:
			dir := system.Lent(func() error { w.dir(items[i].path); return nil })
			w.wait.Go(func() {
				defer func() { <-w.gate }()
				w.fail(dir())
			})
		default:
			w.dir(items[i].path)
		}
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

func listDir(root, rel string) ([]item, error) {
	fd, err := system.OpenDir(root, rel)
	if errors.Is(err, fs.ErrNotExist) || rel != "" && errors.Is(err, syscall.ENOTDIR) { // it was one when it was listed
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	names, err := namesIn(fd)
	if err != nil {
		return nil, &fs.PathError{Op: "read", Path: filepath.Join(root, rel), Err: err}
	}
	prefix := rel
	if prefix != "" {
		prefix += "/"
	}
	out := make([]item, 0, len(names))
	for _, n := range names {
		it := item{path: prefix + n}
		var s unix.Stat_t
		if err := unix.Fstatat(fd, n, &s, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			if errors.Is(err, syscall.ENOENT) {
				continue
			}
			return out, &fs.PathError{Op: "lstat", Path: filepath.Join(root, it.path), Err: err}
		}
		it.stat = syscall.Stat_t{Dev: s.Dev, Ino: s.Ino, Nlink: s.Nlink, Mode: s.Mode, Uid: s.Uid, Gid: s.Gid, Size: s.Size,
			Mtim: syscall.Timespec(s.Mtim), Ctim: syscall.Timespec(s.Ctim)}
		out = append(out, it)
	}
	return out, nil
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
