package work

import (
	"context"
	"fmt"

	"northstake/core/wire"
	"northstake/host/publish"
)

var _ = register("content", placed(typed[publish.Wanted, wire.ContentWork, publish.Before]{
	read: each(func(_ context.Context, m *Host, w publish.Wanted) (any, error) { return publish.Read(m.Machine, w) }),
	before: func(_ context.Context, m *Host, j Job, w wire.ContentWork) (publish.Before, error) {
		return publish.Prepare(m.Machine, fmt.Sprintf("%s-%d", j.Run, j.Number), w)
	},
	do: func(_ context.Context, m *Host, j Job, w wire.ContentWork, b publish.Before) (wire.StepState, error) {
		return wire.Done, publish.Do(m.Machine, w, b, j.Say)
	},
	back: func(_ context.Context, m *Host, j Job, w wire.ContentWork, b publish.Before) error {
		return publish.Back(m.Machine, w, b, j.Say)
	},
	close: func(m *Host, w wire.ContentWork, b publish.Before) error { return publish.Close(m.Machine, w, b) },
}, func(w wire.ContentWork) spot { return spot{w.Root, w.Owners, w.Away} }))
