package wire

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
	Path Path   `json:"path"`
	Text []byte `json:"text"`
}

// SourceFound are the files as they are to be, and what is there of each.
type SourceFound struct {
	Files   []SourceFileFound `json:"files"`
	Unsound string            `json:"unsound,omitempty"` // why the manager cannot read its sources at all

	Unlisted bool `json:"unlisted,omitempty"` // its lists of packages are not there
}

// SourceFileFound is one file of a source as it is to be, beside what is there.
type SourceFileFound struct {
	Path  Path  `json:"path"`
	Entry Entry `json:"entry"`
	Same  bool  `json:"same"` // the text is as it is to be
}

// SourceWork writes a source, or, with Away, takes it away.
type SourceWork struct {
	SourceWant
	Away bool `json:"away,omitempty"`
}
