package system

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"syscall"
	"time"

	"northstake/core/wire"
)

// KeptFile is a path as it was before a step: a file's text, a link, or
// nothing.
type KeptFile struct {
	Path  wire.Path  `json:"path"`
	Entry wire.Entry `json:"entry"`
	Text  []byte     `json:"text,omitempty"`

	Modified time.Time `json:"modified,omitzero"` // when the text was last written
}

// KeptLimit is the largest file that is kept before it is changed, in bytes.
const KeptLimit = 1 << 20

// KeepFile notes a path as it is.
func (m *Machine) KeepFile(path wire.Path) (k KeptFile, err error) {
	err = m.ByWhoMay(path, "", func() error {
		k, err = m.keepFile(path)
		return err
	})
	return k, err
}

func (m *Machine) keepFile(path wire.Path) (KeptFile, error) {
	e, err := m.Entry(path)
	if err != nil {
		return KeptFile{}, err
	}
	k := KeptFile{Path: path, Entry: e}
	if e.Kind == wire.EntryFile {
		if k.Text, k.Modified, err = m.readSmall(path); err != nil {
			return k, fmt.Errorf("it cannot be kept before it is changed: %w", err)
		}
	} else if e.Kind != "" && e.Kind != wire.EntryLink {
		return k, fmt.Errorf("%s is %s, where a file is to be written: move it away", path, e.Words())
	}
	return k, err
}

// IsThere says whether a path is what it was.
func (k KeptFile) IsThere(m *Machine) (bool, error) {
	now, err := m.KeepFile(k.Path)
	if err != nil {
		return false, err
	}
	a, b := now.Entry, k.Entry
	same := a.Kind == b.Kind && a.Target == b.Target && a.Owners == b.Owners && a.Mode == b.Mode
	return same && bytes.Equal(now.Text, k.Text), nil
}

// PutAside keeps the file's former text where it can be found, for a path that somebody has
// changed since; it returns where.
func (k KeptFile) PutAside(m *Machine, step string) (string, error) {
	if k.Entry.Kind != wire.EntryFile {
		return "", nil
	}
	at := m.State("former", step, string(k.Path))
	return at, Self(func() error { return WriteAtomically(at, k.Text, 0o600) })
}

// PutBack makes a path what it was.
func (k KeptFile) PutBack(m *Machine) error {
	if why, err := k.NotTheirs(m); err != nil || why != "" {
		return cmp.Or(err, errors.New(why))
	}
	now, err := m.Entry(k.Path)
	if err != nil {
		return err
	}
	err = m.ByWhoMay(k.Path, k.Entry.Group, func() error { return k.putBack(m, now) })
	if err != nil || k.Entry.Kind == "" {
		return err
	}
	return Self(func() error { return m.NoteOwn(k.Path, k.Entry.Touched) })
}

// NotTheirs is why a path is not put back that somebody can change by now by what is above it, "" where
// nobody can or it was theirs.
func (k KeptFile) NotTheirs(m *Machine) (string, error) {
	names, err := m.Names()
	if err != nil {
		return "", err
	}
	c, err := m.Under(k.Path, names)
	if err != nil || c == nil {
		return "", err
	}
	owner, known := names.UserID(k.Entry.Owner)
	if c.UID >= 0 && (k.Entry.Kind != wire.EntryFile || known && owner == c.UID) {
		return "", nil
	}
	return fmt.Sprintf("%s can change %s by now, and so what lies at %s: nothing that is not theirs is put back there", c.Who, c.At, k.Path), nil
}

func (k KeptFile) putBack(m *Machine, now wire.Entry) error {
	full := m.Path(k.Path)
	switch k.Entry.Kind {
	case "":
		if now.Kind == "" {
			return nil
		}
		return os.Remove(full)
	case wire.EntryLink:
		return LinkAtomically(k.Entry.Target, full)
	}
	mode, err := FileMode(k.Entry.Mode)
	if err != nil {
		return err
	}
	if err := WriteAtomically(full, k.Text, mode); err != nil {
		return err
	}
	if err := m.Chown(k.Path, k.Entry.Owners); err != nil {
		return err
	}
	if k.Modified.IsZero() {
		return nil
	}
	return os.Chtimes(full, time.Time{}, k.Modified)
}

// ReadText reads a file that is not too large to be kept before it is changed.
func (m *Machine) ReadText(path wire.Path) (string, error) {
	s, err := m.Sight()
	if err != nil {
		return "", err
	}
	return s.ReadText(path)
}

// Large says that a file is larger than what is kept of one before it is changed.
type Large struct{ Path string }

func (e *Large) Error() string {
	return fmt.Sprintf("%s is larger than %s", e.Path, wire.Bytes(KeptLimit))
}

// readSmall reads a file, and nothing else that somebody has put in its place, and tells when it was
// last written.
func (m *Machine) readSmall(path wire.Path) ([]byte, time.Time, error) {
	f, err := os.OpenFile(m.Path(path), os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, time.Time{}, err
	}
	defer f.Close()
	s, err := f.Stat()
	if err != nil {
		return nil, time.Time{}, err
	}
	if !s.Mode().IsRegular() {
		return nil, time.Time{}, fmt.Errorf("%s is no file any more", path)
	}
	b, err := io.ReadAll(io.LimitReader(f, KeptLimit+1))
	if err == nil && len(b) > KeptLimit {
		err = &Large{string(path)}
	}
	return b, s.ModTime(), err
}
