package jobs

import (
	"archive/tar"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/riverqueue/river"

	"northstake/core/plan"
	"northstake/core/resolve"
	"northstake/host/reach"
	"northstake/host/rod"
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

// NotReady is a plan that cannot be run as it is.
type NotReady struct{ What, Fix string }

func (n NotReady) Error() string { return n.What }

// StartRun starts a run of a plan.
func (j *Service) StartRun(ctx context.Context, g store.Ground, planID int64, ask contract.NewRun, by string) (store.Run, error) {
	passwords := ask.SudoPasswords
	var r store.Run
	t, err := j.Store.Task(ctx, store.Plans, planID)
	if err != nil {
		return r, err
	}
	if t.State != "done" {
		return r, NotReady{fmt.Sprintf("plan %d is %s", planID, t.State), "wait for it, or plan again"}
	}
	if done, err := j.Store.RunOfPlan(ctx, planID); err != nil {
		return r, err
	} else if done != 0 {
		return r, NotReady{fmt.Sprintf("plan %d was run already, as run %d", planID, done), fmt.Sprintf("resume run %d, or plan again", done)}
	}
	if g.Newest != t.Revision {
		return r, NotReady{fmt.Sprintf("plan %d was made for revision %d, and the newest is %d", planID, t.Revision, g.Newest), "plan again"}
	}
	var hosts []plan.Host
	if err := json.Unmarshal(t.Hosts, &hosts); err != nil {
		return r, err
	}
	if err := needNamed(hosts, ask.Removing); err != nil {
		return r, err
	}
	d, err := j.Declaration(ctx, g.ID, t.Revision)
	if err != nil {
		return r, err
	}
	var working []string
	for _, h := range hosts {
		if len(h.Steps) > 0 {
			working = append(working, h.Host)
		}
	}
	if err := needPasswords(d, working, passwords); err != nil {
		return r, err
	}
	docs := make([]contract.RunHost, len(hosts))
	for i, h := range hosts {
		docs[i] = freshDoc(h)
	}
	err = j.Store.Tx(ctx, func(tx *sqlx.Tx) error {
		var err error
		if r, err = j.Store.AddRun(ctx, tx, g.ID, planID, by, docs); err != nil {
			return err
		}
		return j.enqueue(ctx, tx, runArgs{r.ID}, store.Topic("runs", r.ID), passwords)
	})
	return r, err
}

// NotNamed says that steps remove content and were not confirmed by name.
type NotNamed struct{ Addresses []string }

func (n NotNamed) Error() string {
	return "files that nobody declared would be removed by " + strings.Join(n.Addresses, ", ")
}

// needNamed refuses a plan that removes somebody's content unless each stake that
// does is named.
func needNamed(hosts []plan.Host, named []string) error {
	var missing []string
	for _, h := range hosts {
		for _, s := range h.Steps {
			if len(s.Removes) > 0 && !slices.Contains(named, s.Address) {
				missing = append(missing, s.Address)
			}
		}
	}
	if len(missing) > 0 {
		return NotNamed{missing}
	}
	return nil
}

func freshDoc(h plan.Host) contract.RunHost {
	doc := contract.RunHost{Host: h.Host, State: "waiting", Steps: []contract.RunStep{}}
	for _, s := range h.Steps {
		doc.Steps = append(doc.Steps, contract.RunStep{Number: s.Number, Text: s.Text, Address: s.Address, State: "waiting"})
	}
	return doc
}

// resumable are the states of a host that can be carried on with.
var resumable = map[contract.RunHostState]bool{"interrupted": true, "failed": true, "back": true, "waiting": true, "running": true}

// ResumeRun carries on with hosts of a run that did not end well; all of them
// where none is named.
func (j *Service) ResumeRun(ctx context.Context, g store.Ground, id int64, ask contract.ResumeRun) (store.Run, error) {
	r, err := j.Store.Run(ctx, id)
	if err != nil {
		return r, err
	}
	if r.State == "queued" || r.State == "running" {
		return r, NotReady{fmt.Sprintf("run %d is still %s", id, r.State), "wait until it has ended"}
	}
	docs, err := j.Store.RunHosts(ctx, id)
	if err != nil {
		return r, err
	}
	t, err := j.Store.Task(ctx, store.Plans, r.PlanID)
	if err != nil {
		return r, err
	}
	d, err := j.Declaration(ctx, g.ID, t.Revision)
	if err != nil {
		return r, err
	}
	wanted, err := d.Choose(ask.Hosts)
	if err != nil {
		return r, err
	}
	var names []string
	for i := range docs {
		if !resumable[docs[i].State] || !slices.Contains(wanted, docs[i].Host) {
			continue
		}
		docs[i].State, docs[i].Fault = "waiting", rod.Fault{}
		names = append(names, docs[i].Host)
		if err := j.Store.PutRunHost(ctx, id, docs[i]); err != nil {
			return r, err
		}
	}
	if len(names) == 0 {
		return r, NotReady{fmt.Sprintf("run %d has no host that could be carried on with", id), "plan again"}
	}
	if err := needPasswords(d, names, ask.SudoPasswords); err != nil {
		return r, err
	}
	err = j.Store.Tx(ctx, func(tx *sqlx.Tx) error {
		if err := j.Store.QueueRun(ctx, tx, id); err != nil {
			return err
		}
		if err := j.Store.AddEvent(ctx, tx, store.Topic("runs", id), "resumed", []byte("{}")); err != nil {
			return err
		}
		return j.enqueue(ctx, tx, runArgs{id}, store.Topic("runs", id), ask.SudoPasswords)
	})
	if err != nil {
		return r, err
	}
	return j.Store.Run(ctx, id)
}

// run carries out a run, or carries on with one that lost its replica.
func (j *Service) run(ctx context.Context, id int64) error {
	topic := store.Topic("runs", id)
	if !j.beginHere(id) {
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
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	go j.keepAlive(ctx, id, stop)
	t, err := j.Store.Task(ctx, store.Plans, r.PlanID)
	if err != nil {
		return err
	}
	var hosts []plan.Host
	if err := json.Unmarshal(t.Hosts, &hosts); err != nil {
		return err
	}
	ask, err := t.Asked()
	if err != nil {
		return err
	}
	ask.SudoPasswords = j.passwordsOf(topic)
	s, err := j.scopeOf(ctx, t.GroundID, t.Ground, t.Revision, ask)
	if err != nil {
		return err
	}
	docs, err := j.Store.RunHosts(ctx, id)
	if err != nil {
		return err
	}
	planned := map[string]plan.Host{}
	for _, h := range hosts {
		planned[h.Host] = h
	}
	gate := make(chan struct{}, most)
	var wg sync.WaitGroup
	states := make([]contract.RunHostState, len(docs))
	for i, doc := range docs {
		states[i] = doc.State
		if doc.State != "waiting" && doc.State != "running" {
			continue
		}
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			h := &hostRun{j: j, run: id, s: s, planned: planned[doc.Host], doc: doc, only: s.limit(ask)}
			h.carryOut(ctx)
			states[i] = h.doc.State
		})
	}
	wg.Wait()
	if ctx.Err() != nil {
		return ctx.Err() // let go of, for another replica
	}
	state := "done"
	for _, st := range states {
		if st != "done" && st != "nothing" {
			state = "failed"
		}
	}
	return j.Store.FinishRun(ctx, id, state)
}

