package work

import (
	"cmp"
	"context"
	"net"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"northstake/core/wire"
	"northstake/host/engine"
	"northstake/host/family"
	"northstake/host/system"
	"northstake/host/webserver"
)

// readSites reads sites, and once for all of them what their servers have loaded.
func readSites(ctx context.Context, m *Host, wants []wire.SiteWant) ([]any, error) {
	claimed := map[string]*webserver.Claimed{}
	first := map[string]int{} // processes of containers
	for _, w := range wants {
		key := w.Server + w.Within
		if _, known := claimed[key]; known {
			continue
		}
		layout, err := m.LayoutOf(w)
		if err != nil {
			claimed[key] = nil // which the site's own reading says
			continue
		}
		if claimed[key], err = webserver.ClaimedOf(m.Machine, w.Server, layout); err != nil {
			return nil, err
		}
		if w.Within == "" {
			continue
		}
		if e, trouble := engine.Of(ctx, m.Machine); trouble == nil {
			is, err := e.Inspect(ctx, w.Within)
			if err != nil {
				return nil, err
			}
			first[w.Within] = is.PID
		}
	}
	listeners, err := m.Listeners()
	if err != nil {
		return nil, err
	}
	addresses := system.Addresses()
	return beside(func(ctx context.Context, m *Host, w wire.SiteWant) (any, error) {
		f, err := readSite(ctx, m, w, claimed[w.Server+w.Within], addresses, listeners)
		if pid, told := first[w.Within]; told && !w.Off { // else nobody knows which are the container's own
			f.Taken = taken(w, listeners, pid)
		}
		return f, err
	})(ctx, m, wants)
}

func readSite(ctx context.Context, m *Host, w wire.SiteWant, claimed *webserver.Claimed, addresses []string, listeners []wire.Listener) (f wire.SiteFound, err error) {
	if err := siteFiles(m, w, &f); err != nil {
		return f, err
	}
	if w.Certificate != nil {
		f.Time = w.Certificate.At(time.Now())
	}
	f.Silent = silent(ctx, w.To)
	layout, err := m.LayoutOf(w)
	if err == nil {
		err = siteLoaded(ctx, m, w, layout, addresses, listeners, &f)
	}
	if err == nil {
		err = siteTaken(m, w, layout, claimed, &f)
	}
	if err == nil {
		err = siteShut(m, w, &f)
	}
	return f, err
}

// siteFiles finds what lies where a site's files do.
func siteFiles(m *Host, w wire.SiteWant, f *wire.SiteFound) (err error) {
	if f.File, err = m.Entry(w.File); err != nil {
		return err
	}
	if f.File.Kind == wire.EntryFile {
		b, err := m.Read(w.File)
		if err != nil {
			return err
		}
		f.Text, f.Bytes = string(b), !utf8.Valid(b)
	}
	if w.Link != "" {
		if f.Link, err = m.Entry(w.Link); err != nil {
			return err
		}
	}
	for _, b := range w.Beside {
		e, err := m.Entry(b.Path)
		if err != nil {
			return err
		}
		text, err := m.Read(b.Path)
		f.Beside = append(f.Beside, wire.Beside{Entry: e, Same: err == nil && b.Matches(string(text))})
	}
	for _, p := range w.Former {
		if m.Exists(p) {
			f.Left = append(f.Left, p)
		}
	}
	return nil
}

// siteLoaded finds whether the server has loaded what lies there, and who else answers then.
func siteLoaded(ctx context.Context, m *Host, w wire.SiteWant, layout wire.Layout, addresses []string, listeners []wire.Listener, f *wire.SiteFound) (err error) {
	if f.File.Kind != wire.EntryFile || f.Text == w.Text { // what is not written cannot be loaded
		if f.Loaded, f.Unlike, err = webserver.Loaded(ctx, m.Machine, layout, w, addresses); err != nil {
			return err
		}
	}
	if f.Loaded != nil && *f.Loaded {
		f.Others, err = webserver.Others(ctx, m.Machine, layout, w, addresses, listeners)
	}
	return err
}

// siteTaken finds whether the server's own configuration takes the site's file in, and what else there claims
// what the site does.
func siteTaken(m *Host, w wire.SiteWant, layout wire.Layout, claimed *webserver.Claimed, f *wire.SiteFound) error {
	f.Rivals = claimed.Rivals(w)
	if w.Off || w.Within != "" {
		return nil
	}
	read := cmp.Or(w.Link, w.File)
	in, err := webserver.Includes(m.Machine, w.Server, layout, read)
	if err != nil {
		return err
	}
	if !in {
		f.NotTaken = string(layout.Config)
	}
	if !m.Exists(read) {
		f.Takes = claimed.Takes(w)
	}
	return nil
}

// siteShut finds what shuts the server out of the site's roots.
func siteShut(m *Host, w wire.SiteWant, f *wire.SiteFound) error {
	shut, err := family.ShutOut(m.Machine, w.User, w.Roots)
	if err != nil {
		return err
	}
	if labels := m.Labels(w.Roots); strings.Join(labels, "") != "" {
		f.Labels = labels
	}
	for i, at := range shut {
		if at == "" {
			continue
		}
		e, err := m.Entry(at)
		if err != nil {
			return err
		}
		f.Shut = append(f.Shut, wire.Shut{Root: w.Roots[i], At: at, Entry: e})
	}
	return nil
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
