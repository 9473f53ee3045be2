package stake

import "fmt"

// SourceWant is an extra source of packages. Suites and Parts are those of the
// Debian family; a source without suites is flat. Key is the public key that it is
// signed with, as its owner gives it out. SignedLists says that on the Red Hat
// family the lists are signed, and not the packages alone.
type SourceWant struct {
	Name        string   `json:"name"`
	URL         string   `json:"url"`
	Suites      []string `json:"suites,omitempty"`
	Parts       []string `json:"parts,omitempty"`
	Key         []byte   `json:"key"`
	SignedLists bool     `json:"signed_lists,omitempty"`
}

// SourceFile is one of the files that declare a source on a host.
type SourceFile struct {
	Path string `json:"path"`
	Text []byte `json:"text"`
}

// SourceFound are the files as they are to be, and what is there of each.
type SourceFound struct {
	Files []SourceFileFound `json:"files"`
}

// SourceFileFound is one file of a source as it is to be, beside what is there.
type SourceFileFound struct {
	Path  string `json:"path"`
	Entry Entry  `json:"entry"`
	Same  bool   `json:"same"` // the text is as it is to be
}

var _ = register("source", kindOf[SourceWant, SourceFound](judgeSource))

func judgeSource(in Input, w SourceWant, f SourceFound) Verdict {
	var d differences
	v := Verdict{Gone: true}
	for _, file := range f.Files {
		v.Gone = v.Gone && file.Entry.Kind == ""
		switch {
		case file.Entry.Kind != "file":
			d.add(file.Path, "a file", file.Entry.Words())
		case !file.Same:
			d.add("text of "+file.Path, "as declared", "different")
		default:
			var of differences
			of.entry("file", "root", "root", "0644", file.Entry)
			for _, one := range of {
				d.add(one.Attribute+" of "+file.Path, one.Wanted, one.Found)
			}
			continue
		}
		v.Touched = file.Entry.Touched
	}
	v.Differences = d
	if len(d) == 0 {
		return v
	}
	v.Cautions = wrongClock(in)
	verb, text := "add", fmt.Sprintf("add package source %s, %s, with its key", w.Name, w.URL)
	if !v.Gone {
		verb, text = "write", fmt.Sprintf("write package source %s, %s, and its key again", w.Name, w.URL)
	}
	v.Moves = []Move{{Verb: verb, Text: text, Because: "its lists are read, to see that it is there and signed with that key", Work: JSON(w)}}
	return v
}
