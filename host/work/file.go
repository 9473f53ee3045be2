package work

import (
	"context"
	"fmt"
	"path/filepath"

	"northstake/core/stake"
	"northstake/host/rod"
	"northstake/host/system"
)

// fileBefore is the file as it was, and the directories above it that the step
// makes.
type fileBefore struct {
	File system.KeptFile `json:"file"`
	Made []string        `json:"made,omitempty"`
}

var _ = register("file", typed[stake.FileWant, stake.FileWant, fileBefore]{
	read: each(readFile), before: beforeFile, do: doFile, back: backFile,
})

func readFile(_ context.Context, m *Host, w stake.FileWant) (any, error) {
	e, err := m.Entry(w.Path)
	if err != nil || e.Kind != "file" {
		return stake.FileFound{Entry: e}, err
	}
	text, err := m.ReadText(w.Path)
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

func beforeFile(_ context.Context, m *Host, _ Job, w stake.FileWant) (b fileBefore, err error) {
	b.Made = m.MissingParents(filepath.Dir(w.Path))
	b.File, err = m.KeepFile(w.Path)
	return b, err
}

func doFile(_ context.Context, m *Host, _ Job, w stake.FileWant, b fileBefore) (rod.StepState, error) {
	text, owner, group, mode := w.Text, w.Owner, w.Group, w.Mode
	if w.Portion != "" {
		now := ""
		if e, err := m.Entry(w.Path); err != nil {
			return "", err
		} else if e.Kind == "file" {
			if now, err = m.ReadText(w.Path); err != nil {
				return "", err
			}
		}
		text = w.WithPortion(now)
		if b.File.Entry.Kind == "file" { // what is not declared stays as it is
			owner, group, mode = or(owner, b.File.Entry.Owner), or(group, b.File.Entry.Group), or(mode, b.File.Entry.Mode)
		}
		owner, group, mode = or(owner, "root"), or(group, "root"), or(mode, "0644")
	}
	bits, err := system.ParseMode(mode)
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
	if err := system.WriteAtomically(m.Path(w.Path), []byte(text), bits); err != nil {
		return "", err
	}
	return rod.Done, m.Chown(w.Path, owner, group)
}

func or(v, otherwise string) string {
	if v != "" {
		return v
	}
	return otherwise
}

func backFile(_ context.Context, m *Host, _ Job, _ stake.FileWant, b fileBefore) error {
	if same, err := b.File.IsThere(m.Machine); err != nil {
		return err
	} else if !same {
		if err := b.File.PutBack(m.Machine); err != nil {
			return err
		}
	}
	return m.RemoveEmpty(b.Made)
}
