package declare

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync/atomic"
)

// Setting is a key that kits and hosts take, besides their own: what is declared of
// one kind of stake. The kind registers it.
type Setting struct {
	Key     string
	Each    string // of a table of tables, what stands for the names that people choose, such as "PATH"
	About   string
	Default string   // what is taken where it is left out
	Example string   // a value, in TOML
	Values  []string // all it may be, where they are few
	Type    reflect.Type
}

// Table is a setting that is a table with a table of type T for each name.
func Table[T any](key, each, about, example string) Setting {
	return Setting{Key: key, Each: each, About: about, Example: example, Type: reflect.TypeFor[map[string]*T]()}
}

// Value is a setting that is one value of type T, such as a list.
func Value[T any](key, about, otherwise, example string, values ...string) Setting {
	return Setting{Key: key, About: about, Default: otherwise, Example: example, Values: values, Type: reflect.TypeFor[T]()}
}

var registered = map[string]Setting{}

// Register makes settings known. It is called before anything is read. A key that is
// taken already is a fault of the program.
func Register(list ...Setting) {
	for _, s := range list {
		if _, taken := registered[s.Key]; taken {
			panic(fmt.Sprintf("two kinds of stake register the key %q", s.Key))
		}
		registered[s.Key] = s
	}
	known.Clear()
	listed.Store(nil)
}

// listed is what AllSettings has listed; nil before it was asked.
var listed atomic.Pointer[[]Setting]

// allowed are the values that keys may have, by the type of their table and the key,
// besides those that stand in the type itself.
var allowed = map[string][]string{}

// Allow adds a value that a key may have: each web server adds its name to those of a
// site's server.
func Allow(typ, key, value string) {
	allowed[typ+"."+key] = append(allowed[typ+"."+key], value)
	slices.Sort(allowed[typ+"."+key])
	known.Clear()
}

// Values are those that a key may have besides the ones in its type.
func Values(typ, key string) []string { return allowed[typ+"."+key] }

// AllSettings lists the registered settings by their keys. The caller must not change
// the list.
func AllSettings() []Setting {
	if known := listed.Load(); known != nil {
		return *known
	}
	var out []Setting
	for _, key := range sortedKeys(registered) {
		out = append(out, registered[key])
	}
	listed.Store(&out)
	return out
}

// Settings are what a kit and a host can both hold.
type Settings struct {
	Givens map[string]string `toml:"givens" json:"givens,omitempty" example:"{ berth = \"the north berth\" }"`

	values map[string]any // by key, each of its setting's type
}

var _ = Explain[Settings](map[string]string{
	"givens": "Named values for the text of hosts; a host's own win over its kits', and those over the ground's.",
})

func (s *Settings) set(key string, v any) {
	if s.values == nil {
		s.values = map[string]any{}
	}
	s.values[key] = v
}

// Get is what is declared under a key, of the type that it is registered with; the
// zero value where nothing is.
func Get[T any](s Settings, key string) T {
	v, _ := s.values[key].(T)
	return v
}

// Taken are the kits that whoever names some takes, each once: what a kit builds on comes before it, and
// so what is nearer goes over it. Kits that build on one another are a mistake, and end where they meet.
func (d *Declaration) Taken(kits []string) []string {
	var out []string
	var add func(kits, within []string)
	add = func(kits, within []string) {
		for _, k := range kits {
			if slices.Contains(out, k) || slices.Contains(within, k) {
				continue
			}
			if kit := d.Kits[k]; kit != nil {
				add(kit.Kits, append(slices.Clone(within), k))
			}
			out = append(out, k)
		}
	}
	add(kits, nil)
	return out
}

// Each calls do for the settings that count for a host, with the keys of their table:
// those of its kits in their order, then its own, so that of two the later is nearer.
func (d *Declaration) Each(host string, do func(s Settings, at []string)) {
	h := d.Hosts[host]
	if h == nil {
		return // a place of another sort has no settings of hosts
	}
	for _, k := range d.Taken(h.Kits) {
		if kit := d.Kits[k]; kit != nil {
			do(kit.Settings, []string{"kit", k})
		}
	}
	do(h.Settings, []string{"host", host})
}

// EachTable calls do for the settings of every kit and host.
func (d *Declaration) EachTable(do func(s Settings, at []string)) {
	for _, name := range sortedKeys(d.Kits) {
		do(d.Kits[name].Settings, []string{"kit", name})
	}
	for _, name := range sortedKeys(d.Hosts) {
		do(d.Hosts[name].Settings, []string{"host", name})
	}
}

// For is what is declared under a name or path, as one host gets it: what its kits
// declare, a later kit over an earlier one, and what it declares itself over both.
type For[T any] struct {
	Name  string // or path
	Value T
	From  Position
}

// Nearest collects what counts for a host of a setting that is a table of tables, by
// name; of two for one name the nearest is taken.
func Nearest[T any](d *Declaration, host, key string) []For[*T] {
	all := map[string]For[*T]{}
	d.Each(host, func(s Settings, at []string) {
		for name, v := range Get[map[string]*T](s, key) {
			all[name] = For[*T]{name, v, d.At(append(slices.Clone(at), key, name)...)}
		}
	})
	out := make([]For[*T], 0, len(all))
	for _, name := range sortedKeys(all) {
		out = append(out, all[name])
	}
	return out
}

// NeedsText is what names files beside the declaration whose text is needed.
type NeedsText interface{ TextFiles() []string }

// elements calls do for each table of a setting's value, where that is a table of
// tables, with the keys below the setting's own.
func elements(value any, do func(name string, v any)) {
	v := reflect.ValueOf(value)
	if v.Kind() != reflect.Map || v.Type().Elem().Kind() != reflect.Pointer {
		return
	}
	keys := v.MapKeys()
	slices.SortFunc(keys, func(a, b reflect.Value) int { return strings.Compare(a.String(), b.String()) })
	for _, k := range keys {
		if e := v.MapIndex(k); !e.IsNil() {
			do(k.String(), e.Interface())
		}
	}
}

// NamesIn lists the names under which something is declared with a setting that is a
// table of tables, sorted.
func NamesIn(s Settings, key string) []string {
	var out []string
	elements(s.values[key], func(name string, _ any) { out = append(out, name) })
	return out
}
