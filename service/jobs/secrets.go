package jobs

import (
	"context"
	"encoding/json"
	"strings"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/core/wire"
)

// Secrets are what the service keeps encrypted, for what is declared on one host: the key of
// its marks is of no use for another's.
func (j *Service) Secrets(ctx context.Context, d *declare.Declaration, ground, host string) *stake.Secrets {
	return &stake.Secrets{
		Key: j.Seal.Derive("marks of " + ground + "/" + host),
		Value: func(name string) ([]byte, error) {
			if certificate, is := strings.CutPrefix(name, wire.CertificateSecret); is {
				return j.material(ctx, ground, d, certificate)
			}
			return j.kept(ctx, name)
		},
		Former: func(name string) ([]byte, error) {
			certificate, is := strings.CutPrefix(name, wire.CertificateSecret)
			if !is {
				return nil, &noSecret{name}
			}
			return j.kept(ctx, formerly(keptAs(ground, certificate)))
		},
	}
}

// unsealed is what is wanted, or the work of a step, with what secrets hold for it, on its way
// to a host.
func unsealed(typ string, raw json.RawMessage, secrets *stake.Secrets) (json.RawMessage, error) {
	k, err := stake.KindOf(typ)
	if err != nil || k.Unsealed == nil || len(raw) == 0 {
		return raw, nil
	}
	return k.Unsealed(raw, secrets)
}

// unsealedWants are the wants that a host is sent in place of those given.
func unsealedWants(wants []wire.Want, secrets *stake.Secrets) ([]wire.Want, error) {
	out := make([]wire.Want, len(wants))
	for i, w := range wants {
		var err error
		if w.Want, err = unsealed(w.Type, w.Want, secrets); err != nil {
			return nil, err
		}
		if w.Last, err = unsealed(w.Type, w.Last, secrets); err != nil {
			return nil, err
		}
		out[i] = w
	}
	return out, nil
}

// unsealedSteps are the steps that a host is sent in place of those given.
func unsealedSteps(steps []wire.Step, secrets *stake.Secrets) ([]wire.Step, error) {
	out := make([]wire.Step, len(steps))
	for i, step := range steps {
		var err error
		if step.Work, err = unsealed(step.Type, step.Work, secrets); err != nil {
			return nil, err
		}
		out[i] = step
	}
	return out, nil
}
