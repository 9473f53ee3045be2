package declare

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"northstake/core/near"
)

// inherit gives sites the settings of their kits: what a site does not say itself
// is taken from the last of its kits that says it. Text in a kit's settings takes
// the site's name and givens. Places go along, so that what is wrong with a site is
// shown where it was written.
func (d *Declaration) inherit(problems *Problems) {
	say := func(at []string, what, fix string) { *problems = append(*problems, d.Problem(at, what, fix)) }
	for _, name := range sortedKeys(d.Sites) {
		s := d.Sites[name]
		for i, k := range s.Kits {
			at := keys("site", name, "kits", fmt.Sprint(i))
			switch {
			case d.Kits[k] == nil:
				say(at, fmt.Sprintf("there is no kit %q", k), near.DidYouMean(k, sortedKeys(d.Kits)))
			case !slices.ContainsFunc(d.Taken([]string{k}), func(k string) bool { return d.Kits[k] != nil && d.Kits[k].Site != nil }):
				say(at, fmt.Sprintf("kit %s has no settings for sites", k), fmt.Sprintf("add [kit.%s.site]", k))
			}
		}
		for _, k := range slices.Backward(d.Taken(s.Kits)) {
			if kit := d.Kits[k]; kit != nil && kit.Site != nil {
				d.take(name, s, k, kit.Site, say)
			}
		}
	}
}

// take fills in what a site lacks from a kit.
func (d *Declaration) take(name string, s *Site, kit string, from *SiteSettings, say func(at []string, what, fix string)) {
	mine, theirs := reflect.ValueOf(&s.SiteSettings).Elem(), reflect.ValueOf(from).Elem()
	for _, f := range fieldsOf(mine.Type()) {
		to, value := mine.FieldByIndex(f.index), theirs.FieldByIndex(f.index)
		_, written := d.positions[strings.Join(keys("site", name, f.name), sep)]
		if value.IsZero() || written || !to.IsZero() {
			continue
		}
		at := keys("kit", kit, "site", f.name)
		filled, err := fill(value, d.siteData(name))
		if err != nil {
			at, fix := append(at, err.below...), "declare the given for the site, the kit or the ground"
			if err.unread {
				fix = "mend the text: what stands in braces is read as Go's text/template does"
			}
			say(at, fmt.Sprintf("%s of site %s cannot be made: %s", f.name, name, textError("", err.error).What), fix)
			continue
		}
		to.Set(filled)
		d.lent[strings.Join(keys("site", name, f.name), sep)] = true
		from, into := strings.Join(at, sep), strings.Join(keys("site", name, f.name), sep)
		for k, p := range maps.Clone(d.positions) {
			if rest, ok := strings.CutPrefix(k, from); ok && (rest == "" || strings.HasPrefix(rest, sep)) {
				d.positions[into+rest] = p
			}
		}
	}
}

// siteData is what a kit's text sees of a site.
func (d *Declaration) siteData(name string) map[string]any {
	givens := map[string]string{}
	for _, g := range d.GivensOfSite(name) {
		givens[g.Name] = g.Value
	}
	return map[string]any{"ground": d.Ground.Name, "site": map[string]any{"name": name}, "givens": givens}
}

// GivensOfSite returns the givens of a site by name: the ground's, over them those
// of its kits in their order, over them its own.
func (d *Declaration) GivensOfSite(name string) []Given {
	all := map[string]Given{}
	take := d.taker(all)
	take(d.Ground.Givens, "ground")
	if s := d.Sites[name]; s != nil {
		for _, k := range d.Taken(s.Kits) {
			if kit := d.Kits[k]; kit != nil {
				take(kit.Givens, "kit", k)
			}
		}
		take(s.Givens, "site", name)
	}
	return sortedGivens(all)
}

// unfilled is why text of a kit cannot be made for a site: below are the keys at which it
// stands; unread says that it is not in the form of a template at all.
type unfilled struct {
	error
	below  []string
	unread bool
}

func (e *unfilled) at(key string) *unfilled {
	if e != nil {
		e.below = append([]string{key}, e.below...)
	}
	return e
}

// fill copies a value with all text in it made from data, where it is a template.
func fill(v reflect.Value, data any) (reflect.Value, *unfilled) {
	out := reflect.New(v.Type()).Elem()
	switch v.Kind() {
	case reflect.String:
		text, err := fillText(v.String(), data)
		out.SetString(text)
		return out, err
	case reflect.Pointer:
		if v.IsNil() {
			return out, nil
		}
		elem, err := fill(v.Elem(), data)
		if err != nil {
			return out, err
		}
		out.Set(reflect.New(v.Type().Elem()))
		out.Elem().Set(elem)
	case reflect.Slice:
		if v.IsNil() {
			return out, nil // what is missing stays so: an empty list says something
		}
		out = reflect.MakeSlice(v.Type(), v.Len(), v.Len())
		for i := range v.Len() {
			elem, err := fill(v.Index(i), data)
			if err != nil {
				return out, err.at(strconv.Itoa(i))
			}
			out.Index(i).Set(elem)
		}
	case reflect.Map:
		if v.IsNil() {
			return out, nil
		}
		out = reflect.MakeMap(v.Type())
		for _, k := range v.MapKeys() {
			elem, err := fill(v.MapIndex(k), data)
			if err != nil {
				return out, err.at(k.String())
			}
			out.SetMapIndex(k, elem)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			elem, err := fill(v.Field(i), data)
			if err != nil {
				if key := v.Type().Field(i).Tag.Get("toml"); key != "" { // else it is embedded
					return out, err.at(key)
				}
				return out, err
			}
			out.Field(i).Set(elem)
		}
	default:
		out.Set(v)
	}
	return out, nil
}

func fillText(text string, data any) (string, *unfilled) {
	if !strings.Contains(text, "{{") {
		return text, nil
	}
	made, err := makeText("kit", text, data)
	if err != nil {
		var unread errUnread
		return "", &unfilled{error: err, unread: errors.As(err, &unread)}
	}
	return made, nil
}
