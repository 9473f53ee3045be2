package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"

	"northstake/core/stake"
)

// Digest is what makes two steps the same step: where and what, not the words.
func (s Step) Digest() string {
	h := sha256.New()
	fmt.Fprintf(h, "%s\x00%s\x00", s.Address, s.Verb)
	h.Write(stake.JSON(json.RawMessage(s.Work)))
	return hex.EncodeToString(h.Sum(nil))
}

// Moved says how a host differs from what a plan was made for, and "" where it
// does not: fresh is the plan worked out now. When resumed is true some of the
// planned steps have been done, and the fresh plan may hold fewer of them.
func Moved(planned, fresh Host, resumed bool) string {
	for _, b := range fresh.Blockers {
		if !slices.ContainsFunc(planned.Blockers, func(p stake.Note) bool { return p.Address == b.Address }) {
			return b.What
		}
	}
	if resumed {
		known := map[string]bool{}
		for _, s := range planned.Steps {
			for _, a := range s.Addresses() {
				known[a] = true
			}
		}
		for _, s := range fresh.Steps {
			for _, a := range s.Addresses() {
				if !known[a] {
					return fmt.Sprintf("it would now also need to %s", s.Text)
				}
			}
		}
		return ""
	}
	for i, s := range fresh.Steps {
		if i >= len(planned.Steps) {
			return fmt.Sprintf("it would now also need to %s", s.Text)
		}
		if s.Digest() != planned.Steps[i].Digest() {
			return fmt.Sprintf("where the plan says to %s, it would now need to %s", planned.Steps[i].Text, s.Text)
		}
	}
	if len(fresh.Steps) < len(planned.Steps) {
		return fmt.Sprintf("there is no longer a need to %s", planned.Steps[len(fresh.Steps)].Text)
	}
	return ""
}
