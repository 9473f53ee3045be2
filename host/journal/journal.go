// Package journal is a host's record of what was there before each step of a run, and
// the way back by it. It knows no kinds of stake: it is handed what does and undoes a
// step.
package journal

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"northstake/core/plan"
	"northstake/host/rod"
	"northstake/host/system"
)

// Record is one step in the journal: a file for each, flushed to disk before
// the work that it announces begins.
type Record struct {
	Run    string          `json:"run"`
	Step   plan.Step       `json:"step"`
	State  rod.StepState   `json:"state"`
	Before json.RawMessage `json:"before"`
	At     time.Time       `json:"at"`
}

// Journal is a host's record of runs, below the state directory of the machine. Worker
// finds what does and undoes the steps of a type.
type Journal struct {
	Machine *system.Machine
	Worker  func(typ string) (Worker, error)
}

func (j Journal) dir(run string) string { return j.Machine.State("journal", run) }

func (j Journal) file(run string, number int) string {
	return filepath.Join(j.dir(run), fmt.Sprintf("%04d.json", number))
}

func (j Journal) write(r Record) error {
	r.At = time.Now().UTC()
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(j.dir(r.Run), 0o700); err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	if err := system.WriteAtomically(j.file(r.Run, r.Step.Number), b, 0o600); err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	return nil
}

func (j Journal) read(run string, number int) (Record, error) {
	var r Record
	b, err := os.ReadFile(j.file(run, number))
	if err != nil {
		return r, err
	}
	if err := json.Unmarshal(b, &r); err != nil {
		return r, fmt.Errorf("read the journal: %s: %w", j.file(run, number), err)
	}
	return r, nil
}

// Steps returns the records of a run, in order.
func (j Journal) Steps(run string) ([]Record, error) {
	entries, err := os.ReadDir(j.dir(run))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the journal: %w", err)
	}
	var out []Record
	for _, e := range entries {
		n, err := strconv.Atoi(strings.TrimSuffix(e.Name(), ".json"))
		if err != nil {
			continue
		}
		r, err := j.read(run, n)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	sort.Slice(out, func(a, b int) bool { return out[a].Step.Number < out[b].Step.Number })
	return out, nil
}

func (j Journal) runs() ([]string, error) {
	entries, err := os.ReadDir(j.Machine.State("journal"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []string
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out, err
}

const keptRuns = 20

// prune forgets all but the newest runs.
func (j Journal) prune() error {
	runs, err := j.runs()
	if err != nil || len(runs) <= keptRuns {
		return err
	}
	sort.Slice(runs, func(a, b int) bool {
		x, _ := strconv.Atoi(runs[a])
		y, _ := strconv.Atoi(runs[b])
		return x < y
	})
	for _, r := range runs[:len(runs)-keptRuns] {
		if err := os.RemoveAll(j.dir(r)); err != nil {
			return err
		}
	}
	return nil
}

// hold stops at a boundary of the journal while the host's hold file names it,
// as "STEP BOUNDARY"; failures are rehearsed with it in the lab.
func hold(m *system.Machine, number int, boundary string) {
	name := m.State("hold")
	line := fmt.Sprintf("%d %s", number, boundary)
	for {
		b, err := os.ReadFile(name)
		if err != nil || strings.TrimSpace(string(b)) != line {
			return
		}
		os.WriteFile(name+".reached", []byte(line), 0o600)
		time.Sleep(10 * time.Millisecond)
	}
}
