package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"northstake/core/near"
	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/journal"
)

// packageBefore is the packages that were there before a step, with their
// versions.
type packageBefore struct {
	Installed map[string]string `json:"installed"`
	Config    []string          `json:"config,omitempty"` // of which only the configuration is there
}

type packages struct {
	typed[wire.PackageWant, wire.PackageWork, packageBefore]
}

var _ = register("package", packages{typed[wire.PackageWant, wire.PackageWork, packageBefore]{
	read: readPackages, before: beforePackage, do: doPackage, back: backPackage,
}})

// Confirm stops the timer that would take the installation of a firewall back.
func (packages) Confirm(ctx context.Context, m *Host, j Job) error {
	journal.Disarm(ctx, m.Machine, j)
	return nil
}

// How old the sources' lists may be before they are read anew for an installation,
// and how old before a name that they do not have is worth another look.
const (
	listsLimit   = 7 * 24 * time.Hour
	unknownLimit = time.Hour
)

// Below askedRoom bytes free the package manager is asked what an installation
// takes; where it cannot say, below littleRoom is worth a word.
const (
	askedRoom  = 4 << 30
	littleRoom = 300 << 20
)

func installedVersions(ctx context.Context, manager family.PackageManager) (map[string]string, error) {
	all, err := manager.Installed(ctx)
	return versionsOf(all), err
}

func versionsOf(all map[string]family.Package) map[string]string {
	out := map[string]string{}
	for name, p := range all {
		if p.There() {
			out[name] = p.Version
		}
	}
	return out
}