// keepAlive notes from time to time that a run is worked on, and stops the work
// when another replica has taken the run over.
func (j *Service) keepAlive(ctx context.Context, id int64, stop func()) {
	for ctx.Err() == nil {
		mine, err := j.Store.Beat(ctx, id, j.ID)
		if err != nil && ctx.Err() == nil {
			j.Log.Warn("could not note that a run is worked on", "run", id, "error", err)
		}
		if !mine {
			j.Log.Warn("another replica has taken the run over", "run", id)
			stop()
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(j.silence / 4):
		}
	}
}

// beginHere notes that this replica works on a run; false says that it does so
// already.
func (j *Service) beginHere(id int64) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.working[id] {
		return false
	}
	j.working[id] = true
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
	return j.working[id]
}

// hostRun is one host's part in a run.
type hostRun struct {
	j       *Service
	run     int64
	s       scope
	planned plan.Host
	doc     contract.RunHost
	only    func(plan.Row) bool
	conn    *rod.Conn
	hangUp  func()
	before  []rod.ProbeResult // of a run that is not about what is declared
	went    bool              // the host went down and came back
}

// worse says whether a check failed that did not fail before the run. What a run
// that is about something else has found broken is not its doing.
func (h *hostRun) worse(r rod.ProbeResult) bool {
	return !r.OK && !slices.ContainsFunc(h.before, func(b rod.ProbeResult) bool { return b.Probe == r.Probe && b.From == r.From && !b.OK })
}

