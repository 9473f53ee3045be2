package journal

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"northstake/core/plan"
	"northstake/core/stake"
	"northstake/host/rod"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

func TestTheHostsLockIsHeldOnce(t *testing.T) {
	m := systemtest.Folder(t)
	l, err := Take(context.Background(), m, "1")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Take(ctx, m, "2"); err == nil || !strings.Contains(err.Error(), "run 1") {
		t.Errorf("a second run gets the lock: %v", err)
	}
	l.Release()
	if l, err = Take(ctx, m, "2"); err != nil {
		t.Fatal(err)
	}
	// A rod that has lost its line ends its step; its own run waits longer than others.
	defer func(was time.Duration) { lockWait = was }(lockWait)
	lockWait = 10 * time.Millisecond
	if _, err := Take(context.Background(), m, "3"); err == nil || !strings.Contains(err.Error(), "run 2") {
		t.Errorf("a third run gets the lock: %v", err)
	}
	first := l
	time.AfterFunc(300*time.Millisecond, first.Release)
	if l, err = Take(context.Background(), m, "2"); err != nil {
		t.Fatalf("the same run does not wait: %v", err)
	}
	if l.Waited < 200*time.Millisecond {
		t.Errorf("it waited %s", l.Waited)
	}
	l.Release()
}

// marker is a worker of which each step makes a file: all that a journal knows of it
// is how it is done and undone.
type marker struct{ m *system.Machine }

func (w marker) Before(context.Context, Job) (json.RawMessage, error) {
	return json.RawMessage("{}"), nil
}

func (w marker) Do(_ context.Context, j Job, _ json.RawMessage) (rod.StepState, error) {
	if j.Name == "fails" {
		_ = os.WriteFile(w.m.Path("/"+j.Name), nil, 0o600)
		return "", errors.New("it fails")
	}
	return rod.Done, os.WriteFile(w.m.Path("/"+j.Name), nil, 0o600)
}

func (w marker) Back(_ context.Context, j Job, _ json.RawMessage) error {
	if err := os.Remove(w.m.Path("/" + j.Name)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Again leaves word of which files of the steps are still there.
func (w marker) Again(_ context.Context, j Job, _ json.RawMessage) error {
	left, err := filepath.Glob(w.m.Path("/[a-z]*"))
	for i := range left {
		left[i] = filepath.Base(left[i])
	}
	return errors.Join(err, os.WriteFile(w.m.Path("/var/again."+j.Name), []byte(strings.Join(left, " ")), 0o600))
}

func (w marker) Close(_ context.Context, j Job, _ json.RawMessage) error {
	return os.WriteFile(w.m.Path("/"+j.Name+".closed"), nil, 0o600)
}

func folder(t *testing.T) (Journal, *system.Machine) {
	m := systemtest.Folder(t)
	return Journal{m, func(typ string) (Worker, error) {
		if typ != "marker" {
			return nil, errors.New("there is no such type")
		}
		return marker{m}, nil
	}}, m
}

func step(number int, name string) plan.Step {
	return plan.Step{Number: number, Type: "marker", Name: name, Address: "quay1/marker/" + name, Move: stake.Move{Text: "make " + name}}
}

func silent(string, ...any) {}

// A step is done once, one that fails leaves nothing, and a run goes back from its
// last step to its first.
func TestStepsAreDoneOnceAndTakenBack(t *testing.T) {
	j, m := folder(t)
	ctx := context.Background()
	for number, name := range []string{"ebb", "flood"} {
		for range 2 {
			if state, err := j.Do(ctx, "5", step(number+1, name), silent); err != nil || state != rod.Done {
				t.Fatal(state, err)
			}
		}
	}
	if _, err := j.Do(ctx, "5", step(3, "fails"), silent); err == nil || m.Exists("/fails") {
		t.Errorf("a step that fails: %v", err)
	}
	if _, err := j.Do(ctx, "5", step(1, "another"), silent); err == nil || m.Exists("/another") {
		t.Errorf("another step under the number of one that was done: %v", err)
	}
	var said []string
	if err := j.Back(ctx, "5", func(f string, a ...any) { said = append(said, fmt.Sprintf(f, a...)) }); err != nil {
		t.Fatal(err)
	}
	if m.Exists("/ebb") || m.Exists("/flood") || fmt.Sprint(said) != "[taking back: make flood taking back: make ebb]" {
		t.Errorf("taken back: %q", said)
	}
	for _, name := range []string{"ebb", "flood", "fails"} {
		if left, err := m.Read("/var/again." + name); err != nil || strings.Contains(string(left), "ebb") || strings.Contains(string(left), "flood") {
			t.Errorf("%s takes notice again while %q is still there (%v)", name, left, err)
		}
	}
}

// A step that was begun and never ended is taken back by the next run, whichever
// that is.
func TestAnInterruptedStepIsTakenBack(t *testing.T) {
	j, m := folder(t)
	if err := j.write(Record{Run: "3", Step: step(1, "half"), State: rod.Begun}); err != nil {
		t.Fatal(err)
	}
	systemtest.Put(t, m, "/half", "")
	said, err := j.Recover(context.Background())
	if err != nil || len(said) != 1 || !strings.Contains(said[0], "run 3 was cut off at step 1") {
		t.Fatalf("%q, %v", said, err)
	}
	if m.Exists("/half") {
		t.Error("the half-done step is still there")
	}
	if said, err := j.Recover(context.Background()); err != nil || len(said) != 0 {
		t.Errorf("a second time: %q, %v", said, err)
	}
}
