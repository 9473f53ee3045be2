// Package work is the host side: it reads stakes and does steps. Each kind of
// stake has one file here; the rest knows kinds only through Worker.
package work

import (
	"context"
	"encoding/json"
	"fmt"

	"golang.org/x/sync/errgroup"

	"northstake/core/wire"
	"northstake/host/journal"
	"northstake/host/system"
)

// Job is one step as a worker sees it.
type Job = journal.Job

// Worker reads and changes the stakes of one kind. Before records what is there
// before a step, and must change nothing. Do does the step and can be called
// again after it was cut off. Back brings back what Before recorded, whatever
// of Do has happened, and can be called again as well. Tell has what runs take notice of what
// lies there once more, when the whole run is taken back. Close lets go, once the run has ended
// well, of what was kept for that.
type Worker interface {
	Read(ctx context.Context, m *Host, wants []wire.Want) []wire.Reading
	Before(ctx context.Context, m *Host, j Job) (json.RawMessage, error)
	Do(ctx context.Context, m *Host, j Job, before json.RawMessage) (wire.StepState, error)
	Back(ctx context.Context, m *Host, j Job, before json.RawMessage) error
	Tell(ctx context.Context, m *Host, j Job, before json.RawMessage) error
	Close(m *Host, j Job, before json.RawMessage) error
}

var workers = map[string]Worker{}

// register makes a worker known; each kind's file calls it once.
func register(typ string, w Worker) struct{} {
	workers[typ] = w
	return struct{}{}
}

func workerOf(typ string) (Worker, error) {
	if w, ok := workers[typ]; ok {
		return w, nil
	}
	return nil, fmt.Errorf("this rod knows no kind of stake called %q", typ)
}

// typed adapts a worker of decoded values to Worker: W is what a reading wants,
// J what a step does, B what Before records.
type typed[W, J, B any] struct {
	read   func(ctx context.Context, m *Host, wants []W) ([]any, error)
	before func(ctx context.Context, m *Host, j Job, work J) (B, error)
	do     func(ctx context.Context, m *Host, j Job, work J, before B) (wire.StepState, error)
	back   func(ctx context.Context, m *Host, j Job, work J, before B) error
	again  func(ctx context.Context, m *Host, j Job, work J, before B) error // may be nil: take notice, once all that was taken back is back
	close  func(m *Host, work J, before B) error                             // may be nil: what was kept for taking back is let go
	early  bool                                                              // can be taken back while the host boots
}

// Early says whether steps can be taken back while the host still boots.
func (t typed[W, J, B]) Early() bool { return t.early }

// each adapts the reading of one stake to that of many.
func each[W any](one func(ctx context.Context, m *Host, w W) (any, error)) func(context.Context, *Host, []W) ([]any, error) {
	return func(ctx context.Context, m *Host, wants []W) ([]any, error) {
		out := make([]any, len(wants))
		for i, w := range wants {
			v, err := one(ctx, m, w)
			if err != nil {
				out[i] = err
				continue
			}
			out[i] = v
		}
		return out, nil
	}
}

// sighted is each, for what is told by a look at paths.
func sighted[W any](one func(m *Host, s *system.Sight, w W) (any, error)) func(context.Context, *Host, []W) ([]any, error) {
	return func(ctx context.Context, m *Host, wants []W) ([]any, error) {
		s, err := m.Sight()
		if err != nil {
			return nil, err
		}
		return each(func(_ context.Context, m *Host, w W) (any, error) { return one(m, s, w) })(ctx, m, wants)
	}
}

// beside is each, with some of them read side by side.
func beside[W any](one func(ctx context.Context, m *Host, w W) (any, error)) func(context.Context, *Host, []W) ([]any, error) {
	return func(ctx context.Context, m *Host, wants []W) ([]any, error) {
		out := make([]any, len(wants))
		var all errgroup.Group
		all.SetLimit(16)
		for i, w := range wants {
			all.Go(func() error {
				v, err := one(ctx, m, w)
				if out[i] = v; err != nil {
					out[i] = err
				}
				return nil
			})
		}
		return out, all.Wait()
	}
}

