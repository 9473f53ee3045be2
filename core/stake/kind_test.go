package stake

import (
	"slices"
	"strings"
	"testing"
)

// Kinds stand behind those that they come after; a circle, or a name that no kind has, is told and not
// passed over.
func TestKindsHaveAnOrder(t *testing.T) {
	all, err := inOrder(kinds)
	if err != nil || len(all) != len(kinds) {
		t.Fatalf("%d of %d, %v", len(all), len(kinds), err)
	}
	for i, k := range all {
		for _, before := range k.After {
			if at := slices.IndexFunc(all, func(o Kind) bool { return o.Type == before }); at >= i {
				t.Errorf("%s stands at %d, and %s, which comes before, at %d", k.Type, i, before, at)
			}
		}
	}
	some := func(after ...string) map[string]Kind {
		out := map[string]Kind{}
		for _, a := range after {
			name, before, _ := strings.Cut(a, ":")
			out[name] = Kind{Type: name, After: strings.Fields(before)}
		}
		return out
	}
	for _, c := range []struct {
		kinds map[string]Kind
		want  string
	}{
		{some("ebb:", "flood:ebb", "tide:ebb flood"), ""},
		{some("ebb:flood", "flood:tide", "tide:ebb"), "in a circle: ebb, flood, tide, ebb"},
		{some("ebb:ebb"), "in a circle: ebb, ebb"},
		{some("ebb:", "flood:swell"), "flood comes after swell, and no kind"},
	} {
		if _, err := inOrder(c.kinds); err == nil && c.want != "" || err != nil && (c.want == "" || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%v: %v", c.kinds, err)
		}
	}
}
