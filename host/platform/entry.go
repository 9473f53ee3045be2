package platform

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"northstake/core/stake"
)

func lstat(path string) (*syscall.Stat_t, error) {
	var s syscall.Stat_t
	if err := syscall.Lstat(path, &s); err != nil {
		return nil, &fs.PathError{Op: "lstat", Path: path, Err: err}
	}
	return &s, nil
}

// Names turns numeric owners into names, from the machine's passwd and group.
type Names struct {
	users, groups     map[int]string
	userIDs, groupIDs map[string]int
}

// Names reads the machine's accounts; the result is remembered until the files
// change.
func (m *Machine) Names() (*Names, error) {
	return Cached(m, "names", m.FileKey("/etc/passwd", "/etc/group"), func() (*Names, error) {
		n := &Names{users: map[int]string{}, groups: map[int]string{}, userIDs: map[string]int{}, groupIDs: map[string]int{}}
		if err := m.accounts("/etc/passwd", n.users, n.userIDs); err != nil {
			return nil, err
		}
		return n, m.accounts("/etc/group", n.groups, n.groupIDs)
	})
}

func (m *Machine) accounts(file string, names map[int]string, ids map[string]int) error {
	b, err := m.Read(file)
	if err != nil {
		return err
	}
	lines := bufio.NewScanner(bytes.NewReader(b))
	for lines.Scan() {
		f := strings.Split(lines.Text(), ":")
		if len(f) < 3 {
			continue
		}
		id, err := strconv.Atoi(f[2])
		if err != nil {
			continue
		}
		if _, ok := names[id]; !ok {
			names[id] = f[0]
		}
		ids[f[0]] = id
	}
	return lines.Err()
}

// Account is one line of passwd(5).
type Account struct {
	ID    int
	Group string // name of its first group
	Home  string
	Shell string
}

// Account reads an account; false says that there is none of the name.
func (m *Machine) Account(name string) (Account, bool, error) {
	b, err := m.Read("/etc/passwd")
	if err != nil {
		return Account{}, false, err
	}
	names, err := m.Names()
	if err != nil {
		return Account{}, false, err
	}
	for _, line := range strings.Split(string(b), "\n") {
		f := strings.Split(line, ":")
		if len(f) < 7 || f[0] != name {
			continue
		}
		id, err := strconv.Atoi(f[2])
		if err != nil {
			return Account{}, false, fmt.Errorf("/etc/passwd: the number of %s is %q", name, f[2])
		}
		gid, err := strconv.Atoi(f[3])
		if err != nil {
			return Account{}, false, fmt.Errorf("/etc/passwd: the group of %s is %q", name, f[3])
		}
		return Account{id, names.Group(gid), f[5], f[6]}, true, nil
	}
	return Account{}, false, nil
}

// Groups reads group(5): the members of each.
func (m *Machine) Groups() (map[string][]string, error) {
	b, err := m.Read("/etc/group")
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for _, line := range strings.Split(string(b), "\n") {
		f := strings.Split(line, ":")
		if len(f) < 4 || f[0] == "" {
			continue
		}
		out[f[0]] = strings.FieldsFunc(f[3], func(r rune) bool { return r == ',' })
	}
	return out, nil
}

// ShutOut finds for each path the directory above it that does not let an account
// through, the outermost; "" where it gets there, or where the rest is not there yet.
// An account that is not there yet is taken for a stranger.
func (m *Machine) ShutOut(account string, paths []string) ([]string, error) {
	names, err := m.Names()
	if err != nil {
		return nil, err
	}
	uid, known := names.userIDs[account]
	if !known {
		uid = -1
	}
	groups, err := m.groupsOf(account, names)
	if err != nil {
		return nil, err
	}
	lets := map[string]bool{} // by directory; one that is not there lets everybody through
	out := make([]string, len(paths))
	for i, path := range paths {
		at := ""
		for _, part := range strings.Split(strings.Trim(filepath.Dir(path), "/"), "/") {
			at += "/" + part
			through, seen := lets[at]
			if !seen {
				through = m.letsThrough(at, uid, groups)
				lets[at] = through
			}
			if !through {
				out[i] = at
				break
			}
		}
	}
	return out, nil
}

