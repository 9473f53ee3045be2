package publish

import (
	"slices"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// treeMemory is what is remembered of a tree from one look to the next, of what was found as wanted: whatever
// has the same state need not be compared again. Every entry is asked for its state at every look; names are
// only read again where the directory's own state is another, since the kernel changes that with each name that
// comes or goes. A state is believed where a change would leave another (see settled).
type treeMemory struct {
	mu       sync.Mutex
	uid, gid int // that were wanted
	dirs     map[string]*dirMemory
	entries  int
}

// dirMemory is what is remembered of one directory. It is not changed any more.
type dirMemory struct {
	state   entryState
	entries []entry
}

// entry is what is remembered of one thing.
type entry struct {
	path  string // relative to the tree
	state entryState
	as    standing
}

// entryState is all that is asked about one thing.
type entryState struct {
	file           fileID
	state          fileState
	mode, uid, gid uint32
}

func entryStateOf(s *syscall.Stat_t) entryState {
	return entryState{idOf(s), stateNow(s), s.Mode, s.Uid, s.Gid}
}

// standing says how something was found.
type standing uint8

const (
	notAsWanted standing = iota // or not known
	asWanted
	wantedThere // as wanted, and counted among the files, and directories without any, that are there
)

// treeMemoryLimit is how many things are remembered of one tree: some 100 bytes each, and its path.
const treeMemoryLimit = 200_000

// of is what is remembered of a directory, nil for nothing.
func (m *treeMemory) of(rel string) *dirMemory {
	if m == nil {
		return nil
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.dirs[rel]
}

// wants starts anew where other owners are wanted by now.
func (m *treeMemory) wants(uid, gid int) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.dirs == nil || m.uid != uid || m.gid != gid {
		m.uid, m.gid, m.dirs, m.entries = uid, gid, map[string]*dirMemory{}, 0
	}
}

// keep remembers how the things in a directory were found.
func (m *treeMemory) keep(rel string, l *listing, found []standing) {
	if m == nil || l.was != nil && len(l.items) == 0 {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if was := m.dirs[rel]; was != nil {
		m.entries -= len(was.entries)
		delete(m.dirs, rel)
	}
	if !l.kept || m.entries+len(l.was)+len(l.items) > treeMemoryLimit {
		return
	}
	entries := make([]entry, max(len(l.was), len(l.items)))
	copy(entries, l.was)
	for i := range l.items {
		it := &l.items[i]
		entries[it.at] = entry{it.path, entryStateOf(&it.stat), found[i]}
	}
	m.dirs[rel] = &dirMemory{l.state, entries}
	m.entries += len(entries)
}

// keepsTimes says whether a tree lies on a file system of this machine's own kernel, which gives a directory
// another time with each name that comes or goes. Those that another machine or a program answers for (nfs(5),
// fuse(4)) may not, and some have no times for directories at all. Other mounts below are not gone into.
func keepsTimes(root string) bool {
	var s unix.Statfs_t
	return unix.Statfs(root, &s) == nil && slices.Contains([]int64{unix.EXT4_SUPER_MAGIC, unix.XFS_SUPER_MAGIC, unix.BTRFS_SUPER_MAGIC,
		unix.F2FS_SUPER_MAGIC, unix.TMPFS_MAGIC, unix.OVERLAYFS_SUPER_MAGIC}, s.Type)
}
