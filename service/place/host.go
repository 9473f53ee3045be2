package place

import (
	"context"

	"northstake/core/declare"
	"northstake/host/reach"
)

// Host is how to get to a host, and the keys by which that is known.
type Host struct {
	Target reach.Target
	Known  reach.KnownKeys
}

// Hosts are hosts with a rod on them, over connections that are kept.
type Hosts struct{ *reach.Pool }

// Secrets are those of the host's login: none where its way needs none.
func (Hosts) Secrets(d *declare.Declaration, name string) []string {
	h, r := d.Hosts[name], d.ReachOf(name)
	if _, way := h.Transport(); !way.Login {
		return nil
	}
	var out []string
	for _, n := range []string{r.KeySecret, r.PasswordSecret, r.SudoSecret} {
		if n != "" {
			out = append(out, n)
		}
	}
	return out
}

// Line is a kept connection to the host's rod.
func (h Hosts) Line(ctx context.Context, key string, to To) (Line, error) {
	conn, err := h.Rod(ctx, key, to.Host.Target, to.Host.Known)
	if err != nil {
		return nil, err
	}
	return conn, nil
}

// Fresh is a new connection to the host's rod.
func (h Hosts) Fresh(ctx context.Context, to To) (Line, func(), error) {
	conn, end, err := h.Pool.Fresh(ctx, to.Host.Target, to.Host.Known)
	if err != nil {
		return nil, nil, err
	}
	return conn, end, nil
}
