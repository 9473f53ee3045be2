package work

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"northstake/core/wire"
	"northstake/host/family"
)

// accountBefore is the account as it was, with the groups that there were.
type accountBefore struct {
	Found  wire.AccountFound `json:"found"`
	Groups []string          `json:"groups"` // all that the account was in beside its first

	GroupID int `json:"group_id,omitempty"` // number of its first group
}

var _ = register("account", typed[wire.AccountWant, wire.AccountWork, accountBefore]{
	read: each(readAccount), before: beforeAccount, do: doAccount, back: backAccount, early: true,
})

func readAccount(_ context.Context, m *Host, w wire.AccountWant) (any, error) {
	a, ok, err := family.AccountOf(m.Machine, w.Name)
	if err != nil {
		return nil, err
	}
	groups, err := family.Groups(m.Machine)
	if err != nil {
		return nil, err
	}
	_, taken := groups[w.Name]
	f := wire.AccountFound{Known: ok, Taken: taken}
	for _, g := range w.Groups {
		if _, there := groups[g]; !there {
			f.Missing = append(f.Missing, g)
		}
	}
	if !ok {
		return f, nil
	}
	f.ID = a.ID
	if f.Opens, err = family.Opens(m.Machine, w.Name); err != nil {
		return nil, err
	}
	f.System, f.Group, f.Home, f.Shell = a.ID < family.FirstPerson(m.Machine), a.Group, a.Home, a.Shell
	for name, members := range groups {
		if slices.Contains(members, w.Name) && slices.Contains(w.Groups, name) {
			f.Groups = append(f.Groups, name)
		}
	}
	slices.Sort(f.Groups)
	if e, err := m.Entry("/etc/passwd"); err == nil {
		f.Touched = wire.Touch{Owner: e.Touched.Owner, What: "/etc/passwd"}
	}
	return f, nil
}

func beforeAccount(ctx context.Context, m *Host, _ Job, w wire.AccountWork) (b accountBefore, err error) {
	groups, err := family.Groups(m.Machine)
	if err != nil {
		return b, err
	}
	for name, members := range groups {
		if slices.Contains(members, w.Name) {
			b.Groups = append(b.Groups, name)
		}
	}
	slices.Sort(b.Groups)
	found, err := readAccount(ctx, m, w.AccountWant)
	if err != nil {
		return b, err
	}
	b.Found = found.(wire.AccountFound)
	if w.Away && b.Found.Known {
		names, err := m.Names()
		if err != nil {
			return b, err
		}
		_, b.GroupID, err = names.IDs(wire.Owners{Owner: w.Name, Group: b.Found.Group})
		return b, err
	}
	return b, nil
}

// doAccount uses the system's own tools (useradd(8), usermod(8)): they know its
// numbers and its locks.
func doAccount(ctx context.Context, m *Host, _ Job, w wire.AccountWork, _ accountBefore) (wire.StepState, error) {
	_, there, err := family.AccountOf(m.Machine, w.Name)
	if err != nil {
		return "", err
	}
	if w.Away {
		return wire.Done, removeAccount(ctx, m, w.Name, there)
	}
	groups, err := family.Groups(m.Machine)
	if err != nil {
		return "", err
	}
	if _, ok := groups[w.Name]; !ok {
		if err := accountTool(ctx, m, w.Name, "groupadd", "--system", w.Name); err != nil {
			return "", err
		}
	}
	args, tool := []string{"--gid", w.Name}, "useradd"
	if there {
		tool = "usermod"
		for flag, v := range map[string]string{"--home": w.Home, "--shell": w.Shell} {
			if v != "" {
				args = append(args, flag, v)
			}
		}
		if w.Lock {
			args = append(args, "--lock")
		}
	} else {
		args = append(args, "--home-dir", cmp.Or(w.Home, "/nonexistent"), "--shell", cmp.Or(w.Shell, "/usr/sbin/nologin"), "--system", "--no-create-home")
	}
	if err := accountTool(ctx, m, w.Name, tool, append(args, w.Name)...); err != nil {
		return "", err
	}
	if len(w.Join) > 0 {
		return wire.Done, accountTool(ctx, m, w.Name, "usermod", "--append", "--groups", strings.Join(w.Join, ","), w.Name)
	}
	return wire.Done, nil
}

