package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"northstake/core/wire"
	"northstake/host/engine"
)

// containerBefore is the container that had the name before the step; ID is "" where there
// was none.
type containerBefore struct {
	ID      string `json:"id,omitempty"`
	Running bool   `json:"running,omitempty"`
}

var _ = register("container", typed[wire.ContainerWant, wire.ContainerWork, containerBefore]{
	read: readContainers, before: beforeContainer, do: doContainer, back: backContainer, again: againContainer, close: closeContainer,
})

func readContainers(ctx context.Context, m *Host, wants []wire.ContainerWant) ([]any, error) {
	e, trouble := engine.Of(ctx, m.Machine)
	if trouble != nil {
		return each(func(context.Context, *Host, wire.ContainerWant) (any, error) {
			return wire.ContainerFound{Engine: trouble}, nil
		})(ctx, m, wants)
	}
	round, err := e.NewRound(ctx, m.Machine)
	if err != nil {
		return nil, err
	}
	var networks []string
	if slices.ContainsFunc(wants, wire.ContainerWant.JoinsNamed) {
		if networks, err = round.Networks(ctx); err != nil {
			return nil, err
		}
	}
	return beside(func(ctx context.Context, m *Host, w wire.ContainerWant) (any, error) {
		f, err := round.Found(ctx, w)
		if w.JoinsNamed() {
			f.Networks = networks
		}
		for _, h := range w.Mounts {
			if !h.Made && !m.Exists(h.From) {
				f.Missing = append(f.Missing, string(h.From))
			}
			if !h.Made && !h.Writable && emptyDirectory(m.Path(h.From)) {
				f.Empty = append(f.Empty, string(h.From))
			}
		}
		return f, err
	})(ctx, m, wants)
}

// emptyDirectory says whether a path leads to a directory that holds nothing.
func emptyDirectory(full string) bool {
	d, err := os.Open(full)
	if err != nil {
		return false
	}
	defer d.Close()
	_, err = d.Readdirnames(1)
	return errors.Is(err, io.EOF)
}

// engineOf is the host's engine, for a step.
func engineOf(ctx context.Context, m *Host) (*engine.Engine, error) {
	e, trouble := engine.Of(ctx, m.Machine)
	if trouble != nil {
		return nil, &wire.Fault{What: trouble.What, Fix: trouble.Fix}
	}
	return e, nil
}

func beforeContainer(ctx context.Context, m *Host, _ Job, w wire.ContainerWork) (containerBefore, error) {
	e, err := engineOf(ctx, m)
	if err != nil {
		return containerBefore{}, err
	}
	is, err := e.Inspect(ctx, w.Name)
	return containerBefore{is.ID, is.Running}, err
}

// stepOf names a step in the labels and names of containers, and formerName what had a name
// before.
func stepOf(j Job) string                           { return fmt.Sprintf("%s-%d", j.Run, j.Number) }
func formerName(w wire.ContainerWork, j Job) string { return w.Name + "-former-" + stepOf(j) }
func nextName(w wire.ContainerWork, j Job) string   { return w.Name + "-next-" + stepOf(j) }

func doContainer(ctx context.Context, m *Host, j Job, w wire.ContainerWork, b containerBefore) (wire.StepState, error) {
	e, err := engineOf(ctx, m)
	if err != nil {
		return "", err
	}
	is, err := e.Inspect(ctx, w.Name)
	if err != nil {
		return "", err
	}
	if is.ID != "" && is.By != w.By {
		return "", &wire.Fault{What: fmt.Sprintf("container %s is another's by now", w.Name), Fix: "plan again"}
	}
	switch w.Do {
	case wire.ReloadContainer:
		if !is.Running {
			return wire.Done, nil // it takes notice when somebody starts it
		}
		return wire.Done, reloadContainer(ctx, m, e, is, w.Reload, w.Serves)
	case wire.StartContainer:
		if is.ID == "" {
			return "", &wire.Fault{What: fmt.Sprintf("container %s is gone", w.Name), Fix: "plan again"}
		}
		if err := e.Start(ctx, is.ID); err != nil {
			return "", err
		}
		return wire.Done, e.AwaitUp(ctx, is.ID, w.ContainerWant)
	case wire.AnewContainer:
		if err := e.Stop(ctx, is.ID); err != nil {
			return "", err
		}
		if err := e.Start(ctx, is.ID); err != nil {
			return "", err
		}
		return wire.Done, e.AwaitUp(ctx, is.ID, w.ContainerWant)
	case wire.StopContainer:
		return wire.Done, e.Stop(ctx, is.ID)
	case wire.AwayContainer:
		if is.ID == "" {
			return wire.Done, nil
		}
		if err := e.Stop(ctx, is.ID); err != nil {
			return "", err
		}
		return wire.Done, e.Rename(ctx, is.ID, formerName(w, j))
	}
	if err := makeHeld(m, w.Mounts); err != nil {
		return "", err
	}
	if w.Do == wire.PrepareContainer {
		w.Running = false
	}
	return wire.Done, makeContainer(ctx, e, j, w, is)
}

