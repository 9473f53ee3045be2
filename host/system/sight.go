package system

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
)

// Sight looks at paths one after the other, for one reading: who is who, who can change what is
// above the paths, and what North Stake touched itself are found out once. Nothing is changed by
// what it says: that is asked anew.
type Sight struct {
	Names *Names

	m      *Machine
	own    map[wire.Path]ownTouch
	unders map[wire.Path]*Control // by the directory that paths lie in
	fixed  map[string]bool        // directories on file systems that are mounted read-only, or not
}

// Sight begins a reading.
func (m *Machine) Sight() (*Sight, error) {
	names, err := m.Names()
	if err != nil {
		return nil, err
	}
	s := &Sight{Names: names, m: m, unders: map[wire.Path]*Control{}, fixed: map[string]bool{}}
	return s, Self(func() error {
		s.own = m.ownTouches()
		return nil
	})
}

// Entry reads what lies at a path, without following a link.
func (s *Sight) Entry(path wire.Path) (wire.Entry, error) {
	under, err := s.under(path)
	if err != nil {
		return wire.Entry{}, err
	}
	if under == nil {
		e, err := s.entry(path)
		e.ReadOnly = err == nil && s.readOnly(path, e.Kind)
		return e, err
	}
	var e wire.Entry
	err = under.by("", s.Names, func() (err error) {
		e, err = s.entry(path)
		return err
	})
	e.Under, e.UnderAt, e.ReadOnly = under.Who, under.At, s.readOnly(path, e.Kind)
	if under.UID < 0 && errors.Is(err, fs.ErrPermission) {
		err = nil // it is refused for what is above it, whatever it is
	}
	return e, err
}

// readOnly says whether what lies at a path is on a file system that is mounted read-only (statfs(2)): a
// file is where its directory is, and what is not there yet where the nearest one is.
func (s *Sight) readOnly(path wire.Path, kind string) bool {
	dir := string(path.Dir())
	if kind == wire.EntryDirectory {
		dir = string(path)
	}
	fixed, known := s.fixed[dir]
	for at := s.m.Path(wire.Path(dir)); !known; at = filepath.Dir(at) {
		var fs unix.Statfs_t
		err := unix.Statfs(at, &fs)
		known = err == nil || at == filepath.Dir(at)
		fixed = err == nil && fs.Flags&unix.ST_RDONLY != 0
	}
	s.fixed[dir] = fixed
	return fixed
}

// ReadText reads a file that is not too large to be kept before it is changed.
func (s *Sight) ReadText(path wire.Path) (text string, err error) {
	err = s.ByWhoMay(path, func() error {
		b, _, err := s.m.readSmall(path)
		text = string(b)
		return err
	})
	return text, err
}

// ByWhoMay reads something at a path by the rights of whoever beside root can change what lies there.
func (s *Sight) ByWhoMay(path wire.Path, read func() error) error {
	under, err := s.under(path)
	if err != nil {
		return err
	}
	if under == nil {
		return read()
	}
	return under.by("", s.Names, read)
}

// under is Machine.Under, which goes by the directory that a path lies in. Where root alone can change
// it, nobody has since.
func (s *Sight) under(path wire.Path) (*Control, error) {
	dir := path.Dir()
	if c, known := s.unders[dir]; known {
		return c, nil
	}
	c, err := s.m.Under(path, s.Names)
	if err == nil {
		s.unders[dir] = c
	}
	return c, err
}

func (s *Sight) entry(path wire.Path) (wire.Entry, error) {
	full := s.m.Path(path)
	st, err := lstat(full)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return wire.Entry{}, nil
	}
	if err != nil {
		return wire.Entry{}, err
	}
	e := EntryOf(st, s.Names)
	if e.Kind == wire.EntryLink {
		if e.Target, err = os.Readlink(full); err != nil {
			return wire.Entry{}, err
		}
	}
	if own, ok := s.own[path]; ok && own.Changed.Equal(e.Touched.At) {
		e.Touched = own.Before // it put it back
	}
	return e, nil
}
