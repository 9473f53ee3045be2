package declare

import (
	"fmt"
	"reflect"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2/unstable"

	"northstake/core/form"
)

// PrintedBy is the name among the sources of what the program of more_hosts prints.
func PrintedBy(program string) string { return "what " + program + " prints" }

// Printed says which program printed a source, and whether one did.
func Printed(name string) (program string, ok bool) {
	program, printed := strings.CutSuffix(name, " prints")
	program, ok = strings.CutPrefix(program, "what ")
	return program, ok && printed
}

// MoreHosts says which program the declaration in some sources takes more hosts
// from, and how long what it printed is held; "" for none. What else is wrong with
// the sources is not looked at.
func MoreHosts(sources []Source) (program string, hold time.Duration) {
	r := &reader{root: newTable(span{}), lines: map[string][]string{}}
	for _, s := range sources {
		r.file(s)
	}
	d := &Declaration{positions: map[string]span{}, sources: r.lines}
	if g := r.root.table["ground"]; g != nil && g.table != nil {
		r.modernise(g, reflect.TypeFor[Ground]())
		r.decode(d, g, reflect.ValueOf(&d.Ground).Elem(), keys("ground"))
	}
	if d.Ground.More == nil || !form.Beside(d.Ground.More.Program) {
		return "", 0 // lint says what is wrong with it
	}
	hold, _ = time.ParseDuration(d.Ground.More.ReuseFor)
	return d.Ground.More.Program, max(hold, 0)
}

// hostsAlone leaves of what a program printed the tables of hosts, and reports what
// else there is.
func (r *reader) hostsAlone(tree *node) *node {
	out := newTable(tree.at)
	for _, k := range tree.keys {
		switch n := tree.table[k]; {
		case k != "host":
			r.problem(n.keyAt, fmt.Sprintf("%q stands among more hosts, which are [host.NAME] tables and nothing else", k), "declare it in a file of the declaration")
		case n.kind != unstable.Table:
			r.problem(n.at, "host is "+kindName(n)+", and should be a table for each host", "print [host.NAME], and the keys of that host below it")
		default:
			out.set(k, n)
		}
	}
	return out
}
