package wire

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// Places are the places in a declaration that the lines of a text were rendered from, one a
// line, written short: hundreds of sites have tens of thousands of them, and few are ever
// asked for. Of a place, what is as in the one before is left out.
type Places string

// PlacesOf writes places short.
func PlacesOf(all []Position) Places {
	var b strings.Builder
	var before Position
	for _, p := range all {
		if p != before {
			if p.File != before.File {
				b.WriteString(strconv.Quote(p.File))
			}
			fmt.Fprintf(&b, " %d %d", p.Line, p.Column)
		}
		before = p
		b.WriteByte('\n')
	}
	return Places(b.String())
}

// All are the places.
func (p Places) All() []Position {
	var out []Position
	var at Position
	for line := range strings.Lines(string(p)) {
		line = strings.TrimSuffix(line, "\n")
		if quoted, err := strconv.QuotedPrefix(line); err == nil {
			at.File, _ = strconv.Unquote(quoted)
			line = line[len(quoted):]
		}
		if row, column, ok := strings.Cut(strings.TrimPrefix(line, " "), " "); ok {
			at.Line, _ = strconv.Atoi(row)
			at.Column, _ = strconv.Atoi(column)
		}
		out = append(out, at)
	}
	return out
}

// UnmarshalJSON reads them, and what records of former releases have in their place.
func (p *Places) UnmarshalJSON(b []byte) error {
	if len(b) > 0 && b[0] == '[' {
		var all []Position
		if err := json.Unmarshal(b, &all); err != nil {
			return err
		}
		*p = PlacesOf(all)
		return nil
	}
	var s string
	err := json.Unmarshal(b, &s)
	*p = Places(s)
	return err
}
