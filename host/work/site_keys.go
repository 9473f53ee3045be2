package work

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"

	"northstake/core/wire"
	"northstake/host/system"
)

// Kept is a step without the texts that are made of secrets: their marks tell later whether what lies there is
// what the step has written.
func (siteWorker) Kept(work json.RawMessage) (json.RawMessage, error) {
	var works wire.Works[wire.SiteWork]
	if err := json.Unmarshal(work, &works); err != nil {
		return nil, err
	}
	found := false
	for _, w := range works {
		for _, b := range w.Beside {
			if b.Sealed != nil && b.Sealed.Text != "" {
				b.Sealed.Text, found = "", true
			}
		}
	}
	if !found {
		return work, nil
	}
	return json.Marshal(works)
}

// apartOf is where private keys are kept, for root alone, while a step that takes them away can be taken back.
func apartOf(m *Host, j Job) string { return m.State("former", stepOf(j)+"-keys") }

// keepApart has the text of a file lie there, and not in the journal.
func keepApart(m *Host, dir string, k *system.KeptFile) error {
	if k.Entry.Kind != wire.EntryFile {
		return nil
	}
	text := k.Text
	k.Text = nil
	return system.Self(func() error { return system.WriteAtomically(keptIn(dir, k.Path), text, 0o600) })
}

// fromApart gives a file its text again. Where that is there no more the file is back already.
func fromApart(m *Host, dir string, k *system.KeptFile) error {
	if k.Entry.Kind != wire.EntryFile {
		return nil
	}
	text, err := os.ReadFile(keptIn(dir, k.Path))
	if errors.Is(err, fs.ErrNotExist) {
		text, err = m.Read(k.Path)
	}
	k.Text = text
	return err
}

func keptIn(dir string, p wire.Path) string { return dir + string(p) }

// closeSites lets go of the keys that were kept.
func closeSites(_ *Host, _ wire.Works[wire.SiteWork], before befores[siteBefore]) error {
	var failed []error
	for _, b := range before {
		if b.Apart != "" {
			failed = append(failed, os.RemoveAll(b.Apart))
		}
	}
	return errors.Join(failed...)
}