// onlyConfig lists the packages that have left their configuration, sorted.
func onlyConfig(all map[string]family.Package) []string {
	var out []string
	for name, p := range all {
		if p.State == wire.PackageConfigured {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

func beforePackage(ctx context.Context, m *Host, _ Job, _ wire.PackageWork) (packageBefore, error) {
	manager, err := m.PackageManager()
	if err != nil {
		return packageBefore{}, err
	}
	all, err := manager.Installed(ctx)
	return packageBefore{versionsOf(all), onlyConfig(all)}, err
}

func doPackage(ctx context.Context, m *Host, j Job, w wire.PackageWork, before packageBefore) (wire.StepState, error) {
	state, err := changePackages(ctx, m, j, w)
	if e := recordChanges(context.WithoutCancel(ctx), m, j, before); err == nil && e != nil {
		return "", e
	}
	return state, err
}

func changePackages(ctx context.Context, m *Host, j Job, w wire.PackageWork) (wire.StepState, error) {
	manager, err := m.PackageManager()
	if err != nil {
		return "", err
	}
	if err := finishPackages(ctx, m, manager, j); err != nil {
		return "", err
	}
	if w.Remove != "" {
		return wire.Done, removePackage(ctx, manager, w)
	}
	if w.Refresh {
		j.Say("reading the lists of what the sources offer")
		if err := manager.Refresh(ctx); err != nil {
			return "", packageFault(ctx, manager, "read the lists of what the sources offer", err)
		}
	}
	again := w.Finish != "" || w.Reinstall != ""
	if !again {
		if w, err = offeredNow(ctx, manager, w); err != nil {
			return "", err
		}
	}
	state := wire.Done
	if slices.ContainsFunc(w.Names(), wire.FiltersItself) {
		state = wire.Held
		if err := journal.Arm(ctx, m.Machine, j, 3*wire.RevertAfter); err != nil { // an installation takes a while
			return "", err
		}
	}
	if again {
		if err = installAgain(ctx, m, manager, w); err == nil && state == wire.Held {
			err = awaitStarted(ctx, m, w.Names())
		}
		return state, err
	}
	versions, change := map[string]string{}, false
	for _, g := range w.Install {
		versions[g.Name] = g.Version
		change = change || g.From != ""
	}
	removed, refused, err := manager.WouldInstall(ctx, versions, change)
	switch unnamed := slices.DeleteFunc(removed, func(n string) bool { return slices.Contains(w.With, n) }); {
	case err != nil:
		return "", err
	case refused != "":
		return "", &wire.Fault{What: "could not install " + strings.Join(w.Names(), ", ") + ": " + refused, Fix: "plan again"}
	case len(unnamed) > 0:
		return "", &wire.Fault{What: fmt.Sprintf("package %s would be removed for that, and the plan does not name it", strings.Join(unnamed, ", ")), Fix: "plan again"}
	}
	err = tellingAsides(m, j, func() error { return install(ctx, manager, w.Install) })
	if err == nil && state == wire.Held {
		err = awaitStarted(ctx, m, w.Names())
	}
	return state, err
}

// offeredNow fills in the versions that the plan could not know.
func offeredNow(ctx context.Context, manager family.PackageManager, w wire.PackageWork) (wire.PackageWork, error) {
	offered, err := manager.Offers(ctx, w.Names())
	if err != nil {
		return w, err
	}
	goals := slices.Clone(w.Install)
	for i := range goals {
		g := &goals[i]
		if g.Version != "" {
			continue
		}
		g.Version = wire.Pick(offered[g.Name], g.Exactly)
		if g.Version != "" && (g.AtLeast == "" || manager.Compare(g.Version, g.AtLeast) >= 0) {
			continue
		}
		f := &wire.Fault{What: fmt.Sprintf("no package source of this host offers %s", g.Name), Fix: "check the name"}
		if len(offered[g.Name]) > 0 {
			f.What = fmt.Sprintf("no package source of this host offers %s as it is declared: there is %s", g.Name, strings.Join(offered[g.Name], ", "))
			f.Fix = "declare one of these versions, or a source that has it"
		} else if names, err := manager.Offered(ctx); err == nil {
			if near := near.Few(g.Name, names); len(near) > 0 {
				f.Fix += ": there is " + strings.Join(near, ", ")
			}
		}
		return w, f
	}
	w.Install = goals
	return w, nil
}

// install installs packages in one transaction, and looks whether they are there.
func install(ctx context.Context, manager family.PackageManager, goals []wire.PackageGoal) error {
	versions := map[string]string{}
	var words []string
	do := manager.Install
	for _, g := range goals {
		words = append(words, g.Name)
		versions[g.Name] = g.Version
		if g.From != "" {
			do = manager.InstallVersions // it may be an older one
		}
	}
	what := "install " + strings.Join(words, ", ")
	failed := do(ctx, versions)
	all, err := manager.Installed(ctx)
	if err != nil {
		return err
	}
	lacks := slices.ContainsFunc(goals, func(g wire.PackageGoal) bool {
		p := all[g.Name]
		return p.State != wire.PackageInstalled || g.Version != "" && p.Version != g.Version
	})
	var script *family.ScriptFailed
	if errors.As(failed, &script) || failed != nil && lacks { // else the trouble is another package's, which was there before
		return packageFault(ctx, manager, what, failed)
	}
	for _, g := range goals {
		if p := all[g.Name]; p.State != wire.PackageInstalled {
			return &wire.Fault{What: fmt.Sprintf("package %s is %q after it was installed", g.Name, p.State), Fix: "look at the package manager's records on the host"}
		}
	}
	return nil
}

// installAgain installs a package in the version that is there: one that is not whole, or of which files
// are gone.
func installAgain(ctx context.Context, m *Host, manager family.PackageManager, w wire.PackageWork) error {
	name := cmp.Or(w.Finish, w.Reinstall)
	all, err := manager.Installed(ctx)
	if err != nil || w.Finish != "" && all[name].State == wire.PackageInstalled { // finished by now, with the others
		return err
	}
	if err := manager.InstallAgain(ctx, map[string]string{name: w.Version}); err != nil {
		return packageFault(ctx, manager, "install "+name+" again", err)
	}
	if all, err = manager.Installed(ctx); err != nil {
		return err
	}
	lacks, err := family.Lacks(ctx, m.Machine, manager, name)
	switch p := all[name]; {
	case err != nil:
		return err
	case p.State != wire.PackageInstalled:
		return &wire.Fault{What: fmt.Sprintf("package %s is %q after it was installed", name, p.State), Fix: "look at the package manager's records on the host"}
	case len(lacks) > 0:
		return &wire.Fault{What: fmt.Sprintf("of package %s there is still no %s after it was installed again", name, strings.Join(lacks[:min(len(lacks), 3)], ", ")), Fix: "look what takes it away: a program of the host, or another package"}
	}
	return nil
}

// removePackage removes a package and the ones that were named with it, and no
// others.
func removePackage(ctx context.Context, manager family.PackageManager, w wire.PackageWork) error {
	all, err := manager.Installed(ctx)
	if err != nil || !all[w.Remove].There() {
		return err
	}
	with, err := manager.WouldRemove(ctx, w.Remove)
	if err != nil {
		return err
	}
	for _, n := range with {
		if !slices.Contains(w.With, n) {
			return &wire.Fault{What: fmt.Sprintf("package %s would go with %s, and the plan does not name it", n, w.Remove), Fix: "plan again"}
		}
	}
	goes := []string{w.Remove}
	for _, n := range w.With {
		if all[n].There() {
			goes = append(goes, n)
		}
	}
	if err := manager.Remove(ctx, goes); err != nil {
		return packageFault(ctx, manager, "remove package "+w.Remove, err)
	}
	return nil
}

// finishPackages says who is waited for, and carries on with what an earlier
// installation left undone.
func finishPackages(ctx context.Context, m *Host, manager family.PackageManager, j Job) error {
	waitForLock(m, manager, j)
	all, err := manager.Installed(ctx)
	if err != nil {
		return err
	}
	broken := family.Broken(all)
	if len(broken) == 0 {
		return nil
	}
	j.Say("finishing what an earlier installation left undone: %s", strings.Join(broken, ", "))
	if err := manager.Finish(ctx); err != nil {
		// It may be another's, and need not keep this step from what it does.
		j.Say("it could not be finished: %s", lastLines(err.Error(), 3))
	}
	return nil
}

// waitForLock says who is waited for, where somebody is: the manager itself waits.
func waitForLock(m *Host, manager family.PackageManager, j Job) {
	if holder := family.LockHolder(m.Machine, manager.Locks()); holder != "" {
		j.Say("waiting for %s, which holds the lock of %s", holder, manager.Name())
	}
}

func packageFault(ctx context.Context, manager family.PackageManager, what string, err error) error {
	f := &wire.Fault{What: "could not " + what, Fix: "read what the package manager said below", Output: lastLines(err.Error(), 15)}
	if trouble, fix := family.SourceTrouble(err.Error()); trouble != "" {
		f.What, f.Fix = fmt.Sprintf("could not %s: of a package source, %s", what, trouble), fix
	}
	if all, e := manager.Installed(ctx); e == nil {
		if broken := family.Broken(all); len(broken) > 0 {
			f.What += "; that left packages half done: " + strings.Join(broken, ", ")
			f.Fix = "what is still half done once the host has gone back, the next plan offers to finish"
		}
	}
	return f
}

func lastLines(s string, n int) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	if len(lines) > n {
		lines = lines[len(lines)-n:]
	}
	return strings.Join(lines, "\n")
}
