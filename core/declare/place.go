package declare

import (
	"fmt"
	"reflect"
	"slices"
)

// HostSort is the sort of place that a host is.
const HostSort = "host"

// Place is what the table of every place beside hosts has.
type Place struct {
	Labels []string `toml:"labels" json:"labels,omitempty" example:"[\"public\"]"`
}

var _ = Explain[Place](map[string]string{
	"labels": "Words to choose places by.",
})

func (p *Place) labelled() []string { return p.Labels }

// placed is the table of a place.
type placed interface{ labelled() []string }

// placeSort is one sort of place beside hosts, declared in tables of one type.
type placeSort struct {
	name, about string
	table       reflect.Type // map[string]*T, in which T holds a Place
}

var sorts = map[string]placeSort{}

// RegisterSort makes a sort of place known: [NAME.…] declares one of it, in a table of type T, which
// embeds Place. A name that is taken already is a fault of the program.
func RegisterSort[T any, P interface {
	*T
	placed
}](name, about string) struct{} {
	if _, taken := sorts[name]; taken || name == HostSort {
		panic(fmt.Sprintf("two sorts of place are called %q", name))
	}
	sorts[name] = placeSort{name, about, reflect.TypeFor[map[string]*T]()}
	known.Clear()
	return struct{}{}
}

// Sorts lists the sorts of place there are, sorted.
func Sorts() []string {
	out := append(sortedKeys(sorts), HostSort)
	slices.Sort(out)
	return out
}

// Places are those of other sorts than hosts.
type Places struct {
	values map[string]any // by sort, each of its table's type
}

func (p *Places) set(sort string, v any) {
	if p.values == nil {
		p.values = map[string]any{}
	}
	p.values[sort] = v
}

// each calls do for each of those places, in order.
func (p *Places) each(do func(sort, name string, is placed)) {
	for _, sort := range sortedKeys(p.values) {
		elements(p.values[sort], func(name string, v any) { do(sort, name, v.(placed)) })
	}
}

// PlaceOf is the table of a place of a sort that is no host; nil where none has that name.
func PlaceOf[T any](d *Declaration, sort, name string) *T {
	all, _ := d.Places.values[sort].(map[string]*T)
	return all[name]
}

// SortOf is the sort of the place with a name, "" where none has it.
func (d *Declaration) SortOf(name string) string { return d.sortOf[name] }

// OtherSort is the sort of a place that is no host, "" for a host.
func (d *Declaration) OtherSort(name string) string {
	if sort := d.SortOf(name); sort != HostSort {
		return sort
	}
	return ""
}

// PlaceNames returns the names of all places, hosts and others, sorted.
func (d *Declaration) PlaceNames() []string { return d.places }

// PlaceAt is where a place is declared.
func (d *Declaration) PlaceAt(name string) Position { return d.At(d.SortOf(name), name) }

// LabelsOf are the words by which a place can be chosen.
func (d *Declaration) LabelsOf(name string) []string {
	if h := d.Hosts[name]; h != nil {
		return h.Labels
	}
	return d.labelsOf[name]
}

// TwicePlaced calls do for each place of another sort that has the name of one before.
func (d *Declaration) TwicePlaced(do func(sort, name, other string)) {
	seen := map[string]string{}
	for name := range d.Hosts {
		seen[name] = HostSort
	}
	d.Places.each(func(sort, name string, _ placed) {
		if other := seen[name]; other != "" {
			do(sort, name, other)
			return
		}
		seen[name] = sort
	})
}
