package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"northstake/core/stake"
	"northstake/host/platform"
	"northstake/host/rod"
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

func readDirectories(ctx context.Context, m *platform.Machine, wants []stake.DirectoryWant) ([]any, error) {
	names, err := m.Names()
	if err != nil {
		return nil, err
	}
	return each(func(_ context.Context, m *platform.Machine, w stake.DirectoryWant) (any, error) {
		return m.EntryNamed(w.Path, names)
	})(ctx, m, wants)
}

// missingParents lists the directories of a path that are not there, outermost
// first.
func missingParents(m *platform.Machine, path string) []string {
	var out []string
	for p := path; p != "/" && p != "."; p = filepath.Dir(p) {
		if m.Exists(p) {
			break
		}
		out = append([]string{p}, out...)
	}
	return out
}

func beforeDirectory(_ context.Context, m *platform.Machine, _ Job, w stake.DirectoryWant) (directoryBefore, error) {
	e, err := m.Entry(w.Path)
	return directoryBefore{Entry: e, Made: missingParents(m, w.Path)}, err
}

func doDirectory(_ context.Context, m *platform.Machine, _ Job, w stake.DirectoryWant, b directoryBefore) (rod.StepState, error) {
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

func setDirectory(m *platform.Machine, path, owner, group, mode string) error {
	bits, err := parseMode(mode)
	if err != nil {
		return err
	}
	if err := chown(m, path, owner, group); err != nil {
		return err
	}
	if err := os.Chmod(m.Path(path), bits); err != nil {
		return err
	}
	return flush(filepath.Dir(m.Path(path)))
}

func backDirectory(_ context.Context, m *platform.Machine, _ Job, w stake.DirectoryWant, b directoryBefore) error {
	switch b.Entry.Kind {
	case "directory":
		if now, err := m.Entry(w.Path); err != nil || now.Kind != "directory" {
			return err
		}
		return setDirectory(m, w.Path, b.Entry.Owner, b.Entry.Group, b.Entry.Mode)
	case "link":
		if err := removeEmpty(m, []string{w.Path}); err != nil {
			return err
		}
		return linkAtomically(b.Entry.Target, m.Path(w.Path))
	}
	return removeEmpty(m, b.Made)
}

// removeEmpty removes directories that a step made, innermost first; one that
// somebody has put something into stays.
func removeEmpty(m *platform.Machine, made []string) error {
	for i := len(made) - 1; i >= 0; i-- {
		full := m.Path(made[i])
		if s, err := os.Lstat(full); errors.Is(err, fs.ErrNotExist) || err == nil && !s.IsDir() {
			continue
		}
		left, err := os.ReadDir(full)
		if err != nil {
			return err
		}
		if len(left) > 0 {
			return nil
		}
		if err := os.Remove(full); err != nil {
			return err
		}
	}
	return nil
}
