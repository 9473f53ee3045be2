package main

import "cmp"

// placeWord is what a place of a sort is called, "" for a host.
func placeWord(sort string) string { return cmp.Or(sort, "host") }

// places are the sorts of some places.
type places []string

// words counts them: as hosts where all are.
func (p places) words() string {
	for _, sort := range p {
		if sort != "" {
			return counted(len(p), "place", "places")
		}
	}
	return counted(len(p), "host", "hosts")
}
