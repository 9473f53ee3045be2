package work

import (
	"reflect"
	"testing"

	"northstake/core/wire"
)

// Readings that differ in anything have another sum: those of the sum that is known are not sent again.
func TestReadingsThatDifferAreTold(t *testing.T) {
	one := func(change func(*wire.Reading)) []wire.Reading {
		r := wire.Reading{Name: "package/nginx", Found: []byte(`{"a":1}`), Was: []byte(`{"b":2}`), Unread: "why"}
		change(&r)
		return []wire.Reading{{Name: "first"}, r}
	}
	sums := map[string]string{sumOf(one(func(*wire.Reading) {})): "nothing"}
	told := func(what string, readings []wire.Reading) {
		t.Helper()
		sum := sumOf(readings)
		if as, known := sums[sum]; known {
			t.Errorf("%s has the sum of %s", what, as)
		}
		sums[sum] = what
	}
	for i := range reflect.TypeFor[wire.Reading]().NumField() {
		field := reflect.TypeFor[wire.Reading]().Field(i)
		told("another "+field.Name, one(func(r *wire.Reading) {
			switch f := reflect.ValueOf(r).Elem().Field(i); f.Kind() {
			case reflect.String:
				f.SetString(f.String() + "x")
			case reflect.Slice:
				f.SetBytes(append(f.Bytes(), ' '))
			default:
				t.Fatalf("a reading has a field of another sort: %s", field.Name)
			}
		}))
	}
	told("what is found in the place of what was", one(func(r *wire.Reading) { r.Found, r.Was = r.Was, r.Found }))
	told("what was, at the end of what is found", one(func(r *wire.Reading) { r.Found, r.Was = append(r.Found, r.Was...), nil }))
	told("one less", one(func(*wire.Reading) {})[:1])
	told("one of them twice", append(one(func(*wire.Reading) {}), wire.Reading{}))
}
