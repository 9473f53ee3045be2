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
	"slices"
	"strconv"
	"strings"
	"time"

	"northstake/core/wire"
	"northstake/host/system"
)

// Record is one step in the journal: a file for each, flushed to disk before
// the work that it announces begins.
type Record struct {
	Wire   int             `json:"wire,omitempty"` // version in which it is written, 0 in releases before
	Run    string          `json:"run"`
	Step   wire.Step       `json:"step"`
	State  wire.StepState  `json:"state"`
	Before json.RawMessage `json:"before"`
	Why    string          `json:"why,omitempty"` // it could not be taken back, or was dismissed
	At     time.Time       `json:"at"`
}

// Journal is a host's record of runs, below the state directory of the machine. Worker
// finds what does and undoes the steps of a type.
type Journal struct {
	Machine *system.Machine
	Worker  func(typ string) (Worker, error)
	Line    Line

	Boundary func(step int, name string) // told before and after what a step does and writes down; nil for nobody
}

func (j Journal) at(step int, boundary string) {
	if j.Boundary != nil {
		j.Boundary(step, boundary)
	}
}

func (j Journal) dir(run string) string { return j.Machine.State("journal", run) }

func (j Journal) file(run string, number int) string {
	return filepath.Join(j.dir(run), fmt.Sprintf("%04d.json", number))
}

func (j Journal) write(r Record) error {
	r.At, r.Wire = time.Now().UTC(), wire.Version
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
	if r.Wire > wire.Version {
		return Record{}, fmt.Errorf("read the journal: %s: a newer release wrote it, in version %d of the wire, and this one reads up to %d: let that one work here", j.file(run, number), r.Wire, wire.Version)
	}
	return r, nil
}

// Steps returns the records of a run, in order. With an error there are those that can be read.
func (j Journal) Steps(run string) ([]Record, error) {
	entries, err := os.ReadDir(j.dir(run))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the journal: %w", err)
	}
	var out []Record
	var failed []error
	for _, e := range entries {
		n, err := strconv.Atoi(strings.TrimSuffix(e.Name(), ".json"))
		if err != nil {
			continue
		}
		r, err := j.read(run, n)
		if err != nil {
			failed = append(failed, err)
			continue
		}
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b Record) int { return a.Step.Number - b.Step.Number })
	return out, errors.Join(failed...)
}

func (j Journal) runs() ([]string, error) {
	entries, err := os.ReadDir(j.Machine.State("journal"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []string
	for _, e := range entries {
		if e.IsDir() {
			out = append(out, e.Name())
		}
	}
	return out, err
}

const keptRuns = 20

// prune forgets all but the runs that were worked on last, whoever's they are, and those that some
// step is open of.
func (j Journal) prune(runs []entry) error {
	slices.SortFunc(runs, func(a, b entry) int { return b.at.Compare(a.at) })
	for i, r := range runs {
		if i < keptRuns || r.open() {
			continue
		}
		if err := os.RemoveAll(j.dir(r.name)); err != nil {
			return err
		}
	}
	return nil
}

// entry is what the journal has of one run.
type entry struct {
	name  string
	run   wire.Run // zero where the name is none that this version gives
	steps []Record
	at    time.Time // when it was last written to
	wrong error     // it cannot be read whole
}

// open says whether a step of the run was cut off, or could not be taken back.
func (e entry) open() bool { return slices.ContainsFunc(e.steps, Record.open) }

// open says whether the step was cut off, or could not be taken back.
func (r Record) open() bool {
	return r.State == wire.Begun || r.State == wire.Held || r.State == wire.Stuck
}

// former says whether an older version made the run, or nobody known here.
func (e entry) former() bool { return e.run == wire.Run{} }

// Names says whether a run can be called so: by this version, or by one before, which gave it a
// number alone.
func Names(run string) bool {
	_, ours := wire.ParseRun(run)
	n, err := strconv.ParseUint(run, 10, 63)
	return ours || err == nil && strconv.FormatUint(n, 10) == run
}

// words names a run of the journal for people, as the service sees it.
func (e entry) words(service string) string {
	switch {
	case e.former():
		return fmt.Sprintf("run %q of an older version, or of nobody known here", e.name)
	case e.run.Service != service:
		return e.run.Words() + " of another service"
	}
	return e.run.Words()
}

// entries are what the journal has of all runs. What cannot be read is none of anybody's concern
// but its own run's.
func (j Journal) entries() ([]entry, error) {
	names, err := j.runs()
	if err != nil {
		return nil, err
	}
	var out []entry
	for _, name := range names {
		e := entry{name: name}
		e.run, _ = wire.ParseRun(name)
		if s, err := os.Stat(j.dir(name)); err == nil {
			e.at = s.ModTime()
		}
		e.steps, e.wrong = j.Steps(name)
		for _, r := range e.steps {
			if r.At.After(e.at) {
				e.at = r.At
			}
		}
		out = append(out, e)
	}
	return out, nil
}
