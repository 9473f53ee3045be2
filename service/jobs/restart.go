package jobs

import (
	"context"
	"fmt"
	"time"
)

// How long a host may take to come back, and how often it is looked for.
const (
	returnLimit = 10 * time.Minute
	returnPause = 500 * time.Millisecond
)

// awaitReturn waits until a host that goes down has been started anew, and goes on
// with it over a new connection.
func (h *hostRun) awaitReturn(ctx context.Context, a access, say func(string)) error {
	before, err := h.conn.LastTraits(ctx)
	if err != nil {
		return err
	}
	h.j.Hosts.Drop(connKey(h.s, h.doc.Host))
	deadline := time.Now().Add(returnLimit)
	for time.Now().Before(deadline) && ctx.Err() == nil {
		time.Sleep(returnPause)
		conn, hangUp, err := h.j.Hosts.Fresh(ctx, a.target, a.known)
		if err != nil {
			continue
		}
		now, err := conn.Traits(ctx)
		if err != nil || now.Boot == before.Boot {
			hangUp()
			continue
		}
		if _, err := conn.Open(ctx, h.id()); err != nil {
			hangUp()
			return err
		}
		say("the host has come back")
		h.hangUp()
		h.conn, h.hangUp, h.went = conn, hangUp, true
		return nil
	}
	return fmt.Errorf("%w in %s", errGone, returnLimit)
}
