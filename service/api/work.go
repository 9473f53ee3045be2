package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/service/contract"
	"northstake/service/jobs"
	"northstake/service/store"
)

// task finds a survey or plan of a ground.
func (s *Server) task(c *gin.Context, ground string, table store.Table, id int64) (store.Task, bool) {
	t, err := s.Store.Task(c.Request.Context(), table, id)
	if err == nil && t.Ground != ground {
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		if _, ok := s.ground(c, ground); !ok {
			return t, false
		}
		err = store.Missing{What: fmt.Sprintf("ground %s has no %s %d", ground, table[:len(table)-1], id)}
	}
	if err != nil {
		s.refuse(c, err)
		return t, false
	}
	return t, true
}

// surveyOf answers with a survey. The rows of its hosts are passed on as they are kept.
func (s *Server) surveyOf(c *gin.Context, t store.Task, status int) {
	hosts := []byte("[")
	for i, one := range t.Found {
		var h struct {
			contract.SurveyHost
			Rows *struct{} `json:"rows,omitempty"` // behind the rest
		}
		err := json.Unmarshal(one.Doc, &h.SurveyHost)
		var rows json.RawMessage
		if err == nil {
			rows, err = rowsAsNow(one.Rows, h.SurveyHost.Rows)
		}
		if err != nil {
			s.refuse(c, err)
			return
		}
		if i > 0 {
			hosts = append(hosts, ',')
		}
		hosts = append(hosts, withField(wire.JSON(h), "rows", rows)...)
	}
	c.Data(status, "application/json; charset=utf-8", withField(wire.JSON(struct {
		contract.Survey
		Hosts *struct{} `json:"hosts,omitempty"`
	}{Survey: contract.Survey{Id: t.ID, State: contract.SurveyState(t.State), Revision: t.Revision, CreatedAt: t.CreatedAt, FinishedAt: timeOf(t.FinishedAt), Error: t.Error}}), "hosts", append(hosts, ']')))
}

// withField is an object with a field more, whose value is not read for that.
func withField(object []byte, name string, value []byte) []byte {
	return slices.Concat(object[:len(object)-1], []byte(`,"`+name+`":`), value, []byte("}"))
}

// rowsAsNow are the rows of a host as this release writes them: those that are kept, or of a record that has
// none of its own those that stand in it.
func rowsAsNow(kept json.RawMessage, in []plan.Row) (json.RawMessage, error) {
	if string(kept) != "null" {
		if !wire.MayBeFormer(kept) {
			return kept, nil
		}
		if err := json.Unmarshal(kept, &in); err != nil {
			return nil, err
		}
	}
	return wire.JSON(in), nil
}

// CreateSurvey starts a survey.
func (s *Server) CreateSurvey(c *gin.Context, ground contract.InGround, p contract.CreateSurveyParams) {
	if t, ok := s.ask(c, ground, store.Surveys, p.Prefer); ok {
		s.surveyOf(c, t, statusOf(t))
	}
}

// GetSurvey shows a survey.
func (s *Server) GetSurvey(c *gin.Context, ground contract.InGround, id contract.ById) {
	if t, ok := s.task(c, ground, store.Surveys, id); ok {
		s.surveyOf(c, t, http.StatusOK)
	}
}

// GetDrift shows what had shifted when the hosts were last surveyed.
func (s *Server) GetDrift(c *gin.Context, ground contract.InGround) {
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	d, n, ok := s.newest(c, g)
	if !ok {
		return
	}
	states, err := s.Store.HostStates(c.Request.Context(), g.ID)
	if err != nil {
		s.refuse(c, err)
		return
	}
	out := contract.Drift{Revision: n, Hosts: []contract.SurveyHost{}}
	for _, name := range d.PlaceNames() {
		rows, err := rowsOf(states[name])
		if err != nil {
			s.refuse(c, err)
			return
		}
		h := contract.SurveyHost{Host: name, Rows: []plan.Row{}, Counts: jobs.CountsOf(rows), Unread: states[name].Unread, SeenAt: timeOf(states[name].SeenAt)}
		if h.SeenAt.IsZero() && h.Unread == "" {
			h.Unread = fmt.Sprintf("host %s has never been looked at", name)
		}
		for _, r := range rows {
			if r.Standing == plan.Shifted || r.Standing == plan.Stray || r.Standing == plan.Unread {
				h.Rows = append(h.Rows, r)
			}
		}
		out.Hosts = append(out.Hosts, h)
	}
	c.JSON(http.StatusOK, out)
}

