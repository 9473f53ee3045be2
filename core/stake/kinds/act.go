package kinds

import (
	"encoding/json"

	"northstake/core/stake"
	"northstake/core/wire"
)

// WithLogin is an act with the login of an image's registry, made of a secret.
func WithLogin(w wire.ActWant, secrets *stake.Secrets) wire.ActWant {
	if w.ImageSecret != "" {
		w.Login = secrets.Seal(w.ImageSecret, login)
	}
	return w
}

var _ = stake.Register(stake.Kind{
	Type:     "act",
	Unsealed: unsealedAct,
})

func unsealedAct(raw json.RawMessage, secrets *stake.Secrets) (json.RawMessage, error) {
	var w wire.ActWork
	if err := json.Unmarshal(raw, &w); err != nil || w.Login == nil {
		return raw, err
	}
	secrets.Put(w.Login, login)
	return json.Marshal(w)
}
