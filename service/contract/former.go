package contract

import "encoding/json"

// UnmarshalJSON reads a step of a run of now, or of releases before, which called its stake's
// name its address.
func (s *RunStep) UnmarshalJSON(b []byte) error {
	type plain RunStep
	was := struct {
		*plain
		Former *string `json:"address"`
	}{plain: (*plain)(s)}
	if err := json.Unmarshal(b, &was); err != nil {
		return err
	}
	if was.Former != nil {
		s.Name = *was.Former
	}
	return nil
}
