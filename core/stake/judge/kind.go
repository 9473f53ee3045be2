package judge

import (
	"encoding/json"

	"northstake/core/stake"
	"northstake/core/wire"
)

// workWithin adapts what says whether work was shown by other work.
func workWithin[W any](within func(planned, now W) bool) func(planned, now json.RawMessage) bool {
	return func(planned, now json.RawMessage) bool {
		p, ok := stake.Decoded[W](planned)
		n, ok2 := stake.Decoded[W](now)
		return ok && ok2 && within(p, n)
	}
}

// workAt are the paths at which decoded work is, nil where it cannot be read.
func workAt[W interface{ Paths() []wire.Path }](work json.RawMessage) []wire.Path {
	w, ok := stake.Decoded[W](work)
	if !ok {
		return nil
	}
	return w.Paths()
}
