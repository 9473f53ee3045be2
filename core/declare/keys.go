package declare

import (
	"reflect"
	"slices"
	"strings"
	"unicode"

	"northstake/core/near"
)

// Key is one key of a declaration, with all that is to be said about it.
type Key struct {
	Name     string   `json:"name"`  // with its tables: "site.NAME.index"; capitals stand for what people choose
	Table    string   `json:"table"` // "[site.NAME]"; "" at the top
	Type     string   `json:"-"`     // name of the type that has it
	Word     string   `json:"word"`  // "index"
	Holds    string   `json:"holds"` // what its value is, in words
	About    string   `json:"about"`
	Default  string   `json:"default,omitempty"` // what is taken when it is left out, "" where there is nothing
	Example  string   `json:"example,omitempty"` // a value, in TOML
	Values   []string `json:"values,omitempty"`  // all it may be, where they are few
	Required bool     `json:"required,omitempty"`

	Families map[string]string `json:"families,omitempty"` // what differs between families of systems, by their names
}

// Keys lists every key of a declaration, tables before what is in them.
func Keys() []Key {
	var out []Key
	walkKeys(reflect.TypeOf(Declaration{}), nil, &out)
	return out
}

func walkKeys(t reflect.Type, at []string, out *[]Key) {
	for _, f := range fieldsOf(t) {
		name := append(append([]string{}, at...), f.name)
		k := Key{Name: strings.Join(name, "."), Type: f.in, Word: f.name, Holds: holds(f.typ), About: f.doc,
			Default: f.otherwise, Example: f.example, Values: f.enum, Required: f.required}
		if len(at) > 0 {
			k.Table = "[" + strings.Join(at, ".") + "]"
		}
		*out = append(*out, k)
		inner := f.typ
		for inner.Kind() == reflect.Pointer || inner.Kind() == reflect.Slice || inner.Kind() == reflect.Map {
			if inner.Kind() == reflect.Map {
				name = append(name, f.each)
			}
			inner = inner.Elem()
		}
		if inner.Kind() == reflect.Struct {
			walkKeys(inner, name, out)
		}
	}
}

func holds(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Pointer:
		return holds(t.Elem())
	case reflect.Bool:
		return "true or false"
	case reflect.Int:
		return "a whole number"
	case reflect.Slice:
		switch t.Elem().Kind() {
		case reflect.Struct:
			if one, ok := StandsAlone(t.Elem()); ok {
				return "a list of " + strings.TrimPrefix(holds(one), "a ") + "s, or of tables"
			}
			return "tables, in double brackets"
		case reflect.Int:
			return "a list of whole numbers"
		}
		return "a list of text"
	case reflect.Map:
		if t.Elem().Kind() == reflect.String {
			return "a table of text"
		}
		return "a table for each"
	case reflect.Struct:
		return "a table"
	}
	return "text"
}

// chosen says whether a part of a key's name stands for what people choose.
func chosen(part string) bool { return part != "" && unicode.IsUpper(rune(part[0])) }

// FindKeys returns the keys that a word means: a key's name, with or without what
// people choose ("site.index", "site.timetable.index"), a table with the keys in
// it ("site", "site.NAME"), or the end of a key's name ("index", "source.key"). Like is
// a name that is like it where none is found: what people choose does not end a name,
// so that a key that is not there is not taken for it.
func FindKeys(word string) (found []Key, like string) {
	asked := askedParts(word)
	n := len(asked) - 1
	all := Keys()
	var inTable, beside, last []Key
	for _, k := range all {
		parts := strings.Split(k.Name, ".")
		switch {
		case meant(parts, asked):
			found = append(found, k)
		case k.Table != "" && meantTable(k.Table, asked):
			inTable = append(inTable, k)
		case endsIn(parts, asked):
			last = append(last, k)
		}
		if n > 0 && k.Table != "" && meant(strings.Split(strings.Trim(k.Table, "[]"), "."), asked[:n]) {
			beside = append(beside, k)
		}
	}
	if len(found) == 0 && len(inTable) == 0 {
		found = last
	}
	if tables := found; len(tables) > 0 {
		// The keys in what was found; not what else the word may mean, such as a host
		// called "port" in "host.port".
		inTable = slices.DeleteFunc(slices.Clone(all), func(k Key) bool {
			return !slices.ContainsFunc(tables, func(t Key) bool { return directlyIn(k, t) })
		})
	}
	found = append(found, inTable...)
	if len(found) == 0 && len(beside) > 0 {
		var words []string
		for _, k := range beside {
			words = append(words, k.Word)
		}
		if meant := near.Nearer(asked[n], words, 0.5); meant != "" {
			return nil, strings.Join(append(asked[:n:n], meant), ".")
		}
		return nil, ""
	}
	if len(found) == 0 {
		var names []string
		for _, k := range all {
			names = append(names, WithoutChosen(k.Name), k.Word)
		}
		like = near.One(strings.Join(asked, "."), names)
	}
	return found, like
}

// askedParts are the parts of a key's name as people write it, those in quotes whole.
func askedParts(word string) []string {
	var out []string
	var part strings.Builder
	quote := rune(0)
	for _, r := range strings.Trim(word, "[]") {
		switch {
		case quote == 0 && r == '.':
			out = append(out, part.String())
			part.Reset()
			continue
		case quote == 0 && (r == '"' || r == '\''):
			quote = r
		case r == quote:
			quote = 0
		}
		part.WriteRune(r)
	}
	out = append(out, part.String())
	for i, p := range out {
		if strings.Trim(p, `"'`) == p {
			out[i] = strings.ToLower(p)
		}
	}
	return out
}

// meantTable says whether a table is the one asked for. What people choose ends its
// name only as the capitals that stand for it, or where it can be no key.
func meantTable(table string, asked []string) bool {
	parts := strings.Split(strings.Trim(table, "[]"), ".")
	if !meant(parts, asked) {
		return false
	}
	end := asked[len(asked)-1]
	return slices.Contains(parts, end) || strings.ContainsAny(end, `"'/*`) || slices.ContainsFunc(parts, func(p string) bool { return chosen(p) && strings.EqualFold(p, end) })
}

// directlyIn says whether a key is one of a table's, or of each of a table's tables.
func directlyIn(k, table Key) bool {
	rest, below := strings.CutPrefix(k.Name, table.Name+".")
	return below && !strings.Contains(WithoutChosen(rest), ".")
}

// endsIn says whether a name's last parts are those asked for.
func endsIn(parts, asked []string) bool {
	for i := range parts {
		if !chosen(parts[i]) && meant(parts[i:], asked) {
			return true
		}
	}
	return false
}

// meant says whether the parts of a name are those asked for, what people choose
// being anything or left out.
func meant(parts, asked []string) bool {
	if len(parts) == 0 {
		return len(asked) == 0
	}
	if chosen(parts[0]) {
		return meant(parts[1:], asked) || len(asked) > 0 && meant(parts[1:], asked[1:])
	}
	return len(asked) > 0 && parts[0] == asked[0] && meant(parts[1:], asked[1:])
}

// WithoutChosen is the name of a key without the parts that stand for what people
// choose: "site.index".
func WithoutChosen(name string) string {
	var out []string
	for _, p := range strings.Split(name, ".") {
		if !chosen(p) {
			out = append(out, p)
		}
	}
	return strings.Join(out, ".")
}
