package journal

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"northstake/core/wire"
	"northstake/host/system"
)

// Do records what is there, does the step, and records that it is done.
func (j Journal) Do(ctx context.Context, run string, step wire.Step, say func(string, ...any)) (wire.StepState, error) {
	release, err := j.alone(ctx, ownLockWait)
	if err != nil {
		return "", err
	}
	defer release()
	if err := j.watch(ctx, run, say); err != nil { // before the first thing changes
		return "", err
	}
	w, err := j.Worker(step.Type)
	if err != nil {
		return "", err
	}
	whole := step.Work
	if d, is := w.(Discreet); is {
		if step.Work, err = d.Kept(whole); err != nil {
			return "", err
		}
	}
	if done, err := j.doneAlready(run, step); err != nil {
		return "", err
	} else if done {
		say("done already")
		return wire.Done, nil
	}
	r := Record{Run: run, Step: step, State: wire.Begun}
	doing := job(r, say)
	doing.Work = whole
	j.at(step.Number, "before")
	if r.Before, err = w.Before(ctx, doing); err != nil {
		return "", err
	}
	if err := j.write(r); err != nil {
		return "", err
	}
	j.at(step.Number, "begun")
	if step.Whole { // the timer stands before the first thing changes
		if err := Arm(ctx, j.Machine, job(r, say), wire.RevertAfter); err != nil {
			return "", err
		}
	}
	if step.Returns {
		if err := confirmAfterBoot(j.Machine, run); err != nil {
			return "", err
		}
	}
	state, err := w.Do(ctx, doing, r.Before)
	if err != nil {
		// What cannot be taken back alone goes with the run, which is taken back whole.
		if back := j.back(context.WithoutCancel(ctx), r, say); back != nil {
			say("the step is not taken back yet: %v", back)
		}
		return "", err
	}
	j.at(step.Number, "worked")
	if step.Whole {
		state = wire.Held
	}
	r.State = state
	if err := j.write(r); err != nil {
		return "", err
	}
	j.at(step.Number, "done")
	return state, nil
}

// doneAlready says whether the journal has a step as done. One that it has otherwise, or of which it has another,
// is an error.
func (j Journal) doneAlready(run string, step wire.Step) (bool, error) {
	old, err := j.read(run, step.Number)
	if err != nil || old.State != wire.Done && old.State != wire.Begun && old.State != wire.Held {
		return false, nil
	}
	if old.State == wire.Done && old.Step.Digest() == step.Digest() {
		return true, nil
	}
	return false, fmt.Errorf("step %d of run %s is in the journal as %s already", step.Number, run, old.State)
}

func (j Journal) back(ctx context.Context, r Record, say func(string, ...any)) error {
	w, err := j.Worker(r.Step.Type)
	if err != nil {
		return err
	}
	if err := w.Back(ctx, job(r, say), r.Before); err != nil {
		return fmt.Errorf("take back %q: %w", r.Step.Text, err)
	}
	if r.Step.Whole {
		DisarmTimer(ctx, j.Machine, job(r, say))
	}
	was := r.State
	r.State = wire.Back
	if err := j.write(r); err != nil || was != wire.Stuck {
		return err
	}
	return j.loose(r)
}

// Back takes back the steps of a run, the last first. One that cannot be taken back is
// tried again when the others are: a service starts once the file is back that it stumbled
// over.
func (j Journal) Back(ctx context.Context, run string, say func(string, ...any)) error {
	release, err := j.alone(ctx, ownLockWait)
	if err != nil {
		return err
	}
	defer release()
	return j.backAll(ctx, run, say)
}

func (j Journal) backAll(ctx context.Context, run string, say func(string, ...any)) error {
	steps, err := j.Steps(run)
	if err != nil {
		return err
	}
	slices.Reverse(steps)
	left, err := j.backEach(ctx, steps, say)
	for err != nil && len(left) > 0 {
		before, first := len(left), err
		if left, err = j.backEach(ctx, left, say); len(left) == before {
			if first.Error() != err.Error() {
				err = fmt.Errorf("%w; before the others were back: %w", err, first)
			}
			return errors.Join(err, j.allStuck(left, err), dropBootUnits(ctx, j.Machine, run), j.dropLine(ctx, run))
		}
	}
	return errors.Join(j.again(ctx, steps, say), dropBootUnits(ctx, j.Machine, run), j.dropLine(ctx, run))
}

