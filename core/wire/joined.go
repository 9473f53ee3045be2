package wire

import (
	"encoding/json"
)

// Works is the work of one step for several stakes of a kind, or for one: then it is written
// as that one's.
type Works[W any] []W

// JoinedWorks is how the work of several is written.
type JoinedWorks[W any] struct {
	Works []W `json:"works"`
}

// MarshalJSON writes one work as it is, and several as a list.
func (w Works[W]) MarshalJSON() ([]byte, error) {
	if len(w) == 1 {
		return json.Marshal(w[0])
	}
	return json.Marshal(JoinedWorks[W]{w})
}

// UnmarshalJSON reads both.
func (w *Works[W]) UnmarshalJSON(b []byte) error {
	var several JoinedWorks[W]
	if err := json.Unmarshal(b, &several); err != nil {
		return err
	}
	if *w = several.Works; len(several.Works) > 0 {
		return nil
	}
	var one W
	if err := json.Unmarshal(b, &one); err != nil {
		return err
	}
	*w = Works[W]{one}
	return nil
}

// Paths are those of all works whose kind has any.
func (w Works[W]) Paths() []Path {
	var out []Path
	for _, one := range w {
		if at, has := any(one).(interface{ Paths() []Path }); has {
			out = append(out, at.Paths()...)
		}
	}
	return out
}
