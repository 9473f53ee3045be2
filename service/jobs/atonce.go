package jobs

import (
	"context"
	"sync"
	"time"

	"northstake/service/store"
)

// Few hosts are looked at by the replica that is asked, at once and beside the writing of the record: the
// way through the queue is as much work as the look is, and is for what takes long.
const (
	fewPlaces  = 4
	mostAtOnce = 16              // hosts, beside those of the tasks that the queue has given
	lastWords  = 3 * time.Second // for noting what the end of the service has cut off
)

// atOnce is what a replica makes without the queue.
type atOnce struct {
	service context.Context // ends with it
	end     context.CancelFunc
	room    chan struct{}
	under   sync.WaitGroup
}

func newAtOnce() *atOnce {
	ctx, cancel := context.WithCancel(context.Background())
	return &atOnce{service: ctx, end: cancel, room: make(chan struct{}, mostAtOnce)}
}

// stop ends what is under way, and waits until that is noted or ctx has ended.
func (o *atOnce) stop(ctx context.Context) {
	o.end()
	over := make(chan struct{})
	go func() {
		o.under.Wait()
		close(over)
	}()
	select {
	case <-over:
	case <-ctx.Done():
	}
}

// takes says whether there is room for looks at so many hosts, and keeps it.
func (o *atOnce) takes(hosts int) bool {
	if hosts > fewPlaces {
		return false
	}
	for n := range hosts {
		select {
		case o.room <- struct{}{}:
		default:
			o.leave(n)
			return false
		}
	}
	return true
}

func (o *atOnce) leave(hosts int) {
	for range hosts {
		<-o.room
	}
}

// looks are looks at hosts that are under way, by their names.
type looks map[string]func() (look, error)

// at is the look at a host that is under way, or else a new one.
func (l looks) at(ctx context.Context, j *Service, s scope, host string) (look, error) {
	if under := l[host]; under != nil {
		return under()
	}
	return j.lookAt(ctx, s, host)
}

// soon makes a survey or plan at once where its hosts are few and there is room: it looks at them while note
// writes the record. False says that it is for the queue, and that nothing was begun.
func (j *Service) soon(ctx context.Context, table store.Table, s scope, hosts []string, note func() (store.Task, error)) (t store.Task, began bool, err error) {
	if !j.atOnce.takes(len(hosts)) {
		return t, false, nil
	}
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	ended := context.AfterFunc(j.atOnce.service, cancel)
	s.asksSites = s.purpose.extent().declared
	under := looks{}
	var wg sync.WaitGroup
	for _, host := range hosts {
		var l look
		var err error
		over := make(chan struct{})
		wg.Go(func() {
			defer close(over)
			l, err = j.lookAt(ctx, s, host)
		})
		under[host] = func() (look, error) { <-over; return l, err }
	}
	t, err = note()
	if err != nil {
		cancel()
	}
	j.atOnce.under.Go(func() {
		if err == nil {
			if err := j.make(ctx, table, t, s, under); err != nil {
				j.Log.Error("look at hosts", "sort", table, "id", t.ID, "error", err)
			}
		}
		wg.Wait()
		ended()
		cancel()
		j.atOnce.leave(len(hosts))
	})
	return t, true, err
}
