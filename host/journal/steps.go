package journal

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"northstake/core/plan"
	"northstake/host/rod"
)

// Do records what is there, does the step, and records that it is done.
func (j Journal) Do(ctx context.Context, run string, step plan.Step, say func(string, ...any)) (rod.StepState, error) {
	if old, err := j.read(run, step.Number); err == nil && (old.State == rod.Done || old.State == rod.Begun || old.State == rod.Held) {
		if old.State == rod.Done && old.Step.Digest() == step.Digest() {
			say("done already")
			return rod.Done, nil
		}
		return "", fmt.Errorf("step %d of run %s is in the journal as %s already", step.Number, run, old.State)
	}
	w, err := j.Worker(step.Type)
	if err != nil {
		return "", err
	}
	r := Record{Run: run, Step: step, State: rod.Begun}
	hold(j.Machine, step.Number, "before")
	if r.Before, err = w.Before(ctx, job(r, say)); err != nil {
		return "", err
	}
	if err := j.write(r); err != nil {
		return "", err
	}
	hold(j.Machine, step.Number, "begun")
	state, err := w.Do(ctx, job(r, say), r.Before)
	if err != nil {
		// What cannot be taken back alone goes with the run, which is taken back whole.
		if back := j.back(context.WithoutCancel(ctx), r, say); back != nil {
			say("the step is not taken back yet: %v", back)
		}
		return "", err
	}
	hold(j.Machine, step.Number, "worked")
	r.State = state
	if err := j.write(r); err != nil {
		return "", err
	}
	hold(j.Machine, step.Number, "done")
	return state, nil
}

func (j Journal) back(ctx context.Context, r Record, say func(string, ...any)) error {
	w, err := j.Worker(r.Step.Type)
	if err != nil {
		return err
	}
	if err := w.Back(ctx, job(r, say), r.Before); err != nil {
		return fmt.Errorf("take back %q: %w", r.Step.Text, err)
	}
	r.State = rod.Back
	return j.write(r)
}

// Back takes back the steps of a run, the last first. One that cannot be taken back is
// tried again when the others are: a service starts once the file is back that it stumbled
// over.
func (j Journal) Back(ctx context.Context, run string, say func(string, ...any)) error {
	steps, err := j.Steps(run)
	if err != nil {
		return err
	}
	slices.Reverse(steps)
	left, err := j.backEach(ctx, steps, say)
	for err != nil && len(left) > 0 {
		before := len(left)
		if left, err = j.backEach(ctx, left, say); len(left) == before {
			return err
		}
	}
	return j.again(ctx, steps, say)
}

// again has what runs take notice of what is back. A step that failed was taken back before the
// others were.
func (j Journal) again(ctx context.Context, steps []Record, say func(string, ...any)) error {
	var failed []error
	for _, r := range steps {
		w, err := j.Worker(r.Step.Type)
		if err == nil {
			err = w.Again(ctx, job(r, say), r.Before)
		}
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

// backEach takes back steps in the order given, and returns those that could not be.
func (j Journal) backEach(ctx context.Context, steps []Record, say func(string, ...any)) (left []Record, err error) {
	var failed []error
	for _, r := range steps {
		if r.State == rod.Back {
			continue
		}
		say("taking back: %s", r.Step.Text)
		if err := j.back(ctx, r, say); err != nil {
			failed, left = append(failed, err), append(left, r) // the others go back all the same
		}
	}
	return left, errors.Join(failed...)
}

// Recover takes back the steps that were cut off, of any run: one that was
// begun and never recorded as done, and one that was held and not confirmed. It returns
// what was done, and what was left and why.
func (j Journal) Recover(ctx context.Context) ([]string, error) {
	runs, err := j.runs()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, run := range runs {
		steps, err := j.Steps(run)
		if err != nil {
			return out, err
		}
		slices.Reverse(steps)
		for _, r := range steps {
			if r.State != rod.Begun && r.State != rod.Held {
				continue
			}
			var said []string
			if err := j.back(ctx, r, func(format string, args ...any) { said = append(said, fmt.Sprintf(format, args...)) }); err != nil {
				return out, err
			}
			out = append(append(out, fmt.Sprintf("run %s was cut off at step %d; taken back: %s", run, r.Step.Number, r.Step.Text)), said...)
		}
	}
	return out, j.prune()
}

// Close lets go of what the steps of a run that has ended well kept for taking them back.
func (j Journal) Close(ctx context.Context, run string) error {
	steps, err := j.Steps(run)
	if err != nil {
		return err
	}
	var failed []error
	for _, r := range steps {
		w, err := j.Worker(r.Step.Type)
		if err == nil && r.State == rod.Done {
			err = w.Close(ctx, job(r, func(string, ...any) {}), r.Before)
		}
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

// Confirm keeps a held step for good.
func (j Journal) Confirm(ctx context.Context, run string, number int) error {
	r, err := j.read(run, number)
	if err != nil {
		return err
	}
	if r.State != rod.Held {
		return &rod.Fault{What: fmt.Sprintf("step %d of run %s is %s, not held", number, run, r.State), Fix: "plan the host again"}
	}
	w, err := j.Worker(r.Step.Type)
	if err != nil {
		return err
	}
	c, ok := w.(Confirmer)
	if !ok {
		return fmt.Errorf("a step of type %s needs no confirmation", r.Step.Type)
	}
	if err := c.Confirm(ctx, job(r, func(string, ...any) {})); err != nil {
		return err
	}
	r.State = rod.Done
	return j.write(r)
}

// Revert is what a timer on the host does with a step that nobody confirmed.
func (j Journal) Revert(ctx context.Context, run string, number int) error {
	r, err := j.read(run, number)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	// A step that was cut off between its work and its record is taken back too.
	if r.State != rod.Held && r.State != rod.Begun {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	return j.back(ctx, r, func(string, ...any) {})
}
