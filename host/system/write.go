package system

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"northstake/core/wire"
)

// WriteAtomically writes a file under another name, flushes it to disk, and
// renames it into place, so that a reader sees the old text or the new. A file that
// is mounted by itself, as container engines do with /etc/hosts, has to be written in
// place, and so has one with other names, which would split from them. Access lists and extended
// attributes stay as they are.
func WriteAtomically(path string, text []byte, mode os.FileMode) error {
	if linked(path) {
		return writeInPlace(path, text, mode)
	}
	dir := filepath.Dir(path)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	f, err := tempBeside(path)
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(text)
	if err == nil {
		err = like(path, f.Name())
	}
	if err == nil {
		err = f.Chmod(mode)
	}
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	err = os.Rename(f.Name(), path)
	if errors.Is(err, syscall.EBUSY) {
		return writeInPlace(path, text, mode)
	}
	if err != nil {
		return err
	}
	return Flush(dir)
}

// NewFile is a file to be written, with whose it is to be.
type NewFile struct {
	Path wire.Path
	Text []byte
	Mode os.FileMode
	wire.Owners
}

// flushing is how many files are flushed at once: the file system writes them together.
const flushing = 32

// WriteTogether writes files as WriteAtomically does, each with its owner from the first, and
// flushes them side by side and their directories once. None is in place before all of them
// are on the disk.
func (m *Machine) WriteTogether(files []NewFile) error {
	names, err := m.Names()
	if err != nil {
		return err
	}
	temps := make([]string, len(files))
	defer func() {
		for _, t := range temps {
			if t != "" {
				os.Remove(t)
			}
		}
	}()
	var all errgroup.Group
	all.SetLimit(flushing)
	for i, n := range files {
		uid, gid, err := names.IDs(n.Owners)
		if err != nil {
			return err
		}
		dir := filepath.Dir(m.Path(n.Path))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		f, err := tempBeside(m.Path(n.Path))
		if err != nil {
			return err
		}
		temps[i] = f.Name()
		all.Go(func() error {
			_, err := f.Write(n.Text)
			if err == nil {
				err = f.Chown(uid, gid)
			}
			if err == nil {
				err = like(m.Path(n.Path), f.Name())
			}
			if err == nil {
				err = f.Chmod(n.Mode)
			}
			if err == nil {
				err = f.Sync()
			}
			if e := f.Close(); err == nil {
				err = e
			}
			if err != nil {
				return fmt.Errorf("write %s: %w", n.Path, err)
			}
			return nil
		})
	}
	if err := all.Wait(); err != nil {
		return err
	}
	dirs := map[string]bool{}
	for i, n := range files {
		if err := os.Rename(temps[i], m.Path(n.Path)); err != nil {
			return err
		}
		dirs[filepath.Dir(m.Path(n.Path))] = true
	}
	return flushEach(dirs)
}

// LinkTogether makes symbolic links as LinkAtomically does, and flushes their directories
// once: links has what each leads to by its path.
func (m *Machine) LinkTogether(links map[wire.Path]string) error {
	dirs := map[string]bool{}
	for _, path := range slices.Sorted(maps.Keys(links)) {
		if err := linkIn(links[path], m.Path(path)); err != nil {
			return err
		}
		dirs[filepath.Dir(m.Path(path))] = true
	}
	return flushEach(dirs)
}

func flushEach(dirs map[string]bool) error {
	for dir := range dirs {
		if err := Flush(dir); err != nil {
			return err
		}
	}
	return nil
}

func writeInPlace(path string, text []byte, mode os.FileMode) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	err = f.Chmod(mode) // before it holds what is new
	if err == nil {
		_, err = f.WriteAt(text, 0)
	}
	if err == nil {
		err = f.Truncate(int64(len(text)))
	}
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	return err
}

// immutableFlag is FS_IMMUTABLE_FL (linux/fs.h).
const immutableFlag = 0x10

// Immutable says whether a file is marked so that nobody can change it (ioctl_iflags(2));
// not so where the file system has no such marks.
func (m *Machine) Immutable(path wire.Path) bool {
	f, err := os.OpenFile(m.Path(path), os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	flags, err := unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS)
	return err == nil && flags&immutableFlag != 0
}

