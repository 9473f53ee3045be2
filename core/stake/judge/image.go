package judge

import (
	"fmt"
	"strings"
	"time"

	"northstake/core/stake"
	"northstake/core/wire"
)

var _ = stake.Judged("image", stake.Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        stake.Judging(judgeImage),
	Away:         stake.Judging(awayImage),
	Holds:        true,
	Follows:      true,
	Passing:      []string{"silent", "made"},
})

// awayImage takes an image away that North Stake fetched, when it is named.
func awayImage(in stake.Input, w wire.ImageWant, f wire.ImageFound) stake.Verdict {
	v := stake.Verdict{Gone: f.Engine == nil && f.ID == ""}
	if f.ID != "" {
		v.Moves = []wire.Move{{Verb: "take", Text: "take away image " + w.Image, Work: wire.JSON(wire.ImageWork{ImageWant: w, Away: true})}}
	}
	return v
}

func judgeImage(in stake.Input, w wire.ImageWant, f wire.ImageFound) stake.Verdict {
	var d differences
	v := stake.Verdict{Gone: f.ID == ""}
	block := func(what, fix string) {
		v.Blockers = append(v.Blockers, stake.Note{Address: in.Stake.Address(), What: what, Fix: fix})
	}
	fetch := func(text string) {
		v.Moves = []wire.Move{{Verb: "fetch", Text: text, Work: wire.JSON(wire.ImageWork{ImageWant: w})}}
		for s, c := range stake.Of[wire.ContainerWant](in.Declared, "container", in.Memo) {
			if c.Image == w.Image {
				v.Nudges = append(v.Nudges, stake.Nudge{Target: s.Local(), How: wire.MakeContainer, Reason: "its image has moved"})
				if f.ID != "" && (c.Network == "host" || len(c.ReachedAt) > 0) {
					v.Cautions = append(v.Cautions, silence(c, s.Place))
				}
			}
		}
	}
	if w.Login != nil && w.Login.Lacks != "" {
		block(w.Login.Lacks, fmt.Sprintf("northstake secret keep %s takes it", w.Login.Secret))
	}
	if f.Engine != nil {
		d.differ("image", "there", "not known: "+f.Engine.What)
		v.Differences = d
		if len(v.Blockers) > 0 {
			return v
		}
		if in.Pending {
			fetch("fetch image " + w.Image + " from its registry")
		} else {
			block(f.Engine.What, f.Engine.Fix)
		}
		return v
	}
	switch {
	case f.ID == "":
		d.differ("image", "there", "not there")
		if f.Silent != nil {
			block(f.Silent.What, f.Silent.Fix)
			break
		}
		fetch("fetch image " + w.Image + " from its registry")
	case f.Offered != "" && f.Digest != "" && f.Offered != f.Digest:
		d.differ("digest", shortID(f.Offered), shortID(f.Digest))
		fetch(fmt.Sprintf("fetch image %s anew from its registry, where it is %s by now", w.Image, shortID(f.Offered)))
	}
	if v.Differences = d; len(v.Blockers) > 0 {
		v.Moves, v.Nudges = nil, nil
	}
	if f.ID == "" {
		return v
	}
	var says []string
	if !f.Made.IsZero() {
		says = append(says, "made "+f.Made.UTC().Format(time.DateOnly))
	}
	if f.Digest != "" {
		says = append(says, "digest "+shortID(f.Digest))
	}
	if f.Holds != "" {
		says = append(says, f.Holds)
	}
	if f.Silent != nil {
		says = append(says, "its registry was not asked whether it has moved: "+f.Silent.What)
	}
	v.Rests = strings.Join(says, "; ")
	return v
}
