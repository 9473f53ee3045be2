package declare

import (
	"cmp"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/pelletier/go-toml/v2/unstable"
)

// decode fills v, a struct, from a table, noting the position of all it reads
// and reporting keys that v has no field for.
func (r *reader) decode(d *Declaration, n *node, v reflect.Value, path []string) {
	fields := fieldsOf(v.Type())
	below := func(key string) string { return strings.Join(append(slices.Clone(path), key), sep) }
	for _, k := range n.keys {
		child := n.table[k]
		i := slices.IndexFunc(fields, func(f field) bool { return f.name == k })
		if i < 0 {
			if r.many() {
				continue // and nothing is looked for that would not be said
			}
			var names []string
			for _, f := range fields {
				names = append(names, f.name)
			}
			where := "at the top of a declaration"
			if len(path) > 0 {
				where = "in " + TableName(path)
			}
			meant, fix := meantBy(k, tableAt(path), names)
			r.problem(child.keyAt, fmt.Sprintf("there is no key %q %s", k, where), fix)
			if meant != "" && n.table[meant] == nil {
				r.mistook(below(meant))
			}
			continue
		}
		f, sub := fields[i], append(slices.Clone(path), k)
		if f.setting {
			value := reflect.New(f.typ).Elem()
			r.assign(d, child, value, sub)
			v.FieldByIndex(f.index).Addr().Interface().(interface{ set(key string, v any) }).set(k, value.Interface())
		} else {
			r.assign(d, child, v.FieldByIndex(f.index), sub)
		}
		if f.enum != nil && child.kind == unstable.String {
			if !slices.Contains(f.enum, child.text) {
				r.problem(child.at, fmt.Sprintf("%s cannot be %q", k, child.text), meantValue(child.text, tableAt(sub), f.enum))
			}
		}
	}
	for _, f := range fields {
		if f.required && n.table[f.name] == nil && !r.miswritten[below(f.name)] {
			fix := fmt.Sprintf("add %s = …", f.name)
			if doc := f.doc; doc != "" {
				fix += " (" + doc + ")"
			}
			r.problem(n.keyAt, fmt.Sprintf("%s has no %s", TableName(path), f.name), fix)
		}
	}
}

// mistook notes that another key is taken to stand for the one with this path.
func (r *reader) mistook(path string) {
	if r.miswritten == nil {
		r.miswritten = map[string]bool{}
	}
	r.miswritten[path] = true
}

// TableName is a table with these keys as its header has it: [site.timetable.path."/freight"].
func TableName(path []string) string {
	parts := make([]string, len(path))
	for i, p := range path {
		parts[i] = p
		if strings.ContainsAny(p, `./" `) {
			parts[i] = strconv.Quote(p)
		}
	}
	return "[" + strings.Join(parts, ".") + "]"
}

func kindName(n *node) string {
	switch n.kind {
	case unstable.String:
		return "text"
	case unstable.Integer:
		return "a whole number"
	case unstable.Float:
		return "a number with a fraction"
	case unstable.Bool:
		return "true or false"
	case unstable.Array:
		return "a list"
	case unstable.Table:
		return "a table"
	}
	return "a date or time"
}

// leading are the digits that a text begins with.
var leading = regexp.MustCompile(`^[0-9]{1,9}\b`)

func (r *reader) wrongType(n *node, key, want, fix string) {
	r.problem(n.at, fmt.Sprintf("%s is %s, and should be %s", key, kindName(n), want), fix)
}

