package work

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"northstake/core/wire"
	"northstake/host/system"
)

// linkBefore is what lay at the path, and the directories above it that the step
// makes.
type linkBefore struct {
	Entry wire.Entry  `json:"entry"`
	Made  []wire.Path `json:"made,omitempty"`
}

var _ = register("link", placed(typed[wire.LinkWant, wire.LinkWork, linkBefore]{
	read: sighted(func(_ *Host, s *system.Sight, w wire.LinkWant) (any, error) { return s.Entry(w.Path) }),
	before: func(_ context.Context, m *Host, _ Job, w wire.LinkWork) (b linkBefore, err error) {
		b.Made = m.MissingParents(w.Path.Dir())
		b.Entry, err = m.Entry(w.Path)
		return b, err
	},
	do: doLink, back: backLink, early: true,
}, func(w wire.LinkWork) spot { return spot{w.Path, wire.Administrators, w.Away} }))

func doLink(_ context.Context, m *Host, _ Job, w wire.LinkWork, _ linkBefore) (wire.StepState, error) {
	if w.Away {
		return wire.Done, removeFile(m, w.Path)
	}
	now, err := m.Entry(w.Path)
	if err != nil {
		return "", err
	}
	if now.Kind != "" && now.Kind != wire.EntryLink {
		return "", &wire.Fault{What: fmt.Sprintf("%s is %s", w.Path, now.Words()), Fix: "move it away"}
	}
	if err := os.MkdirAll(filepath.Dir(m.Path(w.Path)), 0o755); err != nil {
		return "", err
	}
	return wire.Done, system.LinkAtomically(w.PointsTo, m.Path(w.Path))
}

func backLink(_ context.Context, m *Host, j Job, w wire.LinkWork, b linkBefore) error {
	if _, err := takeBack(m, j, system.KeptFile{Path: w.Path, Entry: b.Entry}, nil, w.PointsTo); err != nil {
		return err
	}
	return m.RemoveEmpty(b.Made)
}
