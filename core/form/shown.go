package form

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Hidden says whether a character is not seen where it stands, and does something else instead: it
// moves the cursor, erases, begins a command to a terminal, or turns the direction of writing
// (Unicode, "Bidirectional Algorithm", and "Tags"). Line ends and tabs are left to who asks.
func Hidden(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r < 0xa0: // C0, DEL, C1
		return true
	case r == 0x61c, r == 0x200e, r == 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069: // direction
		return true
	case r == 0x2028, r == 0x2029, r == 0x200b, r == 0x2060, r == 0xfeff, r >= 0xfff9 && r <= 0xfffb, r >= 0xe0000 && r <= 0xe007f: // lines, no width, annotations, tags
		return true
	}
	return false
}

// Shown is text as it is shown to people, whoever wrote it: hidden characters are written out, as
// \u001b, and line ends and tabs stay. In a JSON text they stand within strings alone, where that
// means the same.
func Shown(s string) string {
	at := strings.IndexFunc(s, func(r rune) bool { return r != '\n' && r != '\t' && Hidden(r) })
	if at < 0 && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '\n' || r == '\t' || !Hidden(r):
			b.WriteRune(r)
		case r > 0xffff: // as JSON has it: two halves (RFC 8259, section 7)
			r -= 0x10000
			fmt.Fprintf(&b, `\u%04x\u%04x`, 0xd800+r>>10, 0xdc00+r&0x3ff)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}

// Name is a name of a file, or a cell of a table, as it is shown to people: it stays in its line,
// whatever it holds.
func Name(s string) string { return inLine.Replace(Shown(s)) }

var inLine = strings.NewReplacer("\n", `\n`, "\t", `\t`)

// Names are names as they are shown to people.
func Names(list []string) []string {
	out := make([]string, len(list))
	for i, n := range list {
		out[i] = Name(n)
	}
	return out
}
