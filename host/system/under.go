package system

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"

	"northstake/core/wire"
)

// Control is who, beside root, can change which directory above a path, and so what lies at it: a
// user, a group, several of these, or everybody.
type Control struct {
	Who string
	At  wire.Path
	UID int // of a single user, -1 otherwise
}

// maxLinks bounds the links on a path, as the kernel does.
const maxLinks = 40

// Under says who can change what lies at a path by what is above it, nil for root alone. The path is
// walked one name at a time, through links: whoever owns one of those leads wherever they like. It is
// the rule by which systemd refuses unsafe path transitions, with directories that others may write to
// besides, by their modes or by access lists. Where others may put something and take away nothing that
// is not theirs, what is not there yet is theirs.
func (m *Machine) Under(path wire.Path, names *Names) (*Control, error) {
	me := os.Geteuid()
	at, rest := wire.Path("/"), path.Dir().Names()
	var shared *Control // of the directory that at lies in, where others may put something
	for links := 0; ; {
		s, err := lstat(m.Path(at))
		if errors.Is(err, fs.ErrNotExist) && shared != nil {
			return shared, nil
		}
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
			return nil, nil // what is not there is made by who asks
		}
		if err != nil {
			return nil, err
		}
		owned := int(s.Uid) != 0 && int(s.Uid) != me
		switch kind := s.Mode & syscall.S_IFMT; {
		case owned:
			return &Control{names.User(int(s.Uid)), at, int(s.Uid)}, nil
		case kind == syscall.S_IFLNK:
			if links++; links > maxLinks {
				return nil, fmt.Errorf("%s: too many links", path)
			}
			target, err := os.Readlink(m.Path(at))
			if err != nil {
				return nil, err
			}
			shared = nil
			at, rest = "/", append(at.Leads(target).Names(), rest...)
			continue
		}
		if shared = nil; s.Mode&syscall.S_IFMT == syscall.S_IFDIR {
			if shared, err = writer(m.Path(at), string(at), s, names); err != nil {
				return nil, err
			}
			if shared != nil && s.Mode&syscall.S_ISVTX == 0 {
				return shared, nil
			}
		}
		for len(rest) > 0 && (rest[0] == "" || rest[0] == ".") {
			rest = rest[1:]
		}
		if len(rest) == 0 {
			return nil, nil
		}
		at, rest = at.Join(rest[0]), rest[1:]
	}
}