func (h *hostRun) id() string { return strconv.FormatInt(h.run, 10) }

func (h *hostRun) put(ctx context.Context) {
	if err := h.j.Store.PutRunHost(ctx, h.run, h.doc); err != nil && ctx.Err() == nil {
		h.j.Log.Error("could not note a run's progress", "run", h.run, "host", h.doc.Host, "error", err)
	}
}

func (h *hostRun) end(ctx context.Context, state contract.RunHostState, err error) {
	h.doc.State = state
	if err != nil {
		h.doc.Fault = faultOf(err)
	}
	h.put(ctx)
}

func faultOf(err error) rod.Fault {
	var f *rod.Fault
	if errors.As(err, &f) {
		out := *f
		out.What = err.Error()
		return out
	}
	var t *reach.Trouble
	if errors.As(err, &t) {
		return rod.Fault{What: t.What, Fix: t.Fix}
	}
	return rod.Fault{What: err.Error(), Fix: "resume the run when the host answers again"}
}

func (h *hostRun) carryOut(ctx context.Context) {
	switch {
	case h.planned.Unread != "":
		h.end(ctx, "failed", &rod.Fault{What: "the host could not be read when the plan was made: " + h.planned.Unread, Fix: "plan again"})
		return
	case len(h.planned.Steps) == 0 && len(h.planned.Blockers) > 0:
		h.end(ctx, "blocked", h.blocked())
		return
	case len(h.planned.Steps) == 0:
		h.end(ctx, "nothing", nil)
		return
	}
	resumed := h.doc.State == "running" || len(h.doc.Notes) > 0 || h.doc.Steps[0].State != "waiting"
	h.doc.State = "running"
	h.put(ctx)
	a, err := h.j.access(ctx, h.s, h.doc.Host)
	if err != nil {
		h.end(ctx, "failed", err)
		return
	}
	conn, hangUp, err := h.j.Hosts.Fresh(ctx, a.target, a.known)
	if err != nil {
		if ctx.Err() == nil {
			h.end(ctx, map[bool]contract.RunHostState{true: "interrupted", false: "failed"}[resumed], err)
		}
		return
	}
	h.conn, h.hangUp = conn, hangUp
	defer func() { h.hangUp() }()
	opened, err := conn.Open(ctx, h.id())
	if err != nil {
		h.broken(ctx, err)
		return
	}
	h.doc.Notes = append(h.doc.Notes, opened.Recovered...)
	done := map[int]bool{}
	for _, st := range opened.Steps {
		resumed = true
		done[st.Number] = st.State == rod.Done
	}
	l, err := h.j.lookOver(ctx, h.s, h.doc.Host, conn, a.version, h.only)
	if err != nil {
		h.broken(ctx, err)
		return
	}
	if h.s.act != nil && resumed {
		// What was done now is over, and is not done again.
		l.host.Steps = slices.DeleteFunc(l.host.Steps, func(st plan.Step) bool { return done[st.Number] })
	}
	if why := plan.Moved(h.planned, l.host, resumed); why != "" {
		h.end(ctx, "moved", &rod.Fault{What: "the host has changed since the plan was made: " + why, Fix: "plan again; nothing was done here"})
		return
	}
	steps := h.planned.Steps
	if resumed {
		steps = renumber(h.planned.Steps, l.host.Steps, done)
		h.mark(steps, done)
	}
	if err := conn.Preflight(ctx, h.id(), steps); err != nil {
		var refused *rod.Fault
		if errors.As(err, &refused) && ctx.Err() == nil {
			h.takeBack(ctx, err)
			return
		}
		h.broken(ctx, err)
		return
	}
	if !h.s.plain() {
		h.before = probeBoth(ctx, conn, l.probes, h.s.d.Hosts[h.doc.Host].Address)
	}
	for _, step := range steps {
		if !h.step(ctx, step, a) {
			return
		}
	}
	h.finish(ctx, l.probes)
}

// renumber gives the steps that are left the numbers they had in the plan, and
// new ones where those are taken.
func renumber(planned, left []plan.Step, done map[int]bool) []plan.Step {
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
func (h *hostRun) mark(left []plan.Step, done map[int]bool) {
	want := map[int]plan.Step{}
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
			h.doc.Steps = append(h.doc.Steps, contract.RunStep{Number: s.Number, Text: s.Text, Address: s.Address, State: "waiting"})
		}
	}
}

