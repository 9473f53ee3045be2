package stake

import (
	"cmp"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/wire"
)

// Account says how a system account should be.
type Account struct {
	Home   string   `toml:"home" json:"home,omitempty" default:"/nonexistent" example:"\"/srv/tides\""`
	Shell  string   `toml:"shell" json:"shell,omitempty" default:"/usr/sbin/nologin" example:"\"/bin/sh\""`
	Groups []string `toml:"groups" json:"groups,omitempty" example:"[\"www-data\"]"`
}

var _ = declare.Explain[Account](map[string]string{
	"home":   "Its home directory, which is not made.",
	"shell":  "The program that a login would start.",
	"groups": "Groups that it is in beside its own; others that it is in are left alone.",
})

var _ = Register(Kind{
	Type:      "account",
	After:     []string{"restart"},
	Rehearsal: `account.harbour = {}`,
	Settings:  []declare.Setting{declare.Table[Account]("account", "NAME", "System accounts, by name: they own files and sites, and nobody logs in with them. Each has a group of its name.", `{ tides = { home = "/srv/tides" } }`)},
	Check:     checkAccounts,
	Wanted: func(w *Wanting) error {
		for _, a := range declare.Nearest[Account](w.D, w.Host, "account") {
			want := wire.AccountWant{Name: a.Name, Home: a.Value.Home, Shell: a.Value.Shell, Groups: a.Value.Groups}
			w.Want(Stake{Type: "account", Name: a.Name, From: a.From, Want: wire.JSON(want)})
		}
		return nil
	},
	Finish: func(w *Wanting) {
		packages := w.of("package") // they bring groups
		groups := map[string][]string{}
		for s, a := range of[wire.AccountWant](w.stakes, "account", nil) {
			groups[s.Name] = a.Groups
		}
		for i := range w.stakes {
			if w.stakes[i].Type != "account" {
				continue
			}
			w.stakes[i].After = slices.Clone(packages)
			for _, g := range groups[w.stakes[i].Name] { // so do other accounts
				if _, declared := groups[g]; declared && !inGroup(groups, g, w.stakes[i].Name, len(groups)) {
					w.stakes[i].After = append(w.stakes[i].After, wire.Local("account", g))
				}
			}
		}
	},
	Claims: Claiming(func(w wire.AccountWant) []Claim {
		out := []Claim{{Need: Owns, Sort: ClaimAccount, What: w.Name}}
		for _, g := range w.Groups {
			out = append(out, Claim{Need: Requires, Sort: ClaimAccount, What: g})
		}
		return out
	}),
})

var _ = Judged("account", Judgement{
	MayCutAccess: func(access *wire.Access, name string, _ json.RawMessage) bool { return name == access.User },
	Judge:        Judging(judgeAccount),
	Away:         Judging(awayAccount),
	Holds:        true,
	Follows:      true,
})

// inGroup says whether an account is in the group of another, or in that of one that is.
func inGroup(groups map[string][]string, name, other string, deep int) bool {
	return name == other || deep > 0 && slices.ContainsFunc(groups[name], func(g string) bool { return inGroup(groups, g, other, deep-1) })
}

func checkAccounts(c *check.Checker, s declare.Settings, at []string) {
	list := declare.Get[map[string]*Account](s, "account")
	for _, name := range sortedKeys(list) {
		a, here := list[name], check.At(at, "account", name)
		switch {
		case !form.Account.MatchString(name):
			c.Say(here, fmt.Sprintf("%q is not the name of an account", name), "use lower-case letters, digits, hyphens and underscores")
		case name == "root":
			c.Say(here, "root is the system's own account", "declare another")
		}
		for k, p := range map[string]string{"home": a.Home, "shell": a.Shell} {
			if p != "" && (!path.IsAbs(p) || path.Clean(p) != p || form.Bad(p) != "" || strings.Contains(p, ":")) {
				c.Say(check.At(here, k), fmt.Sprintf("%q cannot be the %s of an account", p, k), "write a plain absolute path")
			}
		}
		for i, g := range a.Groups {
			if !form.Account.MatchString(g) {
				c.Say(check.At(here, "groups", fmt.Sprint(i)), fmt.Sprintf("%q is not the name of a group", g), "use lower-case letters, digits, hyphens and underscores")
			}
		}
	}
}

// awayAccount takes away an account that a run made.
func awayAccount(in Input, w wire.AccountWant, f wire.AccountFound) Verdict {
	v := Verdict{Gone: !f.Known}
	switch {
	case v.Gone:
	case !in.Fresh || !f.System || f.ID == 0:
		v.Cautions = []Note{{in.Stake.Address(), fmt.Sprintf("account %s was not made by North Stake, and stays", w.Name), "take it away by hand, if it is meant to go"}}
	default:
		v.Moves = []wire.Move{{Verb: "take", Text: "take away system account " + w.Name, Work: wire.JSON(wire.AccountWork{AccountWant: w, Away: true}), Removes: []string{"account " + w.Name}}}
		v.Cautions = []Note{{in.Stake.Address(), fmt.Sprintf("files that belong to %s stay, and belong to number %d, which another account may get one day", w.Name, f.ID), "look for them first: find / -xdev -user " + w.Name}}
	}
	return v
}

func judgeAccount(in Input, w wire.AccountWant, f wire.AccountFound) Verdict {
	v := Verdict{Gone: !f.Known}
	var d differences
	work := wire.AccountWork{AccountWant: w, Make: !f.Known, OwnGroup: !f.Taken}
	if !f.Known {
		d.add("account", "there", "not there")
	} else {
		d.add("first group", w.Name, f.Group)
		// What is not declared is as it was when the account was last as declared.
		before, ok := last[wire.AccountFound](in.LastFound)
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
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("account %s has number %d on this host: what is to belong to it would belong to another", w.Name, f.ID), "give it its own number again, by hand (usermod -u), with its files"}}
		return v
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
	v.Moves = []wire.Move{{Verb: verb, Text: text, Work: wire.JSON(work)}}
	return v
}
