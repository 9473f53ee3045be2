package jobs

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/riverqueue/river"

	"northstake/core/declare"
	"northstake/core/plan"
	"northstake/core/stake"
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

// hostLimit is how long one host may take to be looked at, once its rod stands.
const hostLimit = 60 * time.Second

func (j *Service) task(ctx context.Context, table store.Table, id int64) error {
	topic := store.Topic(string(table), id)
	defer j.forgetPasswords(topic)
	t, err := j.Store.Task(ctx, table, id)
	if err != nil {
		return err
	}
	ask, err := t.Asked()
	if err != nil {
		return err
	}
	ask.SudoPasswords = j.passwordsOf(topic)
	s, err := j.scopeOf(ctx, t.GroundID, t.Ground, t.Revision, ask)
	s.clears = s.clears && table == store.Plans
	if err == nil {
		err = j.lookAtAll(ctx, table, &t, s, ask, topic)
	}
	t.State = "done"
	if err != nil {
		t.State, t.Error, t.Hosts = "failed", err.Error(), []byte("[]")
	}
	return j.Store.Persist(ctx, func() error { return j.Store.FinishTask(ctx, table, t) })
}

func (j *Service) lookAtAll(ctx context.Context, table store.Table, t *store.Task, s scope, ask contract.Ask, topic string) error {
	names, err := s.hosts(ask)
	if err != nil {
		return err
	}
	only := s.limit(ask)
	plans := make([]plan.Host, len(names))
	gate := make(chan struct{}, most)
	var wg sync.WaitGroup
	for i, name := range names {
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			plans[i] = j.lookAndNote(ctx, s, name, only, topic)
		})
	}
	wg.Wait()
	if table == store.Surveys {
		return nil // the hosts are in the stream
	}
	t.Hosts = stake.JSON(plans)
	for _, h := range plans {
		t.Steps += len(h.Steps)
		t.Blockers += len(h.Blockers)
		t.Unread += len(h.NotRead)
		if h.Unread != "" {
			t.Unread++
		}
	}
	return nil
}

// lookAndNote surveys one host, keeps what was seen and announces it; that a host
// cannot be reached is a finding too.
func (j *Service) lookAndNote(ctx context.Context, s scope, name string, only func(plan.Row) bool, topic string) plan.Host {
	l, err := j.lookAt(ctx, s, name, only)
	if err == nil && s.act == nil {
		err = j.Store.Persist(ctx, func() error { return j.note(ctx, s, &l, topic) })
	}
	if err == nil {
		return l.host
	}
	out := plan.Host{Host: name, Rows: []plan.Row{}, Steps: []plan.Step{}}
	said := contract.SurveyHost{Host: name, TookMs: ms(l.took)}
	if by := s.madeBy(name, err); by != "" {
		said.Awaits = fmt.Sprintf("host %s is not there yet: %s makes it", name, by)
		out.Cautions = []stake.Note{{Address: name, What: said.Awaits, Fix: "plan again when that is done: what the host is to be is planned then"}}
	} else {
		said.Unread, out.Unread = err.Error(), err.Error()
	}
	if e := j.Store.Persist(ctx, func() error { return j.noteUnread(ctx, s, said, topic) }); e != nil {
		j.Log.Warn("could not note that a host was not read", "host", name, "error", e)
	}
	return out
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
	for _, c := range declare.Nearest[stake.Container](s.d, engine, "container") {
		if c.Name == container {
			return engine + "/" + stake.Local("container", container)
		}
	}
	return ""
}
