package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"northstake/core/stake"
	"northstake/host/platform"
	"northstake/host/rod"
)

// sourceBefore is the source's files as they were, and the directories that the
// step makes.
type sourceBefore struct {
	Files []keptFile `json:"files"`
	Made  []string   `json:"made,omitempty"`
}

var _ = register("source", typed[stake.SourceWant, stake.SourceWant, sourceBefore]{
	read: each(readSource), before: beforeSource, do: doSource, back: backSource,
})

func sourceFiles(m *platform.Machine, w stake.SourceWant) ([]stake.SourceFile, platform.PackageManager, error) {
	manager, err := m.PackageManager()
	if err != nil {
		return nil, nil, err
	}
	return manager.Sources().Files(w), manager, nil
}

func readSource(_ context.Context, m *platform.Machine, w stake.SourceWant) (any, error) {
	files, _, err := sourceFiles(m, w)
	if err != nil {
		return nil, err
	}
	var f stake.SourceFound
	for _, file := range files {
		e, err := m.Entry(file.Path)
		if err != nil {
			return nil, err
		}
		one := stake.SourceFileFound{Path: file.Path, Entry: e}
		if e.Kind == "file" {
			text, err := readText(m, file.Path)
			if err != nil {
				return nil, err
			}
			one.Same = bytes.Equal([]byte(text), file.Text)
		}
		f.Files = append(f.Files, one)
	}
	return f, nil
}

func beforeSource(_ context.Context, m *platform.Machine, _ Job, w stake.SourceWant) (b sourceBefore, err error) {
	files, _, err := sourceFiles(m, w)
	if err != nil {
		return b, err
	}
	for _, file := range files {
		k, err := keepFile(m, file.Path)
		if err != nil {
			return b, err
		}
		b.Files = append(b.Files, k)
		b.Made = append(b.Made, missingParents(m, filepath.Dir(file.Path))...)
	}
	return b, nil
}

// doSource writes the source and reads its lists. A source that is not there, or
// is signed with another key, is an error that says which.
func doSource(ctx context.Context, m *platform.Machine, j Job, w stake.SourceWant, _ sourceBefore) (rod.StepState, error) {
	files, manager, err := sourceFiles(m, w)
	if err != nil {
		return "", err
	}
	for _, file := range files {
		if err := writeAtomically(m.Path(file.Path), file.Text, 0o644); err != nil {
			return "", err
		}
		if err := chown(m, file.Path, "root", "root"); err != nil {
			return "", err
		}
	}
	waitForLock(m, manager, j)
	if err := manager.Sources().Read(ctx, w.Name); err != nil {
		f := &rod.Fault{What: fmt.Sprintf("package source %s (%s) is of no use", w.Name, w.URL), Fix: "read what the package manager said below", Output: lastLines(err.Error(), 12)}
		said := err.Error()
		var failed *platform.Failed
		if errors.As(err, &failed) {
			said += failed.Printed
		}
		if what, fix := platform.SourceTrouble(said); what != "" {
			f.What, f.Fix = fmt.Sprintf("package source %s (%s): %s", w.Name, w.URL, what), fix
		}
		return "", f
	}
	return rod.Done, nil
}

func backSource(_ context.Context, m *platform.Machine, _ Job, _ stake.SourceWant, b sourceBefore) error {
	for _, k := range b.Files {
		if same, err := k.isThere(m); err != nil {
			return err
		} else if !same {
			if err := k.putBack(m); err != nil {
				return err
			}
		}
	}
	return removeEmpty(m, b.Made)
}
