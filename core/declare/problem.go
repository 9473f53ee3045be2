package declare

import (
	"fmt"
	"sort"
	"strings"
)

// Problem is one thing that is wrong in a declaration. Fix says what to do, and
// is empty where nothing is near. Line is the text of the line, Width the
// number of characters the mark under it covers.
type Problem struct {
	Position
	Width int    `json:"width"`
	What  string `json:"what"`
	Fix   string `json:"fix,omitempty"`
	Text  string `json:"text,omitempty"`

	Former bool `json:"former,omitempty"` // it is a word that was once written so

	site string // that takes from a kit what is wrong
}

func (p Problem) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.What)
}

// Draw renders the problem for a terminal: place and reason, the line, a mark
// under the part that is meant, and the suggestion.
func (p Problem) Draw() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s:%d:%d: %s\n", p.File, p.Line, p.Column, p.What)
	if p.Text != "" {
		text, before, width := p.window()
		var pad strings.Builder
		for _, r := range before {
			if r != '\t' {
				r = ' '
			}
			pad.WriteRune(r)
		}
		fmt.Fprintf(&b, "%5d  %s\n       %s%s\n", p.Line, text, pad.String(), strings.Repeat("~", width))
	}
	if p.Fix != "" {
		fmt.Fprintf(&b, "       %s\n", p.Fix)
	}
	return b.String()
}

// drawn is how many characters of a line are drawn at most.
const drawn = 120

// window is the part of the line that is drawn, what of it lies before the mark,
// and how wide the mark is. Of a long line a part around the mark is shown.
func (p Problem) window() (text string, before []rune, width int) {
	line := []rune(p.Text)
	at := max(0, min(p.Column-1, len(line)))
	width = max(p.Width, 1)
	from, to := 0, len(line)
	if len(line) > drawn {
		from = max(0, min(at-drawn/4, len(line)-drawn))
		to = from + drawn
	}
	shown := append([]rune{}, line[from:to]...)
	if from > 0 {
		shown[0] = '…'
	}
	if to < len(line) {
		shown[len(shown)-1] = '…'
	}
	at -= from
	return string(shown), shown[:at], min(width, max(1, len(shown)-at))
}

// brief shortens what quotes a value without end.
func brief(s string) string {
	r := []rune(s)
	if len(r) <= 3*drawn {
		return s
	}
	return string(r[:2*drawn]) + " … " + string(r[len(r)-drawn:])
}

// Problems is every thing that is wrong, in the order of files and lines.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
		if p.Fix != "" {
			lines[i] += ": " + p.Fix
		}
	}
	return strings.Join(lines, "\n")
}

// Once puts what is wrong of several sites in one place of a kit into one problem, which
// names them.
func (ps Problems) Once() Problems {
	sites := map[Problem][]string{} // by the problem without its site
	var out Problems
	for _, p := range ps {
		site := p.site
		p.site = ""
		if len(sites[p]) == 0 || site == "" {
			out = append(out, p)
		}
		if site != "" {
			sites[p] = append(sites[p], site)
		}
	}
	for i, p := range out {
		switch named := sites[p]; {
		case len(named) == 1 && !strings.Contains(p.What, "site "+named[0]):
			out[i].What += ", of site " + named[0]
		case len(named) > 3:
			out[i].What += fmt.Sprintf(", of sites %s and %d more", strings.Join(named[:2], ", "), len(named)-2)
		case len(named) > 1:
			out[i].What += ", of sites " + strings.Join(named[:len(named)-1], ", ") + " and " + named[len(named)-1]
		}
	}
	return out
}

// Sort puts problems in the order of files and lines.
func (ps Problems) Sort() {
	sort.SliceStable(ps, func(i, j int) bool {
		a, b := ps[i], ps[j]
		if a.File != b.File {
			return a.File < b.File
		}
		if a.Line != b.Line {
			return a.Line < b.Line
		}
		return a.Column < b.Column
	})
}
