package kinds

import (
	"cmp"
	"fmt"
	"slices"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// Directory says how a directory should be.
type Directory struct {
	Owner string `toml:"owner" json:"owner,omitempty" default:"root" example:"\"www-data\""`
	Group string `toml:"group" json:"group,omitempty" default:"the owner's name" example:"\"www-data\""`
	Mode  string `toml:"mode" json:"mode,omitempty" default:"0755" example:"\"0750\""`
}

var _ = declare.Explain[Directory](map[string]string{
	"owner": "User that owns it.",
	"group": "Group of it.",
	"mode":  "Mode in octal; with 2 before it new files there get its group, and with 1 only who owns a file takes it away.",
})

var _ = stake.Register(stake.Kind{
	Type:      "directory",
	After:     []string{"account"},
	Rehearsal: `directory."/srv/harbour" = { mode = "0750" }`,
	Settings:  []declare.Setting{declare.Table[Directory]("directory", "PATH", "Directories, by absolute path.", `{ "/srv/tides" = { owner = "root", mode = "0755" } }`)},
	Check:     checkDirectories,
	Wanted: func(w *stake.Wanting) error {
		for _, d := range declare.Nearest[Directory](w.D, w.Place, "directory") {
			w.Want(stake.Stake{Type: "directory", Name: d.Name, From: d.From, Want: wire.JSON(wire.DirectoryWant{Path: wire.Path(d.Name), Owners: owners(d.Value.Owner, d.Value.Group), Mode: mode(d.Value.Mode, "0755")})})
		}
		return nil
	},
	Claims: stake.Claiming(func(w wire.DirectoryWant) []claim.Claim {
		return append([]claim.Claim{{Need: claim.Owns, Sort: claim.Path, What: string(w.Path), Dir: true}}, claim.Owner(w.Owners)...)
	}),
})

func checkDirectories(c *check.Checker, s declare.Settings, at []string) {
	list := declare.Get[map[string]*Directory](s, "directory")
	for _, p := range stake.SortedKeys(list) {
		here := check.At(at, "directory", p)
		if !c.Place(p, here) {
			continue
		}
		c.Owner(list[p].Owner, list[p].Group, here)
		c.DirectoryMode(list[p].Mode, check.At(here, "mode"))
		if slices.Contains(form.SystemDirs, p) {
			c.Say(here, fmt.Sprintf("%s belongs to the system", p), "declare a directory below it")
		}
	}
}

// owners fills in who owns a thing where that is not declared.
func owners(owner, group string) wire.Owners {
	owner = cmp.Or(owner, wire.Administrators.Owner)
	return wire.Owners{Owner: owner, Group: cmp.Or(group, owner)}
}

func mode(s string, otherwise wire.Mode) wire.Mode {
	if s == "" {
		return otherwise
	}
	if len(s) == 3 {
		return wire.Mode("0" + s)
	}
	return wire.Mode(s)
}
