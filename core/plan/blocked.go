package plan

import (
	"northstake/core/stake"
	"northstake/core/wire"
)

// Left is a stake that a plan leaves as it is, because something that it takes
// is blocked. Behind is the address of what is in the way.
type Left struct {
	Address string `json:"name"`
	Site    string `json:"site,omitempty"`
	Behind  string `json:"behind"`
}

// behind says for each stake that cannot be brought about what is in its way,
// both as names on the host. In its own way is a stake with blockers of its own.
// A stake is held up by those it needs; a site is brought about as a whole, with
// what it alone calls for, or not at all; and a site is held up by a service that
// would have to be started or restarted for it and cannot be, because another
// site that is there already is in its way. What holds up each site comes second.
func behind(list []judged, byName map[string]judged) (out, sites map[string]string) {
	u := heldUp{byName: byName, stakes: map[string]string{}, sites: map[string]string{}}
	for _, j := range list {
		if len(j.verdict.Blockers) > 0 {
			u.stake(j.stake, j.stake.Local())
		}
	}
	for again := len(u.stakes) > 0; again; {
		again = false
		for _, j := range list {
			if len(j.verdict.Differences) > 0 { // else it is as declared, whatever else is not
				again = u.spread(j.stake) || again
			}
		}
	}
	return u.stakes, u.sites
}

// heldUp is what is in the way of stakes and of sites, by their names.
type heldUp struct {
	byName        map[string]judged
	stakes, sites map[string]string
}

// stake has something hold up a stake, and the site that it is of; false where something did before.
func (u heldUp) stake(s stake.Stake, by string) bool {
	if u.stakes[s.Local()] != "" {
		return false
	}
	u.stakes[s.Local()] = by
	if s.Site != "" {
		u.site(s.Site, by)
	}
	return true
}

// site has something hold up a site; false where something did before.
func (u heldUp) site(site, by string) bool {
	if u.sites[site] != "" {
		return false
	}
	u.sites[site] = by
	return true
}

// spread holds up a stake by what holds up those that it needs or is for, and these by what holds it up.
// It says whether there is more held up than before.
func (u heldUp) spread(s stake.Stake) (more bool) {
	if held := u.stakes[s.Local()]; held != "" && holding(s) {
		for _, site := range s.For { // none of them would be reached
			more = u.site(site, held) || more
		}
	}
	by := u.inTheWay(s)
	if by == "" {
		return more
	}
	more = u.stake(s, by) || more
	if s.Site != "" {
		return more
	}
	for _, need := range s.Needs {
		if site := u.byName[need].stake.Site; site != "" {
			more = u.site(site, by) || more
		}
	}
	return more
}

// inTheWay is what holds a stake up: what holds up its site, all sites that it is for, or one that it needs.
func (u heldUp) inTheWay(s stake.Stake) string {
	by := u.sites[s.Site]
	if by == "" {
		by = ofAll(s.For, u.sites)
	}
	for _, need := range s.Needs {
		if by == "" && !(s.Site == "" && absent(u.byName[need])) {
			by = u.stakes[need]
		}
	}
	return by
}

func holding(s stake.Stake) bool {
	kind, err := stake.KindOf(s.Type)
	return err == nil && kind.Holding
}

// heed judges again those stakes whose moves are another matter where others are held up: what was
// left out of them waits with those. It returns these, and what it is that they leave out, by what is
// in the way.
func heed(list []judged, blocked, sites map[string]string) (map[string]string, error) {
	var held []stake.Stake
	waiting, behind := map[string]string{}, ""
	for _, j := range list {
		by := blocked[j.stake.Local()]
		if by == "" { // what is open while nothing filters has no difference, and is to be shut
			by = ofAll(j.stake.For, sites)
		}
		if by != "" {
			held, behind = append(held, j.stake), by
			if kind, err := stake.KindOf(j.stake.Type); err == nil && kind.Holding {
				waiting[j.stake.Local()] = by
			}
		}
	}
	if len(held) == 0 {
		return nil, nil
	}
	changed := false
	for i, j := range list {
		kind, err := stake.KindOf(j.stake.Type)
		if err != nil {
			return nil, err
		}
		if !kind.Heeding || blocked[j.stake.Local()] != "" || len(j.verdict.Moves) == 0 {
			continue
		}
		j.input.Held = held
		now, err := kind.Judge(j.input)
		if err != nil {
			return nil, err
		}
		if string(wire.JSON(now.Moves)) != string(wire.JSON(j.verdict.Moves)) {
			waiting[j.stake.Local()], changed = behind, true
		}
		list[i].verdict.Moves = now.Moves
	}
	if !changed {
		return nil, nil
	}
	return waiting, nil
}

// absent says whether a stake is a part of a site and nothing of it is there: a
// server runs without it.
func absent(j judged) bool { return j.stake.Site != "" && j.verdict.Gone }

// ofAll says what holds the first of these sites up, if all of them are held up.
func ofAll(sites []string, held map[string]string) string {
	by := ""
	for _, s := range sites {
		if held[s] == "" {
			return ""
		}
		if by == "" {
			by = held[s]
		}
	}
	return by
}
