// Package system is the ground floor of a host: files below a root directory,
// commands, and what the kernel tells. It knows no family of systems, no web server
// and no kind of stake.
package system

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"

	"northstake/core/wire"
)

// Machine is the system that is read and changed. With a Root other than "/" it
// is a folder that looks like one. StateDir is the absolute path, below Root,
// where North Stake keeps its own files.
type Machine struct {
	Root     string
	StateDir wire.Path
	Run      Runner
	Engine   string // socket of its container engine, "" for where engines listen by themselves

	mu     sync.Mutex
	caches map[string]any
}

// Path is where a path of the machine lies for this process.
func (m *Machine) Path(p wire.Path) string {
	if m.Root == "" || m.Root == "/" {
		return string(p)
	}
	return filepath.Join(m.Root, string(p))
}

// Own is where what lies somewhere for this process lies on the machine.
func (m *Machine) Own(full string) wire.Path {
	return wire.Path("/").Join(strings.TrimPrefix(full, strings.TrimSuffix(m.Path("/"), "/")))
}

// State is a path below the machine's state directory.
func (m *Machine) State(parts ...string) string {
	return filepath.Join(append([]string{m.Path(m.StateDir)}, parts...)...)
}

// Scratch is a path for what is made and removed within one step, which only root can get
// to: in memory where /run is, so that nothing of it is written to a disk, and below the state
// directory elsewhere.
func (m *Machine) Scratch(parts ...string) string {
	var on syscall.Statfs_t
	if m.Root == "" && os.Geteuid() == 0 && syscall.Statfs("/run", &on) == nil && on.Type == tmpfsMagic {
		return filepath.Join(append([]string{"/run/northstake"}, parts...)...)
	}
	return m.State(parts...)
}

// tmpfsMagic is TMPFS_MAGIC (linux/magic.h).
const tmpfsMagic = 0x01021994

// Read reads a whole file.
func (m *Machine) Read(path wire.Path) ([]byte, error) {
	f, err := os.OpenFile(m.Path(path), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if s, err := f.Stat(); err == nil && s.Size() > ReadLimit {
		return nil, &fs.PathError{Op: "read", Path: string(path), Err: syscall.EFBIG}
	}
	b, err := io.ReadAll(io.LimitReader(f, ReadLimit+1))
	if err == nil && len(b) > ReadLimit {
		err = &fs.PathError{Op: "read", Path: string(path), Err: syscall.EFBIG}
	}
	return b, err
}

// ReadLimit is how many bytes of a host's file are read at most: the list of packages of a large
// host has some 10 MB.
const ReadLimit = 64 << 20

// Exists says whether something is at a path, a dangling link included.
func (m *Machine) Exists(path wire.Path) bool {
	_, err := os.Lstat(m.Path(path))
	return err == nil
}

// cached keeps a value until its key changes.
type cached[T any] struct {
	key   string
	value T
}

// Cached returns the remembered value under name while key stays the same, and
// makes it anew otherwise. An empty key is never remembered.
func Cached[T any](m *Machine, name, key string, make_ func() (T, error)) (T, error) {
	m.mu.Lock()
	if m.caches == nil {
		m.caches = map[string]any{}
	}
	c, ok := m.caches[name].(cached[T])
	m.mu.Unlock()
	if ok && key != "" && c.key == key {
		return c.value, nil
	}
	v, err := make_()
	if err != nil {
		return v, err
	}
	m.mu.Lock()
	m.caches[name] = cached[T]{key, v}
	m.mu.Unlock()
	return v, nil
}

// Alive returns the value that is kept under a name while it is good, and makes it anew
// otherwise: a connection, say.
func Alive[T any](m *Machine, name string, good func(T) bool, make_ func() (T, error)) (T, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if v, ok := m.caches[name].(T); ok && good(v) {
		return v, nil
	}
	v, err := make_()
	if err != nil {
		return v, err
	}
	if m.caches == nil {
		m.caches = map[string]any{}
	}
	m.caches[name] = v
	return v, nil
}

// FileKey identifies a state of files for Cached: device, inode, size, both
// times of each; "" when one cannot be read.
func (m *Machine) FileKey(paths ...wire.Path) string {
	var b strings.Builder
	for _, p := range paths {
		s, err := lstat(m.Path(p))
		if err != nil {
			return ""
		}
		fmt.Fprintf(&b, "%d:%d:%d:%d:%d|", s.Dev, s.Ino, s.Size, s.Mtim.Nano(), s.Ctim.Nano())
	}
	return b.String()
}
