package wire

import (
	"crypto/sha256"
	"encoding/hex"
	"strings"
)

// FileWant is a file, or a portion of a file that others own: its text, or the bytes that are no text in UTF-8.
// Mode is octal text. With a Portion, Owners and Mode are "" unless they are declared.
type FileWant struct {
	Path Path   `json:"path"`
	Gone bool   `json:"gone,omitempty"` // neither a file nor a link is to be there
	Text string `json:"text"`
	Data []byte `json:"data,omitempty"` // in place of Text
	Owners
	Mode    Mode     `json:"mode,omitempty"`
	Portion string   `json:"portion,omitempty"` // name of the portion
	Comment string   `json:"comment,omitempty"` // what begins a comment line, where there is a portion
	Reload  []string `json:"reload,omitempty"`  // services that take notice of a change
	Restart []string `json:"restart,omitempty"`
	Tells   []string `json:"tells,omitempty"` // stakes of the host that take notice of a change, by name
}

// FileFound is what lies at the path: of a file the whole text, or the text of
// the portion. Absent says that the file has no such portion, Broken what is wrong with the
// lines that mark it. Bytes says that there are bytes that are no text in UTF-8, of which Sum is the SHA-256, and
// Immutable that nobody can change the file (chattr(1), +i).
type FileFound struct {
	Entry     Entry  `json:"entry"`
	Text      string `json:"text,omitempty"`
	Absent    bool   `json:"absent,omitempty"`
	Broken    string `json:"broken,omitempty"`
	Bytes     bool   `json:"bytes,omitempty"`
	Sum       string `json:"sum,omitempty"`
	Immutable bool   `json:"immutable,omitempty"`
	Large     string `json:"large,omitempty"` // than which it is larger, and so not read, nor kept where it is replaced

	Nobody []string `json:"nobody,omitempty"` // the owner and the group that the host has not
}

// FileWork writes a file or a portion, or, with Away, takes it away.
type FileWork struct {
	FileWant
	Away bool `json:"away,omitempty"`
}

// Holds says whether what was found is the wanted text, or bytes.
func (f FileFound) Holds(w FileWant) bool {
	if w.Data != nil {
		sum := sha256.Sum256(w.Data)
		return f.Bytes && f.Sum == hex.EncodeToString(sum[:])
	}
	return !f.Bytes && f.Text == w.Text
}

// Content is what the whole file holds: its text, or its bytes.
func (w FileWant) Content() string {
	if w.Data != nil {
		return string(w.Data)
	}
	return w.Text
}

// Markers are the lines before and after a portion of North Stake's own in a file
// that others own.
func (w FileWant) Markers() (begin, end string) { return w.markers("portion") }

func (w FileWant) markers(word string) (begin, end string) {
	return w.Comment + " North Stake keeps the lines from here, " + word + " " + w.Portion, w.Comment + " North Stake keeps the lines to here, " + word + " " + w.Portion
}

// marked are where lines of a text begin that are the portion's markers, in the words of this
// release or of one before.
func (w FileWant) marked(text string) (from, to []int) {
	for _, word := range []string{"portion", "block"} {
		begin, end := w.markers(word)
		from, to = append(from, linesAt(text, begin)...), append(to, linesAt(text, end)...)
	}
	return from, to
}

// PortionOf returns the text of the portion in a file's text, and whether it has one.
// Wrong says why nobody can tell: a marker line without the other, or more than one.
func (w FileWant) PortionOf(text string) (portion string, ok bool, wrong string) {
	_, portion, _, ok, wrong = w.cut(text)
	return portion, ok, wrong
}

// WithPortion returns a file's text with the portion in it as wanted: in its place, or
// at the end.
func (w FileWant) WithPortion(text string) string {
	begin, end := w.Markers()
	portion := begin + "\n" + w.Text + end + "\n"
	before, _, after, ok, _ := w.cut(text)
	if ok {
		return before + portion + after
	}
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return text + portion
}

// WithoutPortion returns a file's text without the portion.
func (w FileWant) WithoutPortion(text string) string {
	before, _, after, ok, _ := w.cut(text)
	if !ok {
		return text
	}
	return before + after
}

// Marks says whether a text holds a line that would be taken for one of the portion's
// markers.
func (w FileWant) Marks(text string) bool {
	from, to := w.marked(text)
	return len(from)+len(to) > 0
}

// cut finds the portion: what is before its first marker, in it, and after its last.
func (w FileWant) cut(text string) (before, portion, after string, ok bool, wrong string) {
	from, to := w.marked(text)
	switch {
	case len(from) == 0 && len(to) == 0:
		return "", "", "", false, ""
	case len(from) == 1 && len(to) == 0:
		wrong = "the line that begins it is there, and the one that ends it is not"
	case len(from) == 0 && len(to) == 1:
		wrong = "the line that ends it is there, and the one that begins it is not"
	case len(from) > 1 || len(to) > 1:
		wrong = "its marker lines are there more than once"
	case to[0] < from[0]:
		wrong = "the line that ends it stands before the one that begins it"
	}
	if wrong != "" {
		return "", "", "", false, wrong
	}
	return text[:from[0]], afterLine(text, from[0])[:to[0]-(len(text)-len(afterLine(text, from[0])))], afterLine(text, to[0]), true, ""
}

// linesAt are where whole lines of a text begin that are a line, whatever ends them.
func linesAt(text, line string) []int {
	var out []int
	for at := 0; at < len(text); {
		rest := text[at:]
		end := strings.IndexByte(rest, '\n')
		if end < 0 {
			end = len(rest)
		}
		if strings.TrimSuffix(rest[:end], "\r") == line {
			out = append(out, at)
		}
		at += end + 1
	}
	return out
}

// afterLine is what follows the line that begins at a place.
func afterLine(text string, at int) string {
	_, rest, _ := strings.Cut(text[at:], "\n")
	return rest
}
