package api

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"northstake/service/contract"
	"northstake/service/store"
)

func runBrief(r store.Run) contract.RunBrief {
	return contract.RunBrief{Id: r.ID, Plan: r.PlanID, State: contract.RunBriefState(r.State), By: r.By, CancelledBy: r.Cancelled, CreatedAt: r.CreatedAt, FinishedAt: timeOf(r.FinishedAt), Error: r.Error}
}

func (s *Server) runOf(c *gin.Context, r store.Run, status int) {
	b := runBrief(r)
	out := contract.Run{Id: b.Id, Plan: b.Plan, State: contract.RunState(b.State), By: b.By, CancelledBy: b.CancelledBy, CreatedAt: b.CreatedAt, FinishedAt: b.FinishedAt, Error: b.Error}
	var err error
	if out.Hosts, err = s.Store.RunPlaces(c.Request.Context(), r.ID); err == nil {
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