// removeAccount takes an account away with the group of its name; its home and its files
// stay.
func removeAccount(ctx context.Context, m *Host, name string, there bool) error {
	if there {
		if err := accountTool(ctx, m, name, "userdel", name); err != nil {
			return err
		}
	}
	groups, err := family.Groups(m.Machine)
	if _, ok := groups[name]; err != nil || !ok {
		return err
	}
	return accountTool(ctx, m, name, "groupdel", name)
}

// remake makes an account again that was taken away, with its number and its groups.
func remake(ctx context.Context, m *Host, w wire.AccountWork, b accountBefore, there bool) error {
	if there || !b.Found.Known {
		return nil // it never went, or another is there by now
	}
	groups, err := family.Groups(m.Machine)
	if err != nil {
		return err
	}
	if _, ok := groups[b.Found.Group]; !ok {
		if err := accountTool(ctx, m, w.Name, "groupadd", "--gid", strconv.Itoa(b.GroupID), b.Found.Group); err != nil {
			return err
		}
	}
	args := []string{"--uid", strconv.Itoa(b.Found.ID), "--gid", b.Found.Group, "--home-dir", b.Found.Home, "--shell", b.Found.Shell, "--no-create-home"}
	if len(b.Groups) > 0 {
		args = append(args, "--groups", strings.Join(b.Groups, ","))
	}
	return accountTool(ctx, m, w.Name, "useradd", append(args, w.Name)...)
}

func accountTool(ctx context.Context, m *Host, name, tool string, args ...string) error {
	if _, err := m.Run(ctx, nil, tool, args...); err != nil {
		return &wire.Fault{What: fmt.Sprintf("%s could not set account %s", tool, name), Fix: "read what it said below", Output: lastLines(err.Error(), 8)}
	}
	return nil
}

// backAccount takes an account away that the step made, or gives it back what the step
// changed, as far as nobody has changed it since.
func backAccount(ctx context.Context, m *Host, j Job, w wire.AccountWork, b accountBefore) error {
	now, there, err := family.AccountOf(m.Machine, w.Name)
	if err != nil {
		return err
	}
	if w.Away {
		return remake(ctx, m, w, b, there)
	}
	switch {
	case !b.Found.Known && there && (now.Group != w.Name || now.Home != cmp.Or(w.Home, "/nonexistent") || now.Shell != cmp.Or(w.Shell, "/usr/sbin/nologin")):
		leave(j, "account "+w.Name, "")
		return nil
	case !b.Found.Known && there:
		if err := accountTool(ctx, m, w.Name, "userdel", w.Name); err != nil {
			return err
		}
	case there:
		if err := backChanges(ctx, m, w, b, now); err != nil {
			return err
		}
	}
	groups, err := family.Groups(m.Machine)
	if _, ok := groups[w.Name]; err != nil || !ok || b.Found.Taken || b.Found.Known && b.Found.Group == w.Name {
		return err
	}
	return accountTool(ctx, m, w.Name, "groupdel", w.Name)
}

func backChanges(ctx context.Context, m *Host, w wire.AccountWork, b accountBefore, now family.Account) error {
	if opens, err := family.Opens(m.Machine, w.Name); err != nil {
		return err
	} else if b.Found.Opens && !opens && w.Lock {
		if err := accountTool(ctx, m, w.Name, "usermod", "--unlock", w.Name); err != nil {
			return err
		}
	}
	var args []string
	for _, one := range []struct{ flag, now, left, before string }{
		{"--home", now.Home, w.Home, b.Found.Home}, {"--shell", now.Shell, w.Shell, b.Found.Shell}, {"--gid", now.Group, w.Name, b.Found.Group},
	} {
		if one.now == one.left && one.before != one.left {
			args = append(args, one.flag, one.before)
		}
	}
	groups, err := family.Groups(m.Machine)
	if err != nil {
		return err
	}
	var in []string
	joined := false
	for _, name := range slices.Sorted(maps.Keys(groups)) {
		switch {
		case !slices.Contains(groups[name], w.Name):
		case slices.Contains(w.Join, name) && !slices.Contains(b.Groups, name):
			joined = true
		default:
			in = append(in, name)
		}
	}
	if joined {
		args = append(args, "--groups", strings.Join(in, ","))
	}
	if len(args) == 0 {
		return nil
	}
	return accountTool(ctx, m, w.Name, "usermod", append(args, w.Name)...)
}
