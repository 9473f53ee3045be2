package work

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"northstake/core/stake"
	"northstake/host/platform"
	"northstake/host/rod"
)

// fileBefore is the file as it was, and the directories above it that the step
// makes.
type fileBefore struct {
	File keptFile `json:"file"`
	Made []string `json:"made,omitempty"`
}

var _ = register("file", typed[stake.FileWant, stake.FileWant, fileBefore]{
	read: each(readFile), before: beforeFile, do: doFile, back: backFile,
})

func readFile(_ context.Context, m *platform.Machine, w stake.FileWant) (any, error) {
	e, err := m.Entry(w.Path)
	if err != nil || e.Kind != "file" {
		return stake.FileFound{Entry: e}, err
	}
	text, err := readText(m, w.Path)
	if err != nil {
		return nil, err
	}
	f := stake.FileFound{Entry: e, Text: text}
	if w.Portion != "" {
		portion, ok := w.PortionOf(text)
		f.Text, f.Absent = portion, !ok
	}
	return f, nil
}

// readText reads a file that is not too large to be kept before it is changed.
func readText(m *platform.Machine, path string) (string, error) {
	s, err := os.Lstat(m.Path(path))
	if err != nil {
		return "", err
	}
	if s.Size() > keptFileLimit {
		return "", fmt.Errorf("%s is larger than %s", path, stake.Bytes(keptFileLimit))
	}
	b, err := m.Read(path)
	return string(b), err
}

func beforeFile(_ context.Context, m *platform.Machine, _ Job, w stake.FileWant) (b fileBefore, err error) {
	b.Made = missingParents(m, filepath.Dir(w.Path))
	b.File, err = keepFile(m, w.Path)
	return b, err
}

func doFile(_ context.Context, m *platform.Machine, _ Job, w stake.FileWant, b fileBefore) (rod.StepState, error) {
	text, owner, group, mode := w.Text, w.Owner, w.Group, w.Mode
	if w.Portion != "" {
		now := ""
		if e, err := m.Entry(w.Path); err != nil {
			return "", err
		} else if e.Kind == "file" {
			if now, err = readText(m, w.Path); err != nil {
				return "", err
			}
		}
		text = w.WithPortion(now)
		if b.File.Entry.Kind == "file" { // what is not declared stays as it is
			owner, group, mode = or(owner, b.File.Entry.Owner), or(group, b.File.Entry.Group), or(mode, b.File.Entry.Mode)
		}
		owner, group, mode = or(owner, "root"), or(group, "root"), or(mode, "0644")
	}
	bits, err := parseMode(mode)
	if err != nil {
		return "", err
	}
	names, err := m.Names()
	if err != nil {
		return "", err
	}
	if _, _, err := names.IDs(owner, group); err != nil {
		return "", &rod.Fault{What: fmt.Sprintf("%s: %v", w.Path, err), Fix: "declare an owner that exists on this host, or the account"}
	}
	if err := writeAtomically(m.Path(w.Path), []byte(text), bits); err != nil {
		return "", err
	}
	return rod.Done, chown(m, w.Path, owner, group)
}

func or(v, otherwise string) string {
	if v != "" {
		return v
	}
	return otherwise
}

func backFile(_ context.Context, m *platform.Machine, _ Job, _ stake.FileWant, b fileBefore) error {
	if same, err := b.File.isThere(m); err != nil {
		return err
	} else if !same {
		if err := b.File.putBack(m); err != nil {
			return err
		}
	}
	return removeEmpty(m, b.Made)
}
