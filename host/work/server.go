package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/webserver"
)

// serverBefore is a server's own configuration as it was.
type serverBefore struct {
	Files []system.KeptFile `json:"files"`
}

type serverWorker struct {
	typed[wire.ServerWant, wire.ServerWork, serverBefore]
}

var _ = register("server", serverWorker{typed[wire.ServerWant, wire.ServerWork, serverBefore]{
	read: each(readServer), before: beforeServer, do: doServer, back: backServer,
}})

func readServer(ctx context.Context, m *Host, w wire.ServerWant) (any, error) {
	layout, err := m.Layout(w.Server)
	if err != nil {
		return nil, err
	}
	f := wire.ServerFound{Installed: webserver.Stands(m.Machine, layout), Texts: map[wire.Path]string{}}
	for _, p := range w.Paths() {
		e, err := m.Entry(p)
		if err != nil {
			return nil, err
		}
		if e.Kind != wire.EntryFile {
			continue
		}
		if f.Texts[p], err = m.ReadText(p); err != nil {
			return nil, err
		}
		f.Touched = e.Touched
	}
	for _, l := range w.Links {
		if e, err := m.Entry(l); err != nil {
			return nil, err
		} else if e.Kind != "" {
			f.Links = append(f.Links, l)
		}
	}
	f.Edited, err = editedOwn(ctx, m, w, f)
	return f, err
}

// editedOwn lists what is to be switched off and is not as the server's package brought it.
func editedOwn(ctx context.Context, m *Host, w wire.ServerWant, f wire.ServerFound) ([]wire.Path, error) {
	if !f.Installed {
		return nil, nil
	}
	manager, err := m.PackageManager()
	if err != nil {
		return nil, nil // of no family whose packages are known
	}
	var out []wire.Path
	look := func(path wire.Path, text []byte) error {
		same, known, err := manager.Brought(ctx, string(path), text)
		if err == nil && known && !same {
			out = append(out, path)
		}
		return err
	}
	for _, l := range f.Links {
		full, err := filepath.EvalSymlinks(m.Path(l))
		if err != nil {
			continue // it leads nowhere, and switches nothing on
		}
		text, err := os.ReadFile(full)
		if err != nil {
			return nil, err
		}
		if err := look(m.Own(full), text); err != nil {
			return nil, err
		}
	}
	for path, text := range f.Texts {
		if w.Sets(path, text) {
			if err := look(path, []byte(w.Original(path, text))); err != nil {
				return nil, err
			}
		}
	}
	slices.Sort(out)
	return out, nil
}

func beforeServer(_ context.Context, m *Host, _ Job, w wire.ServerWork) (b serverBefore, err error) {
	for _, p := range append(w.Paths(), w.Links...) {
		k, err := m.KeepFile(p)
		if err != nil {
			return b, err
		}
		b.Files = append(b.Files, k)
	}
	return b, nil
}

// doServer edits what is there: what somebody has taken away stays away.
func doServer(ctx context.Context, m *Host, j Job, w wire.ServerWork, _ serverBefore) (wire.StepState, error) {
	layout, err := m.Layout(w.Server)
	if err != nil {
		return "", err
	}
	if !webserver.Stands(m.Machine, layout) {
		return "", &wire.Fault{What: "server " + w.Server + " is not installed: its program or " + string(layout.Config) + " is not there", Fix: "look at what became of the package " + layout.Package}
	}
	if err := webserver.TestOwn(ctx, m.Machine, fmt.Sprintf("%s-%d", j.Run, j.Number), layout, w.ServerWant); err != nil {
		return "", err
	}
	if dir := layout.SitesDir; !m.Exists(dir) {
		if err := os.MkdirAll(m.Path(dir), 0o755); err != nil {
			return "", err
		}
	}
	for _, p := range w.Paths() {
		e, err := m.Entry(p)
		if err != nil {
			return "", err
		}
		if e.Kind != wire.EntryFile {
			continue
		}
		text, err := m.ReadText(p)
		if err != nil {
			return "", err
		}
		edited := w.Edit(p, text)
		if edited == text {
			continue
		}
		mode, err := system.FileMode(e.Mode)
		if err != nil {
			return "", err
		}
		if err := system.WriteAtomically(m.Path(p), []byte(edited), mode); err != nil {
			return "", err
		}
		if err := m.Chown(p, e.Owners); err != nil {
			return "", err
		}
	}
	if w.Default == wire.DefaultKept {
		return wire.Done, nil
	}
	for _, l := range w.Links {
		if err := os.Remove(m.Path(l)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
		if err := system.Flush(filepath.Dir(m.Path(l))); err != nil {
			return "", err
		}
	}
	return wire.Done, nil
}

func backServer(ctx context.Context, m *Host, j Job, w wire.ServerWork, b serverBefore) error {
	changed := false
	for _, f := range b.Files {
		did, err := takeBack(m, j, f, []byte(w.Edit(f.Path, string(f.Text))), "")
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

// Preflight tests the candidate before the run's first step, where the server is installed
// already.
func (serverWorker) Preflight(ctx context.Context, m *Host, j Job) error {
	var w wire.ServerWork
	if err := json.Unmarshal(j.Work, &w); err != nil {
		return fmt.Errorf("the step cannot be understood: %w", err)
	}
	layout, err := m.Layout(w.Server)
	if err != nil || !webserver.Stands(m.Machine, layout) {
		return err
	}
	return webserver.TestOwn(ctx, m.Machine, fmt.Sprintf("%s-%d", j.Run, j.Number), layout, w.ServerWant)
}
