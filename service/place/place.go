// Package place is how the service gets to what is surveyed and worked on. A host with a rod on it is one
// sort of place; each sort says how a line to one is made, and all that is asked and done goes over that.
package place

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"northstake/core/declare"
	"northstake/core/wire"
	"northstake/host/probe"
)

// Line is a connection to a place. An error that is a *wire.Fault came from there; after any other the line
// may be broken, which Usable says.
type Line interface {
	Usable() bool

	// Traits asks what the place is. LastTraits is what it was when it was last asked over this line.
	Traits(ctx context.Context) (wire.Traits, error)
	LastTraits(ctx context.Context) (wire.Traits, error)

	// Survey looks: it reads stakes, and changes nothing. Digest stands for the list that wants returns, which
	// is asked for where the place does not know it. The caller must not change the readings.
	Survey(ctx context.Context, digest string, wants func() ([]wire.Want, error)) (wire.Survey, error)

	// Open takes the place for a run, until CloseRun or the end of the line, and takes back what was interrupted
	// there. A run to which nobody comes back the place may take back by itself.
	Open(ctx context.Context, run string, ask wire.OpenAsk) (wire.OpenAnswer, error)
	CloseRun(ctx context.Context, run string) error

	// Preflight checks before the first step whether any would be refused.
	Preflight(ctx context.Context, run string, steps []wire.Step) error

	// Step does one, and calls say for each line of progress: it ends Done, or Held until Confirm is called over
	// a new line. CancelStep has the one that is under way fail.
	Step(ctx context.Context, run string, step wire.Step, say func(string)) (wire.StepState, error)
	CancelStep(ctx context.Context, run string) error
	Confirm(ctx context.Context, run string, number int) error

	// TakeBack takes back every step of a run, the last first.
	TakeBack(ctx context.Context, run string, say func(string)) error

	// Journal lists the steps that the place knows of, the newest first; service is who asks. Dismiss has one
	// that could not be taken back hold up nothing any more, for a reason.
	Journal(ctx context.Context, service string) ([]wire.JournalStep, error)
	Dismiss(ctx context.Context, run string, number int, reason string) error
}

// Carrying is a line over which content goes to a place.
type Carrying interface {
	// MissingBlobs lists the blobs that a step needs and the place has not got; SendBlobs sends some, as a tar
	// file that write writes.
	MissingBlobs(ctx context.Context, step wire.Step) ([]string, error)
	SendBlobs(ctx context.Context, write func(io.Writer) error) error
}

// Visiting is a line to a place that can visit a site from where it is.
type Visiting interface {
	Probe(ctx context.Context, a probe.Asked) (probe.Result, error)
}

// To is a place, and by what means the service gets there.
type To struct {
	Name     string
	Declared *declare.Declaration
	Secrets  map[string][]byte // those that its sort asks for, by their names
	Host     Host              // of a host alone
}

// Sort is a sort of place.
type Sort interface {
	// Secrets are the names of those by which a place is reached.
	Secrets(d *declare.Declaration, name string) []string

	// Line is one that is kept under a key, as long as it is usable and was made by the same means, or else a
	// new one; Drop ends what is kept. Fresh is a new line that is not kept; close ends it.
	Line(ctx context.Context, key string, to To) (Line, error)
	Fresh(ctx context.Context, to To) (line Line, close func(), err error)
	Drop(key string)
}

var sorts = map[string]Sort{}

// Register makes a sort of place known beside hosts; core/declare knows its table by the same name.
func Register(name string, s Sort) struct{} {
	sorts[name] = s
	return struct{}{}
}

// Sorts are those there are, by their names.
type Sorts map[string]Sort

// NewSorts are all sorts, with hosts among them.
func NewSorts(hosts Sort) Sorts {
	out := Sorts{declare.HostSort: hosts}
	maps.Copy(out, sorts)
	return out
}

// Of is the sort with a name.
func (s Sorts) Of(name string) (Sort, error) {
	if sort, ok := s[name]; ok {
		return sort, nil
	}
	return nil, fmt.Errorf("no sort of place is called %q; there are %s", name, strings.Join(slices.Sorted(maps.Keys(s)), ", "))
}

// Drop ends what is kept under a key, of whatever sort.
func (s Sorts) Drop(key string) {
	for _, sort := range s {
		sort.Drop(key)
	}
}
