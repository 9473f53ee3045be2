package system

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"syscall"
	"time"

	"northstake/core/wire"
)

// ownTouch is a change of North Stake's own that put a thing back to what it was: who had
// touched it before, and when, is still what people ask for.
type ownTouch struct {
	Changed time.Time  `json:"changed"` // ctime after it
	Before  wire.Touch `json:"before"`
}

func (m *Machine) ownFile() string { return m.State("own-touches") }

// ownTouches are remembered until the file changes.
func (m *Machine) ownTouches() map[wire.Path]ownTouch {
	own, err := Cached(m, "own touches", m.stateKey(m.ownFile()), func() (map[wire.Path]ownTouch, error) {
		out := map[wire.Path]ownTouch{}
		b, err := os.ReadFile(m.ownFile())
		if errors.Is(err, fs.ErrNotExist) {
			return out, nil
		}
		if err == nil {
			err = json.Unmarshal(b, &out)
		}
		return out, err
	})
	if err != nil {
		return nil // who touched what is told as far as it is known
	}
	return own
}

// stateKey changes with a file of the state directory.
func (m *Machine) stateKey(full string) string {
	var s syscall.Stat_t
	if syscall.Lstat(full, &s) != nil {
		return "none"
	}
	return time.Unix(s.Ctim.Unix()).String()
}

// NoteOwn notes that a path has just been put back by North Stake to what it was before.
func (m *Machine) NoteOwn(path wire.Path, before wire.Touch) error {
	s, err := lstat(m.Path(path))
	if err != nil {
		return err
	}
	own := map[wire.Path]ownTouch{}
	for p, t := range m.ownTouches() {
		if now, err := lstat(m.Path(p)); err == nil && time.Unix(now.Ctim.Unix()).Equal(t.Changed) {
			own[p] = t // the others have been touched since
		}
	}
	own[path] = ownTouch{time.Unix(s.Ctim.Unix()), before}
	b, err := json.Marshal(own)
	if err != nil {
		return err
	}
	return WriteAtomically(m.ownFile(), b, 0o600)
}
