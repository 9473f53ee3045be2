package judge

import (
	"fmt"

	"northstake/core/stake"
	"northstake/core/wire"
)

var _ = stake.Judged("link", stake.Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        stake.Judging(judgeLink),
	Away:         stake.Judging(awayLink),
})

// awayLink takes a link away that still leads where it was made to.
func awayLink(in stake.Input, w wire.LinkWant, f wire.Entry) stake.Verdict {
	v := stake.Verdict{Gone: f.Kind == ""}
	switch {
	case v.Gone:
	case f.Kind != wire.EntryLink || f.Target != w.PointsTo:
		v.Cautions = []stake.Note{stays(in, w.Path)}
	default:
		v.Moves = []wire.Move{{Verb: "take", Text: "take away the link " + string(w.Path), Work: wire.JSON(wire.LinkWork{LinkWant: w, Away: true})}}
		v.Nudges = linkNudges(w, in)
	}
	return v
}

func linkNudges(w wire.LinkWant, in stake.Input) []stake.Nudge {
	reload, restart := in.Traits.SSHTakesIn(w.Path)
	return nudgesOf("link", string(w.Path), reload, restart)
}

func judgeLink(in stake.Input, w wire.LinkWant, f wire.Entry) stake.Verdict {
	v := stake.Verdict{Gone: f.Kind == ""}
	var d differences
	if f.Kind == wire.EntryLink {
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
		v.Blockers = []stake.Note{*note}
		return v
	}
	v.Nudges = linkNudges(w, in)
	switch f.Kind {
	case "":
		v.Moves = []wire.Move{{Verb: "make", Text: fmt.Sprintf("make the link %s to %s", w.Path, w.PointsTo), Work: wire.JSON(w)}}
	case wire.EntryLink:
		v.Moves = []wire.Move{{Verb: "point", Text: fmt.Sprintf("point the link %s to %s, from %s", w.Path, w.PointsTo, f.Target), Work: wire.JSON(w)}}
	default:
		v.Blockers = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("%s is %s, where a link is declared", w.Path, f.Words()), Fix: "move it away, or declare another path"}}
	}
	return v
}
