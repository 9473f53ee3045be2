package work

import (
	"context"
	"strings"

	"northstake/core/stake/staketest"
	"northstake/core/wire"
	"northstake/host/system"
)

// The host's half of a small kind of its own.

func boardOf(name string) string { return "/etc/board/" + name }

var _ = register("note", typed[staketest.NoteWant, staketest.NoteWant, system.KeptFile]{
	read: each(func(_ context.Context, m *Host, w staketest.NoteWant) (any, error) {
		if !m.Exists(wire.Path(boardOf(w.Name))) {
			return staketest.NoteFound{}, nil
		}
		text, err := m.ReadText(wire.Path(boardOf(w.Name)))
		return staketest.NoteFound{There: true, Says: strings.TrimSuffix(text, "\n")}, err
	}),
	before: func(_ context.Context, m *Host, _ Job, w staketest.NoteWant) (system.KeptFile, error) {
		return m.KeepFile(wire.Path(boardOf(w.Name)))
	},
	do: func(_ context.Context, m *Host, _ Job, w staketest.NoteWant, _ system.KeptFile) (wire.StepState, error) {
		return wire.Done, system.WriteAtomically(m.Path(wire.Path(boardOf(w.Name))), []byte(w.Says+"\n"), 0o644)
	},
	back: func(_ context.Context, m *Host, _ Job, _ staketest.NoteWant, b system.KeptFile) error {
		return b.PutBack(m.Machine)
	},
})
