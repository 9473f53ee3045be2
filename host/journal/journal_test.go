package journal

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"northstake/core/wire"
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

func (w marker) Do(_ context.Context, j Job, _ json.RawMessage) (wire.StepState, error) {
	if j.Name == "fails" {
		_ = os.WriteFile(w.m.Path(wire.Path("/"+j.Name)), nil, 0o600)
		return "", errors.New("it fails")
	}
	return wire.Done, os.WriteFile(w.m.Path(wire.Path("/"+j.Name)), nil, 0o600)
}

func (w marker) Back(_ context.Context, j Job, _ json.RawMessage) error {
	if err := os.Remove(w.m.Path(wire.Path("/" + j.Name))); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Tell leaves word of which files of the steps are still there.
func (w marker) Tell(_ context.Context, j Job, _ json.RawMessage) error {
	left, err := filepath.Glob(w.m.Path("/[a-z]*"))
	for i := range left {
		left[i] = filepath.Base(left[i])
	}
	return errors.Join(err, os.WriteFile(w.m.Path(wire.Path("/var/again."+j.Name)), []byte(strings.Join(left, " ")), 0o600))
}

func (w marker) Close(_ context.Context, j Job, _ json.RawMessage) error {
	return os.WriteFile(w.m.Path(wire.Path("/"+j.Name+".closed")), nil, 0o600)
}

func folder(t *testing.T) (Journal, *system.Machine) {
	m := systemtest.Folder(t)
	return Journal{Machine: m, Worker: func(typ string) (Worker, error) {
		if typ != "marker" {
			return nil, errors.New("there is no such type")
		}
		return marker{m}, nil
	}}, m
}

func step(number int, name string) wire.Step {
	return wire.Step{Number: number, Type: "marker", Name: name, Address: "quay1/marker/" + name, Move: wire.Move{Text: "make " + name}}
}

func silent(string, ...any) {}

// A step is done once, one that fails leaves nothing, and a run goes back from its
// last step to its first.
func TestStepsAreDoneOnceAndTakenBack(t *testing.T) {
	j, m := folder(t)
	ctx := context.Background()
	for number, name := range []string{"ebb", "flood"} {
		for range 2 {
			if state, err := j.Do(ctx, "5", step(number+1, name), silent); err != nil || state != wire.Done {
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
		if left, err := m.Read(wire.Path("/var/again." + name)); err != nil || strings.Contains(string(left), "ebb") || strings.Contains(string(left), "flood") {
			t.Errorf("%s takes notice again while %q is still there (%v)", name, left, err)
		}
	}
}

const service = "0123456789ab"

// runs of one service, and one of another
func own(number int64) string {
	return wire.Run{Number: number, Service: service, Once: fmt.Sprintf("%012x", number)}.String()
}

var theirs = wire.Run{Number: 3, Service: "ba9876543210", Once: "000000000001"}.String()

// A step that was begun and never ended is taken back by the next run, whichever
// that is.
func TestAnInterruptedStepIsTakenBack(t *testing.T) {
	j, m := folder(t)
	if err := j.write(Record{Run: own(3), Step: step(1, "half"), State: wire.Begun}); err != nil {
		t.Fatal(err)
	}
	systemtest.Put(t, m, "/half", "")
	said, err := j.Recover(context.Background(), own(4))
	if err != nil || len(said) != 1 || !strings.Contains(said[0], "run 3 was cut off at step 1") {
		t.Fatalf("%q, %v", said, err)
	}
	if m.Exists("/half") {
		t.Error("the half-done step is still there")
	}
	if said, err := j.Recover(context.Background(), own(4)); err != nil || len(said) != 0 {
		t.Errorf("a second time: %q, %v", said, err)
	}
}

// What another service left, or an older version, is left alone: a number that comes again, after
// the database was put back or with a second service, is another run.
func TestJournalsOfOthersAreLeftAlone(t *testing.T) {
	j, m := folder(t)
	for i, name := range []string{theirs, "3", "4-before"} {
		if err := j.write(Record{Run: name, Step: step(1, fmt.Sprint("half", i)), State: wire.Begun}); err != nil {
			t.Fatal(err)
		}
		systemtest.Put(t, m, fmt.Sprint("/half", i), "")
	}
	said, err := j.Recover(context.Background(), own(3))
	if err != nil || len(said) != 3 {
		t.Fatalf("%q, %v", said, err)
	}
	for _, line := range said {
		if _, advice, _ := strings.Cut(line, "was cut off on this host, and is left alone"); (advice != "") != strings.Contains(line, `"3"`) || advice != "" && !strings.Contains(advice, "--dismiss 3/1 --reason TEXT") {
			t.Errorf("it says %q", line)
		}
	}
	if steps, err := j.Steps(own(3)); err != nil || len(steps) > 0 {
		t.Errorf("a run of the same number begins with %+v, %v", steps, err)
	}
	for i := range 3 {
		if !m.Exists(wire.Path(fmt.Sprint("/half", i))) {
			t.Errorf("half%d was taken back", i)
		}
	}
	if err := j.Dismiss("3", 1, "seen to"); err != nil {
		t.Error(err)
	}
	if said, err := j.Recover(context.Background(), own(3)); err != nil || len(said) != 2 || !m.Exists("/half1") {
		t.Errorf("once an older version's is dismissed: %q, %v", said, err)
	}
	list, err := j.List(service)
	if err != nil || len(list) != 3 || !list[0].Foreign {
		t.Errorf("it lists %+v, %v", list, err)
	}
	// Not even one of ours that only ends like a run: what a name says is read whole.
	if _, err := j.Recover(context.Background(), "../"+own(3)); err == nil {
		t.Error("a run has a path for its name")
	}
}

// A journal that cannot be read holds up nobody but its own run.
func TestAnUnreadableJournalHoldsUpNobody(t *testing.T) {
	j, m := folder(t)
	if err := j.write(Record{Run: own(1), Step: step(2, "ebb"), State: wire.Done}); err != nil {
		t.Fatal(err)
	}
	systemtest.Put(t, m, string(m.StateDir+"/journal/")+own(1)+"/0001.json", "{")
	systemtest.Put(t, m, string(m.StateDir+"/journal/nobody/0001.json"), "\x00")
	systemtest.Put(t, m, string(m.StateDir+"/journal/file"), "")
	said, err := j.Recover(context.Background(), own(2))
	if err != nil || len(said) != 2 || !strings.Contains(strings.Join(said, "\n"), "the journal of run 1 cannot be read whole, and is left alone") {
		t.Errorf("%q, %v", said, err)
	}
	if state, err := j.Do(context.Background(), own(2), step(1, "flood"), silent); err != nil || state != wire.Done {
		t.Errorf("another run: %s, %v", state, err)
	}
	if _, err := j.Steps(own(1)); err == nil {
		t.Error("its own run is not told")
	}
	if list, err := j.List(service); err != nil || len(list) != 4 {
		t.Errorf("it lists %+v, %v", list, err)
	}
}

// What a newer release has written in a journal is not taken for something else, and neither taken back
// nor held up by; what a release before wrote, without a version, is read.
func TestAJournalOfANewerRelease(t *testing.T) {
	j, m := folder(t)
	if err := j.write(Record{Run: own(1), Step: step(1, "ebb"), State: wire.Begun}); err != nil {
		t.Fatal(err)
	}
	path := j.file(own(1), 1)
	written, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	now := fmt.Sprintf(`"wire":%d,`, wire.Version)
	if !strings.Contains(string(written), now) {
		t.Fatalf("the record does not say its version: %s", written)
	}
	for version, want := range map[string]string{"": "", now: "", fmt.Sprintf(`"wire":%d,`, wire.Version+1): "a newer release wrote it"} {
		if err := os.WriteFile(path, []byte(strings.Replace(string(written), now, version, 1)), 0o600); err != nil {
			t.Fatal(err)
		}
		r, err := j.read(own(1), 1)
		if want == "" && (err != nil || r.Step.Address == "") || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("written as %q: %+v, %v", version, r, err)
		}
	}
	if err := os.WriteFile(path, []byte(strings.Replace(string(written), now, fmt.Sprintf(`"wire":%d,`, wire.Version+1), 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	systemtest.Put(t, m, "/ebb", "made by the newer one")
	said, err := j.Recover(context.Background(), own(2))
	if err != nil || len(said) != 1 || !strings.Contains(said[0], "is left alone") || !m.Exists("/ebb") {
		t.Errorf("%q, %v", said, err)
	}
}

// A step that cannot be taken back holds up what has to do with the same things, and nothing else,
// until it can be, or somebody has dismissed it with a reason.
func TestAStepThatCannotBeTakenBack(t *testing.T) {
	j, m := folder(t)
	ctx := context.Background()
	if err := j.write(Record{Run: own(1), Step: step(1, "wreck"), State: wire.Begun}); err != nil {
		t.Fatal(err)
	}
	systemtest.Put(t, m, "/wreck/held", "")   // a directory that is not empty cannot be removed
	for i, number := range []int64{2, 3, 1} { // of another run it is tried once, of its own each time
		said, err := j.Recover(ctx, own(number))
		if err != nil || (len(said) == 1) != (i != 1) || i != 1 && !strings.Contains(said[0], "step 1 of run 1 cannot be taken back") {
			t.Fatalf("%d: %q, %v", i, said, err)
		}
	}
	if err := j.HeldUp(own(3), []wire.Step{step(1, "tide")}); err != nil {
		t.Errorf("it holds up what has nothing to do with it: %v", err)
	}
	if err := j.HeldUp(own(3), []wire.Step{step(1, "tide"), step(2, "wreck")}); err == nil || !strings.Contains(err.Error(), "could not be taken back") {
		t.Errorf("it does not hold up what it has to do with: %v", err)
	}
	for what, c := range map[string]struct {
		run    string
		number int
	}{"another step": {own(1), 2}, "another run": {own(9), 1}, "somebody's": {theirs, 1}} {
		if err := j.Dismiss(c.run, c.number, "mended"); err == nil {
			t.Errorf("%s can be dismissed", what)
		}
	}
	if err := j.Dismiss(own(1), 1, "mended by hand"); err != nil {
		t.Fatal(err)
	}
	if err := j.Dismiss(own(1), 1, "twice"); err == nil {
		t.Error("it can be dismissed twice")
	}
	if said, err := j.Recover(ctx, own(4)); err != nil || len(said) > 0 {
		t.Errorf("dismissed: %q, %v", said, err)
	}
	if err := j.HeldUp(own(4), []wire.Step{step(2, "wreck")}); err != nil {
		t.Errorf("dismissed it holds up: %v", err)
	}
	list, err := j.List(service)
	if err != nil || len(list) != 1 || list[0].State != wire.Dismissed || !strings.HasPrefix(list[0].Why, "mended by hand; it could not be taken back: ") {
		t.Errorf("it lists %+v, %v", list, err)
	}
	if !m.Exists("/wreck/held") {
		t.Error("it was taken back all the same")
	}
	if stuck, err := j.Stuck(); err != nil || len(stuck) > 0 {
		t.Errorf("dismissed it is stuck: %+v, %v", stuck, err)
	}
	// One whose obstacle is gone is taken back when its run is resumed.
	if err := j.stuck(Record{Run: own(5), Step: step(1, "wreck")}, errors.New("held")); err != nil {
		t.Fatal(err)
	}
	if stuck, err := j.Stuck(); err != nil || len(stuck) != 1 || stuck[0].Run != own(5) || stuck[0].Why != "held" || stuck[0].Stakes[0] != "quay1/marker/wreck" {
		t.Errorf("stuck are %+v, %v", stuck, err)
	}
	if err := os.Remove(m.Path("/wreck/held")); err != nil {
		t.Fatal(err)
	}
	if said, err := j.Recover(ctx, own(5)); err != nil || len(said) != 1 || m.Exists("/wreck") {
		t.Errorf("once it can be taken back: %q, %v", said, err)
	}
	if stuck, err := j.Stuck(); err != nil || len(stuck) > 0 {
		t.Errorf("and then it is stuck: %+v, %v", stuck, err)
	}
}

// The journals that were written to last are kept, whatever their numbers; one that is open stays.
func TestJournalsGoByTime(t *testing.T) {
	j, m := folder(t)
	old := time.Now().Add(-time.Hour)
	dated := func(name string, state wire.StepState, at time.Time) {
		t.Helper()
		b, err := json.Marshal(Record{Run: name, Step: step(1, name), State: state, At: at})
		if err != nil {
			t.Fatal(err)
		}
		file := string(m.StateDir+"/journal/") + name
		systemtest.Put(t, m, file+"/0001.json", string(b))
		if err := os.Chtimes(m.Path(wire.Path(file)), at, at); err != nil {
			t.Fatal(err)
		}
	}
	dated(own(1), wire.Done, time.Now()) // of a database that began anew
	dated(own(500), wire.Stuck, old)
	systemtest.Put(t, m, "/"+own(500)+"/held", "") // and so it stays
	dated(theirs, wire.Begun, old)
	for i := range int64(30) {
		dated(own(600+i), wire.Done, old.Add(time.Duration(i+1)*time.Minute))
	}
	if _, err := j.Recover(context.Background(), own(2)); err != nil {
		t.Fatal(err)
	}
	left, err := j.runs()
	if err != nil || len(left) != keptRuns+2 {
		t.Errorf("%d are left, %v", len(left), err)
	}
	for _, name := range []string{own(1), own(500), theirs, own(629)} {
		if !slices.Contains(left, name) {
			t.Errorf("%s is gone", name)
		}
	}
}

// What takes a step back at its time limit waits until the step has ended.
func TestTakingBackWaitsForTheStep(t *testing.T) {
	j, m := folder(t)
	r := Record{Run: own(1), Step: step(1, "half"), State: wire.Begun}
	if err := j.write(r); err != nil {
		t.Fatal(err)
	}
	systemtest.Put(t, m, "/half", "")
	release, err := j.alone(context.Background(), 0)
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan error)
	go func() { done <- j.Revert(context.Background(), own(1), 1) }()
	time.Sleep(200 * time.Millisecond)
	if !m.Exists("/half") {
		t.Error("it was taken back beside the step")
	}
	r.State = wire.Done // and so it has nothing to do
	if err := j.write(r); err != nil {
		t.Fatal(err)
	}
	release()
	if err := <-done; err != nil || !m.Exists("/half") {
		t.Errorf("a step that ended well was taken back: %v", err)
	}
}

// What waits for the time of a step that is held ends when it is told to, and has taken nothing back.
func TestATimeLimitThatIsEndedTakesNothingBack(t *testing.T) {
	j, m := folder(t)
	held := Record{Run: own(1), Step: step(1, "half"), State: wire.Held}
	if err := j.write(held); err != nil {
		t.Fatal(err)
	}
	systemtest.Put(t, m, "/half", "")
	ctx, end := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- j.Revert(ctx, own(1), 1) }()
	time.Sleep(100 * time.Millisecond)
	end()
	select {
	case err := <-done:
		if !errors.Is(err, context.Canceled) || !m.Exists("/half") {
			t.Errorf("it ended with %v, and has taken the step back: %v", err, !m.Exists("/half"))
		}
	case <-time.After(20 * time.Second):
		t.Fatal("it waits although it was told to end")
	}
	if r, err := j.read(own(1), 1); err != nil || r.State != wire.Held {
		t.Errorf("the step is %s, %v", r.State, err)
	}
}

func FuzzParseRun(f *testing.F) {
	f.Add(own(5))
	f.Add("5")
	f.Add("../5x0123456789abx0123456789ab")
	f.Fuzz(func(t *testing.T, name string) {
		if run, ok := wire.ParseRun(name); ok && (run.String() != name || strings.ContainsAny(name, "/. \n")) {
			t.Errorf("%q is %+v", name, run)
		}
	})
}
