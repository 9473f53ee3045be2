package wire

// DirectoryWant is a directory with its owner and mode. Mode is octal text such
// as "0755".
type DirectoryWant struct {
	Path Path `json:"path"`
	Owners
	Mode Mode `json:"mode"`
}

// What an Entry can be, beside other sorts of file.
const (
	EntryDirectory = "directory"
	EntryFile      = "file"
	EntryLink      = "link"
)

// Entry is what lies at a path. Kind is EntryDirectory or the like, another sort of file, or ""
// for nothing.
type Entry struct {
	Kind   string `json:"kind"`
	Target string `json:"target,omitempty"` // of a link
	Owners
	Mode Mode `json:"mode,omitempty"`

	AlsoOwner []string `json:"also_owner,omitempty"` // other names of the owner's number
	AlsoGroup []string `json:"also_group,omitempty"`

	// Under is who, beside root, can change the directory UnderAt above it, and so what lies here.
	Under   string `json:"under,omitempty"`
	UnderAt Path   `json:"under_at,omitempty"`

	ReadOnly bool `json:"read_only,omitempty"` // it lies on a file system that is mounted so

	Touched Touch `json:"touched,omitzero"`
}

// DirectoryFound is what lies at a directory's path. Nobody names the owner and the group
// that are wanted and the host has not. Holds is what lies in it, where that was asked.
type DirectoryFound struct {
	Entry
	Nobody []string `json:"nobody,omitempty"`
	Holds  []string `json:"holds,omitempty"`
}

// DirectoryAsked is what a host is asked to read: a directory, and, with Holds, the names
// of what lies in it, DirectoryListed at most.
type DirectoryAsked struct {
	DirectoryWant
	Holds bool `json:"holds,omitempty"`
}

// DirectoryListed bounds the list of a DirectoryFound.
const DirectoryListed = 100

// DirectoryWork makes a directory, or, with Away, takes it away.
type DirectoryWork struct {
	DirectoryWant
	Away bool `json:"away,omitempty"`
}

// Words says what an entry is, for people.
func (e Entry) Words() string {
	switch e.Kind {
	case "":
		return "nothing"
	case EntryLink:
		return "a link to " + e.Target
	}
	return "a " + e.Kind
}
