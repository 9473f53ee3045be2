// Package staketest holds a small kind of stake of its own: the core half of what shows
// that a new kind takes two files and touches nothing else.
package staketest

import (
	"fmt"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// Note is what a declaration says of one.
type Note struct {
	Says string `toml:"says" json:"says" required:"true" example:"\"Low tide at six\""`
}

var _ = declare.Explain[Note](map[string]string{
	"says": "What the note says, in one line.",
})

// NoteWant is a note as a host should have it.
type NoteWant struct {
	Name string `json:"name"`
	Says string `json:"says"`
}

// NoteFound is what a note says there, and whether there is one.
type NoteFound struct {
	There bool   `json:"there"`
	Says  string `json:"says"`
}

var _ = stake.Register(stake.Kind{
	Type: "note", After: []string{"package"},
	Settings: []declare.Setting{declare.Table[Note]("note", "NAME", "Notes on a host's board, by name.", `{ tide = { says = "Low tide at six" } }`)},
	Check: func(c *check.Checker, s declare.Settings, at []string) {
		for name, n := range declare.Get[map[string]*Note](s, "note") {
			if !form.PlainName.MatchString(name) {
				c.Say(check.At(at, "note", name), fmt.Sprintf("note name %q has characters it cannot have", name), "use lower-case letters, digits and hyphens")
			}
			if strings.Contains(n.Says, "\n") {
				c.Say(check.At(at, "note", name, "says"), "a note has one line", "write it as one")
			}
		}
	},
	Wanted: func(w *stake.Wanting) error {
		for _, n := range declare.Nearest[Note](w.D, w.Place, "note") {
			w.Want(stake.Stake{Type: "note", Name: n.Name, From: n.From, Want: wire.JSON(NoteWant{n.Name, n.Value.Says})})
		}
		return nil
	},
	Claims: stake.Claiming(func(w NoteWant) []claim.Claim {
		return []claim.Claim{{Need: claim.Owns, Sort: claim.Name, What: "note " + w.Name}}
	}),
})

var _ = stake.Judged("note", stake.Judgement{
	Judge: stake.Judging(func(_ stake.Input, w NoteWant, f NoteFound) stake.Verdict {
		v := stake.Verdict{Gone: !f.There}
		if f.Says == w.Says {
			return v
		}
		v.Differences = []wire.Difference{{Attribute: "says", Wanted: w.Says, Found: f.Says}}
		v.Moves = []wire.Move{{Verb: "pin", Text: "pin note " + w.Name, Work: wire.JSON(w)}}
		return v
	}),
})
