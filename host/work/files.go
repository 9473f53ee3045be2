package work

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"syscall"

	"northstake/core/stake"
	"northstake/host/platform"
)

// writeAtomically writes a file under another name, flushes it to disk, and
// renames it into place, so that a reader sees the old text or the new. A file that
// is mounted by itself, as container engines do with /etc/hosts, has to be written in
// place.
func writeAtomically(path string, text []byte, mode os.FileMode) error {
	dir := filepath.Dir(path)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	f, err := os.CreateTemp(dir, ".northstake-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(text)
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
	return flush(dir)
}

func writeInPlace(path string, text []byte, mode os.FileMode) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(text, 0)
	if err == nil {
		err = f.Truncate(int64(len(text)))
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
	return err
}

func flush(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

func parseMode(s string) (os.FileMode, error) {
	n, err := strconv.ParseUint(s, 8, 32)
	if err != nil || n > 0o7777 {
		return 0, fmt.Errorf("%q is not a mode", s)
	}
	mode := os.FileMode(n & 0o777)
	for bit, flag := range map[uint64]os.FileMode{0o4000: os.ModeSetuid, 0o2000: os.ModeSetgid, 0o1000: os.ModeSticky} {
		if n&bit != 0 {
			mode |= flag
		}
	}
	return mode, nil
}

// keptFile is a path as it was before a step: a file's text, a link, or
// nothing.
type keptFile struct {
	Path  string      `json:"path"`
	Entry stake.Entry `json:"entry"`
	Text  []byte      `json:"text,omitempty"`
}

const keptFileLimit = 1 << 20

func keepFile(m *platform.Machine, path string) (keptFile, error) {
	e, err := m.Entry(path)
	if err != nil {
		return keptFile{}, err
	}
	k := keptFile{Path: path, Entry: e}
	if e.Kind == "file" {
		if s, err := os.Lstat(m.Path(path)); err != nil || s.Size() > keptFileLimit {
			return k, fmt.Errorf("%s cannot be kept before it is changed: it is larger than %s", path, stake.Bytes(keptFileLimit))
		}
		k.Text, err = m.Read(path)
	} else if e.Kind != "" && e.Kind != "link" {
		return k, fmt.Errorf("%s is %s, where a file is to be written: move it away", path, e.Words())
	}
	return k, err
}

// isThere says whether a path is what it was.
func (k keptFile) isThere(m *platform.Machine) (bool, error) {
	now, err := keepFile(m, k.Path)
	if err != nil {
		return false, err
	}
	a, b := now.Entry, k.Entry
	a.Touched, b.Touched = stake.Touch{}, stake.Touch{}
	return a == b && bytes.Equal(now.Text, k.Text), nil
}

// putBack makes a path what it was.
func (k keptFile) putBack(m *platform.Machine) error {
	now, err := m.Entry(k.Path)
	if err != nil {
		return err
	}
	full := m.Path(k.Path)
	switch k.Entry.Kind {
	case "":
		if now.Kind == "" {
			return nil
		}
		return os.Remove(full)
	case "link":
		return linkAtomically(k.Entry.Target, full)
	}
	mode, err := parseMode(k.Entry.Mode)
	if err != nil {
		return err
	}
	if err := writeAtomically(full, k.Text, mode); err != nil {
		return err
	}
	return chown(m, k.Path, k.Entry.Owner, k.Entry.Group)
}

func chown(m *platform.Machine, path, owner, group string) error {
	names, err := m.Names()
	if err != nil {
		return err
	}
	uid, gid, err := names.IDs(owner, group)
	if err != nil {
		return err
	}
	return os.Lchown(m.Path(path), uid, gid)
}

// linkAtomically makes path a link to target, in place of what is there.
func linkAtomically(target, path string) error {
	tmp := filepath.Join(filepath.Dir(path), ".northstake-link-"+filepath.Base(path))
	os.Remove(tmp)
	if err := os.Symlink(target, tmp); err != nil {
		return err
	}
	if err := os.Rename(tmp, path); err != nil {
		os.Remove(tmp)
		return err
	}
	return flush(filepath.Dir(path))
}
