package reach

import "fmt"

// NoContainer is the kind of trouble with a host that is a container which is not there.
const NoContainer = "no-container"

// NoAnswer is the kind of trouble with a host that has not answered in time.
const NoAnswer = "timeout"

// BrokeOff is the kind of trouble with a host on which the rod has started, and whose line breaks then.
const BrokeOff = "broke-off"

func brokeOff(t Target, err error) error {
	return &Trouble{Kind: BrokeOff, What: fmt.Sprintf("the rod on host %s starts, and its line breaks at once: %v", t.Host, err), Fix: "look at the host's memory, and at what ends programs there", err: err}
}

// Passing says whether the next try may well go better.
func (t *Trouble) Passing() bool { return t.Kind == NoAnswer || t.Kind == BrokeOff }

// Trouble is why a host could not be reached: what happened and what to do.
// Kind tells the cases apart for programs.
type Trouble struct {
	Kind string // no-route, refused, timeout, unknown-key, changed-key, wrong-key, no-sudo, no-container, broke-off, other
	What string
	Fix  string
	err  error
}

func (t *Trouble) Error() string {
	if t.Fix == "" {
		return t.What
	}
	return t.What + "; " + t.Fix
}

func (t *Trouble) Unwrap() error { return t.err }
