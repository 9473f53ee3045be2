package wire

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

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

// Touch is what can be known about who changed a thing, and when.
type Touch struct {
	Owner string    `json:"owner,omitempty"`
	At    time.Time `json:"at,omitzero"`
	What  string    `json:"what,omitempty"`
}

// JSON encodes a value of this package's own; such values always encode.
func JSON(v any) json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return b
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
