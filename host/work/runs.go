package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"time"

	"northstake/core/wire"
	"northstake/host/journal"
)

func (s *Server) open(w http.ResponseWriter, r *http.Request) {
	run := r.PathValue("run")
	if _, ok := wire.ParseRun(run); !ok {
		refuse(w, fmt.Errorf("%q is not a run", run))
		return
	}
	var ask wire.OpenAsk
	if !read(w, r, &ask) {
		return
	}
	l, err := journal.Take(r.Context(), s.host.Machine, run)
	if err != nil {
		refuse(w, err)
		return
	}
	recovered, err := s.host.journal().Recover(context.WithoutCancel(r.Context()), run)
	if err != nil {
		l.Release()
		refuse(w, fmt.Errorf("clear up after an interrupted run: %w", err))
		return
	}
	steps, err := s.host.journal().Steps(run)
	if err != nil {
		l.Release()
		refuse(w, err)
		return
	}
	s.mu.Lock()
	s.lock, s.line = l, time.Duration(ask.LineGone)*time.Second
	s.mu.Unlock()
	if l.Waited > time.Second {
		recovered = append([]string{fmt.Sprintf("waited %s until the step that was under way had ended", l.Waited.Round(time.Second))}, recovered...)
	}
	out := wire.OpenAnswer{Recovered: recovered, Steps: []wire.StepRecord{}}
	for _, r := range steps {
		out.Steps = append(out.Steps, wire.StepRecord{Number: r.Step.Number, Address: r.Step.Address, State: r.State})
	}
	answer(w, out)
}

func (s *Server) close(w http.ResponseWriter, r *http.Request) {
	run := r.PathValue("run")
	if s.locked(run) != nil {
		answer(w, struct{}{})
		return
	}
	err := s.host.journal().Close(context.WithoutCancel(r.Context()), run)
	s.mu.Lock()
	s.lock.Release()
	s.lock = nil
	s.mu.Unlock()
	if err != nil {
		refuse(w, err)
		return
	}
	answer(w, struct{}{})
}

func (s *Server) journal(w http.ResponseWriter, r *http.Request) {
	var ask struct {
		Service string `json:"service"`
	}
	if !read(w, r, &ask) {
		return
	}
	steps, err := s.host.journal().List(ask.Service)
	if err != nil {
		refuse(w, err)
		return
	}
	answer(w, steps)
}

func (s *Server) dismiss(w http.ResponseWriter, r *http.Request) {
	var ask struct {
		Reason string `json:"reason"`
	}
	if !read(w, r, &ask) {
		return
	}
	run := r.PathValue("run")
	number, err := strconv.Atoi(r.PathValue("number"))
	if !journal.Names(run) || err != nil {
		refuse(w, &wire.Fault{What: fmt.Sprintf("step %s of run %q is none that this host's journal can have", r.PathValue("number"), run), Fix: "northstake journal lists what it has"})
		return
	}
	l, err := journal.Take(r.Context(), s.host.Machine, run)
	if err != nil {
		refuse(w, err)
		return
	}
	defer l.Release()
	if err := s.host.journal().Dismiss(run, number, ask.Reason); err != nil {
		refuse(w, err)
		return
	}
	answer(w, struct{}{})
}

// locked says whether this rod holds the host's lock for the run.
func (s *Server) locked(run string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lock == nil || s.lock.Run != run {
		return fmt.Errorf("run %s has not been opened on this host", run)
	}
	return nil
}

// events runs work that reports its progress, one JSON object a line. The work
// goes on when the connection breaks.
func (s *Server) events(w http.ResponseWriter, r *http.Request, work func(ctx context.Context, say func(string, ...any)) (wire.StepState, error)) {
	if err := s.locked(r.PathValue("run")); err != nil {
		refuse(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/x-ndjson")
	enc := json.NewEncoder(w)
	flush := http.NewResponseController(w)
	var mu sync.Mutex
	send := func(e wire.Event) {
		mu.Lock()
		defer mu.Unlock()
		_ = enc.Encode(e)
		_ = flush.Flush()
	}
	state, err := work(context.WithoutCancel(r.Context()), func(format string, args ...any) {
		send(wire.Event{Say: fmt.Sprintf(format, args...)})
	})
	if err != nil {
		send(wire.Event{Fault: faultOf(err)})
		return
	}
	send(wire.Event{State: state})
}

func (s *Server) step(w http.ResponseWriter, r *http.Request) {
	var step wire.Step
	if !read(w, r, &step) {
		return
	}
	if strconv.Itoa(step.Number) != r.PathValue("number") {
		refuse(w, errors.New("the step's number is not that of its address"))
		return
	}
	s.events(w, r, func(ctx context.Context, say func(string, ...any)) (wire.StepState, error) {
		ctx, end := context.WithCancelCause(ctx)
		defer end(nil)
		s.mu.Lock()
		s.cancel = end
		s.mu.Unlock()
		j := s.host.journal()
		j.Line.After = s.line
		state, err := j.Do(ctx, r.PathValue("run"), step, say)
		if err != nil && context.Cause(ctx) == errCancelled {
			err = &wire.Fault{What: fmt.Sprintf("%v: %v", errCancelled, err), Fix: "what the step had done was taken back"}
		}
		return state, err
	})
}

var errCancelled = errors.New("the step was cancelled")

// cancelStep ends the step that is under way: its commands with their children, and its waits.
func (s *Server) cancelStep(w http.ResponseWriter, r *http.Request) {
	if err := s.locked(r.PathValue("run")); err != nil {
		refuse(w, err)
		return
	}
	s.mu.Lock()
	if s.cancel != nil {
		s.cancel(errCancelled)
	}
	s.mu.Unlock()
	answer(w, struct{}{})
}

func (s *Server) preflight(w http.ResponseWriter, r *http.Request) {
	var steps []wire.Step
	if !read(w, r, &steps) {
		return
	}
	run := r.PathValue("run")
	err := s.locked(run)
	if err == nil {
		err = s.host.journal().HeldUp(run, steps)
	}
	if err == nil {
		err = preflight(r.Context(), s.host, run, steps)
	}
	if err != nil {
		refuse(w, err)
		return
	}
	answer(w, struct{}{})
}

func (s *Server) back(w http.ResponseWriter, r *http.Request) {
	s.events(w, r, func(ctx context.Context, say func(string, ...any)) (wire.StepState, error) {
		return wire.Back, s.host.journal().Back(ctx, r.PathValue("run"), say)
	})
}

// confirm needs no lock: it comes over a new connection, and so to another rod
// than the one that holds it.
func (s *Server) confirm(w http.ResponseWriter, r *http.Request) {
	number, err := strconv.Atoi(r.PathValue("number"))
	if err != nil {
		refuse(w, fmt.Errorf("%q is not a step", r.PathValue("number")))
		return
	}
	if err := s.host.journal().Confirm(r.Context(), r.PathValue("run"), number); err != nil {
		refuse(w, err)
		return
	}
	answer(w, struct{}{})
}
