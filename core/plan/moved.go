package plan

import (
	"cmp"
	"fmt"
	"slices"

	"northstake/core/stake"
	"northstake/core/wire"
)

// InTheWay is what stands in the way of a plan's steps now and did not when it was made, or what
// could be read then and cannot be now; its What is "" where there is nothing. Nobody knows by it
// that the host has changed: an engine or a server may be slow to answer.
func InTheWay(planned, fresh Place) stake.Note {
	for _, b := range fresh.Blockers {
		if !slices.ContainsFunc(planned.Blockers, func(p stake.Note) bool { return p.Address == b.Address }) {
			return b
		}
	}
	for _, u := range fresh.NotRead {
		if slices.ContainsFunc(planned.Steps, func(s wire.Step) bool { return slices.Contains(s.Addresses(), u.Address) }) {
			return stake.Note{Address: u.Address, What: u.Why, Fix: "see that it can be read"}
		}
	}
	return stake.Note{}
}

// Moved says how a host differs from what a plan was made for, and "" where it
// does not: fresh is the plan worked out now. Anything that the plan showed or rests on
// counts, in values. When resumed is true some of the planned steps have been done, and
// the fresh plan may hold fewer of them, and nothing that was not shown.
func Moved(planned, fresh Place, resumed bool) string {
	if n := InTheWay(planned, fresh); n.What != "" {
		return n.What
	}
	if resumed {
		for _, s := range fresh.Steps {
			if why := shownIn(s, planned.Steps); why != "" {
				return why
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
		if at := restsOnOther(s, planned.Steps[i]); at != "" {
			return fmt.Sprintf("%s is no longer as the plan found it", at)
		}
	}
	if len(fresh.Steps) < len(planned.Steps) {
		return fmt.Sprintf("there is no longer a need to %s", planned.Steps[len(fresh.Steps)].Text)
	}
	return ""
}

// shownIn says what a step of a resumed run would do that none of the planned ones
// showed, "" for nothing.
func shownIn(s wire.Step, planned []wire.Step) string {
	for _, a := range s.Addresses() {
		if !slices.ContainsFunc(planned, func(p wire.Step) bool { return slices.Contains(p.Addresses(), a) }) {
			return fmt.Sprintf("it would now also need to %s", s.Text)
		}
	}
	kind, err := stake.KindOf(s.Type)
	if err != nil {
		return err.Error()
	}
	why := ""
	for _, p := range planned { // of several for one stake alone, it is one of them
		if !p.Shares(s) {
			continue
		}
		now := ""
		if s.Digest() != p.Digest() && (kind.Within == nil || !kind.Within(p.Work, s.Work)) {
			now = fmt.Sprintf("where the plan says to %s, it would now need to %s", p.Text, s.Text)
		} else if at := restsOnOther(s, p); at != "" && !kind.Follows {
			now = fmt.Sprintf("%s is no longer as the plan found it", at)
		}
		if now == "" && p.Address == s.Address && len(p.Also)+len(s.Also) == 0 {
			return ""
		}
		why = cmp.Or(why, now)
	}
	return why
}

// restsOnOther names a stake that was found otherwise than when a step was planned.
func restsOnOther(s wire.Step, planned wire.Step) string {
	for _, a := range s.Addresses() {
		if was, ok := planned.RestsOn[a]; ok && s.RestsOn[a] != was {
			return a
		}
	}
	return ""
}
