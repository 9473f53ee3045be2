package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"

	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/filter"
	"northstake/host/journal"
	"northstake/host/system"
)

// packageChange is what a step has made of one package: its version before and after, ""
// for none.
type packageChange struct {
	From string `json:"from,omitempty"`
	To   string `json:"to,omitempty"`
}

func changedFile(m *Host, j Job) string {
	return m.State("journal", j.Run, fmt.Sprintf("%04d.packages", j.Number))
}

// changesBetween is what has become of packages.
func changesBetween(before, after map[string]string) map[string]packageChange {
	out := map[string]packageChange{}
	for name, v := range after {
		if before[name] != v {
			out[name] = packageChange{before[name], v}
		}
	}
	for name, v := range before {
		if after[name] == "" {
			out[name] = packageChange{v, ""}
		}
	}
	return out
}

// recordChanges notes exactly what a transaction has changed, whether or not it ended
// well.
func recordChanges(ctx context.Context, m *Host, j Job, before packageBefore) error {
	manager, err := m.PackageManager()
	if err != nil {
		return err
	}
	now, err := installedVersions(ctx, manager)
	if err != nil {
		return err
	}
	b, err := json.Marshal(changesBetween(before.Installed, now))
	if err != nil {
		return err
	}
	return system.WriteAtomically(changedFile(m, j), b, 0o600)
}

// takeOff purges packages, and of those whose configuration was there before leaves it: these go first, since
// what purges a package purges with it whatever needs that (apt-get(8)).
func takeOff(ctx context.Context, manager family.PackageManager, names []string, before packageBefore) error {
	had := func(n string) bool { return slices.Contains(before.Config, n) }
	var failed error
	if former := slices.DeleteFunc(slices.Clone(names), func(n string) bool { return !had(n) }); len(former) > 0 {
		failed = manager.Remove(ctx, former)
	}
	if fresh := slices.DeleteFunc(slices.Clone(names), had); len(fresh) > 0 {
		failed = errors.Join(failed, manager.Purge(ctx, fresh))
	}
	return failed
}

// backPackage purges the packages that the step brought, and installs again those that it removed, or
// changed, as they were: exactly what its own transaction changed, whether or not that ended well, and
// of that what is still as the step left it.
func backPackage(ctx context.Context, m *Host, j Job, w wire.PackageWork, before packageBefore) error {
	manager, err := m.PackageManager()
	if err != nil {
		return err
	}
	if err := finishPackages(ctx, m, manager, j); err != nil {
		return err
	}
	now, err := installedVersions(ctx, manager)
	if err != nil {
		return err
	}
	changes, err := notedChanges(m, j)
	if errors.Is(err, fs.ErrNotExist) {
		// It was cut off before it had noted what it changed: what is different by now may be
		// anybody's, an administrator's or an update's.
		if changes := slices.Sorted(maps.Keys(changesBetween(before.Installed, now))); len(changes) > 0 {
			j.Say("left as they are, since nobody knows which of them the step has changed: %s", strings.Join(changes, ", "))
		}
		return nil
	}
	if err != nil {
		return err
	}
	var added []string
	removed := map[string]string{} // or changed
	for name, c := range changes {
		switch {
		case now[name] != c.To:
			j.Say("package %s is left: it was changed since the step", name)
		case c.From == "":
			added = append(added, name)
		default:
			removed[name] = c.From
		}
	}
	slices.Sort(added)
	if slices.ContainsFunc(w.Names(), wire.FiltersItself) {
		journal.DisarmTimer(ctx, m.Machine, j)
	}
	if err := removeAdded(ctx, m, manager, j, added, before); err != nil {
		return err
	}
	if err := installRemoved(ctx, manager, j, removed); err != nil {
		return err
	}
	if err := purgeAdded(ctx, manager, added, before); err != nil {
		return err
	}
	if err := os.Remove(changedFile(m, j)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// notedChanges are what a step has noted of its changes; fs.ErrNotExist where it did not get so far.
func notedChanges(m *Host, j Job) (changes map[string]packageChange, err error) {
	b, err := os.ReadFile(changedFile(m, j))
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(b, &changes); err != nil {
		return nil, fmt.Errorf("what the step changed of packages cannot be read: %w", err)
	}
	return changes, nil
}

// removeAdded takes off the packages that a step has brought.
func removeAdded(ctx context.Context, m *Host, manager family.PackageManager, j Job, added []string, before packageBefore) error {
	if len(added) == 0 {
		return nil
	}
	brought := servicesOf(ctx, manager, added)
	j.Say("removing %s", strings.Join(added, ", "))
	failed := takeOff(ctx, manager, added, before)
	forgetFailed(ctx, m, brought)
	left, err := installedVersions(ctx, manager)
	if err != nil {
		return err
	}
	if failed != nil && slices.ContainsFunc(added, func(n string) bool { return left[n] != "" }) {
		return packageFault(ctx, manager, "remove what the step brought", failed)
	}
	return nil
}

// installRemoved brings back the versions of packages, by name, that a step has taken off or changed.
func installRemoved(ctx context.Context, manager family.PackageManager, j Job, removed map[string]string) error {
	if len(removed) == 0 {
		return nil
	}
	j.Say("installing %s again", strings.Join(slices.Sorted(maps.Keys(removed)), ", "))
	failed := manager.InstallVersions(ctx, removed)
	there, err := installedVersions(ctx, manager)
	if err != nil {
		return err
	}
	for name, v := range removed {
		if failed != nil && there[name] != v {
			return packageFault(ctx, manager, "bring back the packages that were there", failed)
		}
	}
	return nil
}

// purgeAdded removes the configuration of packages of which the removal was cut short by another's trouble.
func purgeAdded(ctx context.Context, manager family.PackageManager, added []string, before packageBefore) error {
	all, err := manager.Installed(ctx)
	if err != nil {
		return err
	}
	left := slices.DeleteFunc(onlyConfig(all), func(n string) bool { return !slices.Contains(added, n) || slices.Contains(before.Config, n) })
	if len(left) == 0 {
		return nil
	}
	if err := manager.Purge(ctx, left); err != nil {
		return packageFault(ctx, manager, "remove what the step brought", err)
	}
	return nil
}

// awaitStarted waits until a firewall program filters that its package has started.
func awaitStarted(ctx context.Context, m *Host, names []string) error {
	units, err := m.Services(ctx)
	if err != nil {
		return err
	}
	for _, program := range slices.DeleteFunc(slices.Clone(names), func(n string) bool { return !wire.FiltersItself(n) }) {
		states, err := units.States(ctx, []string{program})
		if err == nil && states[program].Active == "active" {
			err = filter.AwaitFiltering(ctx, m.Machine, program)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
