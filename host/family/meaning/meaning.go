// Package meaning says what keys of a declaration mean on each family of systems.
package meaning

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"northstake/core/declare"
	"northstake/host/family"
)

// byFamily says what a key means on a family, where that differs.
var byFamily = map[string]func(family.Family) string{
	"site.NAME.root": func(f family.Family) string {
		var bases []string
		for _, s := range slices.Sorted(maps.Keys(f.Servers)) {
			if b := string(f.Servers[s].RootBase.Join("NAME")); !slices.Contains(bases, b) {
				bases = append(bases, b)
			}
		}
		return strings.Join(bases, " or ") + " when it is left out"
	},
	"site.NAME.server": func(f family.Family) string {
		var words []string
		for _, s := range slices.Sorted(maps.Keys(f.Servers)) {
			l := f.Servers[s]
			words = append(words, fmt.Sprintf("%s is package %s, service %s, sites in %s", s, l.Package, l.Service, l.SitesDir))
		}
		return strings.Join(words, "; ")
	},
	"kit.NAME.packages":  func(f family.Family) string { return "with " + f.Packages },
	"host.NAME.packages": func(f family.Family) string { return "with " + f.Packages },
}

// Keys are the keys of a declaration that a word means, with what differs between
// the families of systems. All of them for "". Near is a name that is like the word
// where it means none.
func Keys(word string) (found []declare.Key, near string) {
	if found = declare.Keys(); word != "" {
		found, near = declare.FindKeys(word)
	}
	for i, k := range found {
		if differs := byFamily[k.Name]; differs != nil {
			found[i].Families = map[string]string{}
			for _, f := range family.BuiltIn() {
				found[i].Families[f.Name] = differs(f)
			}
		}
	}
	return found, near
}
