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
		is, differs := a, false
		switch row.Standing {
		case Set:
			absent, did := worked[row.Address]
			is, differs = noted(s, a, known, in.Readings[name].Found, did, absent, revision, now)
			if differs {
				row.SetAt, row.ShiftedAt = is.SetAt, time.Time{}
			}
		case Shifted:
			if differs = a.Shifted.IsZero(); differs {
				is.Shifted, row.ShiftedAt = now, now
			}
		case Due:
			if differs = known && !a.Shifted.IsZero(); differs { // it went back to what it was, and something else is declared
				is.Shifted = time.Time{}
			}
		}
		if differs {
			out[name], changed = is, true
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

// noted is what is remembered of a stake that is as declared, and whether that is something else than
// was noted: a, where known says that there was anything. Did says that a run has just brought it about,
// and absent that nothing of it was there before.
func noted(s stake.Stake, a Applied, known bool, found json.RawMessage, did, absent bool, revision int, now time.Time) (Applied, bool) {
	as := known && a.Shifted.IsZero() && Same(a.Want, s.Want) // as it was when it was last seen
	is := Applied{Type: s.Type, Name: s.Name, Site: s.Site, Want: s.Want, Found: found, Revision: revision, SetAt: now, Made: a.Made || did, Fresh: absent}
	if known {
		is.Fresh = a.Fresh
	}
	if as && a.Made == is.Made && Same(a.Found, found) {
		return a, false
	}
	if as {
		is.SetAt = a.SetAt
	}
	if s.From.File == declare.OneOff {
		is.Revision = 0
	}
	return is, true
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
