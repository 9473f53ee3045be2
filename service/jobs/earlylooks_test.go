package jobs

import (
	"context"
	"errors"
	"testing"
	"time"

	"northstake/core/declare"
)

// A look that was begun when it was asked for is taken up by its task, and not one that has become
// old on the way through the queue.
func TestAnEarlyLookIsTakenUpWhileItIsFresh(t *testing.T) {
	over := make(chan struct{})
	close(over)
	mine := errors.New("of the early look")
	looks := earlyLooks{at: time.Now(), hosts: map[string]*earlyLook{"quay1": {over: over, err: mine}}}
	s := scope{d: &declare.Declaration{}} // a new look finds no such host
	for _, c := range []struct {
		host  string
		begun time.Time
		want  error
	}{
		{"quay1", time.Now(), mine},
		{"quay2", time.Now(), Unknown{"quay2"}},
		{"quay1", time.Now().Add(-2 * stillEarly), Unknown{"quay1"}},
	} {
		looks.at = c.begun
		if _, err := looks.lookAt(context.Background(), &Service{}, s, c.host); err != c.want {
			t.Errorf("host %s, begun at %s: %v, not %v", c.host, c.begun, err, c.want)
		}
	}
	looks.hosts["quay1"].over = make(chan struct{})
	ended, cancel := context.WithCancel(context.Background())
	cancel()
	looks.at = time.Now()
	if _, err := looks.lookAt(ended, &Service{}, s, "quay1"); !errors.Is(err, context.Canceled) {
		t.Errorf("a task that was ended waits for its early look: %v", err)
	}
}
