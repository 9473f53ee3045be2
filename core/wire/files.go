package wire

// Removed is the Undeclared of content that removes what nobody declared.
const Removed = "removed"

// Position is a place in a declaration's file; Line and Column count from 1,
// columns in characters.
type Position struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// File is one content file beside the declaration. Path is relative to the
// declaration's directory, with slashes. SHA256 is lower-case hex, and empty
// where only lint is wanted.
type File struct {
	Path   string `json:"path"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256,omitempty"`

	Text *string `json:"text,omitempty"` // of a file that is needed as text, where it is at hand
	Data []byte  `json:"data,omitempty"` // in place of Text, where it is no text in UTF-8
}
