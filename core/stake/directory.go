package stake

import "fmt"

// DirectoryWant is a directory with its owner and mode. Mode is octal text such
// as "0755".
type DirectoryWant struct {
	Path  string `json:"path"`
	Owner string `json:"owner"`
	Group string `json:"group"`
	Mode  string `json:"mode"`
}

// Entry is what lies at a path. Kind is "directory", "file", "link", another
// sort of file, or "" for nothing.
type Entry struct {
	Kind    string `json:"kind"`
	Target  string `json:"target,omitempty"` // of a link
	Owner   string `json:"owner,omitempty"`
	Group   string `json:"group,omitempty"`
	Mode    string `json:"mode,omitempty"`
	Touched Touch  `json:"touched,omitzero"`
}

// Words says what an entry is, for people.
func (e Entry) Words() string {
	switch e.Kind {
	case "":
		return "nothing"
	case "link":
		return "a link to " + e.Target
	}
	return "a " + e.Kind
}

func (d *differences) entry(kind, owner, group, mode string, e Entry) {
	if e.Kind != kind {
		d.add("what it is", "a "+kind, e.Words())
		return
	}
	d.add("owner", owner, e.Owner)
	d.add("group", group, e.Group)
	d.add("mode", mode, e.Mode)
}

var _ = register("directory", kindOf[DirectoryWant, Entry](judgeDirectory))

func judgeDirectory(in Input, w DirectoryWant, f Entry) Verdict {
	var d differences
	d.entry("directory", w.Owner, w.Group, w.Mode, f)
	v := Verdict{Differences: d, Gone: f.Kind == "", Touched: f.Touched}
	if len(d) == 0 {
		return v
	}
	switch f.Kind {
	case "":
		v.Moves = []Move{{Verb: "make", Text: "make directory " + w.Path, Work: JSON(w)}}
	case "directory":
		v.Moves = []Move{{Verb: "set", Text: fmt.Sprintf("set directory %s to owner %s, group %s, mode %s", w.Path, w.Owner, w.Group, w.Mode), Work: JSON(w)}}
	case "link":
		v.Moves = []Move{{Verb: "replace", Text: fmt.Sprintf("replace the link %s (to %s) with a directory", w.Path, f.Target), Work: JSON(w)}}
	default:
		v.Blockers = []Note{{in.Stake.Address(), fmt.Sprintf("%s is %s, where a directory is declared", w.Path, f.Words()), "move it away, or declare another directory"}}
	}
	return v
}