func (m *Machine) letsThrough(dir string, uid int, groups map[int]bool) bool {
	var s syscall.Stat_t
	if err := syscall.Stat(m.Path(dir), &s); err != nil {
		return true
	}
	bit := uint32(0o001)
	switch {
	case int(s.Uid) == uid:
		bit = 0o100
	case groups[int(s.Gid)]:
		bit = 0o010
	}
	return s.Mode&bit != 0
}

// groupsOf are the numbers of an account's groups; they are remembered until the
// files change.
func (m *Machine) groupsOf(account string, names *Names) (map[int]bool, error) {
	return Cached(m, "groups of "+account, m.FileKey("/etc/passwd", "/etc/group"), func() (map[int]bool, error) {
		groups := map[int]bool{}
		a, ok, err := m.Account(account)
		if err != nil {
			return nil, err
		}
		if ok {
			groups[names.groupIDs[a.Group]] = true
		}
		all, err := m.Groups()
		if err != nil {
			return nil, err
		}
		for name, members := range all {
			if slices.Contains(members, account) {
				groups[names.groupIDs[name]] = true
			}
		}
		return groups, nil
	})
}

// Mounted says whether a file system is mounted at a path.
func (m *Machine) Mounted(path string) bool {
	here, err := lstat(m.Path(path))
	above, err2 := lstat(m.Path(filepath.Dir(path)))
	return err == nil && err2 == nil && here.Mode&syscall.S_IFMT == syscall.S_IFDIR && here.Dev != above.Dev
}

// FirstPerson is the lowest number that accounts of persons have (login.defs(5),
// UID_MIN).
func (m *Machine) FirstPerson() int {
	b, err := m.Read("/etc/login.defs")
	if err == nil {
		for _, line := range strings.Split(string(b), "\n") {
			if f := strings.Fields(line); len(f) == 2 && f[0] == "UID_MIN" {
				if n, err := strconv.Atoi(f[1]); err == nil {
					return n
				}
			}
		}
	}
	return 1000
}

// User is the name of a user id, the number itself where it has none.
func (n *Names) User(id int) string {
	if s, ok := n.users[id]; ok {
		return s
	}
	return strconv.Itoa(id)
}

// Group is the name of a group id, the number itself where it has none.
func (n *Names) Group(id int) string {
	if s, ok := n.groups[id]; ok {
		return s
	}
	return strconv.Itoa(id)
}

// IDs returns the ids of an owner and a group.
func (n *Names) IDs(owner, group string) (uid, gid int, err error) {
	uid, ok := n.userIDs[owner]
	if !ok {
		return 0, 0, fmt.Errorf("this host has no user %q", owner)
	}
	gid, ok = n.groupIDs[group]
	if !ok {
		return 0, 0, fmt.Errorf("this host has no group %q", group)
	}
	return uid, gid, nil
}

// Entry reads what lies at a path, without following a link.
func (m *Machine) Entry(path string) (stake.Entry, error) {
	names, err := m.Names()
	if err != nil {
		return stake.Entry{}, err
	}
	return m.EntryNamed(path, names)
}

// EntryNamed is Entry for a caller that looks at many paths.
func (m *Machine) EntryNamed(path string, names *Names) (stake.Entry, error) {
	s, err := lstat(m.Path(path))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return stake.Entry{}, nil
	}
	if err != nil {
		return stake.Entry{}, err
	}
	e := EntryOf(s, names)
	if e.Kind == "link" {
		if e.Target, err = os.Readlink(m.Path(path)); err != nil {
			return stake.Entry{}, err
		}
	}
	return e, nil
}

// EntryOf describes a stat(2) result; a link's target is left out.
func EntryOf(s *syscall.Stat_t, names *Names) stake.Entry {
	owner := names.User(int(s.Uid))
	return stake.Entry{
		Kind: kindOfMode(s.Mode), Owner: owner, Group: names.Group(int(s.Gid)),
		Mode:    fmt.Sprintf("%04o", s.Mode&0o7777),
		Touched: stake.Touch{Owner: owner, At: time.Unix(s.Ctim.Unix()).UTC()},
	}
}

func kindOfMode(mode uint32) string {
	switch mode & syscall.S_IFMT {
	case syscall.S_IFDIR:
		return "directory"
	case syscall.S_IFREG:
		return "file"
	case syscall.S_IFLNK:
		return "link"
	case syscall.S_IFIFO:
		return "pipe"
	case syscall.S_IFSOCK:
		return "socket"
	}
	return "device"
}
