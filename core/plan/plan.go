// Package plan compares what is wanted with what was read and works out the
// standing of every stake and the ordered steps that would make each one set.
package plan

import (
	"time"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// Standing is how a stake stands.
type Standing string

// The five standings.
const (
	Set     Standing = "set"     // as declared
	Due     Standing = "due"     // declared, not yet applied
	Shifted Standing = "shifted" // was applied, now differs
	Stray   Standing = "stray"   // there, inside what North Stake manages, but not declared
	Unread  Standing = "unread"  // could not be read
)

// Row is one stake with its standing. The differences of one that has shifted are from
// what it was when it was last as declared; NewlyDeclared says that something else is
// declared by now.
type Row struct {
	Address     string            `json:"name"`
	Type        string            `json:"type"`
	Name        string            `json:"subject"` // what it is of its type
	Site        string            `json:"site,omitempty"`
	Standing    Standing          `json:"standing"`
	From        declare.Position  `json:"from,omitzero"`
	Differences []wire.Difference `json:"differences,omitempty"`
	Reason      string            `json:"reason,omitempty"` // why it is unread or stray, or what the verdict rests on
	Soon        string            `json:"soon,omitempty"`   // what ends soon, though all is as declared yet
	Touched     wire.Touch        `json:"touched,omitzero"`
	SetAt       time.Time         `json:"set_at,omitzero"`
	ShiftedAt   time.Time         `json:"shifted_at,omitzero"`

	NewlyDeclared bool `json:"newly_declared,omitempty"`
	Absent        bool `json:"absent,omitempty"` // nothing of it is there
}

// InDrift says whether who looks for drift is to see the row.
func (r Row) InDrift() bool {
	return r.Standing == Shifted || r.Standing == Stray || r.Standing == Unread || r.Soon != ""
}

// Place is the plan of one place, a host or one of another sort, by its name. Left is what stays as it is because of a blocker,
// beside what the blockers themselves name, and LeftSites are the sites that are
// not brought about for that reason.
type Place struct {
	Name      string       `json:"host"`
	Sort      string       `json:"sort,omitempty"` // of place, "" for a host
	Rows      []Row        `json:"rows"`
	Steps     []wire.Step  `json:"steps"`
	Blockers  []stake.Note `json:"blockers,omitempty"`
	Left      []Left       `json:"left,omitempty"`
	LeftSites []string     `json:"left_sites,omitempty"`
	Cautions  []stake.Note `json:"cautions,omitempty"`
	Unread    string       `json:"unread,omitempty"` // why the host could not be surveyed at all
	NotRead   []Unreadable `json:"not_read,omitempty"`
	Otherwise []stake.Note `json:"answers_otherwise,omitempty"` // sites that lie there as declared, and what their visitors get instead
	Machine   string       `json:"machine,omitempty"`           // of the service's own machine, its name
}

// Unreadable is a stake of which nothing could be found out, and why: nobody knows
// whether it is as declared.
type Unreadable struct {
	Address string `json:"name"`
	Why     string `json:"why"`
}

// Input is what the plan of one place is worked out from. Stakes stand in the
// order in which they can be brought about. Readings and Applied go by the
// stake's name there. Readings of stakes that are remembered but no
// longer declared are there as well.
type Input struct {
	Place    string
	Stakes   []stake.Stake
	Readings map[string]wire.Reading
	Applied  map[string]Applied
	Traits   wire.Traits
	Memo     *wire.Memo // may be nil
	Restores bool       // what has shifted goes back to what it was last declared to be
	Clears   bool       // what runs brought about, and nobody declares any more, is taken away
	Retires  string     // what is taken away although it may be declared, in words
	Removing []string   // addresses of what goes only when it is named
	Resumed  bool       // a part of the plan may be done already

	Access    *wire.Access     // how the service gets in, nil where nothing can shut it out
	Conflicts []claim.Conflict // of what is declared
	Reached   map[int]bool     // TCP ports that a connection from outside was tried to, and whether it was let in
	Vantage   string           // where that came from, as a network of one address
}

// Counts counts rows by standing.
func Counts(rows []Row) map[Standing]int {
	out := map[Standing]int{}
	for _, r := range rows {
		out[r.Standing]++
	}
	return out
}