func (j Journal) allStuck(steps []Record, why error) error {
	var failed []error
	for _, r := range steps {
		failed = append(failed, j.stuck(r, why))
	}
	return errors.Join(failed...)
}

// again has what runs take notice of what is back. A step that failed was taken back before the
// others were.
func (j Journal) again(ctx context.Context, steps []Record, say func(string, ...any)) error {
	var failed []error
	for _, r := range steps {
		w, err := j.Worker(r.Step.Type)
		if err == nil {
			err = w.Tell(ctx, job(r, say), r.Before)
		}
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

// backEach takes back steps in the order given, and returns those that could not be.
func (j Journal) backEach(ctx context.Context, steps []Record, say func(string, ...any)) (left []Record, err error) {
	var failed []error
	for _, r := range steps {
		if r.State == wire.Back || r.State == wire.Dismissed {
			continue
		}
		say("taking back: %s", r.Step.Text)
		if err := j.back(ctx, r, say); err != nil {
			failed, left = append(failed, err), append(left, r) // the others go back all the same
		}
	}
	return left, errors.Join(failed...)
}

// stuckMarks is the directory with a mark for each step that may be stuck, so that a survey need not
// read the whole journal.
const stuckMarks = "stuck"

func stuckMark(m *system.Machine, r Record) string {
	return m.State(stuckMarks, fmt.Sprintf("%s-%d", r.Run, r.Step.Number))
}

// loose takes the mark of a step away that is stuck no more.
func (j Journal) loose(r Record) error {
	if err := os.Remove(stuckMark(j.Machine, r)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Stuck are the steps that could not be taken back.
func (j Journal) Stuck() ([]wire.StuckStep, error) {
	marks, err := os.ReadDir(j.Machine.State(stuckMarks))
	if errors.Is(err, fs.ErrNotExist) || len(marks) == 0 && err == nil {
		return nil, nil // and the journal is not read for it
	}
	if err != nil {
		return nil, err
	}
	var out []wire.StuckStep
	for _, m := range marks {
		run, n, _ := strings.Cut(m.Name(), "-")
		number, err := strconv.Atoi(n)
		if err != nil {
			continue
		}
		if r, err := j.read(run, number); err == nil && r.State == wire.Stuck {
			out = append(out, wire.StuckStep{Run: run, Number: number, Type: r.Step.Type, Name: r.Step.Name, Stakes: r.Step.Addresses(), Paths: r.Step.Paths(), Text: r.Step.Text, Why: r.Why})
		}
	}
	return out, nil
}

// HeldUp is why steps cannot be done, nil for nothing: since they were planned one could not be taken
// back that has to do with the same things.
func (j Journal) HeldUp(run string, steps []wire.Step) error {
	own, _ := wire.ParseRun(run)
	all, err := j.Stuck()
	if err != nil {
		return err
	}
	for _, was := range all {
		name, _ := wire.ParseRun(was.Run)
		for _, s := range steps {
			if name.Service == own.Service && s.Touches(was) {
				return &wire.Fault{What: fmt.Sprintf("%q has to do with what step %d of %s did, which could not be taken back: %s", s.Text, was.Number, name.Words(), was.Why), Fix: "plan again"}
			}
		}
	}
	return nil
}

// List is what the journal has, the newest run first, as the service sees it.
func (j Journal) List(service string) ([]wire.JournalStep, error) {
	all, err := j.entries()
	if err != nil {
		return nil, err
	}
	slices.SortFunc(all, func(a, b entry) int { return b.at.Compare(a.at) })
	out := []wire.JournalStep{}
	for _, e := range all {
		foreign := e.run.Service != service
		if e.wrong != nil {
			out = append(out, wire.JournalStep{Run: e.name, Foreign: foreign, Why: e.wrong.Error(), At: e.at})
		}
		for _, r := range e.steps {
			out = append(out, wire.JournalStep{Run: e.name, Foreign: foreign, Number: r.Step.Number, Address: r.Step.Address, Text: r.Step.Text, State: r.State, Why: r.Why, At: r.At})
		}
	}
	return out, nil
}

// Dismiss has a step that could not be taken back hold up nothing any more, and one that an older
// version was cut off in be told of no more. It stays in the journal with the reason, and is not
// taken back.
func (j Journal) Dismiss(run string, number int, reason string) error {
	r, err := j.read(run, number)
	if errors.Is(err, fs.ErrNotExist) {
		return &wire.Fault{What: "the journal of this host has no such step", Fix: "northstake journal lists what it has"}
	}
	if err != nil {
		return err
	}
	switch _, ours := wire.ParseRun(run); {
	case r.State == wire.Stuck:
		reason += "; it could not be taken back: " + r.Why
	case !ours && r.open():
		reason += "; it was cut off"
	default:
		return &wire.Fault{What: fmt.Sprintf("the step is %s, and holds up nothing", r.State), Fix: "only a step that could not be taken back is dismissed, or one that an older version was cut off in"}
	}
	r.State, r.Why = wire.Dismissed, reason
	if err := j.write(r); err != nil {
		return err
	}
	return j.loose(r)
}

// Close lets go of what the steps of a run that has ended well kept for taking them back.
func (j Journal) Close(ctx context.Context, run string) error {
	if err := errors.Join(dropBootUnits(ctx, j.Machine, run), j.dropLine(ctx, run)); err != nil {
		return err
	}
	steps, err := j.Steps(run)
	if err != nil {
		return err
	}
	var failed []error
	for _, r := range steps {
		w, err := j.Worker(r.Step.Type)
		if err == nil && r.State == wire.Done {
			err = w.Close(ctx, job(r, func(string, ...any) {}), r.Before)
		}
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

// Confirm keeps a held step for good.
func (j Journal) Confirm(ctx context.Context, run string, number int) error {
	release, err := j.alone(ctx, ownLockWait)
	if err != nil {
		return err
	}
	defer release()
	r, err := j.read(run, number)
	if err != nil {
		return err
	}
	if r.State != wire.Held {
		return &wire.Fault{What: fmt.Sprintf("step %d of run %s is %s, not held", number, run, r.State), Fix: "plan the host again"}
	}
	w, err := j.Worker(r.Step.Type)
	if err != nil {
		return err
	}
	c, ok := w.(Confirmer)
	if !ok && !r.Step.Whole {
		return fmt.Errorf("a step of type %s needs no confirmation", r.Step.Type)
	}
	if ok {
		if err := c.Confirm(ctx, job(r, func(string, ...any) {})); err != nil {
			return err
		}
	}
	if r.Step.Whole {
		Disarm(ctx, j.Machine, job(r, func(string, ...any) {}))
	}
	r.State = wire.Done
	return j.write(r)
}

// confirmTime is how long there is to confirm a step that is held.
var confirmTime = wire.RevertAfter * time.Second

// Revert is what a timer on the host does with a step that nobody confirmed.
func (j Journal) Revert(ctx context.Context, run string, number int) error {
	var r Record
	for waited := false; ; waited = true {
		release, err := j.alone(ctx, revertWait)
		if err == nil {
			defer release()
		}
		if r, err = j.read(run, number); errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		// A step that was cut off between its work and its record is taken back too.
		if r.State != wire.Held && r.State != wire.Begun {
			return nil
		}
		// One that took long has its time to be confirmed from when it was done.
		left := confirmTime - time.Since(r.At)
		if r.State != wire.Held || left <= 0 || waited || release == nil {
			break
		}
		release()
		if err := system.Pause(ctx, left); err != nil { // its time is not over
			return err
		}
	}
	if r.Step.Whole { // with what came before it: a service takes in again what lay there
		ctx, cancel := context.WithTimeout(ctx, revertWait)
		defer cancel()
		return j.backAll(ctx, run, func(string, ...any) {})
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	return j.back(ctx, r, func(string, ...any) {})
}
