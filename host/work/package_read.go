package work

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"northstake/core/near"
	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/system"
)

func readPackages(ctx context.Context, m *Host, wants []wire.PackageWant) ([]any, error) {
	manager, err := m.PackageManager()
	if err != nil {
		return nil, err
	}
	all, err := manager.Installed(ctx)
	if err != nil {
		return nil, err
	}
	found := make([]wire.PackageFound, len(wants))
	var asked []string
	for i, w := range wants {
		f, ask, err := readPackage(ctx, m, manager, w, all[w.Name])
		if err != nil {
			return nil, err
		}
		if ask {
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

// readPackage reads one package, and says whether the sources are to be asked what they offer of it.
func readPackage(ctx context.Context, m *Host, manager family.PackageManager, w wire.PackageWant, p family.Package) (f wire.PackageFound, ask bool, err error) {
	f = wire.PackageFound{State: p.State, Version: p.Version, Held: p.Held}
	if p.State == "not-installed" || p.State == "" {
		f.State = wire.PackageAbsent
	}
	if p.State == wire.PackageInstalled {
		f.Unmet = w.Version != "" && !wire.MeetsExactly(p.Version, w.Version) || w.AtLeast != "" && manager.Compare(p.Version, w.AtLeast) < 0
	}
	switch {
	case w.Gone && p.There():
		return f, false, readRemoval(ctx, manager, w, &f)
	case w.Gone:
		return f, false, nil
	case p.State == wire.PackageInstalled && !f.Unmet:
		f.Lacks, err = family.Lacks(ctx, m.Machine, manager, w.Name)
	}
	return f, p.State != wire.PackageInstalled || len(f.Lacks) > 0 || f.Unmet || w.Newest, err
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
func readRemoval(ctx context.Context, manager family.PackageManager, w wire.PackageWant, f *wire.PackageFound) (err error) {
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
func tryInstall(ctx context.Context, manager family.PackageManager, wants []wire.PackageWant, found []wire.PackageFound) error {
	versions, change := map[string]string{}, false
	for i, w := range wants {
		if f := &found[i]; !w.Gone && f.Candidate != "" && !f.Older && (!f.There() || f.Unmet) && !f.Held {
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
	alone := func(f wire.PackageFound) bool { return f.Refused != "" || len(f.With) > 0 }
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
func offers(ctx context.Context, m *Host, manager family.PackageManager, wants []wire.PackageWant, found []wire.PackageFound, asked []string) error {
	offered, err := manager.Offers(ctx, asked)
	if err != nil {
		return err
	}
	at := manager.ListsAt()
	for i, w := range wants {
		if !slices.Contains(asked, w.Name) || w.Gone {
			continue
		}
		f, versions := &found[i], offered[w.Name]
		f.ListsAt = at.Truncate(time.Minute)
		if !choose(manager, w, f, versions) {
			continue
		}
		unknown := f.Candidate == "" || f.Older && w.AtLeast != ""
		f.Lists = listsState(at, unknown)
		if unknown && f.Lists == wire.ListsFresh && len(versions) == 0 {
			if err := namesNear(ctx, m, manager, w, f); err != nil {
				return err
			}
		}
	}
	if err := tryInstall(ctx, manager, wants, found); err != nil {
		return err
	}
	return room(ctx, m, manager, wants, found, asked)
}

// choose picks what is to be installed of the versions that are offered; false says that the package is
// there as wanted.
func choose(manager family.PackageManager, w wire.PackageWant, f *wire.PackageFound, versions []string) bool {
	f.Candidate = wire.Pick(versions, w.Version)
	if w.Newest && f.State == wire.PackageInstalled {
		f.Unmet = f.Candidate != "" && manager.Compare(f.Version, f.Candidate) < 0
		if !f.Unmet && len(f.Lacks) == 0 {
			f.Candidate = ""
			return false
		}
	}
	if f.There() && !f.Unmet { // what is there is made whole, and not another
		switch same := slices.Contains(versions, f.Version); {
		case same && (w.Version == "" || wire.MeetsExactly(f.Version, w.Version)):
			f.Candidate = f.Version
		case len(f.Lacks) > 0:
			f.Candidate = ""
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
	return true
}

// listsState says whether lists that were fetched at a time can be rested on: those that do not know what is
// asked for grow old sooner.
func listsState(at time.Time, unknown bool) string {
	age := time.Since(at)
	switch {
	case at.IsZero():
		return wire.ListsNone
	case age > listsLimit || unknown && age > unknownLimit:
		return wire.ListsOld
	}
	return wire.ListsFresh
}

// namesNear adds what could have been meant by a package that no source offers.
func namesNear(ctx context.Context, m *Host, manager family.PackageManager, w wire.PackageWant, f *wire.PackageFound) error {
	names, err := manager.Offered(ctx)
	if err != nil {
		return err
	}
	if f.Providers, err = manager.Providers(ctx, w.Name); err != nil {
		return err
	}
	f.Near, f.Here, f.Disabled = near.Few(w.Name, names), m.Called().Packages[w.Name], manager.Disabled()
	return nil
}

// room adds where there is not room enough for the packages that are not as wanted.
func room(ctx context.Context, m *Host, manager family.PackageManager, wants []wire.PackageWant, found []wire.PackageFound, asked []string) error {
	free := map[string]int64{"/usr": m.Free("/usr"), "/var": m.Free("/var")}
	if free["/usr"] > askedRoom && free["/var"] > askedRoom {
		return nil
	}
	versions := map[string]string{}
	var lacking []int
	for i, w := range wants {
		f := &found[i]
		if w.Gone || !slices.Contains(asked, w.Name) || f.State == wire.PackageInstalled && !f.Unmet {
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
	short := shortOf(m, need, free, len(versions) < len(lacking))
	for _, i := range lacking {
		if _, known := versions[wants[i].Name]; short != nil && (known || short.Takes == 0) {
			found[i].Short = short
		}
	}
	return nil
}

// shortOf is where there is not room enough for what is needed, nil where there is; some of which it is not
// known what they need want a little at least.
func shortOf(m *Host, need family.Need, free map[string]int64, unknown bool) (short *wire.Short) {
	takes := map[string]int64{"/usr": need.Installed, "/var": need.Fetched}
	if m.SameDisk("/usr", "/var") {
		takes = map[string]int64{"/usr": need.Installed + need.Fetched}
	}
	for _, path := range slices.Sorted(maps.Keys(takes)) {
		s := wire.Short{Path: path, Free: free[path], Takes: takes[path]}
		switch {
		case s.Takes > s.Free:
			short = &s
		case unknown && s.Free < littleRoom && short == nil:
			s.Takes = 0
			short = &s
		}
	}
	return short
}
