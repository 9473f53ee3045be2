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
	text := "" // of the step that fetches it
	if w.Login != nil && w.Login.Lacks != "" {
		block(w.Login.Lacks, fmt.Sprintf("northstake secret keep %s takes it", w.Login.Secret))
	}
	switch {
	case f.Engine != nil:
		d.differ("image", "there", "not known: "+f.Engine.What)
		switch {
		case in.Pending:
			text = "fetch image " + w.Image + " from its registry"
		case len(v.Blockers) == 0:
			block(f.Engine.What, f.Engine.Fix)
		}
	case f.ID == "":
		d.differ("image", "there", "not there")
		if f.Silent != nil {
			block(f.Silent.What, f.Silent.Fix)
		}
		text = "fetch image " + w.Image + " from its registry"
	case f.Offered != "" && f.Digest != "" && f.Offered != f.Digest:
		d.differ("digest", shortID(f.Offered), shortID(f.Digest))
		text = fmt.Sprintf("fetch image %s anew from its registry, where it is %s by now", w.Image, shortID(f.Offered))
	}
	v.Differences = d
	if f.Engine == nil && f.ID != "" {
		v.Rests = imageRests(f)
	}
	if text != "" {
		moves, nudges, cautions := fetchImage(in, w, f, text)
		if v.Cautions = cautions; len(v.Blockers) == 0 {
			v.Moves, v.Nudges = moves, nudges
		}
	}
	return v
}

// fetchImage is the step that fetches an image, and what of it the containers are told that are made of it.
func fetchImage(in stake.Input, w wire.ImageWant, f wire.ImageFound, text string) (moves []wire.Move, nudges []stake.Nudge, cautions []stake.Note) {
	for s, c := range stake.Of[wire.ContainerWant](in.Declared, "container", in.Memo) {
		if c.Image != w.Image {
			continue
		}
		nudges = append(nudges, stake.Nudge{Target: s.Local(), How: wire.MakeContainer, Reason: "its image has moved"})
		if f.ID != "" && (c.Network == "host" || len(c.ReachedAt) > 0) {
			cautions = append(cautions, silence(c, s.Place))
		}
	}
	return []wire.Move{{Verb: "fetch", Text: text, Work: wire.JSON(wire.ImageWork{ImageWant: w})}}, nudges, cautions
}

// imageRests says what an image is, and on what the verdict on it rests.
func imageRests(f wire.ImageFound) string {
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
	return strings.Join(says, "; ")
}
