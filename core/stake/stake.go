// Package stake says what a stake is, one thing that is wanted of one place, what a kind of
// them is, and what a verdict on a reading. The kinds themselves are in kinds, where they are
// declared, and in judge; the rest of the product knows them only through Kind.
package stake

import (
	"encoding/json"
	"iter"
	"maps"
	"slices"

	"northstake/core/declare"
	"northstake/core/wire"
)

// Stake is one checkable statement that should hold at one place: a host, or one of another
// sort. It cannot be
// brought about without what it Needs, and comes after the stakes in After, which
// may bring what it takes. Both are names of other stakes of the same place, as
// "type/name". Site is the site that it is a part of; For are the sites that alone
// call for it, none when it is declared itself.
type Stake struct {
	Place string           `json:"host"`
	Type  string           `json:"type"`
	Name  string           `json:"name"`
	Want  json.RawMessage  `json:"want"`
	From  declare.Position `json:"from"`
	Site  string           `json:"site,omitempty"`
	For   []string         `json:"for,omitempty"`
	Needs []string         `json:"needs,omitempty"`
	After []string         `json:"after,omitempty"`
}

// Nudge says that another stake, named as "type/name", has to take notice when this one changes: a
// service reloads because its site was written.
type Nudge struct {
	Target string `json:"target"`
	How    string `json:"how"` // "reload" or "restart"
	Reason string `json:"reason"`
}

// Local is the stake's name at its place: "package/nginx".
func (s Stake) Local() string { return wire.Local(s.Type, s.Name) }

// WantsNothing says whether a stake wants something to be gone, or stopped.
func (s Stake) WantsNothing() bool {
	k, err := KindOf(s.Type)
	return err == nil && k.Nothing != nil && k.Nothing(s.Want)
}

// Address is the stake's name in its ground: "quay1/package/nginx".
func (s Stake) Address() string { return s.Place + "/" + s.Local() }

// Former ends the name of what a stake was before it was declared to lie elsewhere.
const Former = ":former"

// Note is a blocker or a caution: what is in the way, and what to do.
type Note struct {
	Address string `json:"name"`
	What    string `json:"what"`
	Fix     string `json:"fix"`
}

// UnmarshalJSON reads a note of now or of before.
func (n *Note) UnmarshalJSON(b []byte) error {
	type plain Note
	return wire.Named(b, (*plain)(n), &n.Address)
}

// Input is what a kind judges by. Found is the reading; Last and LastFound are
// what was wanted and found when the stake was last as declared, and are nil
// when it never was. Pending says that a stake this one needs is itself to be
// changed by the same plan.
type Input struct {
	Stake     Stake
	Found     json.RawMessage
	Last      json.RawMessage
	LastFound json.RawMessage
	Traits    wire.Traits
	Pending   bool
	Nudges    []Nudge
	Memo      *wire.Memo
	Leaving   []Stake         // what the same plan takes away
	Declared  []Stake         // beside what is taken away
	Brought   []Stake         // of what is taken away: all of the host's stakes as they were when each was last as declared
	Held      []Stake         // what waits for something that is in its way, for kinds that heed that
	Fresh     bool            // of what is taken away, that nothing of it was there before it was brought about
	Restores  bool            // only what has shifted is planned for: what is as declared says nothing of what is in the way
	Paths     map[string]bool // that stakes of the host are about, or were until they left

	// Reached says of TCP ports whether a connection from outside was let in, where one was
	// tried; Vantage is the address that it came from, as a network of one.
	Reached map[int]bool
	Vantage string
}

// Verdict is what a kind makes of an Input. Moves is empty when nothing is to
// be done by the stake itself.
type Verdict struct {
	Differences []wire.Difference
	Gone        bool // nothing of the stake is there at all
	Moves       []wire.Move
	Nudges      []Nudge
	Blockers    []Note
	Cautions    []Note
	Strays      []string
	Late        bool     // of what is taken away: not before what comes in its place is ready to start
	Unread      string   // why it cannot be told yet, whatever else is said
	Rests       string   // what the verdict rests on, where that is less than it could be
	Soon        string   // what ends soon, though all is as declared yet
	SameAs      string   // what the thing is on the host, of which another stake may have another name
	Takes       []string // other stakes of the host, by name, that the moves would undo
	Touched     wire.Touch
}

// Goes says whether what lies at a path goes with the same plan.
func (in Input) Goes(path wire.Path) bool {
	return slices.ContainsFunc(in.Leaving, func(s Stake) bool { return s.Name == string(path) })
}

// Of are those of some stakes that are of a type, with what they want. Memo may be nil.
func Of[W any](stakes []Stake, typ string, memo *wire.Memo) iter.Seq2[Stake, W] {
	return func(yield func(Stake, W) bool) {
		for _, s := range stakes {
			if s.Type != typ {
				continue
			}
			if w, err := wire.Decode[W](memo, "want "+s.Local(), s.Want); err == nil && !yield(s, w) {
				return
			}
		}
	}
}

// Decoded is a remembered value; ok is false when there is none.
func Decoded[T any](raw json.RawMessage) (v T, ok bool) {
	return v, len(raw) > 0 && json.Unmarshal(raw, &v) == nil
}

// SortedKeys are the keys of a table in their order.
func SortedKeys[V any](m map[string]V) []string {
	if len(m) == 0 {
		return nil // as most tables are, of thousands of hosts
	}
	return slices.Sorted(maps.Keys(m))
}
