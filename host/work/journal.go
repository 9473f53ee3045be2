package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"northstake/core/plan"
	"northstake/host/platform"
	"northstake/host/rod"
)

// record is one step in the journal: a file for each, flushed to disk before
// the work that it announces begins.
type record struct {
	Run    string          `json:"run"`
	Step   plan.Step       `json:"step"`
	State  rod.StepState   `json:"state"`
	Before json.RawMessage `json:"before"`
	At     time.Time       `json:"at"`
}

// journal is the host's record of runs, below the state directory.
type journal struct {
	m *platform.Machine
}

func (j journal) dir(run string) string { return j.m.State("journal", run) }

func (j journal) file(run string, number int) string {
	return filepath.Join(j.dir(run), fmt.Sprintf("%04d.json", number))
}

func (j journal) write(r record) error {
	r.At = time.Now().UTC()
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(j.dir(r.Run), 0o700); err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	if err := writeAtomically(j.file(r.Run, r.Step.Number), b, 0o600); err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	return nil
}

func (j journal) read(run string, number int) (record, error) {
	var r record
	b, err := os.ReadFile(j.file(run, number))
	if err != nil {
		return r, err
	}
	if err := json.Unmarshal(b, &r); err != nil {
		return r, fmt.Errorf("read the journal: %s: %w", j.file(run, number), err)
	}
	return r, nil
}

// steps returns the records of a run, in order.
func (j journal) steps(run string) ([]record, error) {
	entries, err := os.ReadDir(j.dir(run))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the journal: %w", err)
	}
	var out []record
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

func (j journal) runs() ([]string, error) {
	entries, err := os.ReadDir(j.m.State("journal"))
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
func (j journal) prune() error {
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

// lock is the host's lock: held by one run of one rod at a time, and let go by
// the kernel when the rod ends, however it ends.
type lock struct {
	file   *os.File
	run    string
	waited time.Duration
}

// takeLock waits for another rod to end: a while for one of another run, and longer
// for one of this run, which has lost its line and ends the step that it is at.
func takeLock(ctx context.Context, m *platform.Machine, run string) (*lock, error) {
	if err := os.MkdirAll(m.State(), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(m.State("lock"), os.O_CREATE|os.O_RDWR|syscall.O_CLOEXEC, 0o600)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	for {
		err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if err == nil {
			break
		}
		b, _ := os.ReadFile(m.State("lock"))
		holder := strings.TrimSpace(string(b))
		limit, fault := lockWait, &rod.Fault{What: "another run works on this host: " + holder, Fix: "wait until it has ended"}
		if strings.HasPrefix(holder, "run "+run+",") {
			limit, fault = ownLockWait, &rod.Fault{What: fmt.Sprintf("the step that was under way has not ended in %s", ownLockWait), Fix: "look on the host what it waits for, and resume the run when it has ended"}
		}
		if time.Since(began) > limit || ctx.Err() != nil {
			f.Close()
			return nil, fault
		}
		time.Sleep(50 * time.Millisecond)
	}
	text := fmt.Sprintf("run %s, since %s\n", run, time.Now().UTC().Format(time.RFC3339))
	if err := f.Truncate(0); err != nil {
		f.Close()
		return nil, err
	}
	if _, err := f.WriteAt([]byte(text), 0); err != nil {
		f.Close()
		return nil, err
	}
	return &lock{f, run, time.Since(began)}, nil
}

var (
	lockWait    = 15 * time.Second
	ownLockWait = 10 * time.Minute // as long as a large installation may take
)

func (l *lock) release() { l.file.Close() }

// hold stops at a boundary of the journal while the host's hold file names it,
// as "STEP BOUNDARY"; failures are rehearsed with it in the lab.
func hold(m *platform.Machine, number int, boundary string) {
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