func planBrief(t store.Task) contract.PlanBrief {
	return contract.PlanBrief{Id: t.ID, State: contract.PlanBriefState(t.State), Revision: t.Revision, CreatedAt: t.CreatedAt, By: t.By, Steps: t.Steps, Blockers: t.Blockers, Unread: t.Unread, Error: t.Error, Only: jobs.Title(t)}
}

func (s *Server) planOf(c *gin.Context, t store.Task, status int) {
	b := planBrief(t)
	out := contract.Plan{Id: b.Id, State: contract.PlanState(b.State), Revision: b.Revision, CreatedAt: b.CreatedAt, By: b.By, Steps: b.Steps, Blockers: b.Blockers, Unread: b.Unread, Error: b.Error, Only: b.Only, Hosts: []contract.PlanHost{}}
	if len(t.Hosts) > 0 {
		if err := json.Unmarshal(t.Hosts, &out.Hosts); err != nil {
			s.refuse(c, err)
			return
		}
	}
	for i := range out.Hosts {
		for n := range out.Hosts[i].Steps {
			out.Hosts[i].Steps[n].Work = []byte("{}") // for the host, not for people
		}
	}
	if t.State == "done" {
		var err error
		if out.Run, err = s.Store.RunOfPlan(c.Request.Context(), t.ID); err != nil {
			s.refuse(c, err)
			return
		}
	}
	c.JSON(status, out)
}

// ListPlans lists a ground's plans.
func (s *Server) ListPlans(c *gin.Context, ground contract.InGround) {
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	list, err := s.Store.Tasks(c.Request.Context(), store.Plans, g.ID, 100)
	if err != nil {
		s.refuse(c, err)
		return
	}
	out := []contract.PlanBrief{}
	for _, t := range list {
		out = append(out, planBrief(t))
	}
	c.JSON(http.StatusOK, out)
}

// CreatePlan starts a plan.
func (s *Server) CreatePlan(c *gin.Context, ground contract.InGround, p contract.CreatePlanParams) {
	if t, ok := s.ask(c, ground, store.Plans, p.Prefer); ok {
		s.planOf(c, t, statusOf(t))
	}
}

// GetPlan shows a plan.
func (s *Server) GetPlan(c *gin.Context, ground contract.InGround, id contract.ById) {
	if t, ok := s.task(c, ground, store.Plans, id); ok {
		s.planOf(c, t, http.StatusOK)
	}
}

