package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"northstake/core/wire"
	"northstake/host/engine"
	"northstake/host/system"
	"northstake/host/webserver"
)

// siteBefore is the site's file and link as they were.
type siteBefore struct {
	File   system.KeptFile   `json:"file"`
	Link   system.KeptFile   `json:"link"`
	Beside []system.KeptFile `json:"beside,omitempty"`
	Drops  []system.KeptFile `json:"drops,omitempty"`
	Apart  string            `json:"apart,omitempty"` // directory with the private keys among them
}

type siteWorker struct {
	typed[wire.SiteWant, wire.Works[wire.SiteWork], befores[siteBefore]]
}

var _ = register("site", siteWorker{func() typed[wire.SiteWant, wire.Works[wire.SiteWork], befores[siteBefore]] {
	t := joining(typed[wire.SiteWant, wire.SiteWork, siteBefore]{read: readSites, before: beforeSite})
	t.do, t.back, t.close = doSites, backSites, closeSites
	return t
}()})

func beforeSite(_ context.Context, m *Host, j Job, w wire.SiteWork) (b siteBefore, err error) {
	apart := apartOf(m, j)
	for _, beside := range w.Beside {
		k, err := m.KeepFile(beside.Path)
		if err == nil && beside.Is == wire.BesideKey {
			b.Apart, err = apart, keepApart(m, apart, &k)
		}
		if err != nil {
			return b, err
		}
		b.Beside = append(b.Beside, k)
	}
	for _, p := range w.Drops {
		k, err := m.KeepFile(p)
		if err == nil && wire.IsKeyFile(p) {
			b.Apart, err = apart, keepApart(m, apart, &k)
		}
		if err != nil {
			return b, err
		}
		b.Drops = append(b.Drops, k)
	}
	if b.File, err = m.KeepFile(w.File); err != nil || w.Link == "" {
		return b, err
	}
	b.Link, err = m.KeepFile(w.Link)
	return b, err
}

