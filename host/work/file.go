package work

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"northstake/core/wire"
	"northstake/host/system"
)

// fileBefore is the file as it was, and the directories above it that the step
// makes.
type fileBefore struct {
	File system.KeptFile `json:"file"`
	Made []wire.Path     `json:"made,omitempty"`
}

var _ = register("file", placed(typed[wire.FileWant, wire.FileWork, fileBefore]{
	read: sighted(readFile), before: beforeFile, do: doFile, back: backFile, early: true,
}, func(w wire.FileWork) spot { return spot{w.Path, w.Owners, w.Away} }))

func readFile(m *Host, s *system.Sight, w wire.FileWant) (any, error) {
	e, err := s.Entry(w.Path)
	if err != nil {
		return nil, err
	}
	nobody := s.Names.Without(w.Owners)
	if e.Kind != wire.EntryFile {
		return wire.FileFound{Entry: e, Nobody: nobody}, nil
	}
	text, err := s.ReadText(w.Path)
	if large := (*system.Large)(nil); errors.As(err, &large) {
		return wire.FileFound{Entry: e, Large: wire.Bytes(system.KeptLimit), Nobody: nobody}, nil
	}
	if err != nil {
		return nil, err
	}
	f := wire.FileFound{Entry: e, Text: text, Nobody: nobody}
	if w.Portion != "" {
		portion, ok, wrong := w.PortionOf(text)
		f.Text, f.Absent, f.Broken = portion, !ok && wrong == "", wrong
	}
	if f.Bytes = !utf8.ValidString(f.Text); f.Bytes {
		sum := sha256.Sum256([]byte(f.Text))
		f.Text, f.Sum = "", hex.EncodeToString(sum[:])
	}
	f.Immutable = !f.Holds(w) && m.Immutable(w.Path)
	return f, nil
}

func beforeFile(_ context.Context, m *Host, _ Job, w wire.FileWork) (b fileBefore, err error) {
	b.Made = m.MissingParents(w.Path.Dir())
	b.File, err = m.KeepFile(w.Path)
	return b, err
}

func doFile(ctx context.Context, m *Host, _ Job, w wire.FileWork, b fileBefore) (wire.StepState, error) {
	if w.Away && w.Portion == "" {
		return wire.Done, removeFile(m, w.Path)
	}
	text, owners, mode := w.Content(), w.Owners, w.Mode
	if w.Portion != "" {
		now := ""
		if e, err := m.Entry(w.Path); err != nil {
			return "", err
		} else if e.Kind == wire.EntryFile {
			if now, err = m.ReadText(w.Path); err != nil {
				return "", err
			}
		}
		if text = w.WithPortion(now); w.Away {
			text = w.WithoutPortion(now)
		}
		if b.File.Entry.Kind == wire.EntryFile { // what is not declared stays as it is
			owners, mode = owners.Or(b.File.Entry.Owners), cmp.Or(mode, b.File.Entry.Mode)
		}
		owners, mode = owners.Or(wire.Administrators), cmp.Or(mode, "0644")
	}
	bits, err := system.FileMode(mode)
	if err != nil {
		return "", err
	}
	names, err := m.Names()
	if err != nil {
		return "", err
	}
	if _, _, err := names.IDs(owners); err != nil {
		return "", &wire.Fault{What: fmt.Sprintf("%s: %v", w.Path, err), Fix: "declare an owner that exists on this host, or the account"}
	}
	if err := sudoTakes(ctx, m, w.Path, text); err != nil {
		return "", err
	}
	if err := system.WriteAtomically(m.Path(w.Path), []byte(text), bits); err != nil {
		return "", err
	}
	return wire.Done, m.Chown(w.Path, owners)
}

// sudoTakes has sudo's own checker read a text before it lies where sudo reads it (sudoers(5),
// visudo(8)): of a file with a mistake sudo takes in a part, or nothing, and says so to nobody here.
func sudoTakes(ctx context.Context, m *Host, path wire.Path, text string) error {
	dir, name := filepath.Split(string(path))
	if path != "/etc/sudoers" && (dir != "/etc/sudoers.d/" || strings.Contains(name, ".") || strings.HasSuffix(name, "~")) {
		return nil
	}
	_, err := m.Run(ctx, strings.NewReader(text), "visudo", "-c", "-f", "-")
	var failed *system.Failed
	if !errors.As(err, &failed) {
		return nil // there is no checker, so there is no sudo
	}
	return &wire.Fault{What: fmt.Sprintf("sudo does not understand what is declared for %s: %s", path, strings.Join(strings.Fields(failed.Output), " ")), Fix: "correct the text: nothing was written"}
}

func removeFile(m *Host, path wire.Path) error {
	if err := os.Remove(m.Path(path)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return system.Flush(filepath.Dir(m.Path(path)))
}

// backFile puts the file back, or of a portion the portion: what others have written to
// the file since stays.
func backFile(_ context.Context, m *Host, j Job, w wire.FileWork, b fileBefore) error {
	left := w.Content()
	if w.Portion != "" {
		former := string(b.File.Text)
		if left = w.WithPortion(former); w.Away {
			left = w.WithoutPortion(former)
		}
		e, err := m.Entry(w.Path)
		if err != nil {
			return err
		}
		if e.Kind == wire.EntryFile {
			now, err := m.ReadText(w.Path)
			if err != nil {
				return err
			}
			if now != left && now != former {
				return backPortion(m, j, w, now, former, e)
			}
		}
	}
	if _, err := takeBack(m, j, b.File, []byte(left), ""); err != nil {
		return err
	}
	return m.RemoveEmpty(b.Made)
}

// backPortion puts a former portion back into a file that others have changed since.
func backPortion(m *Host, j Job, w wire.FileWork, now, former string, e wire.Entry) error {
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
	mode, err := system.FileMode(e.Mode)
	if err != nil {
		return err
	}
	if err := system.WriteAtomically(m.Path(w.Path), []byte(text), mode); err != nil {
		return err
	}
	return m.Chown(w.Path, e.Owners)
}
