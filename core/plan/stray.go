package plan

import (
	"fmt"
	"maps"
	"slices"

	"northstake/core/stake"
)

// strays lists what was brought about, is no longer declared, and still there, and
// what kinds found beside what they manage. What was found as it was declared, and
// never touched, is the host's own.
func strays(in Input, byName map[string]judged) []Row {
	declared := map[string]bool{}
	var rows []Row
	for _, s := range in.Stakes {
		declared[s.Local()] = true
		for _, name := range byName[s.Local()].verdict.Strays {
			rows = append(rows, Row{Address: s.Address() + ":" + name, Type: s.Type, Name: name, Site: s.Site, Standing: Stray,
				Reason: "it lies in what " + s.Address() + " manages, and nobody declared it"})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(in.Applied)) {
		a := in.Applied[name]
		r, ok := in.Readings[name]
		if declared[name] || !a.Made || !ok || r.Unread != "" {
			continue
		}
		kind, err := stake.KindOf(a.Type)
		if err != nil {
			continue
		}
		v, err := kind.Judge(stake.Input{Stake: stake.Stake{Host: in.Host, Type: a.Type, Name: a.Name, Want: a.Want}, Found: r.Found, Traits: in.Traits})
		if err != nil || v.Gone {
			continue
		}
		reason := "it was brought about once, and is not declared"
		if a.Revision > 0 {
			reason = fmt.Sprintf("revision %d declared it, and the present one does not", a.Revision)
		}
		rows = append(rows, Row{Address: in.Host + "/" + name, Type: a.Type, Name: a.Name, Site: a.Site, Standing: Stray, SetAt: a.SetAt, Reason: reason})
	}
	return rows
}
