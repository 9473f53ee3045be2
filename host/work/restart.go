package work

import (
	"context"

	"northstake/core/wire"
	"northstake/host/family"
)

var _ = register("restart", typed[wire.RestartWant, wire.ActWork, actBefore]{
	read: each(func(_ context.Context, m *Host, _ wire.RestartWant) (any, error) {
		return wire.RestartFound{Needed: family.RestartNeeded(m.Machine)}, nil
	}),
	before: beforeAct, do: doAct, back: backAct,
})
