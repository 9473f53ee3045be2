package jobs

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"time"

	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/host/probe"
	"northstake/host/reach"
	"northstake/service/contract"
	"northstake/service/place"
)

// placeRun is one place's part in a run.
type placeRun struct {
	j       *Service
	run     wire.Run
	s       scope
	planned plan.Place
	doc     contract.RunPlace
	told    contract.RunPlace // the document as it was last announced
	conn    place.Line
	hangUp  func()
	before  []probe.Result // made before the first step
	went    bool           // the host went down and came back

	cancelled *cancelling
	backAs    contract.RunPlaceState // how a host stands whose steps are taken back, "" for back
}

// worse says whether a check failed that did not fail before the run, or is of a site
// that the run itself brings about. What a run has found broken, and is not about, is not
// its doing.
func (h *placeRun) worse(r probe.Result) bool {
	return !r.OK && r.Made() && (h.touches(r.Site) || !slices.ContainsFunc(h.before, func(b probe.Result) bool { return b.Same(r) && b.From == r.From && !b.OK }))
}

// touches says whether a step of the plan is for a part of a site, or for a container.
func (h *placeRun) touches(site string) bool {
	worked := h.worked()
	return slices.ContainsFunc(h.planned.Rows, func(r plan.Row) bool {
		_, did := worked[r.Address]
		return did && (r.Site == site || r.Address == h.doc.Place+"/"+site)
	})
}

// the is what the place is called in what is said of it.
func (h *placeRun) the() string { return "the " + placeSort(h.s, h.doc.Place) }

func (h *placeRun) id() string { return h.run.String() }

// openAsk is how the host opens the run.
func (h *placeRun) openAsk() wire.OpenAsk {
	return wire.OpenAsk{LineGone: h.s.d.ReachOf(h.doc.Place).LineGone()}
}

// news is what of a document is new since it was told: its steps that stand otherwise, and the notes
// that have come. So what a run announces grows with its steps, and not with their square.
func news(told, doc contract.RunPlace) contract.RunPlace {
	out := doc
	out.Steps = []contract.RunStep{}
	for i, s := range doc.Steps {
		if i >= len(told.Steps) || !reflect.DeepEqual(told.Steps[i], s) {
			out.Steps = append(out.Steps, s)
		}
	}
	if n := len(told.Notes); n <= len(doc.Notes) && slices.Equal(told.Notes, doc.Notes[:n]) {
		out.Notes, out.NotesFrom = doc.Notes[n:], n
	}
	if reflect.DeepEqual(told.Probes, doc.Probes) {
		out.Probes = nil
	}
	return out
}

func (h *placeRun) put(ctx context.Context) {
	said := news(h.told, h.doc)
	h.told = h.doc
	h.told.Steps, h.told.Notes = slices.Clone(h.doc.Steps), slices.Clone(h.doc.Notes)
	if err := h.j.Store.PutRunPlace(ctx, h.run.Number, h.doc, said); err != nil && ctx.Err() == nil {
		h.j.Log.Error("could not note a run's progress", "run", h.run.Number, "host", h.doc.Place, "error", err)
	}
}

func (h *placeRun) end(ctx context.Context, state contract.RunPlaceState, err error) {
	h.doc.State = state
	if err != nil {
		h.doc.Fault = faultOf(err)
	}
	h.put(ctx)
}

func faultOf(err error) wire.Fault {
	var f *wire.Fault
	if errors.As(err, &f) {
		out := *f
		out.What = err.Error()
		return out
	}
	var t *reach.Trouble
	if errors.As(err, &t) {
		return wire.Fault{What: t.What, Fix: t.Fix}
	}
	return wire.Fault{What: err.Error(), Fix: resumeIt}
}

// resumeIt is what to do when a line is gone.
const resumeIt = "resume the run when the host answers again"

// andThen is a fault after which something else went wrong: what it says besides, such as the output of a
// program and the line of the declaration, stays, and what was to be done does not hold any more.
func andThen(cause error, what, fix string) wire.Fault {
	f := faultOf(cause)
	f.What += "; and " + what
	f.Fix = fix
	return f
}

// carryOut does what is planned for the host, from where an earlier try of the run ended.
func (h *placeRun) carryOut(ctx context.Context) {
	if h.needless(ctx) {
		return
	}
	resumed := h.doc.State == "running" || len(h.doc.Notes) > 0 || h.doc.Steps[0].State != "waiting"
	h.doc.State = "running"
	h.put(ctx)
	a, err := h.j.access(ctx, h.s, h.doc.Place)
	if err != nil {
		h.end(ctx, "failed", err)
		return
	}
	if h.conn, h.hangUp, err = h.arrive(ctx, a); err != nil {
		if ctx.Err() == nil {
			h.end(ctx, map[bool]contract.RunPlaceState{true: "interrupted", false: "failed"}[resumed], err)
		}
		return
	}
	defer func() { h.hangUp() }()
	opened, err := h.conn.Open(ctx, h.id(), h.openAsk())
	if err != nil {
		h.broken(ctx, err)
		return
	}
	h.doc.Notes = append(h.doc.Notes, opened.Recovered[:min(len(opened.Recovered), notesLimit)]...)
	done := map[int]bool{}
	for _, st := range opened.Steps {
		resumed = true
		done[st.Number] = st.State == wire.Done
	}
	l, err := h.j.lookOver(ctx, h.s, h.doc.Place, h.conn, a)
	if err != nil {
		h.broken(ctx, err)
		return
	}
	if !h.s.purpose.extent().declared && resumed {
		// What was done now is over, and is not done again.
		l.host.Steps = slices.DeleteFunc(l.host.Steps, func(st wire.Step) bool { return done[st.Number] })
	}
	if !h.asPlanned(ctx, l, resumed) {
		return
	}
	steps := h.planned.Steps
	if resumed {
		steps = renumber(h.planned.Steps, l.host.Steps, done)
		h.mark(steps, done)
	}
	h.takeSteps(ctx, a, l, steps)
}

