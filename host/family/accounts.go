package family

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"northstake/core/wire"
	"northstake/host/system"
)

// Account is one line of passwd(5).
type Account struct {
	ID    int
	Group string // name of its first group
	Home  string
	Shell string
}

// AccountOf reads an account; false says that there is none of the name.
func AccountOf(m *system.Machine, name string) (Account, bool, error) {
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

// Opens says whether an account has a password that opens it: anything in shadow(5) that
// is neither locked nor none that can be typed.
func Opens(m *system.Machine, name string) (bool, error) {
	b, err := m.Read("/etc/shadow")
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	for _, line := range strings.Split(string(b), "\n") {
		if f := strings.Split(line, ":"); len(f) > 1 && f[0] == name {
			return !strings.HasPrefix(f[1], "!") && !strings.HasPrefix(f[1], "*"), nil
		}
	}
	return false, nil
}

// Groups reads group(5): the members of each.
func Groups(m *system.Machine) (map[string][]string, error) {
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

// ShutOut finds for each path the directory above it, or itself, that does not let an
// account through, the outermost; "" where it gets there, or where the rest is not there yet.
// An account that is not there yet is taken for a stranger.
func ShutOut(m *system.Machine, account string, paths []wire.Path) ([]wire.Path, error) {
	names, err := m.Names()
	if err != nil {
		return nil, err
	}
	uid, known := names.UserID(account)
	if !known {
		uid = -1
	}
	groups, err := groupsOf(m, account, names)
	if err != nil {
		return nil, err
	}
	lets := map[wire.Path]bool{} // by directory; one that is not there lets everybody through
	out := make([]wire.Path, len(paths))
	for i, path := range paths {
		at := wire.Path("/")
		for _, part := range path.Names() {
			at = at.Join(part)
			through, seen := lets[at]
			if !seen {
				if through, err = letsThrough(m, at, uid, groups); err != nil {
					return nil, err
				}
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

func letsThrough(m *system.Machine, dir wire.Path, uid int, groups map[int]bool) (bool, error) {
	var s syscall.Stat_t
	if err := syscall.Stat(m.Path(dir), &s); err != nil {
		return true, nil
	}
	return system.LetsThrough(m.Path(dir), &s, uid, groups)
}

// groupsOf are the numbers of an account's groups; they are remembered until the
// files change.
func groupsOf(m *system.Machine, account string, names *system.Names) (map[int]bool, error) {
	return system.Cached(m, "groups of "+account, m.FileKey("/etc/passwd", "/etc/group"), func() (map[int]bool, error) {
		groups := map[int]bool{}
		a, ok, err := AccountOf(m, account)
		if err != nil {
			return nil, err
		}
		if ok {
			if id, ok := names.GroupID(a.Group); ok {
				groups[id] = true
			}
		}
		all, err := Groups(m)
		if err != nil {
			return nil, err
		}
		for name, members := range all {
			if slices.Contains(members, account) {
				if id, ok := names.GroupID(name); ok {
					groups[id] = true
				}
			}
		}
		return groups, nil
	})
}

// FirstPerson is the lowest number that accounts of persons have (login.defs(5),
// UID_MIN).
func FirstPerson(m *system.Machine) int {
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
