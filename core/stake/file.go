package stake

import (
	"fmt"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"
)

// FileWant is a text file, or a portion of a file that others own. Mode is
// octal text. With a Portion, Owner, Group and Mode are "" unless they are declared.
type FileWant struct {
	Path    string   `json:"path"`
	Text    string   `json:"text"`
	Owner   string   `json:"owner,omitempty"`
	Group   string   `json:"group,omitempty"`
	Mode    string   `json:"mode,omitempty"`
	Portion string   `json:"portion,omitempty"` // name of the portion
	Comment string   `json:"comment,omitempty"` // what begins a comment line, where there is a portion
	Reload  []string `json:"reload,omitempty"`  // services that take notice of a change
	Restart []string `json:"restart,omitempty"`
}

// FileFound is what lies at the path: of a file the whole text, or the text of
// the portion. Absent says that the file has no such portion.
type FileFound struct {
	Entry  Entry  `json:"entry"`
	Text   string `json:"text,omitempty"`
	Absent bool   `json:"absent,omitempty"`
}

var _ = register("file", kindOf[FileWant, FileFound](judgeFile))

func judgeFile(in Input, w FileWant, f FileFound) Verdict {
	v := Verdict{Gone: f.Entry.Kind == "" || f.Absent}
	var d differences
	switch {
	case f.Entry.Kind != "file":
		d.add("what it is", "a file", f.Entry.Words())
	case f.Absent:
		d.add("portion "+w.Portion, "there", "absent")
	case f.Text != w.Text:
		d.add(map[bool]string{true: "text", false: "portion " + w.Portion}[w.Portion == ""], "as declared", "different")
	}
	if f.Entry.Kind == "file" {
		for _, a := range []struct{ what, wanted, found string }{{"owner", w.Owner, f.Entry.Owner}, {"group", w.Group, f.Entry.Group}, {"mode", w.Mode, f.Entry.Mode}} {
			if a.wanted != "" {
				d.add(a.what, a.wanted, a.found)
			}
		}
	}
	v.Differences = d
	if len(d) == 0 {
		return v
	}
	v.Touched = f.Entry.Touched
	switch f.Entry.Kind {
	case "", "file", "link":
	default:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s is %s, where a file is declared", w.Path, f.Entry.Words()), "move it away, or declare another path"}}
		return v
	}
	if f.Entry.Kind == "link" && w.Portion != "" {
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s is %s, and a portion is written into files alone", w.Path, f.Entry.Words()), "declare the path that the link leads to"}}
		return v
	}
	for _, n := range []struct {
		how      string
		services []string
	}{{"reload", w.Reload}, {"restart", w.Restart}} {
		for _, s := range n.services {
			v.Nudges = append(v.Nudges, Nudge{Target: Local("service", s), How: n.how, Reason: "its file " + w.Path + " changed"})
		}
	}
	lines := count(len(slices.Collect(strings.Lines(w.Text))), "line", "lines")
	verb, text := "write", fmt.Sprintf("write %s, %s", w.Path, lines)
	switch {
	case w.Portion != "":
		text = fmt.Sprintf("write portion %s of %s, %s", w.Portion, w.Path, lines)
	case f.Entry.Kind == "file" && f.Text == w.Text:
		verb, text = "set", fmt.Sprintf("set %s to owner %s, group %s, mode %s", w.Path, w.Owner, w.Group, w.Mode)
	case f.Entry.Kind == "link":
		verb, text = "replace", fmt.Sprintf("replace the link %s (to %s) with a file, %s", w.Path, f.Entry.Target, lines)
	}
	move := Move{Verb: verb, Text: text, Work: JSON(w)}
	if f.Text != w.Text || v.Gone {
		move.Details = []Detail{{Title: w.Path, Text: udiff.Unified("found", "wanted", f.Text, w.Text), Diff: true}}
	}
	v.Moves = []Move{move}
	return v
}

// Markers are the lines before and after a portion of North Stake's own in a file
// that others own.
func (w FileWant) Markers() (begin, end string) {
	return w.Comment + " North Stake keeps the lines from here, portion " + w.Portion, w.Comment + " North Stake keeps the lines to here, portion " + w.Portion
}

// PortionOf returns the text of the portion in a file's text, and whether it has one.
func (w FileWant) PortionOf(text string) (string, bool) {
	_, portion, _, ok := w.cut(text)
	return portion, ok
}

// WithPortion returns a file's text with the portion in it as wanted: in its place, or
// at the end.
func (w FileWant) WithPortion(text string) string {
	begin, end := w.Markers()
	portion := begin + "\n" + w.Text + end + "\n"
	before, _, after, ok := w.cut(text)
	if ok {
		return before + portion + after
	}
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return text + portion
}

// cut finds the portion: what is before its first marker, in it, and after its last.
func (w FileWant) cut(text string) (before, portion, after string, ok bool) {
	begin, end := w.Markers()
	at := lineAt(text, begin)
	if at < 0 {
		return "", "", "", false
	}
	rest := text[at+len(begin):]
	rest = strings.TrimPrefix(rest, "\n")
	to := lineAt(rest, end)
	if to < 0 {
		return "", "", "", false
	}
	return text[:at], rest[:to], strings.TrimPrefix(rest[to+len(end):], "\n"), true
}

// lineAt is where a whole line of a text begins, -1 where there is no such line.
func lineAt(text, line string) int {
	for at := 0; at <= len(text); {
		end := strings.IndexByte(text[at:], '\n')
		if end < 0 {
			end = len(text) - at
		}
		if text[at:at+end] == line {
			return at
		}
		at += end + 1
	}
	return -1
}
