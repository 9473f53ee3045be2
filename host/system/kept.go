package system

import (
	"bytes"
	"fmt"
	"os"
	"time"

	"northstake/core/stake"
)

// KeptFile is a path as it was before a step: a file's text, a link, or
// nothing.
type KeptFile struct {
	Path  string      `json:"path"`
	Entry stake.Entry `json:"entry"`
	Text  []byte      `json:"text,omitempty"`

	Modified time.Time `json:"modified,omitzero"` // when the text was last written
}

// KeptLimit is the largest file that is kept before it is changed, in bytes.
const KeptLimit = 1 << 20

// KeepFile notes a path as it is.
func (m *Machine) KeepFile(path string) (KeptFile, error) {
	e, err := m.Entry(path)
	if err != nil {
		return KeptFile{}, err
	}
	k := KeptFile{Path: path, Entry: e}
	if e.Kind == "file" {
		s, err := os.Lstat(m.Path(path))
		if err != nil || s.Size() > KeptLimit {
			return k, fmt.Errorf("%s cannot be kept before it is changed: it is larger than %s", path, stake.Bytes(KeptLimit))
		}
		k.Modified = s.ModTime()
		k.Text, err = m.Read(path)
	} else if e.Kind != "" && e.Kind != "link" {
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
	same := a.Kind == b.Kind && a.Target == b.Target && a.Owner == b.Owner && a.Group == b.Group && a.Mode == b.Mode
	return same && bytes.Equal(now.Text, k.Text), nil
}

// PutAside keeps the file's former text where it can be found, for a path that somebody has
// changed since; it returns where.
func (k KeptFile) PutAside(m *Machine, step string) (string, error) {
	if k.Entry.Kind != "file" {
		return "", nil
	}
	at := m.State("former", step, k.Path)
	return at, WriteAtomically(at, k.Text, 0o600)
}

// PutBack makes a path what it was.
func (k KeptFile) PutBack(m *Machine) error {
	now, err := m.Entry(k.Path)
	if err != nil {
		return err
	}
	names, err := m.Names()
	if err != nil {
		return err
	}
	under, err := m.Under(k.Path, names)
	if err != nil {
		return err
	}
	if under == nil {
		err = k.putBack(m, now, false)
	} else if err = under.mayHave(k, names); err == nil { // by the rights of whoever can change it anyway
		gid, known := names.GroupID(k.Entry.Group)
		if !known {
			gid = nobodysGroup
		}
		err = As(under.UID, gid, func() error { return k.putBack(m, now, true) })
	}
	if err != nil || k.Entry.Kind != "file" {
		return err
	}
	return m.noteOwn(k.Path, k.Entry.Touched)
}

// nobodysGroup is a group that owns nothing.
const nobodysGroup = 65534

// mayHave is why a path is not put back that somebody can change by what is above it, nil where it was
// theirs.
func (c Control) mayHave(k KeptFile, names *Names) error {
	owner, known := names.UserID(k.Entry.Owner)
	if c.UID >= 0 && (k.Entry.Kind != "file" || known && owner == c.UID) {
		return nil
	}
	return fmt.Errorf("%s can change %s by now, and so what lies at %s: nothing that is not theirs is put back there", c.Who, c.At, k.Path)
}

func (k KeptFile) putBack(m *Machine, now stake.Entry, own bool) error {
	full := m.Path(k.Path)
	switch k.Entry.Kind {
	case "":
		if now.Kind == "" {
			return nil
		}
		return os.Remove(full)
	case "link":
		return LinkAtomically(k.Entry.Target, full)
	}
	mode, err := ParseMode(k.Entry.Mode)
	if err != nil {
		return err
	}
	if err := WriteAtomically(full, k.Text, mode); err != nil {
		return err
	}
	if !own {
		if err := m.Chown(k.Path, k.Entry.Owner, k.Entry.Group); err != nil {
			return err
		}
	}
	if k.Modified.IsZero() {
		return nil
	}
	return os.Chtimes(full, time.Time{}, k.Modified)
}

// ReadText reads a file that is not too large to be kept before it is changed.
func (m *Machine) ReadText(path string) (string, error) {
	s, err := os.Lstat(m.Path(path))
	if err != nil {
		return "", err
	}
	if s.Size() > KeptLimit {
		return "", fmt.Errorf("%s is larger than %s", path, stake.Bytes(KeptLimit))
	}
	b, err := m.Read(path)
	return string(b), err
}
