package render

import (
	"slices"
	"testing"

	"northstake/core/declare"
)

// Where the order of files tells which virtual host a name means, exact names come before wildcards,
// and the longer wildcard before the shorter, whatever the sites are called (W5).
func TestExactNamesComeBeforeWildcards(t *testing.T) {
	file := func(server, name string, redirected []string, names ...string) string {
		s := &declare.Site{}
		s.Server, s.Names, s.RedirectedNames = server, names, redirected
		return File(name, s)
	}
	for server, want := range map[string][]string{
		"httpd": {"northstake-zephyr", "z95-northstake-far", "z96-northstake-zulu", "z97-northstake-also", "z97-northstake-ferries"},
		"nginx": {"northstake-also", "northstake-far", "northstake-ferries", "northstake-zephyr", "northstake-zulu"},
	} {
		got := []string{
			file(server, "ferries", nil, "*.test"), file(server, "also", []string{"*.b.c.test", "*.test"}, "a.test"), file(server, "zulu", nil, "*.zulu.test"),
			file(server, "far", nil, "far.test", "*.far.zulu.test"), file(server, "zephyr", nil, "zephyr.test"),
		}
		if slices.Sort(got); !slices.Equal(got, want) {
			t.Errorf("%s reads %q, wanted %q", server, got, want)
		}
	}
}
