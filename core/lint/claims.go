package lint

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"northstake/core/declare"
)

const sep = "\x00"

// claims finds two sites that answer to one name and port on one host, and two
// sites that publish into one directory.
func (l linter) claims() {
	type claim struct{ host, what string }
	first, firsts := map[claim]string{}, map[claim]string{}
	roots := map[claim]string{}
	for _, name := range l.inOrder() {
		s := l.D.Sites[name]
		if !s.IsServed() {
			continue
		}
		for _, host := range l.D.HostsOf(name) {
			for _, on := range s.ListenOn() {
				c := claim{host, s.Server + " " + on.On()}
				if other := firsts[c]; s.CatchAll && other != "" {
					at := l.D.At("site", other, "catch_all")
					l.Say(keys("site", name, "catch_all"), fmt.Sprintf("site %s is the catch_all on %s of %s, as site %s is", name, on.On(), host, other), fmt.Sprintf("see %s:%d; one of the two can be it there", at.File, at.Line))
				} else if s.CatchAll {
					firsts[c] = name
				}
			}
			for i, n := range append(slices.Clone(s.Names), s.RedirectedNames...) {
				key := []string{"names", strconv.Itoa(i)}
				if i >= len(s.Names) {
					key = []string{"redirected_names", strconv.Itoa(i - len(s.Names))}
				}
				for _, port := range s.Ports() {
					c := claim{host, n + ":" + strconv.Itoa(port)}
					if other, ok := first[c]; ok && other != name {
						at := l.D.At("site", other)
						l.Say(append(keys("site", name), key...), fmt.Sprintf("site %s claims %s on port %d of %s, as site %s does", name, n, port, host, other),
							fmt.Sprintf("site %s is at %s:%d; give one of them another name, port or host", other, at.File, at.Line))
					} else if ok {
						l.Say(append(keys("site", name), key...), fmt.Sprintf("name %q is listed twice", n), "keep one of the two")
					}
					first[c] = name
				}
			}
			for root, at := range s.Roots(name) {
				c := claim{host, root}
				if other, ok := roots[c]; ok && other != strings.Join(at, sep) {
					o := l.D.At(strings.Split(other, sep)...)
					l.Say(at, fmt.Sprintf("%s on %s already gets other content", root, host), fmt.Sprintf("see %s:%d; give one of the two another directory", o.File, o.Line))
				}
				roots[c] = strings.Join(at, sep)
			}
		}
	}
	l.nested(rootsByHost(l.D))
}

// inOrder is the sites as they stand in the files, so that of two that clash
// the later one is named.
func (l linter) inOrder() []string {
	names := sorted(l.D.Sites)
	sort.SliceStable(names, func(i, j int) bool {
		a, b := l.D.At("site", names[i]), l.D.At("site", names[j])
		return a.File < b.File || a.File == b.File && a.Line < b.Line
	})
	return names
}

type rootAt struct {
	root string
	at   []string
}

func rootsByHost(d *declare.Declaration) map[string][]rootAt {
	out := map[string][]rootAt{}
	for _, name := range sorted(d.Sites) {
		for _, host := range d.HostsOf(name) {
			for root, at := range d.Sites[name].Roots(name) {
				out[host] = append(out[host], rootAt{root, at})
			}
		}
	}
	return out
}

// nested finds a published directory inside another: a swap of the outer one
// would carry the inner one along.
func (l linter) nested(byHost map[string][]rootAt) {
	said := map[string]bool{}
	for _, host := range sorted(byHost) {
		for _, inner := range byHost[host] {
			for _, outer := range byHost[host] {
				k := strings.Join(inner.at, sep)
				if strings.HasPrefix(inner.root, outer.root+"/") && !said[k] {
					said[k] = true
					l.Say(inner.at, fmt.Sprintf("%s lies inside %s, which is published as a whole", inner.root, outer.root), "use a directory beside it")
				}
			}
		}
	}
}
