package judge

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"northstake/core/stake"
	"northstake/core/wire"
)

var _ = stake.Judged("account", stake.Judgement{
	MayCutAccess: func(access *wire.Access, name string, _ json.RawMessage) bool { return name == access.User },
	Judge:        stake.Judging(judgeAccount),
	Away:         stake.Judging(awayAccount),
	Holds:        true,
	Follows:      true,
})

// awayAccount takes away an account that a run made.
func awayAccount(in stake.Input, w wire.AccountWant, f wire.AccountFound) stake.Verdict {
	v := stake.Verdict{Gone: !f.Known}
	switch {
	case v.Gone:
	case !in.Fresh || !f.System || f.ID == 0:
		v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("account %s was not made by North Stake, and stays", w.Name), Fix: "take it away by hand, if it is meant to go"}}
	default:
		v.Moves = []wire.Move{{Verb: "take", Text: "take away system account " + w.Name, Work: wire.JSON(wire.AccountWork{AccountWant: w, Away: true}), Removes: []string{"account " + w.Name}}}
		v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("files that belong to %s stay, and belong to number %d, which another account may get one day", w.Name, f.ID), Fix: "look for them first: find / -xdev -user " + w.Name}}
	}
	return v
}

func judgeAccount(in stake.Input, w wire.AccountWant, f wire.AccountFound) stake.Verdict {
	v := stake.Verdict{Gone: !f.Known}
	var d differences
	work := wire.AccountWork{AccountWant: w, Make: !f.Known, OwnGroup: !f.Taken}
	if !f.Known {
		d.add("account", "there", "not there")
	} else {
		d.add("first group", w.Name, f.Group)
		// What is not declared is as it was when the account was last as declared.
		before, ok := stake.Decoded[wire.AccountFound](in.LastFound)
		work.Home, work.Shell = cmp.Or(w.Home, before.Home), cmp.Or(w.Shell, before.Shell)
		if work.Home != "" {
			d.add("home", work.Home, f.Home)
		}
		if work.Shell != "" {
			d.add("shell", work.Shell, f.Shell)
		}
		if f.ID == 0 {
			d.differ("number", "one of its own", "0, which is root's")
		} else if ok && before.ID != 0 && before.ID != f.ID {
			d.differ("number", fmt.Sprint(before.ID), fmt.Sprint(f.ID))
		}
		if f.Opens {
			d.differ("password", "none that opens it", "one is set")
			work.Lock = true
		}
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
	case slices.ContainsFunc(d, func(one wire.Difference) bool { return one.Attribute == "number" }):
		v.Blockers = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("account %s has number %d on this host: what is to belong to it would belong to another", w.Name, f.ID), Fix: "give it its own number again, by hand (usermod -u), with its files"}}
		return v
	case f.Known && !f.System:
		v.Blockers = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("%s is the account of a person on this host", w.Name), Fix: "declare another name: North Stake changes system accounts alone"}}
		return v
	case len(f.Missing) > 0 && !in.Pending:
		v.Blockers = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("this host has no group %s", strings.Join(f.Missing, ", ")), Fix: "declare the package or the account that brings it, or leave it out"}}
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
	v.Moves = []wire.Move{{Verb: verb, Text: text, Work: wire.JSON(work)}}
	return v
}
