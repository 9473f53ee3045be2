package stake

import (
	"encoding/json"
	"fmt"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/wire"
)

// Link says where a symbolic link leads.
type Link struct {
	PointsTo string `toml:"points_to" json:"points_to" required:"true" example:"\"/srv/tides\""`
}

var _ = declare.Explain[Link](map[string]string{
	"points_to": "What it leads to.",
})

var _ = Register(Kind{
	Type:      "link",
	After:     []string{"file"},
	Former:    func(want map[string]json.RawMessage) { renamed(want, "to", "points_to") },
	Rehearsal: `link."/srv/now" = { points_to = "/srv/www" }`,
	Settings:  []declare.Setting{declare.Table[Link]("link", "PATH", "Symbolic links, by absolute path.", `{ "/srv/current" = { points_to = "/srv/tides" } }`)},
	Check:     checkLinks,
	Wanted: func(w *Wanting) error {
		for _, l := range declare.Nearest[Link](w.D, w.Host, "link") {
			w.Want(Stake{Type: "link", Name: l.Name, From: l.From, Want: wire.JSON(wire.LinkWant{Path: l.Name, PointsTo: l.Value.PointsTo})})
		}
		return nil
	},
	Implied: func(w *Wanting) error {
		for _, l := range declare.Nearest[Link](w.D, w.Host, "link") {
			reload, restart := sshTakesIn(l.Name, w.Traits)
			for _, service := range append(reload, restart...) {
				wantService(w, service, nil, nil, l.From)
			}
		}
		return nil
	},
	Claims: Claiming(func(w wire.LinkWant) []Claim { return []Claim{{Need: Owns, Sort: ClaimPath, What: w.Path}} }),
})

var _ = Judged("link", Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        Judging(judgeLink),
	Away:         Judging(awayLink),
})

func checkLinks(c *check.Checker, s declare.Settings, at []string) {
	links := declare.Get[map[string]*Link](s, "link")
	for _, p := range sortedKeys(links) {
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

// awayLink takes a link away that still leads where it was made to.
func awayLink(in Input, w wire.LinkWant, f wire.Entry) Verdict {
	v := Verdict{Gone: f.Kind == ""}
	switch {
	case v.Gone:
	case f.Kind != "link" || f.Target != w.PointsTo:
		v.Cautions = []Note{stays(in, w.Path)}
	default:
		v.Moves = []wire.Move{{Verb: "take", Text: "take away the link " + w.Path, Work: wire.JSON(wire.LinkWork{LinkWant: w, Away: true})}}
		v.Nudges = linkNudges(w, in)
	}
	return v
}

func linkNudges(w wire.LinkWant, in Input) []Nudge {
	reload, restart := sshTakesIn(w.Path, in.Traits)
	return nudgesOf("link", w.Path, reload, restart)
}

func judgeLink(in Input, w wire.LinkWant, f wire.Entry) Verdict {
	v := Verdict{Gone: f.Kind == ""}
	var d differences
	if f.Kind == "link" {
		d.add("leads to", w.PointsTo, f.Target)
	} else {
		d.add("what it is", "a link to "+w.PointsTo, f.Words())
	}
	v.Differences = d
	if len(d) == 0 {
		return v
	}
	v.Touched = f.Touched
	if note := barred(in, f, "", w.Path); note != nil {
		v.Blockers = []Note{*note}
		return v
	}
	v.Nudges = linkNudges(w, in)
	switch f.Kind {
	case "":
		v.Moves = []wire.Move{{Verb: "make", Text: fmt.Sprintf("make the link %s to %s", w.Path, w.PointsTo), Work: wire.JSON(w)}}
	case "link":
		v.Moves = []wire.Move{{Verb: "point", Text: fmt.Sprintf("point the link %s to %s, from %s", w.Path, w.PointsTo, f.Target), Work: wire.JSON(w)}}
	default:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s is %s, where a link is declared", w.Path, f.Words()), "move it away, or declare another path"}}
	}
	return v
}
