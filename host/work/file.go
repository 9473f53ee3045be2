package work

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"unicode/utf8"

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
		portion, ok, wrong := w.PortionOf(text)
		f.Text, f.Absent, f.Broken = portion, !ok && wrong == "", wrong
	}
	f.Bytes = !utf8.ValidString(f.Text)
	f.Immutable = (f.Text != w.Text || f.Bytes) && m.Immutable(w.Path)
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

// backFile puts the file back, or of a portion the portion: what others have written to
// the file since stays.
func backFile(_ context.Context, m *Host, j Job, w stake.FileWant, b fileBefore) error {
	same, err := b.File.IsThere(m.Machine)
	if err != nil || same {
		return errors.Join(err, m.RemoveEmpty(b.Made))
	}
	e, err := m.Entry(w.Path)
	if err != nil {
		return err
	}
	now := ""
	if e.Kind == "file" {
		if now, err = m.ReadText(w.Path); err != nil {
			return err
		}
	}
	former := string(b.File.Text)
	left := w.Text
	if w.Portion != "" {
		left = w.WithPortion(former)
	}
	switch {
	case e.Kind != "file" && e.Kind != "" && e.Kind != b.File.Entry.Kind, e.Kind == "file" && now != left && now != former:
		if w.Portion != "" && e.Kind == "file" {
			return backPortion(m, j, w, now, former, e)
		}
		kept, err := b.File.PutAside(m.Machine, fmt.Sprintf("%s-%d", j.Run, j.Number))
		if err != nil {
			return err
		}
		j.Say("left %s as it is: it was changed after the step%s", w.Path, keptAt(kept))
		return nil
	}
	if err := b.File.PutBack(m.Machine); err != nil {
		return err
	}
	return m.RemoveEmpty(b.Made)
}

func keptAt(kept string) string {
	if kept == "" {
		return ""
	}
	return "; what was there before is kept in " + kept
}

// backPortion puts a former portion back into a file that others have changed since.
func backPortion(m *Host, j Job, w stake.FileWant, now, former string, e stake.Entry) error {
	was, had, _ := w.PortionOf(former)
	is, has, wrong := w.PortionOf(now)
	if wrong != "" || has && is != w.Text {
		j.Say("left %s as it is: its portion %s was changed after the step", w.Path, w.Portion)
		return nil
	}
	text := w.WithoutPortion(now)
	if had {
		w.Text = was
		text = w.WithPortion(now)
	}
	if text == now {
		return nil
	}
	mode, err := system.ParseMode(e.Mode)
	if err != nil {
		return err
	}
	if err := system.WriteAtomically(m.Path(w.Path), []byte(text), mode); err != nil {
		return err
	}
	return m.Chown(w.Path, e.Owner, e.Group)
}
