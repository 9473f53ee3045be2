package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"

	"northstake/core/stake"
	"northstake/core/wire"
)

// join makes one step of steps of one kind that follow one another and can be made
// together.
func join(steps []wire.Step) ([]wire.Step, error) {
	out := []wire.Step{}
	for i := 0; i < len(steps); {
		n := i + 1
		for steps[i].Joins && n < len(steps) && steps[n].Joins && steps[n].Type == steps[i].Type {
			n++
		}
		one := steps[i]
		if n > i+1 {
			kind, err := stake.KindOf(one.Type)
			if err != nil {
				return nil, err
			}
			if kind.Join == nil {
				return nil, fmt.Errorf("moves of kind %s cannot be joined", one.Type)
			}
			var moves []wire.Move
			for _, s := range steps[i:n] {
				moves = append(moves, s.Move)
				if s.Address != one.Address {
					one.Also = append(one.Also, s.Address)
				}
				maps.Copy(one.RestsOn, s.RestsOn)
			}
			one.Move = kind.Join(moves)
			one.AlsoAt = alsoAt(kind, one.Work)
		}
		out = append(out, one)
		i = n
	}
	return out, nil
}

func (j judged) step(m wire.Move) wire.Step {
	s := j.stake
	kind, _ := stake.KindOf(s.Type) // it has been judged by it
	return wire.Step{Place: s.Place, Address: s.Address(), Type: s.Type, Name: s.Name, Move: m, AlsoAt: alsoAt(kind, m.Work), RestsOn: map[string]string{s.Address(): fingerprint(j.input.Found, append([]string{"touched"}, kind.Passing...))}}
}

func alsoAt(kind stake.Kind, work json.RawMessage) []wire.Path {
	if kind.Paths == nil {
		return nil
	}
	return kind.Paths(work)
}

// fingerprint is what makes two readings the same finding: their values, not when somebody
// touched a thing without changing it.
func fingerprint(found json.RawMessage, passing []string) string {
	var v any
	if json.Unmarshal(found, &v) != nil {
		return ""
	}
	sum := sha256.Sum256(wire.JSON(without(v, passing)))
	return hex.EncodeToString(sum[:])
}

// without leaves some keys out, however deep.
func without(v any, keys []string) any {
	switch v := v.(type) {
	case map[string]any:
		for _, k := range keys {
			delete(v, k)
		}
		for k := range v {
			v[k] = without(v[k], keys)
		}
	case []any:
		for i := range v {
			v[i] = without(v[i], keys)
		}
	}
	return v
}