// makeContainer makes a container in the place of the one that has its name. Where both can
// run side by side, the new one is up and well before the former one stops; the former one is
// kept, under another name, until the run has ended well.
func makeContainer(ctx context.Context, e *engine.Engine, j Job, w wire.ContainerWork, is engine.Inspected) error {
	if is.ID != "" && is.Step == stepOf(j) { // the step was cut off after the new one had its name
		return up(ctx, e, w, is)
	}
	id, err := createNext(ctx, e, j, w, is)
	if err != nil {
		return err
	}
	first := w.Running && is.Running && !is.Overlaps(w.ContainerWant)
	if first {
		err := e.Start(ctx, id)
		if err == nil {
			err = e.AwaitUp(ctx, id, w.ContainerWant)
		}
		if err != nil {
			return errors.Join(err, e.Remove(ctx, id))
		}
	}
	if err := setAside(ctx, e, j, w, is); err != nil {
		return err
	}
	if err := e.Rename(ctx, id, w.Name); err != nil {
		return err
	}
	if first {
		return nil
	}
	made, err := e.Inspect(ctx, w.Name)
	if err != nil {
		return err
	}
	return up(ctx, e, w, made)
}

// createNext creates the new container under a name of the step's own, in place of one that the step has
// created before it was cut off.
func createNext(ctx context.Context, e *engine.Engine, j Job, w wire.ContainerWork, is engine.Inspected) (id string, err error) {
	next, err := e.Inspect(ctx, nextName(w, j))
	if err != nil {
		return "", err
	}
	if next.ID != "" && next.Step == stepOf(j) {
		if err := e.Remove(ctx, next.ID); err != nil {
			return "", err
		}
	}
	var volumes []engine.Volume
	if is.ID != "" {
		if volumes, err = e.Volumes(ctx, is, w.ContainerWant); err != nil {
			return "", err
		}
	}
	return e.Create(ctx, w.ContainerWant, nextName(w, j), stepOf(j), volumes...)
}

// setAside stops the former container, where there is one, and gives it another name.
func setAside(ctx context.Context, e *engine.Engine, j Job, w wire.ContainerWork, is engine.Inspected) error {
	if is.ID == "" {
		return nil
	}
	if is.Running {
		if err := e.Stop(ctx, is.ID); err != nil {
			return err
		}
	}
	return e.Rename(ctx, is.ID, formerName(w, j))
}

// up starts a container that is to run, and waits until it does.
func up(ctx context.Context, e *engine.Engine, w wire.ContainerWork, is engine.Inspected) error {
	if !w.Running {
		return nil
	}
	if !is.Running {
		if err := e.Start(ctx, is.ID); err != nil {
			return err
		}
	}
	return e.AwaitUp(ctx, is.ID, w.ContainerWant)
}

// backContainer gives the former container its name again, and has it run if it did. What the
// step made goes; what somebody else has made since stays.
func backContainer(ctx context.Context, m *Host, j Job, w wire.ContainerWork, b containerBefore) error {
	e, err := engineOf(ctx, m)
	if err != nil {
		return err
	}
	for _, name := range []string{nextName(w, j), w.Name} {
		is, err := e.Inspect(ctx, name)
		if err != nil {
			return err
		}
		if is.ID != "" && is.Step == stepOf(j) {
			if err := e.Remove(ctx, is.ID); err != nil {
				return err
			}
		}
	}
	if b.ID == "" {
		return nil
	}
	former, err := e.Inspect(ctx, formerName(w, j))
	if err != nil {
		return err
	}
	now, err := e.Inspect(ctx, w.Name)
	if err != nil {
		return err
	}
	switch {
	case former.ID == b.ID && now.ID == "":
		if err := e.Rename(ctx, former.ID, w.Name); err != nil {
			return err
		}
	case former.ID == b.ID:
		j.Say("left container %s as it is: somebody has made it since; the former one is called %s", w.Name, formerName(w, j))
		return nil
	case now.ID != b.ID:
		j.Say("container %s as it was before is gone", w.Name)
		return nil
	}
	if now, err = e.Inspect(ctx, w.Name); err != nil || now.Running == b.Running {
		return err
	}
	if b.Running {
		return e.Start(ctx, now.ID)
	}
	return e.Stop(ctx, now.ID)
}

// againContainer has the former container see what lies on the host again where it holds
// something, once that is back, too.
func againContainer(ctx context.Context, m *Host, _ Job, w wire.ContainerWork, b containerBefore) error {
	if !b.Running {
		return nil // the run may have brought the engine itself, which is gone by now
	}
	e, err := engineOf(ctx, m)
	if err != nil {
		return err
	}
	is, err := e.Inspect(ctx, w.Name)
	if err != nil || is.ID != b.ID || !is.Running || len(is.Former(m.Machine)) == 0 {
		return err
	}
	if err := e.Stop(ctx, is.ID); err != nil {
		return err
	}
	return e.Start(ctx, is.ID)
}

// closeContainer lets go of the former container, once the run has ended well.
func closeContainer(m *Host, w wire.ContainerWork, b containerBefore) error {
	if b.ID == "" {
		return nil
	}
	ctx := context.Background()
	e, err := engineOf(ctx, m)
	if err != nil {
		return err
	}
	former, err := e.Inspect(ctx, b.ID)
	if err != nil || former.ID == "" || former.Name == w.Name {
		return err
	}
	return e.Remove(ctx, former.ID)
}
