package publish

import (
	"crypto/sha256"
	"encoding/gob"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"northstake/core/wire"
	"northstake/host/system"
)

// fileID is a file.
type fileID struct{ Dev, Ino uint64 }

func idOf(s *syscall.Stat_t) fileID { return fileID{s.Dev, s.Ino} }

// fileState is a state of a file: an edit that puts the old time back still
// changes ctime.
type fileState struct {
	Size         int64
	Mtime, Ctime int64 // ns
}

func stateNow(s *syscall.Stat_t) fileState {
	return fileState{s.Size, s.Mtim.Nano(), s.Ctim.Nano()}
}

// summed is the sum that a file had in a state.
type summed struct {
	State fileState
	Sum   digest
}

// endless says whether a file is larger than any that is published: whose owner has made it so may
// have made it larger than any disk.
func endless(s *syscall.Stat_t) bool { return s.Size > wire.ContentLimit }

// sizeOf stands for the sum of a file that is not read.
func sizeOf(s *syscall.Stat_t) string { return fmt.Sprintf("%d bytes", s.Size) }

// digest is a SHA-256.
type digest [sha256.Size]byte

func (d digest) String() string { return hex.EncodeToString(d[:]) }

// hashCache remembers the SHA-256 of files in their last state, over restarts of the
// rod.
type hashCache struct {
	mu    sync.RWMutex
	sums  map[fileID]summed
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

// SaveSums keeps the sums of files that are known for the next rod.
func SaveSums(m *system.Machine) error { return hashesOf(m).save(m) }

func hashesOf(m *system.Machine) *hashCache {
	c, err := system.Cached(m, "hashes", "once", func() (*hashCache, error) {
		c := &hashCache{sums: map[fileID]summed{}}
		return c, system.Self(func() error {
			f, err := os.Open(m.State("cache", "hashes"))
			if err != nil {
				return nil
			}
			defer f.Close()
			if gob.NewDecoder(f).Decode(&c.sums) != nil {
				c.sums = map[fileID]summed{}
			}
			return nil
		})
	})
	if err != nil {
		return &hashCache{sums: map[fileID]summed{}}
	}
	return c
}

// sum is the SHA-256 of a file, at rel below root, whose lstat is s.
func (c *hashCache) sum(root, rel string, s *syscall.Stat_t) (v digest, err error) {
	id := idOf(s)
	c.mu.RLock()
	was, ok := c.sums[id]
	c.mu.RUnlock()
	if ok && was.State == stateNow(s) {
		return was.Sum, nil
	}
	keep := settled(s) // a change from now on leaves another state
	var f *os.File
	err = system.Beneath(root, rel, func(at string) error {
		f, err = os.OpenFile(at, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
		return err
	})
	if errors.Is(err, syscall.EAGAIN) {
		return v, &fs.PathError{Op: "read", Path: filepath.Join(root, rel), Err: errors.New("somebody holds a lease on it (fcntl(2)), which the kernel ends within a minute; look again then")}
	}
	if err != nil {
		return v, err
	}
	defer f.Close()
	var opened syscall.Stat_t
	if err := syscall.Fstat(int(f.Fd()), &opened); err != nil {
		return v, err
	} else if opened.Dev != s.Dev || opened.Ino != s.Ino {
		return v, &fs.PathError{Op: "open", Path: filepath.Join(root, rel), Err: fs.ErrNotExist} // another is there by now
	}
	h := sha256.New()
	// What it had when its size was looked at, and not what somebody goes on adding to it.
	if _, err := io.Copy(h, io.LimitReader(f, s.Size+1)); err != nil {
		return v, err
	}
	h.Sum(v[:0])
	if keep {
		c.mu.Lock()
		if len(c.sums) > hashCacheLimit {
			clear(c.sums)
		}
		c.sums[id] = summed{stateNow(s), v}
		c.dirty = true
		c.mu.Unlock()
	}
	return v, nil
}

// save writes the cache for the next rod.
func (c *hashCache) save(m *system.Machine) error {
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