// RunProbes checks sites from inside and outside.
func (s *Server) RunProbes(c *gin.Context, ground contract.InGround) {
	var ask contract.ProbeAsk
	if !body(c, &ask) {
		return
	}
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	out, err := s.Jobs.Probe(c.Request.Context(), g, ask)
	if err != nil {
		s.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

func runBrief(r store.Run) contract.RunBrief {
	return contract.RunBrief{Id: r.ID, Plan: r.PlanID, State: contract.RunBriefState(r.State), By: r.By, CancelledBy: r.Cancelled, CreatedAt: r.CreatedAt, FinishedAt: timeOf(r.FinishedAt), Error: r.Error}
}

func (s *Server) runOf(c *gin.Context, r store.Run, status int) {
	b := runBrief(r)
	out := contract.Run{Id: b.Id, Plan: b.Plan, State: contract.RunState(b.State), By: b.By, CancelledBy: b.CancelledBy, CreatedAt: b.CreatedAt, FinishedAt: b.FinishedAt, Error: b.Error}
	var err error
	if out.Hosts, err = s.Store.RunHosts(c.Request.Context(), r.ID); err == nil {
		out.ResumedAfter, err = s.Store.Resumed(c.Request.Context(), store.Topic("runs", r.ID))
	}
	if err != nil {
		s.refuse(c, err)
		return
	}
	c.JSON(status, out)
}

// ListRuns lists a ground's runs.
func (s *Server) ListRuns(c *gin.Context, ground contract.InGround) {
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	list, err := s.Store.Runs(c.Request.Context(), g.ID, 100)
	if err != nil {
		s.refuse(c, err)
		return
	}
	out := []contract.RunBrief{}
	for _, r := range list {
		out = append(out, runBrief(r))
	}
	c.JSON(http.StatusOK, out)
}

// CreateRun starts a run of a plan.
func (s *Server) CreateRun(c *gin.Context, ground contract.InGround) {
	var in contract.NewRun
	if !body(c, &in) {
		return
	}
	t, ok := s.task(c, ground, store.Plans, in.Plan)
	if !ok {
		return
	}
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	r, err := s.Jobs.StartRun(c.Request.Context(), g, t.ID, in, who(c))
	if err != nil {
		s.refuse(c, err)
		return
	}
	c.Header("Location", fmt.Sprintf("/api/v1/grounds/%s/runs/%d", ground, r.ID))
	s.runOf(c, r, http.StatusAccepted)
}

// run finds a run of a ground.
func (s *Server) run(c *gin.Context, ground string, id int64) (store.Run, store.Ground, bool) {
	g, ok := s.ground(c, ground)
	if !ok {
		return store.Run{}, g, false
	}
	r, err := s.Store.Run(c.Request.Context(), id)
	if errors.Is(err, store.ErrNotFound) || err == nil && r.GroundID != g.ID {
		err = store.Missing{What: fmt.Sprintf("ground %s has no run %d", ground, id), Fix: "northstake runs " + ground + " lists them"}
	}
	if err != nil {
		s.refuse(c, err)
		return r, g, false
	}
	return r, g, true
}

// GetRun shows a run.
func (s *Server) GetRun(c *gin.Context, ground contract.InGround, id contract.ById) {
	if r, _, ok := s.run(c, ground, id); ok {
		s.runOf(c, r, http.StatusOK)
	}
}

// ResumeRun carries on with a run.
func (s *Server) ResumeRun(c *gin.Context, ground contract.InGround, id contract.ById) {
	var in contract.ResumeRunJSONRequestBody
	if !body(c, &in) {
		return
	}
	_, g, ok := s.run(c, ground, id)
	if !ok {
		return
	}
	r, err := s.Jobs.ResumeRun(c.Request.Context(), g, id, in)
	if err != nil {
		s.refuse(c, err)
		return
	}
	s.runOf(c, r, http.StatusAccepted)
}

// CancelRun stops a run.
func (s *Server) CancelRun(c *gin.Context, ground contract.InGround, id contract.ById) {
	if _, _, ok := s.run(c, ground, id); !ok {
		return
	}
	r, err := s.Jobs.CancelRun(c.Request.Context(), id, who(c))
	if err != nil {
		s.refuse(c, err)
		return
	}
	s.runOf(c, r, http.StatusAccepted)
}

// GetJournal lists what a host's own journal has.
func (s *Server) GetJournal(c *gin.Context, ground contract.InGround, host contract.OnHost) {
	s.journalOf(c, ground, host, nil)
}

// AskJournal lists it with a password for sudo.
func (s *Server) AskJournal(c *gin.Context, ground contract.InGround, host contract.OnHost) {
	var in contract.AskJournalJSONBody
	if body(c, &in) {
		s.journalOf(c, ground, host, in.SudoPasswords)
	}
}

func (s *Server) journalOf(c *gin.Context, ground, host string, passwords contract.SudoPasswords) {
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	steps, err := s.Jobs.Journal(c.Request.Context(), g, host, passwords)
	if err != nil {
		s.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, steps)
}

// DismissStep has a step of a host's journal hold up nothing any more.
func (s *Server) DismissStep(c *gin.Context, ground contract.InGround, host contract.OnHost) {
	var in contract.Dismissal
	if !body(c, &in) {
		return
	}
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	if err := s.Jobs.Dismiss(c.Request.Context(), g, host, in, who(c)); err != nil {
		s.refuse(c, err)
		return
	}
	s.Log.Info("step dismissed", "ground", ground, "host", host, "run", in.Run, "step", in.Number, "by", who(c))
	c.Status(http.StatusNoContent)
}

// SurveyEvents streams a survey's progress.
func (s *Server) SurveyEvents(c *gin.Context, ground contract.InGround, id contract.ById, p contract.SurveyEventsParams) {
	if t, ok := s.task(c, ground, store.Surveys, id); ok {
		s.stream(c, store.Topic("surveys", t.ID), p.LastEventID, s.endOfTask(store.Surveys, t.ID))
	}
}

// PlanEvents streams a plan's progress.
func (s *Server) PlanEvents(c *gin.Context, ground contract.InGround, id contract.ById, p contract.PlanEventsParams) {
	if t, ok := s.task(c, ground, store.Plans, id); ok {
		s.stream(c, store.Topic("plans", t.ID), p.LastEventID, s.endOfTask(store.Plans, t.ID))
	}
}

// RunEvents streams a run's progress.
func (s *Server) RunEvents(c *gin.Context, ground contract.InGround, id contract.ById, p contract.RunEventsParams) {
	if r, _, ok := s.run(c, ground, id); ok {
		s.stream(c, store.Topic("runs", r.ID), p.LastEventID, func(ctx context.Context) (string, error) {
			r, err := s.Store.Run(ctx, r.ID)
			return endState(r.State), err
		})
	}
}

// endOfTask asks for the state in which a survey or plan has ended, "" while it has not.
func (s *Server) endOfTask(table store.Table, id int64) func(context.Context) (string, error) {
	return func(ctx context.Context) (string, error) {
		state, err := s.Store.TaskState(ctx, table, id)
		return endState(state), err
	}
}

func endState(state string) string {
	if state == "queued" || state == "running" {
		return ""
	}
	return state
}

const heartbeat = 15 * time.Second

// stream sends what a stream holds after lastID, and then what is added, until
// the client goes away or the record has ended and all of it was sent. Over says whether it has:
// of one that is taken up after its last event, and of one whose events are forgotten.
func (s *Server) stream(c *gin.Context, topic, lastID string, over func(context.Context) (string, error)) {
	after, err := strconv.ParseInt(lastID, 10, 64)
	if lastID != "" && err != nil {
		problem(c, contract.Problem{Status: http.StatusBadRequest, Title: "Last-Event-ID is not a number"})
		return
	}
	news, stop := s.Bell.Listen(topic)
	defer stop()
	c.Header("Content-Type", "text/event-stream")
	c.Header("Cache-Control", "no-store")
	c.Header("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	flush := http.NewResponseController(c.Writer)
	ctx := c.Request.Context()
	asks := lastID != "" // of a stream that is read from its beginning the end is among its events
	for {
		var state string
		var lost error
		if asks {
			state, lost = over(ctx) // before the events are read
		}
		events, err := s.Store.Events(ctx, topic, after)
		if err != nil && ctx.Err() == nil {
			// The database is away for a moment: the client is kept.
			events = nil
		}
		if errors.Is(lost, store.ErrNotFound) {
			state, lost = "failed", nil // the record is gone
		}
		if len(events) == 0 && err == nil && lost == nil && state != "" {
			events = []store.Event{{ID: after + 1, Kind: "end", Data: wire.JSON(map[string]string{"state": state})}}
		}
		for i, e := range events {
			if e.Kind == "end" && i < len(events)-1 {
				continue // it was taken up again after that end
			}
			if _, err := fmt.Fprintf(c.Writer, "id: %d\nevent: %s\ndata: %s\n\n", e.ID, e.Kind, e.Data); err != nil {
				return
			}
			after = e.ID
			if e.Kind == "end" {
				_ = flush.Flush()
				return
			}
		}
		if len(events) == 0 {
			if _, err := fmt.Fprint(c.Writer, ": waiting\n\n"); err != nil {
				return
			}
		}
		_ = flush.Flush()
		select {
		case <-ctx.Done():
			return
		case <-news:
		case <-time.After(heartbeat):
			asks = true
		}
	}
}