// broken ends a host's part after the line broke: what is there is known to the
// host's journal, and the run can be resumed.
func (h *hostRun) broken(ctx context.Context, err error) {
	if ctx.Err() != nil {
		return
	}
	var fault *rod.Fault
	if errors.As(err, &fault) {
		h.end(ctx, "failed", err)
		return
	}
	h.end(ctx, "interrupted", err)
}

func (h *hostRun) at(number int) *contract.RunStep {
	for i := range h.doc.Steps {
		if h.doc.Steps[i].Number == number {
			return &h.doc.Steps[i]
		}
	}
	h.doc.Steps = append(h.doc.Steps, contract.RunStep{Number: number})
	return &h.doc.Steps[len(h.doc.Steps)-1]
}

const saidLimit = 50

// step does one step; false says that the host's part has ended.
func (h *hostRun) step(ctx context.Context, step plan.Step, a access) bool {
	st := h.at(step.Number)
	st.State = "doing"
	h.put(ctx)
	start := time.Now()
	say := func(line string) {
		if len(st.Said) < saidLimit {
			st.Said = append(st.Said, line)
			h.put(ctx)
		}
	}
	err := h.send(ctx, step, say)
	var state rod.StepState
	if err == nil {
		state, err = h.conn.Step(ctx, h.id(), step, say)
	}
	if err == nil && state == rod.Held {
		err = h.confirm(ctx, step, a)
		if err == nil {
			say("confirmed over a new connection")
		}
	}
	if err == nil && step.Returns {
		err = h.awaitReturn(ctx, a, say)
	}
	st.TookMs = float64(time.Since(start).Microseconds()) / 1000
	if err == nil {
		st.State = "done"
		h.put(ctx)
		return true
	}
	if ctx.Err() != nil {
		return false
	}
	var fault *rod.Fault
	if !errors.As(err, &fault) {
		st.State = "failed"
		h.broken(ctx, err)
		return false
	}
	st.State = "failed"
	h.takeBack(ctx, err)
	return false
}

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

// confirm shows the host that a new connection can still be made.
func (h *hostRun) confirm(ctx context.Context, step plan.Step, a access) error {
	conn, hangUp, err := h.j.Hosts.Fresh(ctx, a.target, a.known)
	if err != nil {
		return &rod.Fault{What: fmt.Sprintf("after the step no new connection can be made: %v", err), Fix: "the host takes the step back by itself"}
	}
	defer hangUp()
	return conn.Confirm(ctx, h.id(), step.Number)
}

// send sends the content that a step needs and the host has not got.
func (h *hostRun) send(ctx context.Context, step plan.Step, say func(string)) error {
	if !step.Blobs {
		return nil
	}
	missing, err := h.conn.MissingBlobs(ctx, step)
	if err != nil || len(missing) == 0 {
		return err
	}
	var size int64
	err = h.conn.SendBlobs(ctx, func(w io.Writer) error {
		out := tar.NewWriter(w)
		err := h.j.Store.Blobs(ctx, missing, func(sum string, b []byte) error {
			size += int64(len(b))
			if err := out.WriteHeader(&tar.Header{Name: sum, Mode: 0o600, Size: int64(len(b))}); err != nil {
				return err
			}
			_, err := out.Write(b)
			return err
		})
		if err != nil {
			return err
		}
		return out.Close()
	})
	if err == nil {
		say(fmt.Sprintf("sent %d of the files, %d bytes", len(missing), size))
	}
	return err
}

// takeBack makes the host what it was before the run.
func (h *hostRun) takeBack(ctx context.Context, cause error) {
	h.doc.Fault = faultOf(cause)
	err := h.conn.TakeBack(ctx, h.id(), func(line string) {
		h.doc.Notes = append(h.doc.Notes, line)
		h.put(ctx)
	})
	if err != nil {
		h.end(ctx, "failed", errors.Join(cause, fmt.Errorf("and the host could not be taken back: %w", err)))
		return
	}
	for i := range h.doc.Steps {
		if h.doc.Steps[i].State == "done" {
			h.doc.Steps[i].State = "back"
		}
	}
	h.seen(ctx, nil)
	h.end(ctx, "back", cause)
}

// worked are the stakes of the plan's steps, by their addresses.
func (h *hostRun) worked() map[string]bool {
	out := map[string]bool{}
	for _, s := range h.planned.Steps {
		for _, a := range s.Addresses() {
			out[a] = true
		}
	}
	return out
}