// needless ends the host's part of a run in which nothing is to be done, and says whether it has.
func (h *placeRun) needless(ctx context.Context) bool {
	cancelled := h.cancelled.fault()
	switch {
	case h.planned.Unread != "":
		h.end(ctx, "failed", &wire.Fault{What: h.the() + " could not be read when the plan was made: " + h.planned.Unread, Fix: "plan again"})
	case len(h.planned.Steps) == 0 && len(h.planned.Blockers) > 0:
		h.end(ctx, "blocked", h.blocked())
	case len(h.planned.Steps) == 0:
		h.end(ctx, "nothing", nil)
	case cancelled != nil && h.doc.State == "waiting":
		h.end(ctx, contract.RunPlaceStateCancelled, cancelled)
	default:
		return false
	}
	return true
}

// asPlanned says whether the host still is as the plan was made for, and ends its part of the run where it
// is not.
func (h *placeRun) asPlanned(ctx context.Context, l look, resumed bool) bool {
	if n := plan.InTheWay(h.planned, l.host); n.What != "" {
		f := wire.Fault{What: fmt.Sprintf("%s was not so when the plan was made: %s", n.Address, n.What), Fix: n.Fix + "; then plan again: nothing was done here"}
		if !resumed {
			h.end(ctx, "moved", &f)
			return false
		}
		f.Fix = n.Fix + "; then resume the run, which goes on where it was"
		h.cutOff(ctx, f)
		return false
	}
	if why := plan.Moved(h.planned, l.host, resumed); why != "" {
		h.end(ctx, "moved", &wire.Fault{What: h.the() + " has changed since the plan was made: " + why, Fix: "plan again; nothing was done here"})
		return false
	}
	return true
}

// takeSteps takes the steps, once the host has looked at all of them together, and sees at the end whether
// all is as it was to be.
func (h *placeRun) takeSteps(ctx context.Context, a access, l look, steps []wire.Step) {
	sent, err := unsealedSteps(steps, h.j.Secrets(ctx, h.s.d, h.s.ground, h.doc.Place))
	if err != nil {
		h.end(ctx, "failed", err)
		return
	}
	if err := h.conn.Preflight(ctx, h.id(), sent); err != nil {
		var refused *wire.Fault
		if errors.As(err, &refused) && ctx.Err() == nil {
			h.takeBack(ctx, err)
			return
		}
		h.broken(ctx, err)
		return
	}
	h.before = h.j.probeEach(ctx, h.s, h.conn, l.probes, h.s.addressOf(h.doc.Place))
	for _, step := range sent {
		if h.isCancelled(ctx) || !h.step(ctx, step, a) {
			return
		}
	}
	if !h.isCancelled(ctx) && h.stillIn(ctx, a) {
		h.finish(ctx, l.probes)
	}
}

// renumber gives the steps that are left the numbers they had in the plan, and
// new ones where those are taken.
func renumber(planned, left []wire.Step, done map[int]bool) []wire.Step {
	next := len(planned)
	for n := range done {
		next = max(next, n)
	}
	used := map[int]bool{}
	for i := range left {
		number := 0
		for _, p := range planned {
			if p.Shares(left[i]) && !done[p.Number] && !used[p.Number] {
				number = p.Number
				break
			}
		}
		if number == 0 {
			next++
			number = next
		}
		left[i].Number = number
		used[number] = true
	}
	return left
}

// mark notes which steps of the plan are done, which are left, and which are no
// longer needed.
func (h *placeRun) mark(left []wire.Step, done map[int]bool) {
	want := map[int]wire.Step{}
	for _, s := range left {
		want[s.Number] = s
	}
	for i := range h.doc.Steps {
		st := &h.doc.Steps[i]
		switch s, needed := want[st.Number]; {
		case needed:
			st.State, st.Text = "waiting", s.Text
			delete(want, st.Number)
		case done[st.Number]:
			st.State = "done"
		default:
			st.State = "skipped"
		}
	}
	for _, s := range left {
		if _, extra := want[s.Number]; extra {
			h.doc.Steps = append(h.doc.Steps, contract.RunStep{Number: s.Number, Text: s.Text, Name: s.Address, State: "waiting"})
		}
	}
}

// broken ends a host's part after the line broke: what is there is known to the
// host's journal, and the run can be resumed.
func (h *placeRun) broken(ctx context.Context, err error) {
	var fault *wire.Fault
	if errors.As(err, &fault) && ctx.Err() == nil {
		h.end(ctx, "failed", err)
		return
	}
	h.cutOff(ctx, faultOf(err))
}

// cutOff ends a host's part whose line is gone.
func (h *placeRun) cutOff(ctx context.Context, f wire.Fault) {
	if ctx.Err() != nil {
		return // let go of, for another replica
	}
	if slices.ContainsFunc(h.doc.Steps, func(s contract.RunStep) bool { return s.State == "done" || s.State == "doing" || s.State == "failed" }) {
		f.Fix += fmt.Sprintf("; where nobody has come back to the run in %s, the host takes it back by itself", time.Duration(h.s.d.ReachOf(h.doc.Place).LineGone())*time.Second)
	}
	h.end(ctx, "interrupted", &f)
}

func (h *placeRun) at(number int) *contract.RunStep {
	for i := range h.doc.Steps {
		if h.doc.Steps[i].Number == number {
			return &h.doc.Steps[i]
		}
	}
	h.doc.Steps = append(h.doc.Steps, contract.RunStep{Number: number})
	return &h.doc.Steps[len(h.doc.Steps)-1]
}
