package jobs

import (
	"context"
	"time"

	"northstake/service/store"
)

// asked is a survey or plan that this replica was asked for, and that nobody may have begun.
type asked struct {
	task  store.Task
	looks earlyLooks
}

// earlyLooks are looks at hosts, by their names, that began when they were asked for: the record and
// its way through the queue take as long as half of a look does. Another replica that has the
// task looks for itself, since a look changes nothing.
type earlyLooks struct {
	at    time.Time
	hosts map[string]*earlyLook
}

type earlyLook struct {
	over chan struct{}
	look look
	err  error
}

const (
	fewHosts   = 4  // of more hosts the look gains nothing by being begun early
	mostEarly  = 16 // at once, beside those of the tasks that the queue has given
	stillEarly = time.Second
)

// begin looks at the hosts of what was just asked for, where they are few.
func (j *Service) begin(ctx context.Context, s scope, hosts []string) earlyLooks {
	if len(hosts) > fewHosts {
		return earlyLooks{}
	}
	out := earlyLooks{at: time.Now(), hosts: map[string]*earlyLook{}}
	s.asksSites = s.purpose.extent().declared
	for _, host := range hosts {
		select {
		case j.early <- struct{}{}:
		default:
			return out // the others when the task comes round
		}
		f := &earlyLook{over: make(chan struct{})}
		out.hosts[host] = f
		go func() {
			defer func() { <-j.early; close(f.over) }()
			f.look, f.err = j.lookAt(context.WithoutCancel(ctx), s, host)
		}()
	}
	return out
}

// lookAt is the look at a host that was begun when it was asked for, if that is not long ago, or
// a new one.
func (b earlyLooks) lookAt(ctx context.Context, j *Service, s scope, host string) (look, error) {
	f := b.hosts[host]
	if f == nil || time.Since(b.at) > stillEarly {
		return j.lookAt(ctx, s, host)
	}
	select {
	case <-f.over:
		return f.look, f.err
	case <-ctx.Done():
		return look{}, ctx.Err()
	}
}
