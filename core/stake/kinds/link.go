package kinds

import (
	"encoding/json"
	"fmt"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// Link says where a symbolic link leads.
type Link struct {
	PointsTo string `toml:"points_to" json:"points_to" required:"true" example:"\"/srv/tides\""`
}

var _ = declare.Explain[Link](map[string]string{
	"points_to": "What it leads to.",
})

var _ = stake.Register(stake.Kind{
	Type:      "link",
	After:     []string{"file"},
	Former:    func(want map[string]json.RawMessage) { renamed(want, "to", "points_to") },
	Rehearsal: `link."/srv/now" = { points_to = "/srv/www" }`,
	Settings:  []declare.Setting{declare.Table[Link]("link", "PATH", "Symbolic links, by absolute path.", `{ "/srv/current" = { points_to = "/srv/tides" } }`)},
	Check:     checkLinks,
	Wanted: func(w *stake.Wanting) error {
		for _, l := range declare.Nearest[Link](w.D, w.Place, "link") {
			w.Want(stake.Stake{Type: "link", Name: l.Name, From: l.From, Want: wire.JSON(wire.LinkWant{Path: wire.Path(l.Name), PointsTo: l.Value.PointsTo})})
		}
		return nil
	},
	Implied: func(w *stake.Wanting) error {
		for _, l := range declare.Nearest[Link](w.D, w.Place, "link") {
			reload, restart := w.Traits.SSHTakesIn(wire.Path(l.Name))
			for _, service := range append(reload, restart...) {
				wantService(w, service, nil, nil, l.From)
			}
		}
		return nil
	},
	Claims: stake.Claiming(func(w wire.LinkWant) []claim.Claim {
		return []claim.Claim{{Need: claim.Owns, Sort: claim.Path, What: string(w.Path)}}
	}),
})

func checkLinks(c *check.Checker, s declare.Settings, at []string) {
	links := declare.Get[map[string]*Link](s, "link")
	for _, p := range stake.SortedKeys(links) {
		if !c.Place(p, check.At(at, "link", p)) {
			continue
		}
		to := links[p].PointsTo
		if to != "" && (form.Control(to) || len(to) > 1000) {
			c.Say(check.At(at, "link", p, "points_to"), fmt.Sprintf("%q cannot be what a link leads to", to), "use a plainer path")
		} else if to == p {
			c.Say(check.At(at, "link", p, "points_to"), "the link leads to itself", "name what it should lead to")
		}
	}
}
