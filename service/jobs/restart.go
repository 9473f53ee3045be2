package jobs

import (
	"context"
	"fmt"
	"slices"
	"time"

	"northstake/core/wire"
	"northstake/service/store"
)

// How long a host may take to come back, and how often it is looked for.
const (
	returnLimit = 10 * time.Minute
	returnPause = 500 * time.Millisecond
)

// awaitReturn waits until a host that goes down has been started anew, and goes on
// with it over a new connection.
func (h *placeRun) awaitReturn(ctx context.Context, a access, say func(string)) error {
	before, err := h.conn.LastTraits(ctx)
	if err != nil {
		return err
	}
	h.j.Places.Drop(connKey(h.s, h.doc.Place))
	deadline := time.Now().Add(returnLimit)
	for time.Now().Before(deadline) && ctx.Err() == nil {
		_ = store.Pause(ctx, returnPause)
		conn, hangUp, err := a.fresh(ctx)
		if err != nil {
			continue
		}
		now, err := conn.Traits(ctx)
		if err != nil || now.Boot == before.Boot {
			hangUp()
			continue
		}
		open, err := conn.Open(ctx, h.id(), h.openAsk())
		if err != nil {
			hangUp()
			return err
		}
		say(h.the() + " has come back")
		h.hangUp()
		h.conn, h.hangUp, h.went = conn, hangUp, true
		return h.wentBack(open.Steps)
	}
	return fmt.Errorf("%w in %s", errGone, returnLimit)
}

// wentBack says that the host has taken back by itself, after its restart, what the run had done before:
// nobody got in for too long.
func (h *placeRun) wentBack(there []wire.StepRecord) error {
	for _, st := range h.doc.Steps {
		back := func(r wire.StepRecord) bool { return r.Number == st.Number && r.State == wire.Back }
		if st.State == "done" && slices.ContainsFunc(there, back) {
			return &wire.Fault{What: fmt.Sprintf("nobody got in to the host after its restart, and it took back what the run had done before, %q among it", st.Text),
				Fix: "look at what of the run shuts the way in once the host starts with it, and plan again"}
		}
	}
	return nil
}
