package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"

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
			contract.SurveyPlace
			Rows *struct{} `json:"rows,omitempty"` // behind the rest
		}
		err := json.Unmarshal(one.Doc, &h.SurveyPlace)
		var rows json.RawMessage
		if err == nil {
			rows, err = rowsAsNow(one.Rows, h.SurveyPlace.Rows)
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
	states, err := s.Store.PlaceStates(c.Request.Context(), g.ID)
	if err != nil {
		s.refuse(c, err)
		return
	}
	out := contract.Drift{Revision: n, Hosts: []contract.SurveyPlace{}}
	for _, name := range d.PlaceNames() {
		rows, err := rowsOf(states[name])
		if err != nil {
			s.refuse(c, err)
			return
		}
		h := contract.SurveyPlace{Place: name, Sort: d.OtherSort(name), Rows: []plan.Row{}, Counts: jobs.CountsOf(rows), Unread: states[name].Unread, SeenAt: timeOf(states[name].SeenAt)}
		if h.SeenAt.IsZero() && h.Unread == "" {
			h.Unread = fmt.Sprintf("%s %s has never been looked at", d.SortOf(name), name)
		}
		for _, r := range rows {
			if r.InDrift() {
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
	out := contract.Plan{Id: b.Id, State: contract.PlanState(b.State), Revision: b.Revision, CreatedAt: b.CreatedAt, By: b.By, Steps: b.Steps, Blockers: b.Blockers, Unread: b.Unread, Error: b.Error, Only: b.Only, Hosts: []contract.PlanPlace{}}
	if len(t.Places) > 0 {
		if err := json.Unmarshal(t.Places, &out.Hosts); err != nil {
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
