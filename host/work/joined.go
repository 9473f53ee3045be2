package work

import (
	"context"
	"encoding/json"
	"slices"

	"northstake/core/wire"
)

// befores are what was there before the parts of a step, written as the one of a step with
// one part.
type befores[B any] []B

type severalBefores[B any] struct {
	Befores []B `json:"befores"`
}

func (b befores[B]) MarshalJSON() ([]byte, error) {
	if len(b) == 1 {
		return json.Marshal(b[0])
	}
	return json.Marshal(severalBefores[B]{b})
}

func (b *befores[B]) UnmarshalJSON(raw []byte) error {
	var several severalBefores[B]
	if err := json.Unmarshal(raw, &several); err != nil {
		return err
	}
	if *b = several.Befores; len(several.Befores) > 0 {
		return nil
	}
	var one B
	if err := json.Unmarshal(raw, &one); err != nil {
		return err
	}
	*b = befores[B]{one}
	return nil
}

// joining adapts a worker of one part to steps of several, which are done in their order and
// taken back in the other.
func joining[W, J, B any](one typed[W, J, B]) typed[W, wire.Works[J], befores[B]] {
	return typed[W, wire.Works[J], befores[B]]{
		read: one.read, early: one.early,
		before: func(ctx context.Context, m *Host, j Job, works wire.Works[J]) (befores[B], error) {
			var out befores[B]
			for _, w := range works {
				b, err := one.before(ctx, m, j, w)
				if err != nil {
					return nil, err
				}
				out = append(out, b)
			}
			return out, nil
		},
		do: func(ctx context.Context, m *Host, j Job, works wire.Works[J], b befores[B]) (wire.StepState, error) {
			for i, w := range works {
				if state, err := one.do(ctx, m, j, w, b[i]); err != nil || state != wire.Done {
					return state, err
				}
			}
			return wire.Done, nil
		},
		back: func(ctx context.Context, m *Host, j Job, works wire.Works[J], b befores[B]) error {
			for i, w := range slices.Backward(works) {
				if err := one.back(ctx, m, j, w, b[i]); err != nil {
					return err
				}
			}
			return nil
		},
	}
}
