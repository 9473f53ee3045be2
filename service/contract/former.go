package contract

import "northstake/core/wire"

// UnmarshalJSON reads a step of a run, of now or of releases before.
func (s *RunStep) UnmarshalJSON(b []byte) error {
	type plain RunStep
	return wire.Named(b, (*plain)(s), &s.Name)
}