// assign sets v from a value, and records where that value stands.
func (r *reader) assign(d *Declaration, n *node, v reflect.Value, path []string) {
	at := n.at
	if n.kind == unstable.Table || n.isArray {
		at = n.keyAt
	}
	d.positions[strings.Join(path, sep)] = at
	key := path[len(path)-1]
	is := key + " = " // of a list's element nothing
	if _, err := strconv.Atoi(key); err == nil && len(path) > 1 {
		key, is = "a value of "+path[len(path)-2], ""
	}
	switch v.Kind() {
	case reflect.Pointer:
		elem := reflect.New(v.Type().Elem())
		before := len(r.problems)
		r.assign(d, n, elem.Elem(), path)
		if len(r.problems) == before || elem.Elem().Kind() == reflect.Struct {
			v.Set(elem)
		}
	case reflect.String:
		if n.kind != unstable.String {
			r.wrongType(n, key, "text in quotes", fmt.Sprintf("write %s%q", is, n.text))
			return
		}
		v.SetString(n.text)
	case reflect.Bool:
		r.assignBool(n, v, key)
	case reflect.Int:
		r.assignInt(n, v, key, is)
	case reflect.Slice:
		r.assignList(d, n, v, key, path)
	case reflect.Map:
		r.assignTables(d, n, v, key, path)
	case reflect.Struct:
		r.assignTable(d, n, v, key, path)
	}
}

func (r *reader) assignBool(n *node, v reflect.Value, key string) {
	if n.kind == unstable.Bool {
		v.SetBool(n.text == "true")
		return
	}
	fix := ""
	switch strings.ToLower(n.text) {
	case "true", "yes", "on":
		fix = fmt.Sprintf("write %s = true", key)
	case "false", "no", "off":
		fix = fmt.Sprintf("write %s = false", key)
	}
	r.wrongType(n, key, "true or false, without quotes", fix)
}

func (r *reader) assignInt(n *node, v reflect.Value, key, is string) {
	i, err := strconv.ParseInt(strings.ReplaceAll(n.text, "_", ""), 0, 64)
	if n.kind == unstable.Integer && err == nil {
		v.SetInt(i)
		return
	}
	fix := ""
	if digits := leading.FindString(n.text); digits != "" {
		fix = fmt.Sprintf("write %s%s, without quotes", is, digits)
	}
	r.wrongType(n, key, "a whole number", fix)
}

func (r *reader) assignList(d *Declaration, n *node, v reflect.Value, key string, path []string) {
	if n.kind != unstable.Array {
		r.wrongType(n, key, "a list", asList(n, v.Type().Elem(), key, path))
		return
	}
	out := reflect.MakeSlice(v.Type(), len(n.items), len(n.items))
	for i, item := range n.items {
		r.assign(d, item, out.Index(i), append(append([]string{}, path...), strconv.Itoa(i)))
	}
	v.Set(out)
}

// asList is how to write a value that is no list as one of such elements, "" where that is not known.
func asList(n *node, elem reflect.Type, key string, path []string) string {
	switch kind := elem.Kind(); {
	case kind == reflect.String && n.kind == unstable.String:
		return fmt.Sprintf("write %s = [%q]", key, n.text)
	case kind == reflect.Int && n.kind == unstable.Integer, kind == reflect.Struct && aloneField(elem) >= 0:
		return fmt.Sprintf("write %s = [%s]", key, n.text)
	case kind == reflect.Struct:
		return fmt.Sprintf("write [%s] in double brackets", TableName(path))
	}
	return ""
}

// assignTables sets a map from a table with a value for each name.
func (r *reader) assignTables(d *Declaration, n *node, v reflect.Value, key string, path []string) {
	if n.kind != unstable.Table {
		r.wrongType(n, key, "a table", cmp.Or(meantValue(kindName(n), tableAt(path), nil), "write a header such as "+TableName(append(slices.Clone(path), "NAME"))))
		return
	}
	out := reflect.MakeMap(v.Type())
	for _, k := range n.keys {
		elem := reflect.New(v.Type().Elem()).Elem()
		r.assign(d, n.table[k], elem, append(append([]string{}, path...), k))
		d.positions[strings.Join(append(slices.Clone(path), k, theKey), sep)] = n.table[k].keyAt
		if elem.Kind() != reflect.Pointer || !elem.IsNil() {
			out.SetMapIndex(reflect.ValueOf(k), elem)
		}
	}
	v.Set(out)
}

