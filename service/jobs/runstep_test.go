package jobs

import (
	"context"
	"errors"
	"testing"
	"time"
)

// A host is tried again until it lets in, for as long as is waited for it, and twice at least.
func TestAHostIsTriedTwiceAtLeast(t *testing.T) {
	shut := errors.New("nobody is let in")
	for name, c := range map[string]struct {
		patience, takes time.Duration
		lets            int // the try at which it lets in, 0 for never
		least, most     int // tries
		want            error
	}{
		"at once":                 {time.Second, 0, 1, 1, 1, nil},
		"the second time":         {time.Second, 0, 2, 2, 2, nil},
		"slow, the second time":   {10 * time.Millisecond, 30 * time.Millisecond, 2, 2, 2, nil},
		"slow, and never":         {10 * time.Millisecond, 30 * time.Millisecond, 0, 2, 2, shut},
		"quick, for some time":    {500 * time.Millisecond, 0, 0, 2, 10, shut},
		"after some of that time": {5 * time.Second, 0, 3, 3, 3, nil},
	} {
		tries := 0
		err := persevere(context.Background(), c.patience, func() error {
			tries++
			time.Sleep(c.takes)
			if tries == c.lets {
				return nil
			}
			return shut
		})
		if err != c.want || tries < c.least || tries > c.most {
			t.Errorf("%s: %v after %d tries", name, err, tries)
		}
	}
	ended, cancel := context.WithCancel(context.Background())
	cancel()
	if err := persevere(ended, time.Minute, func() error { return shut }); !errors.Is(err, context.Canceled) {
		t.Errorf("with nobody who waits: %v", err)
	}
}
