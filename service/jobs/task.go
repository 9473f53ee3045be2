package jobs

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"

	"northstake/core/declare"
	"northstake/core/plan"
	"northstake/core/stake"
	"northstake/core/stake/kinds"
	"northstake/core/wire"
	"northstake/host/reach"
	"northstake/service/contract"
	"northstake/service/store"
)

// taskArgs names a survey or a plan that is to be made.
type taskArgs struct {
	Table store.Table `json:"table"`
	ID    int64       `json:"id"`
}

// Kind is the name of the job in River.
func (taskArgs) Kind() string { return "look" }

type taskWorker struct {
	river.WorkerDefaults[taskArgs]
	j *Service
}

func (w *taskWorker) Work(ctx context.Context, job *river.Job[taskArgs]) error {
	err := w.j.task(ctx, job.Args.Table, job.Args.ID)
	if err != nil {
		w.j.Log.Error("look at hosts", "sort", job.Args.Table, "id", job.Args.ID, "error", err)
	}
	return err
}

// most is how many hosts are looked at or worked on at once.
const most = 128

// placeLimit is how long one place may take to be looked at, once its rod stands.
const placeLimit = 60 * time.Second

// task makes a survey or plan that the queue has given.
func (j *Service) task(ctx context.Context, table store.Table, id int64) error {
	topic := store.Topic(string(table), id)
	defer j.forgetPasswords(topic)
	if err := j.Store.BeatTask(ctx, table, id); err != nil { // from now on it is lost with this replica
		return err
	}
	t, err := j.Store.Task(ctx, table, id)
	if err != nil {
		return err
	}
	ask, err := t.Asked()
	if err != nil {
		return err
	}
	ask.SudoPasswords = j.passwordsOf(topic)
	s, err := j.scopeOf(ctx, table, t.GroundID, t.Ground, t.Revision, ask)
	if err != nil {
		return j.failed(ctx, table, t, err)
	}
	s.asksSites = s.purpose.extent().declared
	return j.make(ctx, table, t, s, nil)
}

// make looks at the hosts of a survey or plan and notes what came of it.
func (j *Service) make(ctx context.Context, table store.Table, t store.Task, s scope, under looks) error {
	beats, stop := context.WithCancel(ctx)
	defer stop()
	go j.beatTask(beats, table, t.ID)
	ended, err := j.lookAtAll(ctx, table, &t, s, under)
	switch {
	case err != nil:
		return j.failed(ctx, table, t, err)
	case ended:
		return nil
	}
	t.State = "done"
	err = j.Store.Persist(ctx, func() error { return j.Store.FinishTask(ctx, table, t) })
	if err != nil && ctx.Err() != nil {
		return j.failed(ctx, table, t, err)
	}
	return err
}

// failed notes that a survey or plan has failed.
func (j *Service) failed(ctx context.Context, table store.Table, t store.Task, err error) error {
	t.State, t.Error, t.Places = "failed", err.Error(), []byte("[]")
	if ctx.Err() != nil {
		t.Error = store.ServiceEnded
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(context.WithoutCancel(ctx), lastWords)
		defer cancel()
	}
	return j.Store.Persist(ctx, func() error { return j.Store.FinishTask(ctx, table, t) })
}

// beatTask says from time to time that a survey or plan is worked on. One that is done before the
// first time has no need of it.
func (j *Service) beatTask(ctx context.Context, table store.Table, id int64) {
	tick := time.NewTicker(j.silence / 4)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := j.Store.BeatTask(ctx, table, id); err != nil && ctx.Err() == nil {
				j.Log.Warn("could not note that hosts are looked at", "sort", table, "id", id, "error", err)
			}
		}
	}
}

// lookAtAll looks at the hosts that were asked for, side by side. Ended says that a survey has
// been noted as done, together with the last of its hosts. A survey that lacks a host is none.
func (j *Service) lookAtAll(ctx context.Context, table store.Table, t *store.Task, s scope, under looks) (ended bool, err error) {
	names, err := s.purpose.hosts(s.d)
	if err != nil {
		return false, err
	}
	plans := make([]plan.Place, len(names))
	gate := make(chan struct{}, most)
	var wg, noting sync.WaitGroup // noting: all but the last
	noting.Add(len(names))
	left := atomic.Int64{}
	left.Store(int64(len(names)))
	said := store.Said{Topic: store.Topic(string(table), t.ID)}
	if table == store.Surveys {
		said.Survey = t.ID
	}
	var lost atomic.Pointer[string] // a host that could not be noted
	for i, name := range names {
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			l, err := under.at(ctx, j, s, name)
			if left.Add(-1) > 0 || table != store.Surveys {
				var noted bool
				if plans[i], noted = j.noteLook(ctx, s, name, &l, err, said); !noted {
					lost.Store(&name)
				}
				noting.Done()
				return
			}
			noting.Done()
			noting.Wait()
			last := said
			last.Ends = lost.Load() == nil
			var noted bool
			if plans[i], noted = j.noteLook(ctx, s, name, &l, err, last); !noted {
				lost.Store(&name)
			}
			ended = noted && last.Ends
		})
	}
	wg.Wait()
	if table == store.Surveys {
		if host := lost.Load(); host != nil {
			return false, fmt.Errorf("what was seen of host %s could not be kept; the service's log says why", *host)
		}
		return ended, nil // the hosts are in the record
	}
	t.Places = wire.JSON(plans)
	for _, h := range plans {
		t.Steps += len(h.Steps)
		t.Blockers += len(h.Blockers)
		t.Unread += len(h.NotRead)
		if h.Unread != "" {
			t.Unread++
		}
	}
	return false, nil
}

// noteLook keeps what was seen of a host, or why nothing was, and announces it; that a host
// cannot be reached is a finding too. Noted says whether that went well.
func (j *Service) noteLook(ctx context.Context, s scope, name string, l *look, err error, said store.Said) (out plan.Place, noted bool) {
	if err == nil && s.purpose.extent().declared {
		err = j.Store.Persist(ctx, func() error { return j.note(ctx, s, l, said) })
		noted = err == nil
	}
	if err == nil {
		return l.host, noted
	}
	out = plan.Place{Name: name, Sort: s.d.OtherSort(name), Rows: []plan.Row{}, Steps: []wire.Step{}}
	h := contract.SurveyPlace{Place: name, Sort: out.Sort, TookMs: ms(l.took)}
	if by := s.madeBy(name, err); by != "" {
		h.Awaits = fmt.Sprintf("host %s is not there yet: %s makes it", name, by)
		out.Cautions = []stake.Note{{Address: name, What: h.Awaits, Fix: "plan again when that is done: what the host is to be is planned then"}}
	} else {
		h.Unread, out.Unread = err.Error(), err.Error()
	}
	if err := j.Store.Persist(ctx, func() error { return j.noteUnread(ctx, s, h, said) }); err != nil {
		j.Log.Warn("could not note that a host was not read", "host", name, "error", err)
		return out, false
	}
	return out, true
}

// madeBy is the stake that makes the container that a host is, by its address, where the host
// could not be looked at because it is not there; "" for any other host.
func (s scope) madeBy(host string, err error) string {
	var trouble *reach.Trouble
	if !errors.As(err, &trouble) || trouble.Kind != reach.NoContainer {
		return ""
	}
	container, engine := s.d.InContainer(host)
	if engine == "" {
		return ""
	}
	for _, c := range declare.Nearest[kinds.Container](s.d, engine, "container") {
		if c.Name == container {
			return engine + "/" + wire.Local("container", container)
		}
	}
	return ""
}
