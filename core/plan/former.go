package plan

import (
	"encoding/json"

	"northstake/core/stake"
	"northstake/core/wire"
)

// Records and journals of releases before call a stake's name its address, and have under
// "name" what is "subject" now. They are read as they are.

// UnmarshalJSON reads a row of now or of before.
func (r *Row) UnmarshalJSON(b []byte) error {
	type plain Row
	if err := json.Unmarshal(b, (*plain)(r)); err != nil {
		return err
	}
	if name, was := wire.FormerName(b); was {
		r.Address, r.Name = name, r.Address
	}
	return nil
}

// UnmarshalJSON reads what is remembered of a stake, now or before.
func (a *Applied) UnmarshalJSON(b []byte) error {
	type plain Applied
	if err := json.Unmarshal(b, (*plain)(a)); err != nil {
		return err
	}
	a.Want = stake.WantOfBefore(a.Type, a.Want)
	return nil
}

// UnmarshalJSON reads what is left, of now or of before.
func (l *Left) UnmarshalJSON(b []byte) error {
	type plain Left
	return wire.Named(b, (*plain)(l), &l.Address)
}

// UnmarshalJSON reads what could not be read, of now or of before.
func (u *Unreadable) UnmarshalJSON(b []byte) error {
	type plain Unreadable
	return wire.Named(b, (*plain)(u), &u.Address)
}
