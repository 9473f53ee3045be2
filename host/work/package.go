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
	"time"

	"northstake/core/near"
	"northstake/core/stake"
	"northstake/host/family"
	"northstake/host/filter"
	"northstake/host/journal"
	"northstake/host/rod"
	"northstake/host/system"
)

// packageBefore is the packages that were there before a step, with their
// versions.
type packageBefore struct {
	Installed map[string]string `json:"installed"`
	Config    []string          `json:"config,omitempty"` // of which only the configuration is there
}

type packages struct {
	typed[stake.PackageWant, stake.PackageWork, packageBefore]
}

var _ = register("package", packages{typed[stake.PackageWant, stake.PackageWork, packageBefore]{
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

func readPackages(ctx context.Context, m *Host, wants []stake.PackageWant) ([]any, error) {
	manager, err := m.PackageManager()
	if err != nil {
		return nil, err
	}
	all, err := manager.Installed(ctx)
	if err != nil {
		return nil, err
	}
	found := make([]stake.PackageFound, len(wants))
	var asked []string
	for i, w := range wants {
		p := all[w.Name]
		f := stake.PackageFound{State: p.State, Version: p.Version, Held: p.Held}
		if p.State == "not-installed" || p.State == "" {
			f.State = "absent"
		}
		if p.State == "installed" {
			f.Unmet = w.Version != "" && !stake.MeetsExactly(p.Version, w.Version) || w.AtLeast != "" && manager.Compare(p.Version, w.AtLeast) < 0
		}
		switch {
		case w.Gone && p.There():
			if err := readRemoval(ctx, manager, w, &f); err != nil {
				return nil, err
			}
		case !w.Gone && (!p.There() || f.Unmet || w.Newest):
			asked = append(asked, w.Name)
		}
		found[i] = f
	}
	if len(asked) > 0 {
		if err := offers(ctx, m, manager, wants, found, asked); err != nil {
			return nil, err
		}
	}
	out := make([]any, len(wants))
	for i := range found {
		out[i] = found[i]
	}
	return out, nil
}

// servicesOf are the services of some packages, as far as that can be told.
func servicesOf(ctx context.Context, manager family.PackageManager, packages []string) []string {
	var out []string
	for _, n := range packages {
		if units, err := manager.Services(ctx, n); err == nil {
			out = append(out, units...)
		}
	}
	return out
}

// forgetFailed drops that services have failed whose packages are gone: one may not have
// started when its package came, where another held its port.
func forgetFailed(ctx context.Context, m *Host, services []string) {
	units, err := m.Services(ctx)
	if err != nil {
		return
	}
	for _, s := range services {
		units.ForgetFailed(ctx, s)
	}
}

// readRemoval adds what would go with a package, or why it cannot go.
func readRemoval(ctx context.Context, manager family.PackageManager, w stake.PackageWant, f *stake.PackageFound) (err error) {
	if f.With, err = manager.WouldRemove(ctx, w.Name); err == nil && w.Whole {
		f.Orphans, err = manager.WouldOrphan(ctx, w.Name)
	}
	if err == nil {
		for _, n := range append([]string{w.Name}, f.Orphans...) {
			units, err := manager.Services(ctx, n)
			if err != nil {
				return err
			}
			f.Services = append(f.Services, units...)
		}
		return nil
	}
	var failed *system.Failed
	if f.Refused = err.Error(); errors.As(err, &failed) {
		f.Refused = lastLines(failed.Output, 1)
	}
	f.NeededBy, err = manager.NeededBy(ctx, w.Name)
	return err
}

// tryInstall adds what would go for the packages that are to be installed, or why they
// cannot be: all of them in one transaction, as a run makes it, and each by itself where
// that is refused.
func tryInstall(ctx context.Context, manager family.PackageManager, wants []stake.PackageWant, found []stake.PackageFound) error {
	versions, change := map[string]string{}, false
	for i, w := range wants {
		if f := &found[i]; !w.Gone && f.Candidate != "" && !f.Older && (f.State != "installed" || f.Unmet) && !f.Held {
			versions[w.Name] = f.Candidate
			change = change || f.Unmet
		}
	}
	if len(versions) == 0 {
		return nil
	}
	together, refused, err := manager.WouldInstall(ctx, versions, change)
	if err != nil || refused == "" && len(together) == 0 {
		return err
	}
	for i, w := range wants {
		v, asked := versions[w.Name]
		if !asked {
			continue
		}
		f := &found[i]
		if f.With, f.Refused, err = manager.WouldInstall(ctx, map[string]string{w.Name: v}, f.Unmet); err != nil {
			return err
		}
	}
	alone := func(f stake.PackageFound) bool { return f.Refused != "" || len(f.With) > 0 }
	if slices.ContainsFunc(found, alone) {
		return nil
	}
	for i, w := range wants { // each by itself could be
		if _, asked := versions[w.Name]; asked {
			found[i].With, found[i].Refused = together, refused
		}
	}
	return nil
}

// offers adds what the sources offer of packages that are not as wanted.
func offers(ctx context.Context, m *Host, manager family.PackageManager, wants []stake.PackageWant, found []stake.PackageFound, asked []string) error {
	offered, err := manager.Offers(ctx, asked)
	if err != nil {
		return err
	}
	at := manager.ListsAt()
	for i, w := range wants {
		if !slices.Contains(asked, w.Name) || w.Gone {
			continue
		}
		f := &found[i]
		versions := offered[w.Name]
		f.Candidate = stake.Pick(versions, w.Version)
		if w.Newest && f.State == "installed" {
			f.Unmet = f.Candidate != "" && manager.Compare(f.Version, f.Candidate) < 0
			if !f.Unmet {
				f.Candidate = ""
				continue
			}
		}
		switch {
		case f.Candidate == "":
			f.Offered = versions[:min(len(versions), 5)]
		case w.AtLeast != "":
			f.Older = manager.Compare(f.Candidate, w.AtLeast) < 0
		case f.Unmet:
			f.Older = manager.Compare(f.Candidate, f.Version) < 0
		}
		unknown := f.Candidate == "" || f.Older && w.AtLeast != ""
		age := time.Since(at)
		switch {
		case at.IsZero():
			f.Lists = stake.ListsNone
		case age > listsLimit || unknown && age > unknownLimit:
			f.Lists = stake.ListsOld
		default:
			f.Lists = stake.ListsFresh
		}
		if unknown && f.Lists == stake.ListsFresh && len(versions) == 0 {
			names, err := manager.Offered(ctx)
			if err != nil {
				return err
			}
			f.Near, f.Here, f.Disabled = near.Few(w.Name, names), m.Called().Packages[w.Name], manager.Disabled()
		}
	}
	if err := tryInstall(ctx, manager, wants, found); err != nil {
		return err
	}
	return room(ctx, m, manager, wants, found, asked)
}

// room adds where there is not room enough for the packages that are not as wanted.
func room(ctx context.Context, m *Host, manager family.PackageManager, wants []stake.PackageWant, found []stake.PackageFound, asked []string) error {
	free := map[string]int64{"/usr": m.Free("/usr"), "/var": m.Free("/var")}
	if free["/usr"] > askedRoom && free["/var"] > askedRoom {
		return nil
	}
	versions := map[string]string{}
	var lacking []int
	for i, w := range wants {
		f := &found[i]
		if w.Gone || !slices.Contains(asked, w.Name) || f.State == "installed" && !f.Unmet {
			continue
		}
		lacking = append(lacking, i)
		if f.Candidate != "" && !f.Older {
			versions[w.Name] = f.Candidate
		}
	}
	var need family.Need
	if len(versions) > 0 {
		var err error
		if need, err = manager.Needs(ctx, versions); err != nil {
			return err
		}
	}
	var short *stake.Short
	takes := map[string]int64{"/usr": need.Installed, "/var": need.Fetched}
	if m.SameDisk("/usr", "/var") {
		takes = map[string]int64{"/usr": need.Installed + need.Fetched}
	}
	for _, path := range slices.Sorted(maps.Keys(takes)) {
		s := stake.Short{Path: path, Free: free[path], Takes: takes[path]}
		switch {
		case s.Takes > s.Free:
			short = &s
		case len(versions) < len(lacking) && s.Free < littleRoom && short == nil:
			s.Takes = 0
			short = &s
		}
	}
	for _, i := range lacking {
		if _, known := versions[wants[i].Name]; short != nil && (known || short.Takes == 0) {
			found[i].Short = short
		}
	}
	return nil
}

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
		if p.State == "config-files" {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

func beforePackage(ctx context.Context, m *Host, _ Job, _ stake.PackageWork) (packageBefore, error) {
	manager, err := m.PackageManager()
	if err != nil {
		return packageBefore{}, err
	}
	all, err := manager.Installed(ctx)
	return packageBefore{versionsOf(all), onlyConfig(all)}, err
}

func doPackage(ctx context.Context, m *Host, j Job, w stake.PackageWork, before packageBefore) (rod.StepState, error) {
	state, err := changePackages(ctx, m, j, w)
	if e := recordChanges(context.WithoutCancel(ctx), m, j, before); err == nil && e != nil {
		return "", e
	}
	return state, err
}

func changePackages(ctx context.Context, m *Host, j Job, w stake.PackageWork) (rod.StepState, error) {
	manager, err := m.PackageManager()
	if err != nil {
		return "", err
	}
	if err := finishPackages(ctx, m, manager, j); err != nil {
		return "", err
	}
	switch {
	case w.Remove != "":
		return rod.Done, removePackage(ctx, manager, w)
	case w.Finish != "":
		return rod.Done, install(ctx, manager, []stake.PackageGoal{{Name: w.Finish}})
	}
	if w.Refresh {
		j.Say("reading the lists of what the sources offer")
		if err := manager.Refresh(ctx); err != nil {
			return "", packageFault(ctx, manager, "read the lists of what the sources offer", err)
		}
	}
	if w, err = offeredNow(ctx, manager, w); err != nil {
		return "", err
	}
	state := rod.Done
	if slices.ContainsFunc(w.Names(), stake.FiltersItself) {
		state = rod.Held
		if err := journal.Arm(ctx, m.Machine, j, 3*stake.RevertAfter); err != nil { // an installation takes a while
			return "", err
		}
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
		return "", &rod.Fault{What: "could not install " + strings.Join(w.Names(), ", ") + ": " + refused, Fix: "plan again"}
	case len(unnamed) > 0:
		return "", &rod.Fault{What: fmt.Sprintf("package %s would be removed for that, and the plan does not name it", strings.Join(unnamed, ", ")), Fix: "plan again"}
	}
	err = install(ctx, manager, w.Install)
	if err == nil && state == rod.Held {
		err = awaitStarted(ctx, m, w.Names())
	}
	return state, err
}

// offeredNow fills in the versions that the plan could not know.
func offeredNow(ctx context.Context, manager family.PackageManager, w stake.PackageWork) (stake.PackageWork, error) {
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
		g.Version = stake.Pick(offered[g.Name], g.Exactly)
		if g.Version != "" && (g.AtLeast == "" || manager.Compare(g.Version, g.AtLeast) >= 0) {
			continue
		}
		f := &rod.Fault{What: fmt.Sprintf("no package source of this host offers %s", g.Name), Fix: "check the name"}
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
func install(ctx context.Context, manager family.PackageManager, goals []stake.PackageGoal) error {
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
	lacks := slices.ContainsFunc(goals, func(g stake.PackageGoal) bool {
		p := all[g.Name]
		return p.State != "installed" || g.Version != "" && p.Version != g.Version
	})
	if failed != nil && lacks { // else the trouble is another package's, which was there before
		return packageFault(ctx, manager, what, failed)
	}
	for _, g := range goals {
		if p := all[g.Name]; p.State != "installed" {
			return &rod.Fault{What: fmt.Sprintf("package %s is %q after it was installed", g.Name, p.State), Fix: "look at the package manager's records on the host"}
		}
	}
	return nil
}

// removePackage removes a package and the ones that were named with it, and no
// others.
func removePackage(ctx context.Context, manager family.PackageManager, w stake.PackageWork) error {
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
			return &rod.Fault{What: fmt.Sprintf("package %s would go with %s, and the plan does not name it", n, w.Remove), Fix: "plan again"}
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
	f := &rod.Fault{What: "could not " + what, Fix: "read what the package manager said below", Output: lastLines(err.Error(), 15)}
	if trouble, fix := family.SourceTrouble(err.Error()); trouble != "" {
		f.What, f.Fix = fmt.Sprintf("could not %s: of a package source, %s", what, trouble), fix
	}
	if all, e := manager.Installed(ctx); e == nil {
		if broken := family.Broken(all); len(broken) > 0 {
			f.What += "; packages are left half done: " + strings.Join(broken, ", ")
			f.Fix = "the next plan offers to finish them"
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
func backPackage(ctx context.Context, m *Host, j Job, w stake.PackageWork, before packageBefore) error {
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
	if slices.ContainsFunc(w.Names(), stake.FiltersItself) {
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
	for _, program := range slices.DeleteFunc(slices.Clone(names), func(n string) bool { return !stake.FiltersItself(n) }) {
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
