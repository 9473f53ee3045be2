package jobs

import (
	"context"
	"fmt"
	"sync"
	"time"

	"northstake/core/wire"
	"northstake/service/contract"
	"northstake/service/store"
)

// cancelling is whether a run that is worked on here was cancelled, and by whom.
type cancelling struct {
	ctx context.Context // is done once it was
	end context.CancelCauseFunc
}

type cancelledBy string

func (c cancelledBy) Error() string { return "cancelled by " + string(c) }

func newCancelling() *cancelling {
	ctx, end := context.WithCancelCause(context.Background())
	return &cancelling{ctx, end}
}

func (c *cancelling) cancel(by string) { c.end(cancelledBy(by)) }

// fault is why nothing more is done, nil where the run was not cancelled.
func (c *cancelling) fault() *wire.Fault {
	if c.ctx.Err() == nil {
		return nil
	}
	return &wire.Fault{What: fmt.Sprintf("the run was %v", context.Cause(c.ctx)), Fix: "resume the run, or plan again"}
}

// cancelling is that of a run that is worked on here.
func (j *Service) cancelling(id int64) *cancelling {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.working[id]
}

// CancelRun has a run stop on each host before its next step, or end the command that is under way,
// and take back what it has done there. It returns when that is noted, and the run ends by itself.
func (j *Service) CancelRun(ctx context.Context, id int64, by string) (store.Run, error) {
	open, err := j.Store.CancelRun(ctx, id, by)
	if err != nil {
		return store.Run{}, err
	}
	if !open {
		return store.Run{}, NotReady{fmt.Sprintf("run %d has ended", id), "nothing is under way"}
	}
	if c := j.cancelling(id); c != nil {
		c.cancel(by)
	}
	return j.Store.Run(ctx, id)
}

// silent is how long a host may take to end what it does, once it was told to, before it is left as
// it is.
const silent = time.Minute

// untilCancelled is a context for one step of a host. When the run is cancelled the host is told to
// end the step, and one that does not answer is given up.
func (h *placeRun) untilCancelled(ctx context.Context) (context.Context, func()) {
	ctx, end := context.WithCancel(ctx)
	var once sync.Once
	stop := context.AfterFunc(h.cancelled.ctx, func() {
		once.Do(func() {
			giveUp := time.AfterFunc(silent, end)
			context.AfterFunc(ctx, func() { giveUp.Stop() })
			if err := h.conn.CancelStep(ctx, h.id()); err != nil && ctx.Err() == nil {
				h.j.Log.Warn("could not have a host end a step", "run", h.run.Number, "host", h.doc.Place, "error", err)
			}
		})
	})
	return ctx, func() { stop(); end() }
}

// isCancelled ends a host's part of a run that was cancelled: what was done is taken back.
func (h *placeRun) isCancelled(ctx context.Context) bool {
	fault := h.cancelled.fault()
	if fault == nil {
		return false
	}
	h.backAs = contract.RunPlaceStateCancelled
	h.takeBack(ctx, fault)
	return true
}
