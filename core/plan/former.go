package plan

import "encoding/json"

// Records and journals of releases before call a stake's name its address, and have under
// "name" what is "subject" now. They are read as they are.

// UnmarshalJSON reads a row of now or of before.
func (r *Row) UnmarshalJSON(b []byte) error {
	type plain Row
	was := struct {
		*plain
		Former *string `json:"address"`
	}{plain: (*plain)(r)}
	if err := json.Unmarshal(b, &was); err != nil {
		return err
	}
	if was.Former != nil {
		r.Address, r.Name = *was.Former, r.Address
	}
	return nil
}

// UnmarshalJSON reads a step of now or of before.
func (s *Step) UnmarshalJSON(b []byte) error {
	type plain Step
	was := struct {
		*plain
		Former *string `json:"address"`
	}{plain: (*plain)(s)}
	if err := json.Unmarshal(b, &was); err != nil {
		return err
	}
	if was.Former != nil {
		s.Address, s.Name = *was.Former, s.Address
	}
	return nil
}

// UnmarshalJSON reads what is left of now or of before.
func (l *Left) UnmarshalJSON(b []byte) error {
	type plain Left
	was := struct {
		*plain
		Former *string `json:"address"`
	}{plain: (*plain)(l)}
	if err := json.Unmarshal(b, &was); err != nil {
		return err
	}
	if was.Former != nil {
		l.Address = *was.Former
	}
	return nil
}

// UnmarshalJSON reads what could not be read of now or of before.
func (u *Unreadable) UnmarshalJSON(b []byte) error {
	type plain Unreadable
	was := struct {
		*plain
		Former *string `json:"address"`
	}{plain: (*plain)(u)}
	if err := json.Unmarshal(b, &was); err != nil {
		return err
	}
	if was.Former != nil {
		u.Address = *was.Former
	}
	return nil
}
