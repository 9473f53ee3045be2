// Package wire is what travels between the service and a place that is surveyed and worked on: what is
// asked for, what is wanted of each type of stake, what was read, steps and what becomes of them. A rod
// carries it, and of core nothing above it.
package wire

import (
	"encoding/json"
	"time"
)

// Version is that of this wire, as a service says it in each request (VersionHeader) and a journal on a
// host in each of its records. It goes up where a release could take what another wrote for something
// else; what lower ones wrote is read, 0 being that of releases before, which did not say.
const Version = 1

// VersionHeader is the header of a request that has the version.
const VersionHeader = "Northstake-Wire"

// Want asks for the reading of one stake. Last is what was wanted when it was last as
// declared, where that is another thing.
type Want struct {
	Type string          `json:"type"`
	Name string          `json:"name"`
	Want json.RawMessage `json:"want"`
	Last json.RawMessage `json:"last,omitempty"`
}

// SurveyRequest asks for readings. Digest names the list of wants; a rod that
// has seen it needs no list. Known is the sum of the readings that the asker has
// from before.
type SurveyRequest struct {
	Digest string `json:"digest"`
	Wants  []Want `json:"wants"` // null where the digest is to do
	Known  string `json:"known,omitempty"`
}

// SurveyAnswer holds a reading for each want, in order. SendWants says that the rod
// does not know the digest and the wants must be sent. Every reading is taken
// anew each time; Same says that they came out as those of the sum that was
// known, which are not sent again.
type SurveyAnswer struct {
	SendWants bool            `json:"again,omitempty"`
	Same      bool            `json:"same,omitempty"`
	Sum       string          `json:"sum,omitempty"`
	Readings  json.RawMessage `json:"readings,omitempty"` // a list of Reading
	Traits    Traits          `json:"traits"`
	Clock     time.Time       `json:"clock"` // the host's, when it answered
}

// Reading is what a survey found for one stake, by its name on the host. Was is what it
// found for what was wanted when the stake was last as declared, where that is another
// thing. Unread is the reason where nothing could be found out.
type Reading struct {
	Name   string          `json:"name"`
	Found  json.RawMessage `json:"found,omitempty"`
	Was    json.RawMessage `json:"was,omitempty"`
	Unread string          `json:"unread,omitempty"`
}

// Survey is what a survey found. Sum is that of the readings: where two are the
// same, so are the readings.
type Survey struct {
	Readings []Reading
	Sum      string
	Traits   Traits
}

// StepState is where a step stands in the host's journal.
type StepState string

// The states of a step in the journal.
const (
	Begun     StepState = "begun" // what was there is recorded; work may have begun
	Held      StepState = "held"  // done, and taken back by a timer unless confirmed
	Done      StepState = "done"
	Back      StepState = "back"      // taken back
	Stuck     StepState = "stuck"     // it could not be taken back
	Dismissed StepState = "dismissed" // nor shall it be: somebody has dismissed it, with a reason
)

// UnmarshalText takes a state as it is written now, or as journals of releases before have it.
func (s *StepState) UnmarshalText(text []byte) error {
	if *s = StepState(text); *s == "aside" {
		*s = Dismissed
	}
	return nil
}

// StepRecord is one step in the journal, as the service may see it.
type StepRecord struct {
	Number  int       `json:"number"`
	Address string    `json:"address"`
	State   StepState `json:"state"`
}

// OpenAsk is what a host is to know of a run that is opened. LineGone is after how many seconds without
// a line it takes the run back by itself, 0 for never.
type OpenAsk struct {
	LineGone int64 `json:"line_gone"`
}

// OpenAnswer is the state of a run on the host after it was opened: interrupted
// steps, of this run or another, have been taken back.
type OpenAnswer struct {
	Steps     []StepRecord `json:"steps"`
	Recovered []string     `json:"recovered,omitempty"`
}

// JournalStep is a step in the journal of a host, for people. Run and Number name it. Foreign says
// that another service brought it about, or an older version of this one. Why is why it could not be
// taken back, or was dismissed. A journal that cannot be read has a Why and no number.
type JournalStep struct {
	Run     string    `json:"run"`
	Foreign bool      `json:"foreign,omitempty"`
	Number  int       `json:"number"`
	Address string    `json:"name,omitempty"`
	Text    string    `json:"text,omitempty"`
	State   StepState `json:"state,omitempty"`
	Why     string    `json:"why,omitempty"`
	At      time.Time `json:"at,omitzero"`
}

// Event is one line of a step's answer. Fault is set on the last event of a
// step that failed, State on the last event of one that did not.
type Event struct {
	Say   string    `json:"say,omitempty"`
	State StepState `json:"state,omitempty"`
	Fault *Fault    `json:"fault,omitempty"`
}

// Fault is why a step failed: what happened, what to do next, and, where a
// server complained about a line that North Stake rendered, that line and where
// in the declaration it comes from.
type Fault struct {
	What     string    `json:"what"`
	Fix      string    `json:"fix,omitempty"`
	Output   string    `json:"output,omitempty"`
	File     Path      `json:"file,omitempty"`
	Line     int       `json:"line,omitempty"`
	Rendered string    `json:"rendered,omitempty"`
	From     *Position `json:"from,omitempty"`
	Missing  bool      `json:"missing,omitempty"` // what was asked for is not there
}

func (f *Fault) Error() string { return f.What }
