package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"northstake/core/wire"
	"northstake/service/contract"
	"northstake/service/store"
)

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
		events := s.due(ctx, topic, after, asks, over)
		ended, err := sendEvents(c.Writer, events, &after)
		if err != nil {
			return
		}
		_ = flush.Flush()
		if ended {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-news:
		case <-time.After(heartbeat):
			asks = true
		}
	}
}

// due are the events of a stream behind one. Where asks says so, the record is asked first whether it has
// ended: of one that has, and has no more events, the end is told.
func (s *Server) due(ctx context.Context, topic string, after int64, asks bool, over func(context.Context) (string, error)) []store.Event {
	var state string
	var lost error
	if asks {
		state, lost = over(ctx) // before the events are read
	}
	events, err := s.Store.Events(ctx, topic, after)
	if err != nil {
		return nil // the database is away for a moment: the client is kept
	}
	if errors.Is(lost, store.ErrNotFound) {
		state, lost = "failed", nil // the record is gone
	}
	if len(events) == 0 && lost == nil && state != "" {
		return []store.Event{{ID: after + 1, Kind: "end", Data: wire.JSON(map[string]string{"state": state})}}
	}
	return events
}

// sendEvents writes events, and says whether the stream has ended with them. After is the last one sent.
func sendEvents(to io.Writer, events []store.Event, after *int64) (ended bool, err error) {
	if len(events) == 0 {
		_, err := fmt.Fprint(to, ": waiting\n\n")
		return false, err
	}
	for i, e := range events {
		if e.Kind == "end" && i < len(events)-1 {
			continue // it was taken up again after that end
		}
		if _, err := fmt.Fprintf(to, "id: %d\nevent: %s\ndata: %s\n\n", e.ID, e.Kind, e.Data); err != nil {
			return false, err
		}
		*after = e.ID
		if e.Kind == "end" {
			return true, nil
		}
	}
	return false, nil
}
