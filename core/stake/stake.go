// Package stake holds the kinds of stake: what is wanted of one thing on one
// host, how a reading of it compares, and which moves would make it so. Each
// kind is one file; the rest of the product knows kinds only through Kind.
package stake

import (
	"bytes"
	"encoding/json"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"
	"time"

	"northstake/core/declare"
)

// Stake is one checkable statement that should hold on one host. It cannot be
// brought about without what it Needs, and comes after the stakes in After, which
// may bring what it takes. Both are names of other stakes of the same host, as
// "type/name". Site is the site that it is a part of; For are the sites that alone
// call for it, none when it is declared itself.
type Stake struct {
	Host  string           `json:"host"`
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

// Local is the stake's name on its host: "package/nginx".
func (s Stake) Local() string { return Local(s.Type, s.Name) }

// WantsNothing says whether a stake wants something to be gone, or stopped.
func (s Stake) WantsNothing() bool {
	var w struct {
		Gone    bool  `json:"gone"`
		Running *bool `json:"running"`
		AtBoot  *bool `json:"at_boot"`
	}
	if json.Unmarshal(s.Want, &w) != nil {
		return false
	}
	on := w.Running != nil && *w.Running || w.AtBoot != nil && *w.AtBoot
	return w.Gone || s.Type == "service" && !on
}

// Address is the stake's name in its ground: "quay1/package/nginx".
func (s Stake) Address() string { return s.Host + "/" + s.Local() }

// Former ends the name of what a stake was before it was declared to lie elsewhere.
const Former = ":former"

// Local joins a type and a name; a name that is a path keeps its own slash.
func Local(typ, name string) string {
	if strings.HasPrefix(name, "/") {
		return typ + name
	}
	return typ + "/" + name
}

// Difference is one attribute of a stake that is not as wanted.
type Difference struct {
	Attribute string `json:"attribute"`
	Wanted    string `json:"wanted"`
	Found     string `json:"found"`
}

// Detail is something a step shows when it is unfolded. Diff says that Text is
// a unified diff.
type Detail struct {
	Title string `json:"title"`
	Text  string `json:"text"`
	Diff  bool   `json:"diff,omitempty"`
}

// Note is a blocker or a caution: what is in the way, and what to do.
type Note struct {
	Address string `json:"name"`
	What    string `json:"what"`
	Fix     string `json:"fix"`
}

// UnmarshalJSON reads a note of now or of before.
func (n *Note) UnmarshalJSON(b []byte) error {
	type plain Note
	return Named(b, (*plain)(n), &n.Address)
}

// MayBeFormer says whether some records may be of releases before, which are read otherwise.
func MayBeFormer(records []byte) bool { return bytes.Contains(records, []byte(`"address"`)) }

// FormerName is the name of a stake in a record of releases before, which called it its address;
// false where the record is of now.
func FormerName(record []byte) (string, bool) {
	if !MayBeFormer(record) {
		return "", false
	}
	var was struct {
		Address *string `json:"address"`
	}
	if err := json.Unmarshal(record, &was); err != nil || was.Address == nil {
		return "", false
	}
	return *was.Address, true
}

// Named reads a record, of now or of before, that has a stake's name in one of its fields.
func Named(record []byte, into any, name *string) error {
	if err := json.Unmarshal(record, into); err != nil {
		return err
	}
	if former, was := FormerName(record); was {
		*name = former
	}
	return nil
}

// Move is what one step would do, in words and as work for the host. Confirm says
// that the host takes the move back by itself unless the service confirms it
// over a new connection, Blobs that content has to be sent there first.
type Move struct {
	Verb    string          `json:"verb"`
	Text    string          `json:"text"`
	Because string          `json:"because,omitempty"`
	Details []Detail        `json:"details,omitempty"`
	Work    json.RawMessage `json:"work"`
	Confirm bool            `json:"confirm,omitempty"`
	Whole   bool            `json:"whole,omitempty"` // unless it is confirmed the whole run goes back
	Blobs   bool            `json:"blobs,omitempty"`
	Removes []string        `json:"removes,omitempty"` // what goes that holds somebody's content; it is confirmed by the stake's name
	Shuts   bool            `json:"shuts,omitempty"`   // the way in to the host goes with it
	Returns bool            `json:"returns,omitempty"` // the host goes down and comes back
	Stays   bool            `json:"stays,omitempty"`   // of what nobody declares any more, it changes something and takes nothing away
	Late    bool            `json:"-"`                 // what goes for its stake's sake goes right before it, and not before the stake's other moves
	Joins   bool            `json:"-"`                 // one step can make it together with others of its kind
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
	Traits    Traits
	Pending   bool
	Nudges    []Nudge
	Memo      *Memo
	Leaving   []Stake         // what the same plan takes away
	Declared  []Stake         // beside what is taken away
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
	Differences []Difference
	Gone        bool // nothing of the stake is there at all
	Moves       []Move
	Nudges      []Nudge
	Blockers    []Note
	Cautions    []Note
	Strays      []string
	Late        bool     // of what is taken away: not before what comes in its place is ready to start
	Unread      string   // why it cannot be told yet, whatever else is said
	Rests       string   // what the verdict rests on, where that is less than it could be
	Is          string   // what the thing is on the host, of which another stake may have another name
	Takes       []string // other stakes of the host, by name, that the moves would undo
	Touched     Touch
}

// Touch is what can be known about who changed a thing, and when.
type Touch struct {
	Owner string    `json:"owner,omitempty"`
	At    time.Time `json:"at,omitzero"`
	What  string    `json:"what,omitempty"`
}

// goes says whether what lies at a path goes with the same plan.
func (in Input) goes(path string) bool {
	return slices.ContainsFunc(in.Leaving, func(s Stake) bool { return s.Name == path })
}

// of are those of some stakes that are of a type, with what they want. Memo may be nil.
func of[W any](stakes []Stake, typ string, memo *Memo) iter.Seq2[Stake, W] {
	return func(yield func(Stake, W) bool) {
		for _, s := range stakes {
			if s.Type != typ {
				continue
			}
			if w, err := Decode[W](memo, "want "+s.Local(), s.Want); err == nil && !yield(s, w) {
				return
			}
		}
	}
}

// leaving are the wants of the stakes of a type, among those that the same plan takes away, or that wait.
func leaving[W any](gone []Stake, typ string, memo *Memo) []W {
	var out []W
	for _, w := range of[W](gone, typ, memo) {
		out = append(out, w)
	}
	return out
}

// last decodes a remembered value; ok is false when there is none.
func last[T any](raw json.RawMessage) (v T, ok bool) {
	return v, len(raw) > 0 && json.Unmarshal(raw, &v) == nil
}

// JSON encodes a value of this package's own; such values always encode.
func JSON(v any) json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return b
}

