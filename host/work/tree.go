package work

import (
	"crypto/sha256"
	"encoding/gob"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"northstake/host/platform"
)

// fileID is a state of a file: an edit that puts the old time back still
// changes ctime.
type fileID struct {
	Dev, Ino     uint64
	Size         int64
	Mtime, Ctime int64 // ns
}

func idOf(s *syscall.Stat_t) fileID {
	return fileID{uint64(s.Dev), s.Ino, s.Size, s.Mtim.Nano(), s.Ctim.Nano()}
}

// digest is a SHA-256.
type digest [sha256.Size]byte

func (d digest) String() string { return hex.EncodeToString(d[:]) }

// hashCache remembers the SHA-256 of files by their state, over restarts of the
// rod.
type hashCache struct {
	mu    sync.RWMutex
	sums  map[fileID]digest
	dirty bool
}

const (
	hashCacheLimit = 500_000
	// Two changes within one tick of the file system's clock leave the same ctime.
	// A change must be older than that before a sum is remembered: the clock of a
	// file system that keeps parts of seconds ticks every ten milliseconds at least,
	// that of another every two seconds.
	fineSettle   = 100 * time.Millisecond
	coarseSettle = 2 * time.Second
)

// settled says whether a change of a file would leave another ctime now.
func settled(s *syscall.Stat_t) bool {
	ctime, limit := time.Unix(s.Ctim.Unix()), fineSettle
	if ctime.Nanosecond()%int(time.Millisecond) == 0 {
		limit = coarseSettle
	}
	return time.Since(ctime) > limit
}

func hashesOf(m *platform.Machine) *hashCache {
	c, err := platform.Cached(m, "hashes", "once", func() (*hashCache, error) {
		c := &hashCache{sums: map[fileID]digest{}}
		f, err := os.Open(m.State("cache", "hashes"))
		if err != nil {
			return c, nil
		}
		defer f.Close()
		if gob.NewDecoder(f).Decode(&c.sums) != nil {
			c.sums = map[fileID]digest{}
		}
		return c, nil
	})
	if err != nil {
		return &hashCache{sums: map[fileID]digest{}}
	}
	return c
}

// sum is the SHA-256 of a file, at rel below root, whose lstat is s.
func (c *hashCache) sum(root, rel string, s *syscall.Stat_t) (v digest, err error) {
	id := idOf(s)
	c.mu.RLock()
	v, ok := c.sums[id]
	c.mu.RUnlock()
	if ok {
		return v, nil
	}
	keep := settled(s) // a change from now on leaves another state
	f, err := os.OpenFile(filepath.Join(root, rel), os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return v, err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return v, err
	}
	h.Sum(v[:0])
	if keep {
		c.mu.Lock()
		if len(c.sums) > hashCacheLimit {
			clear(c.sums)
		}
		c.sums[id] = v
		c.dirty = true
		c.mu.Unlock()
	}
	return v, nil
}

// save writes the cache for the next rod.
func (c *hashCache) save(m *platform.Machine) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.dirty {
		return nil
	}
	dir := m.State("cache")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(dir, "hashes-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	err = gob.NewEncoder(f).Encode(c.sums)
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	c.dirty = false
	return os.Rename(f.Name(), filepath.Join(dir, "hashes"))
}

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
	err := walkEach(root, func(items []item) error {
		mu.Lock()
		defer mu.Unlock()
		all = append(all, items...)
		return nil
	})
	return all, err
}

// walkEach calls visit with what is in each directory of a tree, once for a
// directory and with a directory before those below it. Directories are read,
// and visit is called, side by side.
func walkEach(root string, visit func([]item) error) error {
	w := &walker{root: root, visit: visit, gate: make(chan struct{}, runtime.GOMAXPROCS(0))}
	w.dir("")
	w.wait.Wait()
	return w.err
}

type walker struct {
	root  string
	visit func([]item) error
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
	if err != nil {
		w.mu.Lock()
		if w.err == nil {
			w.err = err
		}
		w.mu.Unlock()
	}
	for i := range items {
		if items[i].stat.Mode&syscall.S_IFMT != syscall.S_IFDIR {
			continue
		}
		select {
		case w.gate <- struct{}{}:
			w.wait.Go(func() {
				defer func() { <-w.gate }()
				w.dir(items[i].path)
			})
		default:
			w.dir(items[i].path)
		}
	}
}

func listDir(root, rel string) ([]item, error) {
	dir, err := os.Open(filepath.Join(root, rel))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	if err != nil {
		return nil, err
	}
	prefix := rel
	if prefix != "" {
		prefix += "/"
	}
	out := make([]item, 0, len(names))
	fd := int(dir.Fd())
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
