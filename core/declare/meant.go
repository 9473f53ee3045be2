package declare

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"northstake/core/near"
	"northstake/core/trade"
)

// tableAt is the table with these keys, without what people choose: "site.path". It is "" at
// the top, and for keys that are none.
func tableAt(path []string) string {
	var out []string
	t := reflect.TypeFor[Declaration]()
	for _, part := range path {
		for t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		switch t.Kind() {
		case reflect.Map, reflect.Slice:
			t = t.Elem()
		case reflect.Struct:
			fields := fieldsOf(t)
			i := slices.IndexFunc(fields, func(f field) bool { return f.name == part })
			if i < 0 {
				return ""
			}
			out, t = append(out, part), fields[i].typ
		}
	}
	return strings.Join(out, ".")
}

// meantBy is what a key that is none of a table's was meant to be, and what to write: the word
// of the trade that it is counts before one that is spelt alike. The key is "" where it is none
// of this table.
func meantBy(word, table string, names []string) (key, fix string) {
	if g, ok := trade.Guessed(table, word); ok {
		if key = lastPart(g.Key); !slices.Contains(names, key) {
			key = ""
		}
		return key, FixFor(g, key != "")
	}
	if key = near.One(word, names); key != "" {
		return key, fmt.Sprintf("did you mean %q?", key)
	}
	var tables []string
	for _, k := range Keys() {
		if k.Word == word && !strings.HasPrefix(k.Name, "kit.") && !slices.Contains(tables, k.Table) {
			tables = append(tables, k.Table)
		}
	}
	if len(tables) > 0 && len(tables) <= 4 && tables[0] != "" {
		return "", fmt.Sprintf("%s is a key of %s", word, strings.Join(tables, ", "))
	}
	return "", near.DidYouMean(word, names)
}

// FixFor says what to write in place of a trade word, here or in another table.
func FixFor(g trade.Guess, here bool) string {
	k, ok := KeyCalled(g.Key)
	if !ok {
		return g.Say
	}
	fix := fmt.Sprintf("it is called %s here, as in %[1]s = %s", k.Word, k.Example)
	switch {
	case k.Table == "":
		fix = fmt.Sprintf("write [%s.NAME]", k.Word)
		if k.Word == "ground" || k.Word == "reach" {
			fix = fmt.Sprintf("write [%s]", k.Word)
		}
	case !here:
		fix = fmt.Sprintf("it is called %s, in %s, as in %[1]s = %[3]s", k.Word, k.Table, k.Example)
	}
	if g.Say != "" {
		fix += "; " + g.Say
	}
	return fix
}

// KeyCalled finds a key by its name without what people choose, as near.Guesses has it:
// "host.container.mounts".
func KeyCalled(name string) (Key, bool) {
	if name == "" {
		return Key{}, false
	}
	for _, k := range Keys() {
		if !strings.HasPrefix(k.Name, "kit.") && WithoutChosen(k.Name) == name {
			return k, true
		}
	}
	return Key{}, false
}

// meantValue is what a value that a key cannot have was meant to be.
func meantValue(text, key string, values []string) string {
	if v, ok := trade.GuessedValue(key, text); ok {
		if v.Means == "" {
			return v.Say
		}
		return strings.TrimSuffix(fmt.Sprintf("write %q; %s", v.Means, v.Say), "; ")
	}
	return near.DidYouMean(text, values)
}

func lastPart(name string) string { return name[strings.LastIndex(name, ".")+1:] }
