package journal

import (
	"context"
	"encoding/json"

	"northstake/core/wire"
)

// Job is one step as what does it sees it. Say tells those who watch what is under
// way.
type Job struct {
	Run    string
	Number int
	Name   string
	Work   json.RawMessage
	Say    func(format string, args ...any)
}

func job(r Record, say func(string, ...any)) Job {
	return Job{Run: r.Run, Number: r.Step.Number, Name: r.Step.Name, Work: r.Step.Work, Say: say}
}

// Worker does and undoes steps of one sort. Before records what is there before a
// step, and must change nothing. Do does the step and can be called again after it
// was cut off. Back brings back what Before recorded, whatever of Do has happened, and
// can be called again as well. Tell has what runs take notice of what lies there once more, when
// the other steps of the run are taken back, too. Close lets go, once the run has ended well, of what was kept
// for that.
type Worker interface {
	Before(ctx context.Context, j Job) (json.RawMessage, error)
	Do(ctx context.Context, j Job, before json.RawMessage) (wire.StepState, error)
	Back(ctx context.Context, j Job, before json.RawMessage) error
	Tell(ctx context.Context, j Job, before json.RawMessage) error
	Close(ctx context.Context, j Job, before json.RawMessage) error
}

// Early is a worker whose steps may be such that they can be taken back while the host still boots.
type Early interface{ Early() bool }

// Discreet is a worker whose work holds what is for nobody's record. Kept is the work without that: what it
// takes to take the step back.
type Discreet interface {
	Kept(work json.RawMessage) (json.RawMessage, error)
}

// Confirmer is a worker whose steps are held until they are confirmed.
type Confirmer interface {
	Confirm(ctx context.Context, j Job) error
}
