package journal

import (
	"context"
	"fmt"
	"os"
	"slices"

	"northstake/core/wire"
	"northstake/host/system"
)

// Recover takes back the steps that were cut off, of any run of the service whose run this is: one
// that was begun and never recorded as done, one that was held and not confirmed, and, of this run, one
// that could not be taken back before. It returns what was done, and what was left and why. Journals of others
// are left alone.
func (j Journal) Recover(ctx context.Context, run string) ([]string, error) {
	release, err := j.alone(ctx, ownLockWait)
	if err != nil {
		return nil, err
	}
	defer release()
	own, ok := wire.ParseRun(run)
	if !ok {
		return nil, fmt.Errorf("%q is not a run", run)
	}
	if err := dropAllBootUnits(ctx, j.Machine, own.Service); err != nil {
		return nil, err
	}
	if err := j.dropOtherLines(ctx, own.Service, run); err != nil {
		return nil, err
	}
	all, err := j.entries()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, e := range all {
		out = append(out, e.leftAlone(own.Service, run)...)
		if e.run.Service != own.Service || e.wrong != nil {
			continue
		}
		said, err := j.recoverRun(ctx, e, own.Service, run)
		if out = append(out, said...); err != nil {
			return out, err
		}
	}
	return out, j.prune(all)
}

// leftAlone says what is left alone of a run's journal: one that cannot be read whole, and one of another
// service that was cut off.
func (e entry) leftAlone(service, run string) (out []string) {
	if e.wrong != nil && e.name != run {
		out = append(out, fmt.Sprintf("the journal of %s cannot be read whole, and is left alone: %v", e.words(service), e.wrong))
	}
	if e.run.Service != service && e.open() {
		left := fmt.Sprintf("%s was cut off on this host, and is left alone", e.words(service))
		if i := slices.IndexFunc(e.steps, Record.open); e.former() && Names(e.name) && i >= 0 {
			left += fmt.Sprintf("; once you have seen to what it was at (%s), northstake journal HOST --dismiss %s/%d --reason TEXT has it said no more", e.steps[i].Step.Text, e.name, e.steps[i].Step.Number)
		}
		out = append(out, left)
	}
	return out
}

// recoverRun takes back the steps of one run of this service that were cut off, the last one first.
func (j Journal) recoverRun(ctx context.Context, e entry, service, run string) (out []string, err error) {
	if i := slices.IndexFunc(e.steps, func(r Record) bool { return r.State == wire.Back && r.Why != "" }); i >= 0 && e.name == run {
		out = append(out, fmt.Sprintf("%s: %s, at %s", e.words(service), e.steps[i].Why, e.steps[i].At.Format("15:04:05 UTC")))
	}
	slices.Reverse(e.steps)
	for i, r := range e.steps {
		// What could not be taken back is left to its own run, and to what is held up by it: to try
		// it again and again changes the host under those who have nothing to do with it.
		if r.State != wire.Begun && r.State != wire.Held && !(r.State == wire.Stuck && e.name == run) {
			continue
		}
		var said []string
		if err := j.back(ctx, r, func(format string, args ...any) { said = append(said, fmt.Sprintf(format, args...)) }); err != nil {
			e.steps[i].State = wire.Stuck
			out = append(out, fmt.Sprintf("step %d of %s cannot be taken back: %v", r.Step.Number, e.words(service), err))
			if err := j.stuck(r, err); err != nil {
				return out, err
			}
			continue
		}
		e.steps[i].State = wire.Back
		out = append(append(out, fmt.Sprintf("%s was cut off at step %d; taken back: %s", e.words(service), r.Step.Number, r.Step.Text)), said...)
	}
	return out, nil
}

// stuck notes that a step could not be taken back.
func (j Journal) stuck(r Record, why error) error {
	if err := os.MkdirAll(j.Machine.State(stuckMarks), 0o700); err != nil {
		return err
	}
	if err := system.WriteAtomically(stuckMark(j.Machine, r), nil, 0o600); err != nil {
		return err
	}
	r.State, r.Why = wire.Stuck, why.Error()
	return j.write(r)
}