// assignTable sets a struct from a table, or from the value that may stand for all of it.
func (r *reader) assignTable(d *Declaration, n *node, v reflect.Value, key string, path []string) {
	if i := aloneField(v.Type()); i >= 0 && n.kind != unstable.Table {
		r.assign(d, n, v.Field(i), path)
		return
	}
	if n.kind != unstable.Table {
		r.wrongType(n, key, "a table", fmt.Sprintf("write a header such as %s", TableName(path)))
		return
	}
	r.decode(d, n, v, path)
}

// aloneField is the field of a struct that may stand for all of it, -1 where none may.
func aloneField(t reflect.Type) int {
	for i := range t.NumField() {
		if t.Field(i).Tag.Get("alone") != "" {
			return i
		}
	}
	return -1
}

// StandsAlone is the type of the value that may stand for a table of type t, where one may.
func StandsAlone(t reflect.Type) (reflect.Type, bool) {
	if t.Kind() != reflect.Struct || aloneField(t) < 0 {
		return nil, false
	}
	return t.Field(aloneField(t)).Type, true
}

type field struct {
	name      string
	index     []int
	in        string // name of the struct that has it
	typ       reflect.Type
	enum      []string
	required  bool
	doc       string
	otherwise string // what is taken when it is left out
	example   string
	each      string // stands for the keys of a map
	setting   bool   // it is one of the registered ones, and index is that of the Settings, or Places
}

// explained is what the keys of each type mean.
var explained = map[reflect.Type]map[string]string{}

// Explain says what the keys of T mean: for the schema, the list of all keys, help, and advice. It panics
// where T has another key, or not one of these.
func Explain[T any](keys map[string]string) bool {
	t := reflect.TypeFor[T]()
	own := map[string]bool{}
	for i := range t.NumField() {
		if key := t.Field(i).Tag.Get("toml"); key != "" {
			own[key] = true
		}
	}
	for key := range keys {
		if !own[key] {
			panic(fmt.Sprintf("%s has no key %s", t, key))
		}
	}
	for key := range own {
		if keys[key] == "" {
			panic(fmt.Sprintf("nobody says what %s of %s means", key, t))
		}
	}
	explained[t] = keys
	return true
}

// known are the keys of each type, listed once.
var known sync.Map

// fieldsOf lists the keys that a struct takes, embedded structs included.
func fieldsOf(t reflect.Type) []field {
	if list, ok := known.Load(t); ok {
		return list.([]field)
	}
	list := listFields(t)
	known.Store(t, list)
	return list
}

func listFields(t reflect.Type) []field {
	var out []field
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			for _, sub := range fieldsOf(f.Type) {
				sub.index, sub.in = append([]int{i}, sub.index...), t.Name()
				out = append(out, sub)
			}
			continue
		}
		tag := f.Tag
		if tag.Get("toml") == "" {
			continue
		}
		one := field{name: tag.Get("toml"), index: []int{i}, in: t.Name(), typ: f.Type, required: tag.Get("required") == "true",
			doc: explained[t][tag.Get("toml")], otherwise: tag.Get("default"), example: tag.Get("example"), each: tag.Get("each")}
		if e := tag.Get("enum"); e != "" {
			one.enum = strings.Split(e, ",")
		}
		one.enum = append(one.enum, allowed[t.Name()+"."+one.name]...)
		if one.each == "" {
			one.each = "NAME"
		}
		out = append(out, one)
	}
	if t == reflect.TypeFor[Settings]() {
		for _, s := range AllSettings() {
			out = append(out, field{name: s.Key, in: t.Name(), typ: s.Type, enum: s.Values, doc: s.About, otherwise: s.Default, example: s.Example, each: cmp.Or(s.Each, "NAME"), setting: true})
		}
	}
	if t == reflect.TypeFor[Places]() {
		for _, name := range sortedKeys(sorts) {
			out = append(out, field{name: name, in: t.Name(), typ: sorts[name].table, doc: sorts[name].about, each: "NAME", setting: true})
		}
	}
	return out
}
