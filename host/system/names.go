package system

import (
	"bufio"
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"northstake/core/wire"
)

// Names turns numeric owners into names, from the machine's passwd and group.
type Names struct {
	users, groups     map[int]string
	also              map[string][]string // by "user" or "group" and number, further names
	userIDs, groupIDs map[string]int
	first             map[int]int // the first group of a user, by numbers
}

// Names reads the machine's accounts; the result is remembered until the files
// change.
func (m *Machine) Names() (*Names, error) {
	return Cached(m, "names", m.FileKey("/etc/passwd", "/etc/group"), func() (*Names, error) {
		n := &Names{users: map[int]string{}, groups: map[int]string{}, userIDs: map[string]int{}, groupIDs: map[string]int{}, also: map[string][]string{}, first: map[int]int{}}
		if err := m.accounts("/etc/passwd", "user", n.users, n.userIDs, n.also, n.first); err != nil {
			return nil, err
		}
		return n, m.accounts("/etc/group", "group", n.groups, n.groupIDs, n.also, nil)
	})
}

func (m *Machine) accounts(file, sort string, names map[int]string, ids map[string]int, also map[string][]string, first map[int]int) error {
	b, err := m.Read(wire.Path(file))
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
			if gid, err := strconv.Atoi(f[min(3, len(f)-1)]); first != nil && err == nil {
				first[id] = gid
			}
		} else {
			also[sort+strconv.Itoa(id)] = append(also[sort+strconv.Itoa(id)], f[0])
		}
		ids[f[0]] = id
	}
	return lines.Err()
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

// AlsoUser and AlsoGroup are the further names of a number.
func (n *Names) AlsoUser(id int) []string  { return n.further("user", id) }
func (n *Names) AlsoGroup(id int) []string { return n.further("group", id) }

func (n *Names) further(sort string, id int) []string {
	if len(n.also) == 0 {
		return nil
	}
	return n.also[sort+strconv.Itoa(id)]
}

// UserID is the number of a user, and whether there is one of the name.
func (n *Names) UserID(name string) (int, bool) {
	id, ok := n.userIDs[name]
	return id, ok
}

// GroupID is the number of a group, and whether there is one of the name.
func (n *Names) GroupID(name string) (int, bool) {
	id, ok := n.groupIDs[name]
	return id, ok
}

// FirstGroup is the number of the group that passwd(5) has for a user.
func (n *Names) FirstGroup(uid int) (int, bool) {
	gid, ok := n.first[uid]
	return gid, ok
}

// Without are those owners that there are not.
func (n *Names) Without(o wire.Owners) []string {
	var out []string
	if _, ok := n.UserID(o.Owner); o.Owner != "" && !ok {
		out = append(out, o.Owner)
	}
	if _, ok := n.GroupID(o.Group); o.Group != "" && !ok && !slices.Contains(out, o.Group) {
		out = append(out, o.Group)
	}
	return out
}

// IDs returns the numbers of an owner and a group.
func (n *Names) IDs(o wire.Owners) (uid, gid int, err error) {
	uid, ok := n.userIDs[o.Owner]
	if !ok {
		return 0, 0, fmt.Errorf("this host has no user %q", o.Owner)
	}
	gid, ok = n.groupIDs[o.Group]
	if !ok {
		return 0, 0, fmt.Errorf("this host has no group %q", o.Group)
	}
	return uid, gid, nil
}
