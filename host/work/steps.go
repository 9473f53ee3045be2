package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"northstake/core/plan"
	"northstake/host/platform"
	"northstake/host/rod"
)

func job(r record, say func(string, ...any)) Job {
	return Job{Run: r.Run, Number: r.Step.Number, Name: r.Step.Name, Work: r.Step.Work, Say: say}
}

// doStep records what is there, does the step, and records that it is done.
func doStep(ctx context.Context, m *platform.Machine, run string, step plan.Step, say func(string, ...any)) (rod.StepState, error) {
	j := journal{m}
	if old, err := j.read(run, step.Number); err == nil && (old.State == rod.Done || old.State == rod.Begun || old.State == rod.Held) {
		if old.State == rod.Done && old.Step.Digest() == step.Digest() {
			say("done already")
			return rod.Done, nil
		}
		return "", fmt.Errorf("step %d of run %s is in the journal as %s already", step.Number, run, old.State)
	}
	w, err := workerOf(step.Type)
	if err != nil {
		return "", err
	}
	r := record{Run: run, Step: step, State: rod.Begun}
	hold(m, step.Number, "before")
	if r.Before, err = w.Before(ctx, m, job(r, say)); err != nil {
		return "", err
	}
	if err := j.write(r); err != nil {
		return "", err
	}
	hold(m, step.Number, "begun")
	state, err := w.Do(ctx, m, job(r, say), r.Before)
	if err != nil {
		if back := backStep(context.WithoutCancel(ctx), m, r, say); back != nil {
			return "", errors.Join(err, fmt.Errorf("and taking the step back failed too: %w", back))
		}
		return "", err
	}
	hold(m, step.Number, "worked")
	r.State = state
	if err := j.write(r); err != nil {
		return "", err
	}
	hold(m, step.Number, "done")
	return state, nil
}

func backStep(ctx context.Context, m *platform.Machine, r record, say func(string, ...any)) error {
	w, err := workerOf(r.Step.Type)
	if err != nil {
		return err
	}
	if err := w.Back(ctx, m, job(r, say), r.Before); err != nil {
		return fmt.Errorf("take back %q: %w", r.Step.Text, err)
	}
	r.State = rod.Back
	return journal{m}.write(r)
}

// backRun takes back the steps of a run, the last first.
func backRun(ctx context.Context, m *platform.Machine, run string, say func(string, ...any)) error {
	steps, err := journal{m}.steps(run)
	if err != nil {
		return err
	}
	var failed []error
	for i := len(steps) - 1; i >= 0; i-- {
		r := steps[i]
		if r.State == rod.Back {
			continue
		}
		say("taking back: %s", r.Step.Text)
		if err := backStep(ctx, m, r, say); err != nil {
			failed = append(failed, err) // the others go back all the same
		}
	}
	return errors.Join(failed...)
}

// preflight asks the steps of a run whether they would be refused.
func preflight(ctx context.Context, m *platform.Machine, run string, steps []plan.Step) error {
	for _, s := range steps {
		w, err := workerOf(s.Type)
		if err != nil {
			return err
		}
		p, ok := w.(Preflighter)
		if !ok {
			continue
		}
		if err := p.Preflight(ctx, m, job(record{Run: run, Step: s}, func(string, ...any) {})); err != nil {
			return err
		}
	}
	return nil
}

// recover takes back the steps that were cut off, of any run: one that was
// begun and never recorded as done, and one that was held and not confirmed.
func recoverSteps(ctx context.Context, m *platform.Machine) ([]string, error) {
	j := journal{m}
	runs, err := j.runs()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, run := range runs {
		steps, err := j.steps(run)
		if err != nil {
			return out, err
		}
		for i := len(steps) - 1; i >= 0; i-- {
			r := steps[i]
			if r.State != rod.Begun && r.State != rod.Held {
				continue
			}
			if err := backStep(ctx, m, r, func(string, ...any) {}); err != nil {
				return out, err
			}
			out = append(out, fmt.Sprintf("run %s was cut off at step %d; taken back: %s", run, r.Step.Number, r.Step.Text))
		}
	}
	return out, j.prune()
}

// confirmStep keeps a held step for good.
func confirmStep(ctx context.Context, m *platform.Machine, run string, number int) error {
	j := journal{m}
	r, err := j.read(run, number)
	if err != nil {
		return err
	}
	if r.State != rod.Held {
		return &rod.Fault{What: fmt.Sprintf("step %d of run %s is %s, not held", number, run, r.State), Fix: "plan the host again"}
	}
	w, err := workerOf(r.Step.Type)
	if err != nil {
		return err
	}
	c, ok := w.(Confirmer)
	if !ok {
		return fmt.Errorf("a step of type %s needs no confirmation", r.Step.Type)
	}
	if err := c.Confirm(ctx, m, job(r, func(string, ...any) {})); err != nil {
		return err
	}
	r.State = rod.Done
	return j.write(r)
}

// Revert is what a timer on the host does with a step that nobody confirmed.
func Revert(ctx context.Context, m *platform.Machine, run string, number int) error {
	r, err := journal{m}.read(run, number)
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
	return backStep(ctx, m, r, func(string, ...any) {})
}
