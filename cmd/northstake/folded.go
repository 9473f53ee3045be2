package main

import (
	"fmt"
	"strings"

	"northstake/core/stake"
	"northstake/core/wire"
)

// foldFrom is from how many steps that are alike, one after the other, they are said in one line.
const foldFrom = 8

// things are what stakes of a type are called where there are many.
var things = map[string]string{
	"site": "virtual hosts", "content": "roots", "directory": "directories", "file": "files", "link": "links", "port": "ports",
	"package": "packages", "service": "services", "account": "accounts", "container": "containers", "image": "images", "source": "package sources",
}

// folded are steps in groups: those that do the same with things of one type, one after the other. What
// holds somebody's content and goes, and what the host would take back by itself, stands alone.
func folded(steps []wire.Step) [][]wire.Step {
	var out [][]wire.Step
	for _, s := range steps {
		last := len(out) - 1
		if last >= 0 && alike(out[last][0], s) {
			out[last] = append(out[last], s)
		} else {
			out = append(out, []wire.Step{s})
		}
	}
	var split [][]wire.Step
	for _, group := range out {
		if len(group) >= foldFrom {
			split = append(split, group)
			continue
		}
		for _, s := range group {
			split = append(split, []wire.Step{s})
		}
	}
	return split
}

func alike(a, b wire.Step) bool {
	return a.Type == b.Type && a.Verb == b.Verb && things[a.Type] != "" && len(a.Removes)+len(b.Removes) == 0 && !a.Confirm && !b.Confirm && len(a.Also)+len(b.Also) == 0
}

// foldedLine says many steps in one line.
func foldedLine(group []wire.Step) string {
	var names []string
	for _, s := range group {
		names = append(names, s.Name)
	}
	return fmt.Sprintf("%d-%d  %s %d %s: %s (--details shows each)", group[0].Number, group[len(group)-1].Number, group[0].Verb, len(group), things[group[0].Type], fewOf(names))
}

// fewOf names the first of many.
func fewOf(names []string) string {
	const most = 4
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// sameNotes are notes of which those that say the same of several stakes are one, with the names of the
// stakes in the place of the address.
func sameNotes(notes []stake.Note) []stake.Note {
	type said struct{ what, fix string }
	of := map[said][]string{}
	var out []stake.Note
	for _, n := range notes {
		key := said{n.What, n.Fix}
		if of[key] == nil {
			out = append(out, n)
		}
		of[key] = append(of[key], n.Address)
	}
	for i, n := range out {
		out[i].Address = fewOf(of[said{n.What, n.Fix}])
	}
	return out
}
