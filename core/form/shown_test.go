package form

import (
	"encoding/json"
	"strings"
	"testing"
)

// What hosts say is shown, and does nothing (X3, B11).
func TestHiddenCharactersAreWrittenOut(t *testing.T) {
	for from, want := range map[string]string{
		"plain, with\ttabs\nand lines: é 漢 🚢": "plain, with\ttabs\nand lines: é 漢 🚢",
		"\x1b[2Jgone":      `\u001b[2Jgone`,
		"\x1b]52;c;aGk=\a": `\u001b]52;c;aGk=\u0007`,
		"harmless\rEVIL":   `harmless\u000dEVIL`,
		"\u202etxt.exe":    `\u202etxt.exe`,
		"\u009b2J":         `\u009b2J`,
		"\U000e0041":       `\udb40\udc41`,
		"bytes \xff\xfe":   "bytes \ufffd\ufffd",
	} {
		if got := Shown(from); got != want {
			t.Errorf("%q is shown as %q, not as %q", from, got, want)
		}
	}
}

// Whatever is shown has no hidden character, is shown the same again, and JSON says the same.
func FuzzShown(f *testing.F) {
	for _, s := range []string{"", "a\x1b[31mb", "\u202e\u2066", "\xff\U000e007f", "\\u001b", "\r\n\t"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		out := Shown(s)
		if i := strings.IndexFunc(out, func(r rune) bool { return r != '\n' && r != '\t' && Hidden(r) }); i >= 0 {
			t.Fatalf("%q is shown as %q", s, out)
		}
		if Shown(out) != out {
			t.Fatalf("%q is shown as %q, and that as %q", s, out, Shown(out))
		}
		text, err := json.Marshal(s)
		if err != nil {
			t.Fatal(err)
		}
		var one, two string
		if err := json.Unmarshal(text, &one); err != nil {
			t.Fatal(err)
		}
		if err := json.Unmarshal([]byte(Shown(string(text))), &two); err != nil || one != two {
			t.Fatalf("%s says %q, and cleaned %q, %v", text, one, two, err)
		}
	})
}

// A name of a file stays in its line: it forges no second one.
func TestANameStaysInItsLine(t *testing.T) {
	for given, want := range map[string]string{
		"index.html":                 "index.html",
		"a\nset\tquay1/site/tides":   `a\nset\tquay1/site/tides`,
		"esc\x1b[2J\r\u202etxt.html": `esc\u001b[2J\u000d\u202etxt.html`,
	} {
		if got := Names([]string{given})[0]; got != want {
			t.Errorf("%q is shown as %q", given, got)
		}
	}
}
