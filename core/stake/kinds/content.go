package kinds

import (
	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

var _ = stake.Register(stake.Kind{
	Type:      "content",
	After:     []string{"directory"},
	Former:    formerContent,
	Rehearsal: `content."/srv/leaflets" = { dir = "content" }`,
	Settings:  []declare.Setting{declare.Table[declare.Content]("content", "PATH", "Content that is published beside that of sites, by absolute path.", `{ "/srv/tides" = { dir = "content/tides" } }`)},
	Check: func(c *check.Checker, s declare.Settings, at []string) {
		list := declare.Get[map[string]*declare.Content](s, "content")
		for _, p := range stake.SortedKeys(list) {
			here := check.At(at, "content", p)
			if c.Place(p, here) {
				c.Root(p, here)
				c.ContentFiles(list[p], here)
			}
		}
	},
	Wanted: func(w *stake.Wanting) error {
		for _, c := range declare.Nearest[declare.Content](w.D, w.Place, "content") {
			w.Want(stake.Stake{Type: "content", Name: c.Name, From: c.From, Want: wire.JSON(wantedContent(w.D, c.Name, c.Value))})
		}
		return nil
	},
	Claims: stake.Claiming(func(w wire.ContentWant) []claim.Claim {
		return append([]claim.Claim{{Need: claim.Owns, Sort: claim.Tree, What: string(w.Root), But: w.Keep}}, claim.Owner(w.Owners)...)
	}),
})

func wantedContent(d *declare.Declaration, root string, c *declare.Content) wire.ContentWant {
	want := wire.ContentWant{Root: wire.Path(root), Files: d.FilesOf(c.Place()), Keep: c.LeftAlone, Rest: c.Undeclared,
		Modes: wire.Modes{Files: mode(c.Modes.Files, "0644"), Directories: mode(c.Modes.Directories, "0755")}}
	want.Owners = owners(c.Owner, c.Group)
	want.Dirs = d.Beside().EmptyBelow(c.Place())
	return want
}
