package reach

// NoContainer is the kind of trouble with a host that is a container which is not there.
const NoContainer = "no-container"

// NoAnswer is the kind of trouble with a host that has not answered in time.
const NoAnswer = "timeout"

// Trouble is why a host could not be reached: what happened and what to do.
// Kind tells the cases apart for programs.
type Trouble struct {
	Kind string // no-route, refused, timeout, unknown-key, changed-key, wrong-key, no-sudo, other
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
