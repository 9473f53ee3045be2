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

// takeOff purges packages, and of those whose configuration was there before leaves it.
func takeOff(ctx context.Context, manager family.PackageManager, names []string, before packageBefore) error {
	had := func(n string) bool { return slices.Contains(before.Config, n) }
	var failed error
	if fresh := slices.DeleteFunc(slices.Clone(names), had); len(fresh) > 0 {
		failed = manager.Purge(ctx, fresh)
	}
	if former := slices.DeleteFunc(slices.Clone(names), func(n string) bool { return !had(n) }); len(former) > 0 {
		failed = errors.Join(failed, manager.Remove(ctx, former))
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
	b, err := os.ReadFile(changedFile(m, j))
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
	var changes map[string]packageChange
	if err := json.Unmarshal(b, &changes); err != nil {
		return fmt.Errorf("what the step changed of packages cannot be read: %w", err)
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
	if slices.ContainsFunc(w.Names(), wire.FiltersItself) {
		journal.DisarmTimer(ctx, m.Machine, j)
	}
	if len(added) > 0 {
		slices.Sort(added)
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
	}
	if len(removed) > 0 {
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
	}
	// A package of which the removal was cut short by another's trouble has left its configuration.
	all, err := manager.Installed(ctx)
	if err != nil {
		return err
	}
	left := slices.DeleteFunc(onlyConfig(all), func(n string) bool { return !slices.Contains(added, n) || slices.Contains(before.Config, n) })
	if len(left) > 0 {
		if err := manager.Purge(ctx, left); err != nil {
			return packageFault(ctx, manager, "remove what the step brought", err)
		}
	}
	if err := os.Remove(changedFile(m, j)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
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
