package stake

import (
	"fmt"
	"slices"
	"strings"
)

// AccountWant is a system account that owns files or runs a program: nobody logs
// in with it. Its own group has its name; Groups are others that it is in.
type AccountWant struct {
	Name   string   `json:"name"`
	Home   string   `json:"home"`
	Shell  string   `json:"shell"`
	Groups []string `json:"groups,omitempty"`
}

// AccountFound is what passwd(5) and group(5) say. Groups are those that the
// account is in beside its first one.
type AccountFound struct {
	Known   bool     `json:"known"`
	System  bool     `json:"system,omitempty"` // its number is among those of the system
	Group   string   `json:"group,omitempty"`  // its first one
	Home    string   `json:"home,omitempty"`
	Shell   string   `json:"shell,omitempty"`
	Groups  []string `json:"groups,omitempty"`
	Missing []string `json:"missing,omitempty"` // wanted groups that the host has not
	Taken   bool     `json:"taken,omitempty"`   // a group of its name is there already
	Touched Touch    `json:"touched,omitzero"`
}

// AccountWork makes an account, or changes one. Join adds groups to those that it
// is in.
type AccountWork struct {
	AccountWant
	Make     bool     `json:"make,omitempty"`
	OwnGroup bool     `json:"own_group,omitempty"` // the group of its name is made with it
	Join     []string `json:"join,omitempty"`
}

var _ = register("account", kindOf[AccountWant, AccountFound](judgeAccount))

func judgeAccount(in Input, w AccountWant, f AccountFound) Verdict {
	v := Verdict{Gone: !f.Known}
	var d differences
	work := AccountWork{AccountWant: w, Make: !f.Known, OwnGroup: !f.Taken}
	if !f.Known {
		d.add("account", "there", "not there")
	} else {
		d.add("first group", w.Name, f.Group)
		d.add("home", w.Home, f.Home)
		d.add("shell", w.Shell, f.Shell)
	}
	for _, g := range w.Groups {
		if !slices.Contains(f.Groups, g) {
			work.Join = append(work.Join, g)
			if f.Known {
				d.add("group "+g, "in it", "not in it")
			}
		}
	}
	if v.Differences = d; len(d) == 0 {
		return v
	}
	v.Touched = f.Touched
	switch {
	case f.Known && !f.System:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s is the account of a person on this host", w.Name), "declare another name: North Stake changes system accounts alone"}}
		return v
	case len(f.Missing) > 0 && !in.Pending:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("this host has no group %s", strings.Join(f.Missing, ", ")), "declare the package or the account that brings it, or leave it out"}}
		return v
	}
	text, verb := "make system account "+w.Name, "make"
	if f.Known {
		var words []string
		for _, one := range d {
			words = append(words, one.Attribute)
		}
		verb, text = "set", fmt.Sprintf("set system account %s: %s", w.Name, strings.Join(words, ", "))
	} else if len(w.Groups) > 0 {
		text += ", in group " + strings.Join(w.Groups, ", ")
	}
	v.Moves = []Move{{Verb: verb, Text: text, Work: JSON(work)}}
	return v
}
