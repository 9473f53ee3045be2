package stake

import (
	"bytes"
	"fmt"
	"slices"

	"northstake/core/declare"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// Wanting gathers what is wanted of one place. What is said of families, web servers and secrets is of hosts.
type Wanting struct {
	D       *declare.Declaration
	Place   string
	Traits  wire.Traits
	Layouts map[string]wire.Layout // how web servers lie on the host's family, by their names
	Secrets *Secrets               // nil where what is made of secrets is of no matter

	All       []Stake
	names     map[string]bool
	behind    map[string]string // types that stakes stand behind, by their names
	gathered  map[string]any
	conflicts []claim.Conflict
}

// Conflicts are what excludes each other in what is declared of the host, after Stakes.
func (w *Wanting) Conflicts() []claim.Conflict {
	return append(w.conflicts, claim.Conflicts(ClaimsOf(w.All))...)
}

// Refuse notes what excludes each other.
func (w *Wanting) Refuse(c claim.Conflict) { w.conflicts = append(w.conflicts, c) }

// Contradicts notes that two places want one thing otherwise.
func (w *Wanting) Contradicts(by string, a, b declare.Position, what string) {
	if claim.Later(a, b) {
		a, b = b, a
	}
	w.Refuse(claim.Conflict{A: claim.Claim{By: by, From: a}, B: claim.Claim{By: by, From: b}, What: what, Fix: "keep one of the two"})
}

// Want adds a stake, unless one of its name is wanted already. The root of a site that
// publishes nothing is as a declared directory says; two that want one thing otherwise
// contradict each other.
func (w *Wanting) Want(s Stake) {
	if w.names[s.Local()] {
		i := slices.IndexFunc(w.All, func(o Stake) bool { return o.Local() == s.Local() })
		if first := w.All[i]; !bytes.Equal(first.Want, s.Want) && !(s.Type == "directory" && s.Site != "") {
			w.Contradicts(s.Local(), first.From, s.From, fmt.Sprintf("%s is declared twice, and not alike", s.Local()))
		}
		return
	}
	if w.names == nil {
		w.names = map[string]bool{}
	}
	w.names[s.Local()] = true
	s.Place = w.Place
	w.All = append(w.All, s)
}

// Behind has a stake, by its name on the host, stand behind all that are of another type, and not among its own.
func (w *Wanting) Behind(local, typ string) {
	if w.behind == nil {
		w.behind = map[string]string{}
	}
	w.behind[local] = typ
}

// Wants says whether a stake is wanted that has this name on the host.
func (w *Wanting) Wants(local string) bool { return w.names[local] }

// Each calls do for the settings that count for the host, the nearest last. At gives
// the place of what stands below them.
func (w *Wanting) Each(do func(s declare.Settings, at func(keys ...string) declare.Position)) {
	w.D.Each(w.Place, func(s declare.Settings, at []string) {
		do(s, func(keys ...string) declare.Position { return w.D.At(append(slices.Clone(at), keys...)...) })
	})
}

// Named is what something is called on the host's family, "" where it is left out.
func (w *Wanting) Named(name string, names map[string]string) string {
	if n, ok := names[w.Traits.Family]; ok {
		return n
	}
	return name
}

// Gathering is what one kind gathers of a host before it adds stakes, made by its
// first use.
func Gathering[T any](w *Wanting, typ string) *T {
	if v, ok := w.gathered[typ].(*T); ok {
		return v
	}
	if w.gathered == nil {
		w.gathered = map[string]any{}
	}
	v := new(T)
	w.gathered[typ] = v
	return v
}

// Stakes works out the stakes of the place, in an order in which they can be brought
// about. The error names what the host's platform cannot do.
func (w *Wanting) Stakes() ([]Stake, error) {
	sort := w.D.SortOf(w.Place)
	order := slices.DeleteFunc(slices.Clone(InOrder()), func(k Kind) bool { return !k.IsOf(sort) })
	place := map[string]int{}
	for i, k := range order {
		place[k.Type] = i
		if k.Wanted == nil {
			continue
		}
		if err := k.Wanted(w); err != nil {
			return nil, err
		}
	}
	for _, k := range order {
		if k.Implied == nil {
			continue
		}
		if err := k.Implied(w); err != nil {
			return nil, err
		}
	}
	for _, k := range order {
		if k.Finish != nil {
			k.Finish(w)
		}
	}
	for i := range w.All {
		w.afterOwner(&w.All[i])
	}
	parts := 0 // where the parts of a site stand
	for _, k := range order {
		if k.Gathers {
			parts = 2 * place[k.Type]
		}
	}
	at := func(s Stake) int {
		switch behind := w.behind[s.Local()]; {
		case behind != "":
			return 2*place[behind] + 1
		case order[place[s.Type]].Gathers: // all of them together
			return parts + 1
		case s.Site != "": // what sites are made of, before
			return parts
		}
		return 2 * place[s.Type]
	}
	slices.SortStableFunc(w.All, func(a, b Stake) int { return at(a) - at(b) })
	return w.All, nil
}

// afterOwner has a stake come after what may bring the account that it belongs to.
func (w *Wanting) afterOwner(s *Stake) {
	for _, c := range ClaimsOf([]Stake{*s}) {
		if c.Sort != claim.Account || c.Need != claim.Requires {
			continue
		}
		s.After = append(s.After, w.Locals("package")...)
		if account := wire.Local("account", c.What); w.Wants(account) {
			s.Needs = append(s.Needs, account)
		}
	}
}

// Locals lists the names of the stakes of a type that are wanted so far.
func (w *Wanting) Locals(typ string) []string {
	var out []string
	for _, s := range w.All {
		if s.Type == typ {
			out = append(out, s.Local())
		}
	}
	return out
}
