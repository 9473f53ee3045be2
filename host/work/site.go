package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"northstake/core/stake"
	"northstake/host/family"
	"northstake/host/rod"
	"northstake/host/system"
	"northstake/host/webserver"
)

// siteBefore is the site's file and link as they were.
type siteBefore struct {
	File   system.KeptFile   `json:"file"`
	Link   system.KeptFile   `json:"link"`
	Beside []system.KeptFile `json:"beside,omitempty"`
}

type siteWorker struct {
	typed[stake.SiteWant, stake.SiteWork, siteBefore]
}

var _ = register("site", siteWorker{typed[stake.SiteWant, stake.SiteWork, siteBefore]{
	read: beside(readSite), before: beforeSite, do: doSite, back: backSite,
}})

func readSite(ctx context.Context, m *Host, w stake.SiteWant) (any, error) {
	f := stake.SiteFound{}
	var err error
	if f.File, err = m.Entry(w.File); err != nil {
		return nil, err
	}
	if f.File.Kind == "file" {
		b, err := m.Read(w.File)
		if err != nil {
			return nil, err
		}
		f.Text, f.Bytes = string(b), !utf8.Valid(b)
	}
	if w.Link != "" {
		if f.Link, err = m.Entry(w.Link); err != nil {
			return nil, err
		}
	}
	for _, b := range w.Beside {
		e, err := m.Entry(b.Path)
		if err != nil {
			return nil, err
		}
		text, err := m.Read(b.Path)
		f.Beside = append(f.Beside, stake.Beside{Entry: e, Same: err == nil && string(text) == b.Text})
	}
	f.Silent = silent(ctx, w.To)
	layout, err := m.Layout(w.Server)
	if err != nil {
		return nil, err
	}
	if f.Loaded, err = webserver.Loaded(ctx, m.Machine, layout, w); err != nil {
		return nil, err
	}
	if f.Rivals, err = webserver.Rivals(m.Machine, layout, w); err != nil {
		return nil, err
	}
	shut, err := family.ShutOut(m.Machine, w.User, w.Roots)
	if err != nil {
		return nil, err
	}
	for i, at := range shut {
		if at == "" {
			continue
		}
		e, err := m.Entry(at)
		if err != nil {
			return nil, err
		}
		f.Shut = append(f.Shut, stake.Shut{Root: w.Roots[i], At: at, Entry: e})
	}
	return f, nil
}

// dialTime is how long a service may take to take a connection from its own host.
const dialTime = 500 * time.Millisecond

// silent lists the services that take no connection.
func silent(ctx context.Context, services []string) []string {
	takes := make([]bool, len(services))
	var all sync.WaitGroup
	for i, to := range services {
		all.Go(func() {
			network := "tcp"
			if strings.HasPrefix(to, "/") {
				network = "unix"
			}
			c, err := (&net.Dialer{Timeout: dialTime}).DialContext(ctx, network, to)
			if err == nil {
				c.Close()
			}
			takes[i] = err == nil
		})
	}
	all.Wait()
	var out []string
	for i, to := range services {
		if !takes[i] {
			out = append(out, to)
		}
	}
	return out
}

func beforeSite(_ context.Context, m *Host, _ Job, w stake.SiteWork) (b siteBefore, err error) {
	for _, beside := range w.Beside {
		k, err := m.KeepFile(beside.Path)
		if err != nil {
			return b, err
		}
		b.Beside = append(b.Beside, k)
	}
	if b.File, err = m.KeepFile(w.File); err != nil || w.Link == "" {
		return b, err
	}
	b.Link, err = m.KeepFile(w.Link)
	return b, err
}

func doSite(ctx context.Context, m *Host, j Job, w stake.SiteWork, _ siteBefore) (rod.StepState, error) {
	if w.Away {
		return rod.Done, takeSiteAway(m, w)
	}
	if err := testSite(ctx, m, j, w.SiteWant); err != nil {
		return "", err
	}
	for _, b := range w.Beside {
		if err := system.WriteAtomically(m.Path(b.Path), []byte(b.Text), 0o640); err != nil {
			return "", err
		}
		if err := m.Chown(b.Path, "root", b.Group); err != nil {
			return "", err
		}
	}
	if err := system.WriteAtomically(m.Path(w.File), []byte(w.Text), 0o644); err != nil {
		return "", err
	}
	if err := m.Chown(w.File, "root", "root"); err != nil {
		return "", err
	}
	if w.Link != "" && w.Off {
		if err := os.Remove(m.Path(w.Link)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
	} else if w.Link != "" {
		if err := system.LinkAtomically(w.File, m.Path(w.Link)); err != nil {
			return "", err
		}
	}
	return rod.Done, nil
}

// takeSiteAway removes a virtual host's file and its link; a step of the server's service
// has it take notice.
func takeSiteAway(m *Host, w stake.SiteWork) error {
	paths := []string{w.Link, w.File}
	for _, b := range w.Beside {
		paths = append(paths, b.Path)
	}
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

func backSite(ctx context.Context, m *Host, j Job, w stake.SiteWork, b siteBefore) error {
	changed := false
	if w.Link != "" {
		did, err := takeBack(m, j, b.Link, nil, w.File)
		if err != nil {
			return err
		}
		changed = did
	}
	did, err := takeBack(m, j, b.File, []byte(w.Text), "")
	if err != nil {
		return err
	}
	changed = changed || did
	for i, f := range b.Beside {
		did, err := takeBack(m, j, f, []byte(w.Beside[i].Text), "")
		if err != nil {
			return err
		}
		changed = changed || did
	}
	if !changed {
		return nil
	}
	return tellRunning(ctx, m, j, w.Service)
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
	var w stake.SiteWork
	if err := json.Unmarshal(j.Work, &w); err != nil {
		return fmt.Errorf("the step cannot be understood: %w", err)
	}
	if w.Away {
		return nil
	}
	layout, err := m.Layout(w.Server)
	if err != nil || !m.Exists(layout.Config) {
		return err
	}
	return testSite(ctx, m, j, w.SiteWant)
}

// testSite lets the server test the site on a copy of its configuration.
func testSite(ctx context.Context, m *Host, j Job, w stake.SiteWant) error {
	layout, err := m.Layout(w.Server)
	if err != nil {
		return err
	}
	return webserver.Test(ctx, m.Machine, fmt.Sprintf("%s-%d", j.Run, j.Number), layout, w)
}
