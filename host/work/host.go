package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/journal"
	"northstake/host/system"
)

// Host is a machine with what is known of it above the ground floor. SSHPort is where
// the connection arrived, 0 where that is not known, and Login the user that came in by it.
type Host struct {
	*system.Machine
	SSHPort  int
	Login    string
	Booting  bool            // services are about to start by themselves
	Families []family.Family // the built-in ones when nil
	Program  string          // path of the program that this is, where it can be started again; "" where it cannot

	Boundary func(step int, name string) // told of the boundaries of steps, where failures are rehearsed
}

// Family is the host's family of systems, nil where it is of none that is known.
func (h *Host) Family() (*family.Family, error) { return family.Of(h.Machine, h.Families) }

// Called says what the host's family calls things that others call otherwise: nothing
// where no family is known.
func (h *Host) Called() family.Called {
	if f, err := h.Family(); err == nil && f != nil {
		return f.Called
	}
	return family.Called{}
}

// PackageManager is the one of the host's family.
func (h *Host) PackageManager() (family.PackageManager, error) {
	f, err := h.Family()
	if err != nil {
		return nil, err
	}
	if f == nil {
		return nil, fmt.Errorf("this system is of no family whose packages are known")
	}
	return f.PackageManager(h.Machine), nil
}

// Services is the host's service manager.
func (h *Host) Services(ctx context.Context) (family.ServiceManager, error) {
	units, err := family.Services(ctx, h.Machine)
	if err == nil && h.Booting {
		units = family.Booting{ServiceManager: units, Machine: h.Machine}
	}
	return units, err
}

// Layout is how a web server lies on the host.
func (h *Host) Layout(server string) (wire.Layout, error) {
	f, err := h.Family()
	if err != nil {
		return wire.Layout{}, err
	}
	if f != nil {
		if l, ok := f.Servers[server]; ok {
			return l, nil
		}
	}
	return wire.Layout{}, fmt.Errorf("nothing is known of how %s lies on this host", server)
}

// LayoutOf is how the server of a site lies on the host, or in the site's container.
func (h *Host) LayoutOf(w wire.SiteWant) (wire.Layout, error) {
	if w.Within == "" {
		return h.Layout(w.Server)
	}
	if l, ok := family.Contained(w.Server); ok {
		return l, nil
	}
	return wire.Layout{}, fmt.Errorf("nothing is known of how %s lies in a container", w.Server)
}

// journal is the host's journal, with the workers of all kinds.
func (h *Host) journal() journal.Journal {
	return journal.Journal{Machine: h.Machine, Worker: func(typ string) (journal.Worker, error) {
		w, err := workerOf(typ)
		if err != nil {
			return nil, err
		}
		if c, ok := w.(Confirmer); ok {
			return confirming{bound{w, h}, c}, nil
		}
		return bound{w, h}, nil
	}, Line: journal.Line{Program: h.Program}, Boundary: h.Boundary}
}

// bound is a worker that works on one host.
type bound struct {
	worker Worker
	host   *Host
}

// Early says whether the worker's steps can be taken back while the host still boots.
func (b bound) Early() bool {
	e, ok := b.worker.(journal.Early)
	return ok && e.Early()
}

// Kept is the work of a step without what is for nobody's record.
func (b bound) Kept(work json.RawMessage) (json.RawMessage, error) {
	if d, is := b.worker.(journal.Discreet); is {
		return d.Kept(work)
	}
	return work, nil
}

func (b bound) Before(ctx context.Context, j Job) (json.RawMessage, error) {
	return b.worker.Before(ctx, b.host, j)
}

func (b bound) Do(ctx context.Context, j Job, before json.RawMessage) (wire.StepState, error) {
	return b.worker.Do(ctx, b.host, j, before)
}

func (b bound) Back(ctx context.Context, j Job, before json.RawMessage) error {
	return b.worker.Back(ctx, b.host, j, before)
}

func (b bound) Tell(ctx context.Context, j Job, before json.RawMessage) error {
	return b.worker.Tell(ctx, b.host, j, before)
}

func (b bound) Close(_ context.Context, j Job, before json.RawMessage) error {
	return b.worker.Close(b.host, j, before)
}

// confirming is a bound worker whose steps are held until they are confirmed.
type confirming struct {
	bound
	confirmer Confirmer
}

func (c confirming) Confirm(ctx context.Context, j Job) error {
	return c.confirmer.Confirm(ctx, c.host, j)
}

// letIn has the SSH server take in what lies there now.
func (h *Host) letIn(ctx context.Context) error {
	units, err := h.Services(ctx)
	if err != nil {
		return err
	}
	var failed []error
	done := map[string]bool{}
	for _, name := range []string{"ssh.socket", "sshd.socket", "ssh", "sshd"} {
		states, err := units.States(ctx, []string{name})
		if st := states[name]; err == nil && st.Active == "active" && !done[ownName(st, name)] {
			done[ownName(st, name)] = true
			err = units.Do(ctx, "restart", name)
		}
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

// Watch watches over the line of a run, and takes it back where that is gone for too long.
func Watch(ctx context.Context, h *Host, run string, after time.Duration) error {
	taken, err := h.journal().Watch(ctx, run, after)
	if taken { // whatever it was that shut the service out
		err = errors.Join(err, h.letIn(ctx))
	}
	return err
}

// Revert is what a timer on the host does with a step that nobody confirmed, and what a host does as
// it boots that went down before.
func Revert(ctx context.Context, h *Host, run string, number int) error {
	switch {
	case h.Booting:
		return h.journal().RevertBooting(ctx, run)
	case number == 0:
		late, err := h.journal().RevertBooted(ctx, run)
		if late {
			err = errors.Join(err, h.letIn(ctx))
		}
		return err
	}
	return h.journal().Revert(ctx, run, number)
}
