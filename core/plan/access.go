package plan

import (
	"fmt"
	"slices"

	"northstake/core/stake"
	"northstake/core/wire"
)

// touches says whether a step can change the way in: by the paths that it changes, or by what its kind says. Of
// a kind that says nothing each step may.
func touches(access *wire.Access, s wire.Step) bool {
	kind, err := stake.KindOf(s.Type)
	return err != nil || kind.MayCutAccess == nil || slices.ContainsFunc(s.Paths(), access.RestsOnPath) || kind.MayCutAccess(access, s.Name, s.Work)
}

// guard has the host hold each step that can change the way in, nil where nothing on it can shut the service out,
// until the service has come in anew, and has those be named that take it away for good.
func guard(access *wire.Access, steps []wire.Step) (cautions []stake.Note) {
	if access == nil {
		return nil
	}
	for i := range steps {
		s := &steps[i]
		if off := entranceTakenOff(access, *s); len(off) > 0 {
			s.Shuts = true
			for _, name := range off {
				s.Removes = append(slices.Clone(s.Removes), "package "+name+", by which the service gets in to this host")
			}
			cautions = append(cautions, stake.Note{Address: s.Address, What: fmt.Sprintf("to %s takes the way in to this host off for good: it has to be named, and no new connection is asked for at the end", s.Text),
				Fix: "have another way in at hand, or leave it installed"})
			continue
		}
		if !s.Confirm && !s.Returns && touches(access, *s) {
			s.Confirm, s.Whole = true, true
			s.Details = append(slices.Clone(s.Details), wire.Detail{Title: "safety", Text: fmt.Sprintf("this can shut the way in to the host: the host takes the run back by itself after %d s unless a new connection, with login and root's rights, confirms it", wire.RevertAfter)})
		}
	}
	return cautions
}

// entranceTakenOff is what a step takes off that the service gets in by.
func entranceTakenOff(access *wire.Access, s wire.Step) []string {
	kind, err := stake.KindOf(s.Type)
	if err != nil || kind.Off == nil {
		return nil
	}
	return slices.DeleteFunc(kind.Off(s.Work), func(name string) bool { return !access.EntersBy(name) })
}