// Flush writes what has changed in a file or directory to disk.
func Flush(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// FileMode is a mode as Go has it.
func FileMode(m wire.Mode) (os.FileMode, error) {
	n, err := m.Bits()
	if err != nil {
		return 0, err
	}
	mode := os.FileMode(n & 0o777)
	for bit, flag := range map[uint32]os.FileMode{0o4000: os.ModeSetuid, 0o2000: os.ModeSetgid, 0o1000: os.ModeSticky} {
		if n&bit != 0 {
			mode |= flag
		}
	}
	return mode, nil
}

// Bits are those of a mode as stat(2) has them.
func Bits(m os.FileMode) uint32 {
	bits := uint32(m.Perm())
	for flag, bit := range map[os.FileMode]uint32{os.ModeSetuid: 0o4000, os.ModeSetgid: 0o2000, os.ModeSticky: 0o1000} {
		if m&flag != 0 {
			bits |= bit
		}
	}
	return bits
}

// Chown gives what lies at a path, a link itself, an owner and a group by their names.
func (m *Machine) Chown(path wire.Path, owners wire.Owners) error {
	names, err := m.Names()
	if err != nil {
		return err
	}
	uid, gid, err := names.IDs(owners)
	if err != nil {
		return err
	}
	full := m.Path(path)
	var s syscall.Stat_t
	if err := syscall.Lstat(full, &s); err != nil || int(s.Uid) == uid && int(s.Gid) == gid {
		return err
	}
	if err := os.Lchown(full, uid, gid); err != nil {
		return err
	}
	if s.Mode&syscall.S_IFMT == syscall.S_IFREG && s.Mode&0o6000 != 0 { // which chown(2) takes away
		return chmodSame(full, &s)
	}
	return nil
}

// chmodSame gives a file the mode that it had, and nothing else that somebody has put in its place.
func chmodSame(full string, was *syscall.Stat_t) error {
	f, err := os.OpenFile(full, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	var s syscall.Stat_t
	if err := syscall.Fstat(int(f.Fd()), &s); err != nil || s.Ino != was.Ino || s.Dev != was.Dev {
		return err
	}
	return unix.Fchmod(int(f.Fd()), was.Mode&0o7777)
}

// LinkAtomically makes path a link to target, in place of what is there.
func LinkAtomically(target, path string) error {
	if err := linkIn(target, path); err != nil {
		return err
	}
	return Flush(filepath.Dir(path))
}

// tempBeside makes the file that is to take the place of another. What keeps it from being made is told
// of the place, and not of a name that nobody knows.
func tempBeside(path string) (*os.File, error) {
	f, err := os.CreateTemp(filepath.Dir(path), ".northstake-*")
	var at *fs.PathError
	switch {
	case errors.Is(err, syscall.EROFS):
		return nil, fmt.Errorf("write %s: its file system is mounted so that it can only be read", path)
	case errors.As(err, &at):
		return nil, fmt.Errorf("write %s: %w", path, at.Err)
	}
	return f, err
}

// linkIn makes a link that is not flushed yet.
func linkIn(target, path string) error {
	tmp := filepath.Join(filepath.Dir(path), ".northstake-link-"+filepath.Base(path))
	os.Remove(tmp)
	if err := os.Symlink(target, tmp); err != nil {
		return err
	}
	if err := os.Rename(tmp, path); err != nil {
		os.Remove(tmp)
		return err
	}
	return nil
}

// MissingParents lists the directories of a path that are not there, outermost
// first.
func (m *Machine) MissingParents(path wire.Path) []wire.Path {
	var out []wire.Path
	for p := path; p != "/" && p != "."; p = p.Dir() {
		if m.Exists(p) {
			break
		}
		out = append([]wire.Path{p}, out...)
	}
	return out
}

// RemoveEmpty removes directories that a step made, innermost first; one that
// somebody has put something into stays.
func (m *Machine) RemoveEmpty(made []wire.Path) error {
	for i := len(made) - 1; i >= 0; i-- {
		full := m.Path(made[i])
		if s, err := os.Lstat(full); errors.Is(err, fs.ErrNotExist) || err == nil && !s.IsDir() {
			continue
		}
		left, err := os.ReadDir(full)
		if err != nil {
			return err
		}
		if len(left) > 0 {
			return nil
		}
		if err := os.Remove(full); err != nil {
			return err
		}
	}
	return nil
}