// doSites has all sites of a step tested together, and written and flushed together.
func doSites(ctx context.Context, m *Host, j Job, works wire.Works[wire.SiteWork], _ befores[siteBefore]) (wire.StepState, error) {
	var write []wire.SiteWant
	var drop []wire.Path
	for _, w := range works {
		drop = append(drop, w.Drops...)
		if w.Away {
			if err := takeSiteAway(m, w); err != nil {
				return "", err
			}
			continue
		}
		write = append(write, w.SiteWant)
	}
	if err := testSites(ctx, m, j, write); err != nil {
		return "", err
	}
	var files []system.NewFile
	links := map[wire.Path]string{}
	for _, w := range write {
		for _, b := range w.Beside {
			text, err := b.Holds()
			if err != nil {
				return "", err
			}
			bits, err := system.FileMode(w.ModeOf(b))
			if err != nil {
				return "", err
			}
			files = append(files, system.NewFile{Path: b.Path, Text: []byte(text), Mode: bits, Owners: b.Owners()})
		}
		files = append(files, system.NewFile{Path: w.File, Text: []byte(w.Text), Mode: 0o644, Owners: wire.Administrators})
		if w.Link != "" && !w.Off {
			links[w.Link] = string(w.File)
		}
	}
	if err := m.WriteTogether(files); err != nil {
		return "", err
	}
	for _, w := range write {
		if w.Link == "" || !w.Off {
			continue
		}
		if err := os.Remove(m.Path(w.Link)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
		if err := system.Flush(filepath.Dir(m.Path(w.Link))); err != nil {
			return "", err
		}
	}
	if err := m.LinkTogether(links); err != nil {
		return "", err
	}
	return wire.Done, takeFilesAway(m, drop)
}

// takeSiteAway removes a virtual host's file and its link; a step of the server's service
// has it take notice.
func takeSiteAway(m *Host, w wire.SiteWork) error {
	paths := []wire.Path{w.Link, w.File}
	for _, b := range w.Beside {
		paths = append(paths, b.Path)
	}
	return takeFilesAway(m, paths)
}

func takeFilesAway(m *Host, paths []wire.Path) error {
	for _, p := range paths {
		if p == "" {
			continue
		}
		if err := os.Remove(m.Path(p)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := system.Flush(filepath.Dir(m.Path(p))); err != nil {
			return err
		}
	}
	return nil
}

// backSites takes the sites of a step back, and has each of their servers take notice once.
func backSites(ctx context.Context, m *Host, j Job, works wire.Works[wire.SiteWork], b befores[siteBefore]) error {
	var changed []string
	within := map[string]wire.SiteWant{}
	for i, w := range slices.Backward(works) {
		did, err := backSite(m, j, w, b[i])
		if err != nil {
			return err
		}
		if did && w.Within != "" {
			within[w.Within] = w.SiteWant
		} else if did && !slices.Contains(changed, w.Service) {
			changed = append(changed, w.Service)
		}
	}
	for _, service := range changed {
		if err := tellRunning(ctx, m, j, service); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(within)) {
		if err := tellWithin(ctx, m, j, within[name]); err != nil {
			return err
		}
	}
	return nil
}

// backSite says whether anything was changed.
func backSite(m *Host, j Job, w wire.SiteWork, b siteBefore) (changed bool, err error) {
	if w.Link != "" {
		if changed, err = takeBack(m, j, b.Link, nil, string(w.File)); err != nil {
			return false, err
		}
	}
	did, err := takeBack(m, j, b.File, []byte(w.Text), "")
	if err != nil {
		return false, err
	}
	changed = changed || did
	for i, f := range b.Beside {
		if w.Beside[i].Is == wire.BesideKey {
			if err := fromApart(m, b.Apart, &f); err != nil {
				return false, err
			}
		}
		did, err := takeBackFrom(m, j, f, func(found []byte) bool { return w.Beside[i].Matches(string(found)) }, "")
		if err != nil {
			return false, err
		}
		changed = changed || did
	}
	for _, f := range b.Drops {
		if wire.IsKeyFile(f.Path) {
			if err := fromApart(m, b.Apart, &f); err != nil {
				return false, err
			}
		}
		did, err := takeBack(m, j, f, nil, "")
		if err != nil {
			return false, err
		}
		changed = changed || did
	}
	return changed, nil
}

// tellRunning has a service take notice of what was taken back, where it runs.
func tellRunning(ctx context.Context, m *Host, j Job, service string) error {
	units, err := m.Services(ctx)
	if err != nil {
		return err
	}
	states, err := units.States(ctx, []string{service})
	if err != nil {
		return err
	}
	if states[service].Active != "active" {
		return nil
	}
	if err := tell(ctx, m, units, service, "reload"); err != nil {
		// Somebody else's file may be broken: the files are back, and the server
		// goes on with what it has read.
		j.Say("%s did not take the former configuration in: %v", service, err)
	}
	return nil
}

// Preflight tests the candidate before the run's first step, where the server is
// installed already: a configuration that is refused then changes nothing at all.
func (siteWorker) Preflight(ctx context.Context, m *Host, j Job) error {
	var works wire.Works[wire.SiteWork]
	if err := json.Unmarshal(j.Work, &works); err != nil {
		return fmt.Errorf("the step cannot be understood: %w", err)
	}
	var write []wire.SiteWant
	for _, w := range works {
		layout, err := m.LayoutOf(w.SiteWant)
		if err != nil {
			return err
		}
		if w.Within != "" {
			if _, trouble := engine.Of(ctx, m.Machine); trouble != nil {
				continue // an engine that a step of the run brings up is asked by the site's own step
			}
		}
		if !w.Away && webserver.Stands(m.Machine, layout) {
			write = append(write, w.SiteWant)
		}
	}
	return testSites(ctx, m, j, write)
}

// testSites lets each server test its sites on a copy of its configuration.
func testSites(ctx context.Context, m *Host, j Job, sites []wire.SiteWant) error {
	byServer := map[string][]wire.SiteWant{}
	for _, w := range sites {
		byServer[w.Server+w.Within] = append(byServer[w.Server+w.Within], w)
	}
	for _, server := range slices.Sorted(maps.Keys(byServer)) {
		its := byServer[server]
		layout, err := m.LayoutOf(its[0])
		if err != nil {
			return err
		}
		if its[0].Within != "" {
			err = testWithin(ctx, m, j, layout, its)
		} else {
			err = webserver.Test(ctx, m.Machine, fmt.Sprintf("%s-%d", j.Run, j.Number), layout, its...)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
