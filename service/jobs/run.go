package jobs

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"github.com/riverqueue/river"

	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/service/contract"
	"northstake/service/store"
)

// runArgs names a run that is to be carried out, or carried on with.
type runArgs struct {
	Run int64 `json:"run"`
}

// Kind is the name of the job in River.
func (runArgs) Kind() string { return "run" }

type runWorker struct {
	river.WorkerDefaults[runArgs]
	j *Service
}

func (w *runWorker) Work(ctx context.Context, job *river.Job[runArgs]) error {
	err := w.j.run(ctx, job.Args.Run)
	if err != nil {
		w.j.Log.Error("run", "run", job.Args.Run, "error", err)
	}
	return err
}

// lettingGo is how long a run that has ended may be held on to.
const lettingGo = time.Second

// run carries out a run, or carries on with one that lost its replica.
func (j *Service) run(ctx context.Context, id int64) error {
	topic := store.Topic("runs", id)
	if !j.awaitHere(ctx, id) {
		return nil // it is worked on here, and was only too slow to say so
	}
	defer j.endHere(id)
	defer j.forgetPasswords(topic)
	claimed, err := j.Store.ClaimRun(ctx, id, j.ID, j.silence)
	if err != nil || !claimed {
		return err
	}
	r, err := j.Store.Run(ctx, id)
	if err != nil {
		return err
	}
	service, err := j.Store.ServiceID(ctx)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	cancelled := j.cancelling(id)
	if r.Cancelled != "" {
		cancelled.cancel(r.Cancelled)
	}
	go j.keepAlive(ctx, id, stop, cancelled)
	b, err := j.beginRun(ctx, r)
	switch {
	case ctx.Err() != nil:
		return ctx.Err() // let go of, for another replica
	case err != nil:
		j.Log.Error("a run could not be begun", "run", id, "error", err)
		return j.Store.FinishRun(ctx, id, j.ID, "failed", "the run could not be begun: "+err.Error())
	}
	states := j.carryOutAll(ctx, wire.Run{Number: id, Service: service, Once: r.Once}, b, cancelled)
	if ctx.Err() != nil {
		return ctx.Err() // let go of, for another replica
	}
	return j.Store.FinishRun(ctx, id, j.ID, outcome(states), "")
}

// awaitHere begins work on a run in this process. One that has just ended here, and was resumed at once, is
// about to be let go of; false says that it was not.
func (j *Service) awaitHere(ctx context.Context, id int64) bool {
	for began := time.Now(); !j.beginHere(id); _ = store.Pause(ctx, 10*time.Millisecond) {
		if time.Since(began) > lettingGo || ctx.Err() != nil {
			return false
		}
	}
	return true
}

// carryOutAll works on all places of a run, some at once, and returns how each ended.
func (j *Service) carryOutAll(ctx context.Context, run wire.Run, b begun, cancelled *cancelling) []contract.RunPlaceState {
	planned := map[string]plan.Place{}
	for _, h := range b.hosts {
		planned[h.Name] = h
	}
	gate := make(chan struct{}, most)
	var wg sync.WaitGroup
	states := make([]contract.RunPlaceState, len(b.docs))
	for i, doc := range b.docs {
		states[i] = doc.State
		if doc.State != "waiting" && doc.State != "running" {
			continue
		}
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			h := &placeRun{j: j, run: run, cancelled: cancelled, s: b.scope, planned: planned[doc.Place], doc: doc}
			h.carryOut(ctx)
			states[i] = h.doc.State
		})
	}
	wg.Wait()
	return states
}

// outcome is how a run has ended whose places have ended so.
func outcome(states []contract.RunPlaceState) string {
	state := "done"
	for _, st := range states {
		switch {
		case st == "cancelled" || state == "cancelled":
			state = "cancelled"
		case st == "unmet" && state == "done":
			state = "unmet"
		case st != "done" && st != "nothing" && st != "unmet":
			state = "failed"
		}
	}
	return state
}

// begun is all that a run is carried out from.
type begun struct {
	scope scope
	ask   contract.Ask
	hosts []plan.Place        // as they were planned
	docs  []contract.RunPlace // as they stand
}

// beginRun reads what a run is carried out from; while the database is away it waits. What else is
// wrong stays so.
func (j *Service) beginRun(ctx context.Context, r store.Run) (b begun, err error) {
	var t store.Task
	err = j.Store.Persist(ctx, func() (err error) {
		if t, err = j.Store.Task(ctx, store.Plans, r.PlanID); err != nil {
			return err
		}
		if _, err = j.Store.Revision(ctx, t.GroundID, t.Revision); err != nil {
			return err
		}
		b.docs, err = j.Store.RunPlaces(ctx, r.ID)
		return err
	})
	if err != nil {
		return b, err
	}
	if err := json.Unmarshal(t.Places, &b.hosts); err != nil {
		return b, err
	}
	if b.ask, err = t.Asked(); err != nil {
		return b, err
	}
	b.ask.SudoPasswords = j.passwordsOf(store.Topic("runs", r.ID))
	b.scope, err = j.scopeOf(ctx, store.Plans, t.GroundID, t.Ground, t.Revision, b.ask)
	b.scope.carriesOut = true
	return b, err
}

// keepAlive notes from time to time that a run is worked on, and stops the work
// when another replica has taken the run over. It passes on that the run was cancelled.
func (j *Service) keepAlive(ctx context.Context, id int64, stop func(), cancelled *cancelling) {
	for ctx.Err() == nil {
		mine, by, err := j.Store.Beat(ctx, id, j.ID)
		if by != "" {
			cancelled.cancel(by)
		}
		if err != nil && ctx.Err() == nil {
			j.Log.Warn("could not note that a run is worked on", "run", id, "error", err)
		}
		if !mine {
			j.Log.Warn("another replica has taken the run over", "run", id)
			stop()
			return
		}
		_ = store.Pause(ctx, j.silence/4)
	}
}

// beginHere notes that this replica works on a run; false says that it does so
// already.
func (j *Service) beginHere(id int64) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.working[id] != nil {
		return false
	}
	j.working[id] = newCancelling()
	return true
}

func (j *Service) endHere(id int64) {
	j.mu.Lock()
	defer j.mu.Unlock()
	delete(j.working, id)
}

func (j *Service) worksOn(id int64) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.working[id] != nil
}
