package work

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"northstake/core/stake"
	"northstake/host/rod"
	"northstake/host/system"
)

// directoryBefore is what lay at the path, and which of its parents the step
// has to make.
type directoryBefore struct {
	Entry stake.Entry `json:"entry"`
	Made  []string    `json:"made,omitempty"` // outermost first, the path itself included
}

var _ = register("directory", typed[stake.DirectoryWant, stake.DirectoryWant, directoryBefore]{
	read: readDirectories, before: beforeDirectory, do: doDirectory, back: backDirectory,
})

func readDirectories(ctx context.Context, m *Host, wants []stake.DirectoryWant) ([]any, error) {
	names, err := m.Names()
	if err != nil {
		return nil, err
	}
	return each(func(_ context.Context, m *Host, w stake.DirectoryWant) (any, error) {
		return m.EntryNamed(w.Path, names)
	})(ctx, m, wants)
}

func beforeDirectory(_ context.Context, m *Host, _ Job, w stake.DirectoryWant) (directoryBefore, error) {
	e, err := m.Entry(w.Path)
	return directoryBefore{Entry: e, Made: m.MissingParents(w.Path)}, err
}

func doDirectory(_ context.Context, m *Host, _ Job, w stake.DirectoryWant, b directoryBefore) (rod.StepState, error) {
	now, err := m.Entry(w.Path)
	if err != nil {
		return "", err
	}
	switch now.Kind {
	case "link":
		if err := os.Remove(m.Path(w.Path)); err != nil {
			return "", err
		}
	case "", "directory":
	default:
		return "", &rod.Fault{What: fmt.Sprintf("%s is %s", w.Path, now.Words()), Fix: "move it away"}
	}
	if err := os.MkdirAll(m.Path(w.Path), 0o755); err != nil {
		return "", err
	}
	return rod.Done, setDirectory(m, w.Path, w.Owner, w.Group, w.Mode)
}

func setDirectory(m *Host, path, owner, group, mode string) error {
	bits, err := system.ParseMode(mode)
	if err != nil {
		return err
	}
	if err := m.Chown(path, owner, group); err != nil {
		return err
	}
	if err := os.Chmod(m.Path(path), bits); err != nil {
		return err
	}
	return system.Flush(filepath.Dir(m.Path(path)))
}

func backDirectory(_ context.Context, m *Host, _ Job, w stake.DirectoryWant, b directoryBefore) error {
	switch b.Entry.Kind {
	case "directory":
		if now, err := m.Entry(w.Path); err != nil || now.Kind != "directory" {
			return err
		}
		return setDirectory(m, w.Path, b.Entry.Owner, b.Entry.Group, b.Entry.Mode)
	case "link":
		if err := m.RemoveEmpty([]string{w.Path}); err != nil {
			return err
		}
		return system.LinkAtomically(b.Entry.Target, m.Path(w.Path))
	}
	return m.RemoveEmpty(b.Made)
}
