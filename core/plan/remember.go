package plan

import (
	"bytes"
	"encoding/json"
	"maps"
	"time"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/core/wire"
)

// Applied is what is remembered of a stake from when it was last as declared.
type Applied struct {
	Type     string          `json:"type"`
	Name     string          `json:"name"`
	Site     string          `json:"site,omitempty"`
	Want     json.RawMessage `json:"want"`
	Found    json.RawMessage `json:"found"`
	Revision int             `json:"revision"`            // 0 for what was brought about once
	SetAt    time.Time       `json:"set_at"`              // when it was first seen as it is wanted now
	Shifted  time.Time       `json:"shifted_at,omitzero"` // when it was first seen to differ
	Made     bool            `json:"made,omitempty"`      // a run has brought it about, here or earlier; not so what was found as declared
	Fresh    bool            `json:"fresh,omitempty"`     // a run has brought it about where nothing of it was
}

// Remember brings what is remembered up to a new reading: stakes that are as
// declared are noted with what was found; those that differ keep what was noted
// and get the time they were first seen to differ. It reports whether anything
// changed, and writes the times into the host's rows. Worked are the addresses of
// stakes that a run has just brought about, and whether nothing of them was there before.
func Remember(in Input, h *Place, worked map[string]bool, revision int, now time.Time) (map[string]Applied, bool) {
	out := map[string]Applied{}
	maps.Copy(out, in.Applied)
	changed := false
	stakes := map[string]stake.Stake{}
	for _, s := range in.Stakes {
		stakes[s.Local()] = s
	}
	present := map[string]bool{}
	for i := range h.Rows {
		row := &h.Rows[i]
		name := wire.Local(row.Type, row.Name)
		present[name] = true
		s, ok := stakes[name]
		if !ok || row.Address != s.Address() {
			continue
		}
		a, known := out[name]
		switch row.Standing {
		case Set:
			absent, did := worked[row.Address]
			made, fresh := a.Made || did, absent
			if known {
				fresh = a.Fresh
			}
			if known && a.Shifted.IsZero() && a.Made == made && Same(a.Want, s.Want) && Same(a.Found, in.Readings[name].Found) {
				continue
			}
			setAt := now
			if known && a.Shifted.IsZero() && Same(a.Want, s.Want) {
				setAt = a.SetAt
			}
			from := revision
			if s.From.File == declare.OneOff {
				from = 0
			}
			out[name] = Applied{s.Type, s.Name, s.Site, s.Want, in.Readings[name].Found, from, setAt, time.Time{}, made, fresh}
			row.SetAt, row.ShiftedAt = setAt, time.Time{}
			changed = true
		case Shifted:
			if a.Shifted.IsZero() {
				a.Shifted = now
				row.ShiftedAt = now
				out[name] = a
				changed = true
			}
		case Due:
			if known && !a.Shifted.IsZero() { // it went back to what it was, and something else is declared
				a.Shifted = time.Time{}
				out[name] = a
				changed = true
			}
		}
	}
	for name := range out {
		if _, declared := stakes[name]; declared || present[name] {
			continue
		}
		if r, ok := in.Readings[name]; !out[name].Made || ok && r.Unread == "" {
			delete(out, name) // no longer declared, and gone or never touched
			changed = true
		}
	}
	return out, changed
}

// Same compares two JSON values by their compact text.
func Same(a, b json.RawMessage) bool {
	if bytes.Equal(a, b) {
		return true
	}
	var x, y any
	if json.Unmarshal(a, &x) != nil || json.Unmarshal(b, &y) != nil {
		return false
	}
	return bytes.Equal(wire.JSON(x), wire.JSON(y))
}
