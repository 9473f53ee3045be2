package work

import (
	"context"

	"northstake/core/stake"
	"northstake/host/family"
)

var _ = register("restart", typed[stake.RestartWant, stake.ActWork, actBefore]{
	read: each(func(_ context.Context, m *Host, _ stake.RestartWant) (any, error) {
		return stake.RestartFound{Needed: family.RestartNeeded(m.Machine)}, nil
	}),
	before: beforeAct, do: doAct, back: backAct,
})