type differences []Difference

// add compares two values that are their own words.
func (d *differences) add(attribute, wanted, found string) {
	if wanted != found {
		d.differ(attribute, wanted, found)
	}
}

// differ notes a difference that was found in values; the words are for people.
func (d *differences) differ(attribute, wanted, found string) {
	*d = append(*d, Difference{attribute, wanted, found})
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// TwoSizes writes two sizes that differ, to the byte where they would read the same.
func TwoSizes(a, b int64) (string, string) {
	if x, y := Bytes(a), Bytes(b); x != y {
		return x, y
	}
	return fmt.Sprintf("%d B", a), fmt.Sprintf("%d B", b)
}

// Bytes writes a size for people: 512 B, 48 KB, 1.5 MB.
func Bytes(n int64) string {
	f := float64(n)
	for _, unit := range []string{"B", "KB", "MB", "GB"} {
		if f < 1000 || unit == "GB" {
			if unit == "B" || f >= 10 {
				return fmt.Sprintf("%.0f %s", f, unit)
			}
			return fmt.Sprintf("%.1f %s", f, unit)
		}
		f /= 1000
	}
	return ""
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func sortedKeys[V any](m map[string]V) []string {
	if len(m) == 0 {
		return nil // as most tables are, of thousands of hosts
	}
	return slices.Sorted(maps.Keys(m))
}
