package api

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"northstake/service/contract"
	"northstake/service/store"
)

// ask starts a survey or plan, and waits for its end for as long as the request prefers.
func (s *Server) ask(c *gin.Context, ground string, table store.Table, prefer string) (store.Task, bool) {
	var ask contract.Ask
	if !body(c, &ask) {
		return store.Task{}, false
	}
	g, ok := s.ground(c, ground)
	if !ok {
		return store.Task{}, false
	}
	t, err := s.Jobs.Ask(c.Request.Context(), table, g, ask, who(c))
	if err != nil {
		s.refuse(c, err)
		return t, false
	}
	c.Header("Location", fmt.Sprintf("/api/v1/grounds/%s/%s/%d", ground, table, t.ID))
	if wait := waitOf(prefer); wait > 0 {
		c.Header("Preference-Applied", fmt.Sprintf("wait=%.0f", wait.Seconds()))
		if t, err = s.awaited(c.Request.Context(), table, t, wait); err != nil {
			s.refuse(c, err)
			return t, false
		}
	}
	return t, true
}

// longestWait is how long a request is held at most.
const longestWait = time.Minute

// waitOf is how long a request prefers to wait for what it asks for; 0 for not at all, and for
// what is no such preference (RFC 7240).
func waitOf(prefer string) time.Duration {
	for _, p := range strings.Split(prefer, ",") {
		key, value, _ := strings.Cut(p, "=")
		if !strings.EqualFold(strings.TrimSpace(key), "wait") {
			continue
		}
		n, err := strconv.ParseUint(strings.Trim(value, ` "`), 10, 32)
		if err != nil {
			return 0
		}
		return min(time.Duration(n)*time.Second, longestWait)
	}
	return 0
}

// awaited is a survey or plan once it has ended, or as it is when the wait, the request or the
// service is over.
func (s *Server) awaited(ctx context.Context, table store.Table, t store.Task, wait time.Duration) (store.Task, error) {
	news, stop := s.Bell.Listen(store.Topic(string(table), t.ID))
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	for {
		now, err := s.Store.Task(ctx, table, t.ID)
		switch {
		case ctx.Err() != nil:
			return t, nil
		case err != nil:
			return t, err
		case endState(now.State) != "":
			return now, nil
		}
		select {
		case <-ctx.Done():
			return t, nil
		case <-news:
		}
	}
}

// statusOf is what a survey or plan that was asked for is answered with.
func statusOf(t store.Task) int {
	if endState(t.State) == "" {
		return http.StatusAccepted
	}
	return http.StatusOK
}
