package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/system"
)

// sourceBefore is the source's files as they were, and the directories that the
// step makes.
type sourceBefore struct {
	Files []system.KeptFile `json:"files"`
	Made  []wire.Path       `json:"made,omitempty"`
}

var _ = register("source", typed[wire.SourceWant, wire.SourceWork, sourceBefore]{
	read: each(readSource), before: beforeSource, do: doSource, back: backSource,
})

func sourceFiles(m *Host, w wire.SourceWant) ([]wire.SourceFile, family.PackageManager, error) {
	manager, err := m.PackageManager()
	if err != nil {
		return nil, nil, err
	}
	return manager.Sources().Files(w), manager, nil
}

func readSource(ctx context.Context, m *Host, w wire.SourceWant) (any, error) {
	files, manager, err := sourceFiles(m, w)
	if err != nil {
		return nil, err
	}
	var f wire.SourceFound
	for _, file := range files {
		e, err := m.Entry(file.Path)
		if err != nil {
			return nil, err
		}
		one := wire.SourceFileFound{Path: file.Path, Entry: e}
		if e.Kind == wire.EntryFile {
			text, err := m.ReadText(file.Path)
			if err != nil {
				return nil, err
			}
			one.Same = bytes.Equal([]byte(text), file.Text)
		}
		f.Files = append(f.Files, one)
	}
	if err := manager.Sources().Sound(ctx); err != nil {
		f.Unsound = lastLines(err.Error(), 3)
		return f, nil
	}
	listed, err := manager.Sources().Listed(ctx, w.Name)
	f.Unlisted = !listed
	if err != nil {
		return nil, err
	}
	return f, nil
}

func beforeSource(_ context.Context, m *Host, _ Job, w wire.SourceWork) (b sourceBefore, err error) {
	files, _, err := sourceFiles(m, w.SourceWant)
	if err != nil {
		return b, err
	}
	for _, file := range files {
		k, err := m.KeepFile(file.Path)
		if err != nil {
			return b, err
		}
		b.Files = append(b.Files, k)
		b.Made = append(b.Made, m.MissingParents(file.Path.Dir())...)
	}
	return b, nil
}

// doSource writes the source and reads its lists. A source that is not there, or
// is signed with another key, is an error that says which.
func doSource(ctx context.Context, m *Host, j Job, w wire.SourceWork, _ sourceBefore) (wire.StepState, error) {
	files, manager, err := sourceFiles(m, w.SourceWant)
	if err != nil {
		return "", err
	}
	if w.Away {
		for _, file := range slices.Backward(files) { // the key goes after the entry that names it
			if err := removeFile(m, file.Path); err != nil {
				return "", err
			}
		}
		return wire.Done, nil
	}
	for _, file := range files {
		if err := system.WriteAtomically(m.Path(file.Path), file.Text, 0o644); err != nil {
			return "", err
		}
		if err := m.Chown(file.Path, wire.Administrators); err != nil {
			return "", err
		}
	}
	waitForLock(m, manager, j)
	if err := manager.Sources().Sound(ctx); err != nil {
		return "", &wire.Fault{What: fmt.Sprintf("with package source %s (%s) the host's sources contradict each other", w.Name, w.URL), Fix: "take out the other entry for this URL, or this source", Output: lastLines(err.Error(), 6)}
	}
	if err := manager.Sources().Read(ctx, w.Name); err != nil {
		f := &wire.Fault{What: fmt.Sprintf("package source %s (%s) is of no use", w.Name, w.URL), Fix: "read what the package manager said below", Output: lastLines(err.Error(), 12)}
		said := err.Error()
		var failed *system.Failed
		if errors.As(err, &failed) {
			said += failed.Printed
		}
		if what, fix := family.SourceTrouble(said); what != "" {
			f.What, f.Fix = fmt.Sprintf("package source %s (%s): %s", w.Name, w.URL, what), fix
		}
		return "", f
	}
	return wire.Done, nil
}

func backSource(_ context.Context, m *Host, j Job, w wire.SourceWork, b sourceBefore) error {
	files, _, err := sourceFiles(m, w.SourceWant)
	if err != nil {
		return err
	}
	for i, k := range b.Files {
		if _, err := takeBack(m, j, k, files[i].Text, ""); err != nil {
			return err
		}
	}
	return m.RemoveEmpty(b.Made)
}
