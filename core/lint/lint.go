// Package lint finds what is wrong in a declaration, all at once, each mistake with its
// place and what to do. It changes nothing. There is a file for each table; what is
// wrong with a kind's own settings, the kind says.
package lint

import (
	"fmt"
	"maps"
	"slices"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/stake"
)

// Parse reads the files of a declaration and checks all of it. The declaration is only
// sound when no problems come back.
func Parse(sources []declare.Source, m *declare.Manifest) (*declare.Declaration, declare.Problems) {
	return ParseIn(declare.Words, sources, m)
}

// ParseIn is Parse for files that were written in the words of a number.
func ParseIn(words int, sources []declare.Source, m *declare.Manifest) (*declare.Declaration, declare.Problems) {
	d, problems := declare.ReadIn(words, sources, m)
	if len(sources) > 0 && (len(problems) == 0 || d.Readable()) {
		problems = append(problems, Check(d, len(problems) == 0)...)
	}
	problems.Sort()
	return d, problems.Once()
}

type linter struct{ *check.Checker }

// Check says what is wrong in a declaration that could be read. What depends on all
// the rest being sound is looked at only when that is so, and it was read whole.
func Check(d *declare.Declaration, whole bool) declare.Problems {
	l := linter{&check.Checker{D: d}}
	l.ground(d.Ground)
	l.reach(d.Reach, keys("reach"))
	for _, name := range sorted(d.Kits) {
		l.kit(name, d.Kits[name])
	}
	for _, name := range sorted(d.Hosts) {
		l.host(name, d.Hosts[name])
	}
	for _, name := range sorted(d.Sites) {
		l.site(name, d.Sites[name])
	}
	for _, name := range sorted(d.Certificates) {
		l.certificate(name, d.Certificates[name])
	}
	for _, name := range sorted(d.Authorities) {
		l.authority(name, d.Authorities[name])
	}
	l.alikeOverHTTPS()
	l.places()
	l.claims()
	l.addresses()
	if whole && len(l.Problems) == 0 && d.Beside() != nil {
		for _, place := range d.PlaceNames() {
			for _, k := range stake.InOrder() {
				if k.CheckPlace != nil && k.IsOf(d.SortOf(place)) {
					k.CheckPlace(l.Checker, place)
				}
			}
		}
	}
	return l.Problems
}

// settings checks what a kit or a host declares of stakes.
func (l linter) settings(s declare.Settings, at []string) {
	l.givens(s.Givens, at)
	said := map[string]string{} // by path, the setting that declares it
	for _, setting := range declare.AllSettings() {
		if setting.Each != "PATH" {
			continue
		}
		for _, p := range declare.NamesIn(s, setting.Key) {
			if other := said[p]; other != "" {
				l.Say(check.At(at, setting.Key, p), fmt.Sprintf("%s is declared as a %s and as a %s", p, other, setting.Key), "keep one of the two")
				continue
			}
			said[p] = setting.Key
		}
	}
	for _, k := range stake.InOrder() {
		if k.Check != nil {
			k.Check(l.Checker, s, at)
		}
	}
}

func keys(k ...string) []string { return k }

func sorted[V any](m map[string]V) []string {
	if len(m) == 0 {
		return nil // as most tables are, of thousands of hosts
	}
	return slices.Sorted(maps.Keys(m))
}
