package stake

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"northstake/core/declare"
	"northstake/core/wire"
)

var _ = Register(Kind{
	Type:     "image",
	After:    []string{"package", "service", "file"},
	Claims:   Claiming(func(w wire.ImageWant) []Claim { return []Claim{{Need: Owns, Sort: ClaimImage, What: w.Image}} }),
	Unsealed: unsealedImage,
})

var _ = Judged("image", Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        Judging(judgeImage),
	Away:         Judging(awayImage),
	Holds:        true,
	Follows:      true,
	Passing:      []string{"silent", "made"},
})

// awayImage takes an image away that North Stake fetched, when it is named.
func awayImage(in Input, w wire.ImageWant, f wire.ImageFound) Verdict {
	v := Verdict{Gone: f.Engine == nil && f.ID == ""}
	if f.ID != "" {
		v.Moves = []wire.Move{{Verb: "take", Text: "take away image " + w.Image, Work: wire.JSON(wire.ImageWork{ImageWant: w, Away: true})}}
	}
	return v
}

// wantImage wants an image that a container is made of, and returns the name of its stake.
func wantImage(w *Wanting, image, secret string, from declare.Position) string {
	want := wire.ImageWant{Image: image}
	if secret != "" {
		want.Login = w.Secrets.seal(secret, login)
	}
	w.Want(Stake{Type: "image", Name: image, Want: wire.JSON(want), From: from, Needs: engineNeeds(w)})
	return wire.Local("image", image)
}

// engineNeeds are the stakes that bring a container engine to the host, as far as they are
// declared.
func engineNeeds(w *Wanting) []string {
	var out []string
	for _, unit := range []string{"podman.socket", "podman", "docker.socket", "docker"} {
		if wantsService(w, unit) {
			out = append(out, wire.Local("service", unit))
		}
	}
	return out
}

// login is what a secret says of how a registry lets in.
func login(secret []byte) (string, error) {
	text := strings.TrimSpace(string(secret))
	if user, password, ok := strings.Cut(text, ":"); !ok || user == "" || password == "" {
		return "", errors.New("it is not USER:PASSWORD; keep it anew")
	}
	return text, nil
}

func unsealedImage(raw json.RawMessage, secrets *Secrets) (json.RawMessage, error) {
	var w wire.ImageWork
	if err := json.Unmarshal(raw, &w); err != nil || w.Login == nil {
		return raw, err
	}
	secrets.put(w.Login, login)
	return json.Marshal(w)
}

func judgeImage(in Input, w wire.ImageWant, f wire.ImageFound) Verdict {
	var d differences
	v := Verdict{Gone: f.ID == ""}
	block := func(what, fix string) { v.Blockers = append(v.Blockers, Note{in.Stake.Address(), what, fix}) }
	fetch := func(text string) {
		v.Moves = []wire.Move{{Verb: "fetch", Text: text, Work: wire.JSON(wire.ImageWork{ImageWant: w})}}
		for s, c := range of[wire.ContainerWant](in.Declared, "container", in.Memo) {
			if c.Image == w.Image {
				v.Nudges = append(v.Nudges, Nudge{Target: s.Local(), How: wire.MakeContainer, Reason: "its image has moved"})
				if f.ID != "" && (c.Network == "host" || len(c.ReachedAt) > 0) {
					v.Cautions = append(v.Cautions, silence(c, s.Host))
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