func (t typed[W, J, B]) Read(ctx context.Context, m *Host, wants []wire.Want) []wire.Reading {
	out := make([]wire.Reading, len(wants))
	decoded, index := make([]W, 0, len(wants)), make([]int, 0, len(wants))
	memo := memoOf(m)
	for i, w := range wants {
		out[i].Name = wire.Local(w.Type, w.Name)
		v, err := wire.Decode[W](memo, fmt.Sprint(out[i].Name, " ", len(w.Want)), w.Want)
		if err != nil {
			out[i].Unread = "what is wanted cannot be understood: " + err.Error()
			continue
		}
		decoded, index = append(decoded, v), append(index, i)
	}
	found, err := t.read(ctx, m, decoded)
	for n, i := range index {
		if err != nil {
			out[i].Unread = err.Error()
			continue
		}
		if e, ok := found[n].(error); ok {
			out[i].Unread = e.Error()
			continue
		}
		if out[i].Found, err = json.Marshal(found[n]); err != nil {
			out[i].Unread = err.Error()
			err = nil
		}
	}
	return out
}

// memoOf keeps the wants of a machine decoded.
func memoOf(m *Host) *wire.Memo {
	memo, err := system.Cached(m.Machine, "memo", "once", func() (*wire.Memo, error) { return wire.NewMemo(), nil })
	if err != nil {
		return nil
	}
	return memo
}

func (t typed[W, J, B]) Before(ctx context.Context, m *Host, j Job) (json.RawMessage, error) {
	var work J
	if err := json.Unmarshal(j.Work, &work); err != nil {
		return nil, fmt.Errorf("the step cannot be understood: %w", err)
	}
	b, err := t.before(ctx, m, j, work)
	if err != nil {
		return nil, err
	}
	return json.Marshal(b)
}

func (t typed[W, J, B]) decode(j Job, before json.RawMessage) (work J, b B, err error) {
	if err = json.Unmarshal(j.Work, &work); err == nil {
		err = json.Unmarshal(before, &b)
	}
	if err != nil {
		err = fmt.Errorf("the step cannot be understood: %w", err)
	}
	return work, b, err
}

func (t typed[W, J, B]) Do(ctx context.Context, m *Host, j Job, before json.RawMessage) (wire.StepState, error) {
	work, b, err := t.decode(j, before)
	if err != nil {
		return "", err
	}
	return t.do(ctx, m, j, work, b)
}

func (t typed[W, J, B]) Back(ctx context.Context, m *Host, j Job, before json.RawMessage) error {
	work, b, err := t.decode(j, before)
	if err != nil {
		return err
	}
	return t.back(ctx, m, j, work, b)
}

func (t typed[W, J, B]) Tell(ctx context.Context, m *Host, j Job, before json.RawMessage) error {
	work, b, err := t.decode(j, before)
	if err != nil || t.again == nil {
		return err
	}
	return t.again(ctx, m, j, work, b)
}

func (t typed[W, J, B]) Close(m *Host, j Job, before json.RawMessage) error {
	work, b, err := t.decode(j, before)
	if err != nil || t.close == nil {
		return err
	}
	return t.close(m, work, b)
}

// Confirmer is a worker whose steps are held until they are confirmed.
type Confirmer interface {
	Confirm(ctx context.Context, m *Host, j Job) error
}

// Preflighter is a worker that can tell before the first step of a run whether
// its own would be refused. It changes nothing that is in use.
type Preflighter interface {
	Preflight(ctx context.Context, m *Host, j Job) error
}

// preflight asks the steps of a run whether they would be refused.
func preflight(ctx context.Context, m *Host, run string, steps []wire.Step) error {
	for _, s := range steps {
		w, err := workerOf(s.Type)
		if err != nil {
			return err
		}
		p, ok := w.(Preflighter)
		if !ok {
			continue
		}
		if err := p.Preflight(ctx, m, Job{Run: run, Number: s.Number, Name: s.Name, Work: s.Work, Say: func(string, ...any) {}}); err != nil {
			return err
		}
	}
	return nil
}
