package jobs

import (
	"archive/tar"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"northstake/core/wire"
	"northstake/host/reach"
	"northstake/service/place"
	"northstake/service/store"
)

// saidLimit is how many lines of a step are kept, and notesLimit how many a host may add to its part
// of a run while it goes back.
const (
	saidLimit  = 50
	notesLimit = 200
)

// step does one step; false says that the host's part has ended.
func (h *placeRun) step(ctx context.Context, step wire.Step, a access) bool {
	st := h.at(step.Number)
	st.State = "doing"
	h.put(ctx)
	start := time.Now()
	say := func(line string) {
		if len(st.Said) < saidLimit {
			st.Said = append(st.Said, line)
			h.put(ctx)
		}
	}
	while, end := h.untilCancelled(ctx)
	err := h.send(while, step, say)
	var state wire.StepState
	if err == nil {
		state, err = h.conn.Step(while, h.id(), step, say)
	}
	end()
	if err == nil && state == wire.Held {
		err = h.confirm(ctx, step, a)
		if err == nil {
			say("confirmed over a new connection")
		}
	}
	if err == nil && step.Returns {
		err = h.awaitReturn(ctx, a, say)
	}
	st.TookMs = float64(time.Since(start).Microseconds()) / 1000
	if err == nil {
		st.State = "done"
		h.put(ctx)
		return true
	}
	if ctx.Err() != nil {
		return false
	}
	var fault *wire.Fault
	if !errors.As(err, &fault) {
		st.State = "failed"
		h.broken(ctx, err)
		return false
	}
	st.State = "failed"
	if h.cancelled.fault() != nil {
		st.State = "cancelled"
	}
	if !h.isCancelled(ctx) {
		h.takeBack(ctx, err)
	}
	return false
}

// arrive makes the connection over which the host's part of the run goes. A host that is too busy to
// answer in time, or whose line breaks at once, is tried once more: nothing has been begun there.
func (h *placeRun) arrive(ctx context.Context, a access) (conn place.Line, hangUp func(), err error) {
	conn, hangUp, err = a.fresh(ctx)
	var trouble *reach.Trouble
	if errors.As(err, &trouble) && trouble.Passing() && ctx.Err() == nil {
		conn, hangUp, err = a.fresh(ctx)
	}
	return conn, hangUp, err
}

// comeInPatience is how long a host may let nobody in after a step: an SSH server that takes its
// configuration in does not listen for a moment.
const comeInPatience = 8 * time.Second

// comeIn makes a new connection to the host.
func (h *placeRun) comeIn(ctx context.Context, a access) (conn place.Line, hangUp func(), err error) {
	err = persevere(ctx, comeInPatience, func() (err error) {
		conn, hangUp, err = a.fresh(ctx)
		return err
	})
	return conn, hangUp, err
}

// persevere tries something until it works, for some time and twice at least: on a slow host the first try may
// take all of that.
func persevere(ctx context.Context, patience time.Duration, try func() error) error {
	for began, tries := time.Now(), 1; ; tries++ {
		err := try()
		if err == nil || tries > 1 && time.Since(began) > patience {
			return err
		}
		if err := store.Pause(ctx, 200*time.Millisecond); err != nil {
			return err
		}
	}
}

// stillIn says whether a new connection to the host can be made after the steps, with login and root's
// rights: the kept one tells nothing of that. A host that nobody gets in to any more goes back.
func (h *placeRun) stillIn(ctx context.Context, a access) bool {
	if !h.s.shuttable(h.doc.Place) {
		return true
	}
	if slices.ContainsFunc(h.planned.Steps, func(s wire.Step) bool { return s.Shuts }) {
		h.doc.Notes = append(h.doc.Notes, "no new connection was made at the end: the plan takes the way in off, as was named")
		return true
	}
	_, hangUp, err := h.comeIn(ctx, a)
	if err == nil {
		hangUp()
		return true
	}
	if ctx.Err() == nil {
		h.takeBack(ctx, &wire.Fault{What: fmt.Sprintf("after the steps no new connection can be made: %v", err), Fix: h.the() + " is back to what it was; look at what the steps change of the way in to it"})
	}
	return false
}

// confirm shows the host that a new connection can still be made.
func (h *placeRun) confirm(ctx context.Context, step wire.Step, a access) error {
	conn, hangUp, err := h.comeIn(ctx, a)
	if err != nil {
		return &wire.Fault{What: fmt.Sprintf("after the step no new connection can be made: %v", err), Fix: h.the() + " takes the step back by itself"}
	}
	defer hangUp()
	if !a.proves() {
		if at := h.at(step.Number); at != nil {
			at.Said = append(at.Said, "confirmed, though a new connection to this host says nothing of the network")
		}
	}
	return conn.Confirm(ctx, h.id(), step.Number)
}

// send sends the content that a step needs and the host has not got.
func (h *placeRun) send(ctx context.Context, step wire.Step, say func(string)) error {
	if !step.Blobs {
		return nil
	}
	to, carries := h.conn.(place.Carrying)
	if !carries {
		return &wire.Fault{What: fmt.Sprintf("no content can be sent to %s", h.doc.Place), Fix: "declare what needs none there"}
	}
	missing, err := to.MissingBlobs(ctx, step)
	if err != nil || len(missing) == 0 {
		return err
	}
	var size int64
	err = to.SendBlobs(ctx, func(w io.Writer) error {
		out := tar.NewWriter(w)
		err := h.j.Store.Blobs(ctx, missing, func(sum string, b []byte) error {
			size += int64(len(b))
			if err := out.WriteHeader(&tar.Header{Name: sum, Mode: 0o600, Size: int64(len(b))}); err != nil {
				return err
			}
			_, err := out.Write(b)
			return err
		})
		if err != nil {
			return err
		}
		return out.Close()
	})
	if err == nil {
		say(fmt.Sprintf("sent %d of the files, %d bytes", len(missing), size))
	}
	return err
}

// takeBack makes the host what it was before the run.
func (h *placeRun) takeBack(ctx context.Context, cause error) {
	h.doc.Fault = faultOf(cause)
	err := h.conn.TakeBack(ctx, h.id(), func(line string) {
		if len(h.doc.Notes) < notesLimit {
			h.doc.Notes = append(h.doc.Notes, line)
			h.put(ctx)
		}
	})
	var refused *wire.Fault
	if err != nil && !errors.As(err, &refused) { // the host goes back by itself, or when somebody comes in
		h.cutOff(ctx, andThen(cause, "the line to "+h.the()+" broke while it was taken back: "+err.Error(), resumeIt))
		return
	}
	if err != nil {
		f := andThen(cause, h.the()+" could not be taken back: "+err.Error(), "northstake journal lists what is left; look at what keeps it from going back, and resume the run")
		h.end(ctx, "failed", &f)
		return
	}
	for i := range h.doc.Steps {
		if h.doc.Steps[i].State == "done" {
			h.doc.Steps[i].State = "back"
		}
	}
	h.seen(ctx, nil, nil)
	h.end(ctx, cmp.Or(h.backAs, "back"), cause)
}