// seen notes how the host stands now, after steps that brought stakes about.
func (h *hostRun) seen(ctx context.Context, worked map[string]bool) {
	declared := h.s
	declared.act = nil // how the host stands is a matter of what is declared
	a, err := h.j.access(ctx, declared, h.doc.Host)
	var l look
	if len(worked) > 0 { // it is to be noted, even if all is as it was when last seen
		h.j.mu.Lock()
		delete(h.j.seen, connKey(declared, h.doc.Host))
		h.j.mu.Unlock()
	}
	if err == nil {
		l, err = h.j.lookOver(ctx, declared, h.doc.Host, h.conn, a.version, nil)
	}
	if err == nil {
		l.worked = worked
		err = h.j.Store.Persist(ctx, func() error { return h.j.note(ctx, declared, &l, "") })
	}
	if err != nil {
		h.doc.Notes = append(h.doc.Notes, "the host could not be read at the end: "+err.Error())
	}
}

// settle waits until the stakes of the plan's steps are as declared: a server takes
// a moment to take its configuration in, and answers with the former one until
// then.
func (h *hostRun) settle(ctx context.Context) {
	deadline := time.Now().Add(probePatience)
	for {
		a, err := h.j.access(ctx, h.s, h.doc.Host)
		var l look
		if err == nil {
			l, err = h.j.lookOver(ctx, h.s, h.doc.Host, h.conn, a.version, nil)
		}
		if err != nil || ctx.Err() != nil {
			return // the look at the end says why
		}
		differs := h.unsettled(l.host)
		if len(differs) == 0 {
			return
		}
		if time.Now().After(deadline) {
			h.doc.Notes = append(h.doc.Notes, "still not as declared after the steps: "+strings.Join(differs, ", "))
			return
		}
		time.Sleep(probePause)
	}
}

// unsettled lists the stakes of the plan's steps that are not as declared.
func (h *hostRun) unsettled(now plan.Host) []string {
	worked := h.worked()
	var out []string
	for _, r := range now.Rows {
		if worked[r.Address] && r.Standing != plan.Set {
			out = append(out, r.Address)
		}
	}
	return out
}

const (
	probePatience = 4 * time.Second
	bootPatience  = time.Minute // after a restart of the host
	probePause    = 150 * time.Millisecond
)

// finish probes the host's sites and notes how it stands; where a site does not
// answer as declared, the host goes back to what it was.
func (h *hostRun) finish(ctx context.Context, probes []resolve.Probe) {
	probes = slices.DeleteFunc(slices.Clone(probes), func(p resolve.Probe) bool { return slices.Contains(h.planned.LeftSites, p.Site) })
	if h.s.act == nil {
		h.settle(ctx)
	}
	results, bad := h.probeAll(ctx, probes)
	h.doc.Probes = results
	if ctx.Err() != nil {
		return
	}
	if bad != nil {
		h.takeBack(ctx, &rod.Fault{What: fmt.Sprintf("after the steps, site %s does not answer as declared: http://%s:%d%s from %s: %s", bad.Site, bad.Name, bad.Port, bad.Path, bad.From, bad.Words()),
			Fix: "the host is back to what it was; correct the content, the probe or the site"})
		return
	}
	h.seen(ctx, h.worked())
	if err := h.conn.CloseRun(ctx, h.id()); err != nil {
		h.doc.Notes = append(h.doc.Notes, "the host's lock was not given back in order: "+err.Error())
	}
	if len(h.planned.Blockers) > 0 {
		h.end(ctx, "partly", h.blocked())
		return
	}
	h.end(ctx, "done", nil)
}

// blocked is the plan's first blocker as a fault; the others are noted.
func (h *hostRun) blocked() *rod.Fault {
	first := h.planned.Blockers[0]
	for _, b := range h.planned.Blockers[1:] {
		h.doc.Notes = append(h.doc.Notes, b.Address+" was blocked: "+b.What)
	}
	if len(h.planned.Left) > 0 {
		names := make([]string, len(h.planned.Left))
		for i, l := range h.planned.Left {
			names[i] = l.Address
		}
		h.doc.Notes = append(h.doc.Notes, "left as they were until what is in the way is cleared: "+strings.Join(names, ", "))
	}
	return &rod.Fault{What: first.Address + " was blocked: " + first.What, Fix: first.Fix + ", then plan again"}
}

