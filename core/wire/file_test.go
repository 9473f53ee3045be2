package wire

import (
	"strings"
	"testing"
)

// A portion goes in at the end or in its place, comes back as it went in, and
// leaves every other byte of the file alone.
func FuzzBlock(f *testing.F) {
	f.Add("127.0.0.1 localhost\n", "10.0.0.9 pier\n", "10.0.0.8 quay\n", "# own\n")
	f.Add("no line end", "", "x\n", "")
	f.Fuzz(func(t *testing.T, before, first, second, after string) {
		line := func(s string) string {
			if s != "" && !strings.HasSuffix(s, "\n") {
				return s + "\n"
			}
			return s
		}
		w := FileWant{Text: line(first), Portion: "pier", Comment: "#"}
		for _, s := range []string{before, first, second, after} {
			if strings.Contains(s, "North Stake") {
				return
			}
		}
		one := w.WithPortion(before)
		if got, ok, _ := w.PortionOf(one); !ok || got != w.Text {
			t.Fatalf("in %q the portion is %q, %t", one, got, ok)
		}
		if w.WithPortion(one) != one {
			t.Fatalf("written twice it becomes %q", w.WithPortion(one))
		}
		longer := one + after
		w.Text = line(second)
		two := w.WithPortion(longer)
		if got, ok, _ := w.PortionOf(two); !ok || got != w.Text {
			t.Fatalf("in %q the portion is %q, %t", two, got, ok)
		}
		if !strings.HasPrefix(two, before) || !strings.HasSuffix(two, after) || len(two)-len(longer) != len(w.Text)-len(line(first)) {
			t.Fatalf("%q becomes %q", longer, two)
		}
	})
}
