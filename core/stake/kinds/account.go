package kinds

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/stake/claim"
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

var _ = stake.Register(stake.Kind{
	Type:      "account",
	After:     []string{"restart"},
	Rehearsal: `account.harbour = {}`,
	Settings:  []declare.Setting{declare.Table[Account]("account", "NAME", "System accounts, by name: they own files and sites, and nobody logs in with them. Each has a group of its name.", `{ tides = { home = "/srv/tides" } }`)},
	Check:     checkAccounts,
	Wanted: func(w *stake.Wanting) error {
		for _, a := range declare.Nearest[Account](w.D, w.Place, "account") {
			want := wire.AccountWant{Name: a.Name, Home: a.Value.Home, Shell: a.Value.Shell, Groups: a.Value.Groups}
			w.Want(stake.Stake{Type: "account", Name: a.Name, From: a.From, Want: wire.JSON(want)})
		}
		return nil
	},
	Finish: func(w *stake.Wanting) {
		packages := w.Locals("package") // they bring groups
		groups := map[string][]string{}
		for s, a := range stake.Of[wire.AccountWant](w.All, "account", nil) {
			groups[s.Name] = a.Groups
		}
		for i := range w.All {
			if w.All[i].Type != "account" {
				continue
			}
			w.All[i].After = slices.Clone(packages)
			for _, g := range groups[w.All[i].Name] { // so do other accounts
				if _, declared := groups[g]; declared && !inGroup(groups, g, w.All[i].Name, len(groups)) {
					w.All[i].After = append(w.All[i].After, wire.Local("account", g))
				}
			}
		}
	},
	Claims: stake.Claiming(func(w wire.AccountWant) []claim.Claim {
		out := []claim.Claim{{Need: claim.Owns, Sort: claim.Account, What: w.Name}}
		for _, g := range w.Groups {
			out = append(out, claim.Claim{Need: claim.Requires, Sort: claim.Account, What: g})
		}
		return out
	}),
})

// inGroup says whether an account is in the group of another, or in that of one that is.
func inGroup(groups map[string][]string, name, other string, deep int) bool {
	return name == other || deep > 0 && slices.ContainsFunc(groups[name], func(g string) bool { return inGroup(groups, g, other, deep-1) })
}

func checkAccounts(c *check.Checker, s declare.Settings, at []string) {
	list := declare.Get[map[string]*Account](s, "account")
	for _, name := range stake.SortedKeys(list) {
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