func (h *hostRun) probeAll(ctx context.Context, probes []resolve.Probe) ([]rod.ProbeResult, *rod.ProbeResult) {
	address := h.s.d.Hosts[h.doc.Host].Address
	patience := probePatience
	if h.went {
		patience = bootPatience
	}
	deadline := time.Now().Add(patience)
	for {
		results := probeBoth(ctx, h.conn, probes, address)
		var bad *rod.ProbeResult
		for i := range results {
			if h.worse(results[i]) {
				bad = &results[i]
				break
			}
		}
		if bad == nil || time.Now().After(deadline) || ctx.Err() != nil {
			return results, bad
		}
		time.Sleep(probePause)
	}
}

// probeBoth makes each check from inside the host and from outside.
func probeBoth(ctx context.Context, conn *rod.Conn, probes []resolve.Probe, address string) []rod.ProbeResult {
	results := make([]rod.ProbeResult, 2*len(probes))
	var wg sync.WaitGroup
	for i, p := range probes {
		wg.Go(func() {
			inside, err := conn.Probe(ctx, p)
			if err != nil {
				inside = rod.NotProbed(p, err)
			}
			results[2*i] = inside
		})
		wg.Go(func() { results[2*i+1] = rod.Probe(ctx, p, address, "outside") })
	}
	wg.Wait()
	return results
}

// Probe makes the checks of a ground's sites from inside the hosts and from
// outside.
func (j *Service) Probe(ctx context.Context, g store.Ground, ask contract.Ask) ([]rod.ProbeResult, error) {
	s, err := j.scope(ctx, g.ID, g.Name, g.Newest, ask.SudoPasswords)
	if err != nil {
		return nil, err
	}
	names, err := s.d.Choose(ask.Hosts)
	if err != nil {
		return nil, err
	}
	if err := needPasswords(s.d, names, ask.SudoPasswords); err != nil {
		return nil, err
	}
	all := make([][]rod.ProbeResult, len(names))
	var wg sync.WaitGroup
	for i, name := range names {
		wg.Go(func() { all[i] = j.probeHost(ctx, s, name) })
	}
	wg.Wait()
	out := []rod.ProbeResult{}
	for _, r := range all {
		out = append(out, r...)
	}
	return out, nil
}

// probeHost checks one host's sites; when the host cannot be reached over SSH
// its sites are checked from outside all the same.
func (j *Service) probeHost(ctx context.Context, s scope, name string) []rod.ProbeResult {
	address := s.d.Hosts[name].Address
	probes := resolve.ProbesOf(s.d, name)
	if len(probes) == 0 {
		return nil
	}
	var results []rod.ProbeResult
	err := j.withRod(ctx, s, name, func(conn *rod.Conn, _ int64) error {
		if _, err := conn.Traits(ctx); err != nil { // is the line still there?
			return err
		}
		results = probeBoth(ctx, conn, probes, address)
		return nil
	})
	if err == nil {
		return results
	}
	for _, p := range probes {
		results = append(results, rod.NotProbed(p, err), rod.Probe(ctx, p, address, "outside"))
	}
	return results
}

// HostKeys asks a host for its keys; nothing but the key exchange happens.
func (j *Service) HostKeys(ctx context.Context, g store.Ground, host string) (contract.HostKeys, error) {
	d, err := j.Declaration(ctx, g.ID, g.Newest)
	if err != nil {
		return contract.HostKeys{}, err
	}
	h := d.Hosts[host]
	if h == nil {
		return contract.HostKeys{}, Unknown{host}
	}
	out := contract.HostKeys{Host: host, Address: h.Address, Port: d.ReachOf(host).Port}
	if out.Trusted, err = j.Store.HostKeys(ctx, g.ID, host); err != nil {
		return out, err
	}
	if out.Offered, err = reach.HostKeys(ctx, reach.Target{Host: host, Address: h.Address, Port: d.ReachOf(host).Port}); err != nil {
		return out, err
	}
	for _, k := range out.Offered {
		owner, err := j.Store.KeyOwner(ctx, g.ID, k.Fingerprint)
		if err != nil {
			return out, err
		}
		if owner != "" && owner != host {
			out.Owner = owner
			out.Warning = fmt.Sprintf("the key that %s offers at %s is the one known for host %s: the two addresses look swapped", host, h.Address, owner)
		}
	}
	return out, nil
}
