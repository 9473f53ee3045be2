package kinds

import (
	"encoding/json"
	"errors"
	"strings"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

var _ = stake.Register(stake.Kind{
	Type:  "image",
	After: []string{"package", "service", "file"},
	Claims: stake.Claiming(func(w wire.ImageWant) []claim.Claim {
		return []claim.Claim{{Need: claim.Owns, Sort: claim.Image, What: w.Image}}
	}),
	Unsealed: unsealedImage,
})

// wantImage wants an image that a container is made of, and returns the name of its stake.
func wantImage(w *stake.Wanting, image, secret string, from declare.Position) string {
	want := wire.ImageWant{Image: image}
	if secret != "" {
		want.Login = w.Secrets.Seal(secret, login)
	}
	w.Want(stake.Stake{Type: "image", Name: image, Want: wire.JSON(want), From: from, Needs: engineNeeds(w)})
	return wire.Local("image", image)
}

// engineNeeds are the stakes that bring a container engine to the host, as far as they are
// declared.
func engineNeeds(w *stake.Wanting) []string {
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

func unsealedImage(raw json.RawMessage, secrets *stake.Secrets) (json.RawMessage, error) {
	var w wire.ImageWork
	if err := json.Unmarshal(raw, &w); err != nil || w.Login == nil {
		return raw, err
	}
	secrets.Put(w.Login, login)
	return json.Marshal(w)
}
