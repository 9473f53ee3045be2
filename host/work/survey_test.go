package work

import (
	"reflect"
	"testing"

	"northstake/core/plan"
)

// Readings that differ in anything have another sum: those of the sum that is known are not sent again.
func TestReadingsThatDifferAreTold(t *testing.T) {
	one := func(change func(*plan.Reading)) []plan.Reading {
		r := plan.Reading{Name: "package/nginx", Found: []byte(`{"a":1}`), Was: []byte(`{"b":2}`), Unread: "why"}
		change(&r)
		return []plan.Reading{{Name: "first"}, r}
	}
	sums := map[string]string{sumOf(one(func(*plan.Reading) {})): "nothing"}
	told := func(what string, readings []plan.Reading) {
		t.Helper()
		sum := sumOf(readings)
		if as, known := sums[sum]; known {
			t.Errorf("%s has the sum of %s", what, as)
		}
		sums[sum] = what
	}
	for i := range reflect.TypeFor[plan.Reading]().NumField() {
		field := reflect.TypeFor[plan.Reading]().Field(i)
		told("another "+field.Name, one(func(r *plan.Reading) {
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
	told("what is found in the place of what was", one(func(r *plan.Reading) { r.Found, r.Was = r.Was, r.Found }))
	told("what was, at the end of what is found", one(func(r *plan.Reading) { r.Found, r.Was = append(r.Found, r.Was...), nil }))
	told("one less", one(func(*plan.Reading) {})[:1])
	told("one of them twice", append(one(func(*plan.Reading) {}), plan.Reading{}))
}
