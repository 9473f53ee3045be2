package wire

import (
	"cmp"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// DefaultPort is where the packages of web servers serve a site of their own.
const DefaultPort = 80

// What becomes of a server's default site.
const (
	DefaultKept    = "kept"
	DefaultOff     = "off"
	DefaultRemoved = "removed"
)

// ServerWant is what a web server's own configuration should be: its default site out of
// the way, or not, no ports of its own that others need, and the sites taken in.
type ServerWant struct {
	Server  string `json:"server"`
	Service string `json:"service"`
	Default string `json:"default"` // one of kept, off, removed; "aside" in what releases before kept is off
	Own
	Silent  []int    `json:"silent,omitempty"`  // ports of its own on which it is not to listen
	Options []Option `json:"options,omitempty"` // of all that it serves
}

// Own is what a server's package brings of its own, as it lies on a family's systems.
type Own struct {
	Links  []Path `toml:"links" json:"links,omitempty"`   // that switch its default site on
	Files  []Path `toml:"files" json:"files,omitempty"`   // that are its default site, each as a whole
	Block  Block  `toml:"block" json:"block,omitzero"`    // or a block of a file that has more in it
	Listen Path   `toml:"listen" json:"listen,omitempty"` // file with the lines by which it listens
	Import Import `toml:"import" json:"import,omitzero"`  // by which it takes sites in
	Whole  Path   `toml:"whole" json:"whole,omitempty"`   // file that begins with a block of what holds for all that it serves, where something of that is wanted; the block's otherwise
}

// Option is something that holds for all that a server serves: its name, and its lines.
type Option struct {
	Name  string   `json:"name"`
	Lines []string `json:"lines"`
}

// Block is a block of a configuration file, by the words before its brace.
type Block struct {
	File  Path   `toml:"file" json:"file"`
	Opens string `toml:"opens" json:"opens"`
}

// Import is a line of a file.
type Import struct {
	File Path   `toml:"file" json:"file"`
	Line string `toml:"line" json:"line"`
}

// ServerFound is what lies there: the texts of the files that can be edited, and the links
// that are there. Installed says that the server is.
type ServerFound struct {
	Installed bool            `json:"installed"`
	Texts     map[Path]string `json:"texts,omitempty"`
	Links     []Path          `json:"links,omitempty"`
	Edited    []Path          `json:"edited,omitempty"` // of its default site, what is not as the package brought it
	Touched   Touch           `json:"touched,omitzero"`
}

// ServerWork edits a server's own configuration.
type ServerWork struct{ ServerWant }

// Paths are the files that may be edited.
func (w ServerWant) Paths() []Path {
	var out []Path
	for _, p := range append(slices.Clone(w.Files), w.Block.File, w.Listen, w.Import.File, w.Whole) {
		if p != "" && !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	return out
}

// Sets says whether something in a file's text is to be switched off, or removed.
func (w ServerWant) Sets(path Path, text string) bool {
	w.Import, w.Options = Import{}, nil
	text = w.withOptions(path, text)
	return w.Default != DefaultKept && w.Edit(path, text) != text
}

// Original is a file's text as it was before it was edited.
func (w ServerWant) Original(path Path, text string) string {
	before := w
	before.Default, before.Import, before.Options = DefaultKept, Import{}, nil
	text = before.Edit(path, text)
	if path == w.Import.File {
		text = strings.TrimSuffix(text, w.Import.Line+"\n")
	}
	return text
}

// offMark stands before each line that is switched off.
const OffMark = "#northstake# "

// SwitchedOn is a text without the marks by which lines of it are switched off.
func SwitchedOn(text string) string {
	lines := strings.SplitAfter(text, "\n")
	for i, l := range lines {
		lines[i] = strings.TrimPrefix(l, OffMark)
	}
	return strings.Join(lines, "")
}

// ownMark stands at the end of each line that is ours, in a file of the server's own.
const ownMark = " # northstake"

// withOptions is the text of a file with the options at the beginning of its first block, which is made where
// there is none. What somebody has said there of an option stays, and counts.
func (w ServerWant) withOptions(path Path, text string) string {
	if path != cmp.Or(w.Whole, w.Block.File) || path == "" {
		return text
	}
	var lines []string
	for l := range strings.Lines(text) {
		if !strings.HasSuffix(strings.TrimRight(l, "\r\n"), ownMark) {
			lines = append(lines, l)
		}
	}
	from, to := firstBlock(lines)
	said := map[string]bool{}
	depth := 0
	for _, l := range lines[from:to] {
		if words := strings.Fields(l); depth == 1 && len(words) > 0 {
			said[words[0]] = true
		}
		depth += braces(l)
	}
	var own []string
	for _, o := range w.Options {
		if !said[o.Name] {
			for _, l := range o.Lines {
				own = append(own, "\t"+l+ownMark+"\n")
			}
		}
	}
	switch {
	case len(own) == 0:
	case from < to:
		lines = slices.Insert(lines, from+1, own...)
	default:
		lines = slices.Concat([]string{"{" + ownMark + "\n"}, own, []string{"}" + ownMark + "\n"}, lines)
	}
	return strings.Join(lines, "")
}

// firstBlock finds the block without a name that a text begins with, comments before it aside: its first line,
// and the one behind its last; 0 and 0 where there is none.
func firstBlock(lines []string) (from, to int) {
	for i, l := range lines {
		switch line := strings.TrimSpace(l); {
		case line == "" || strings.HasPrefix(line, "#"):
			continue
		case line != "{":
			return 0, 0
		}
		depth := 0
		for j := i; j < len(lines); j++ {
			if depth += braces(lines[j]); depth == 0 {
				return i, j + 1
			}
		}
		return 0, 0
	}
	return 0, 0
}

// Edit is what a file's text should be.
func (w ServerWant) Edit(path Path, text string) string {
	text = w.withOptions(path, text)
	lines := strings.SplitAfter(SwitchedOn(text), "\n") // what is switched off now is marked anew
	drop := func(from, to int) {
		for i := from; i < to; i++ {
			switch {
			case w.Default == DefaultRemoved:
				lines[i] = ""
			case strings.TrimSpace(lines[i]) != "" && !strings.HasPrefix(strings.TrimSpace(lines[i]), "#"):
				lines[i] = OffMark + lines[i]
			}
		}
	}
	if w.Default != DefaultKept && slices.Contains(w.Files, path) {
		drop(0, len(lines))
	}
	if w.Default != DefaultKept && path == w.Block.File {
		if from, to, ok := blockAt(lines, w.Block.Opens); ok {
			drop(from, to)
		}
	}
	if path == w.Listen {
		for i, l := range lines {
			if m := ListensAt.FindStringSubmatch(l); m != nil {
				if p, _ := strconv.Atoi(m[1]); slices.Contains(w.Silent, p) {
					drop(i, i+1)
				}
			}
		}
	}
	out := strings.Join(lines, "")
	if path == w.Import.File && !slices.ContainsFunc(lines, func(l string) bool { return strings.TrimSpace(l) == w.Import.Line }) {
		if out != "" && !strings.HasSuffix(out, "\n") {
			out += "\n"
		}
		out += w.Import.Line + "\n"
	}
	return out
}

var ListensAt = regexp.MustCompile(`^\s*Listen\s+(?:\S+:)?(\d+)\s*$`)

// blockAt finds a block by the words before its brace: its first line, and the one behind
// its last. Braces in comments and in quotes count for nothing.
func blockAt(lines []string, opens string) (from, to int, ok bool) {
	for i, l := range lines {
		if strings.Join(strings.Fields(l), " ") != opens+" {" {
			continue
		}
		depth := 0
		for j := i; j < len(lines); j++ {
			depth += braces(lines[j])
			if depth == 0 {
				return i, j + 1, true
			}
		}
	}
	return 0, 0, false
}

// braces is how many blocks a line opens, less those that it closes.
func braces(line string) int {
	n, quote := 0, rune(0)
	for i, r := range line {
		switch {
		case quote != 0:
			if r == quote && line[i-1] != '\\' {
				quote = 0
			}
		case r == '"' || r == '\'' || r == '`':
			quote = r
		case r == '#':
			return n
		case r == '{':
			n++
		case r == '}':
			n--
		}
	}
	return n
}
