package contract

import "northstake/core/stake"

// UnmarshalJSON reads a step of a run, of now or of releases before.
func (s *RunStep) UnmarshalJSON(b []byte) error {
	type plain RunStep
	return stake.Named(b, (*plain)(s), &s.Name)
}
