package wire

import "cmp"

// Owners are whose something is: an account and a group, by their names. "" leaves that as it is. It is what
// such a thing has on systems of the POSIX kind.
type Owners struct {
	Owner string `json:"owner,omitempty"`
	Group string `json:"group,omitempty"`
}

// Administrators are the owners of what belongs to the system.
var Administrators = Owners{Owner: "root", Group: "root"}

// Or is the same with those of others where nothing is said.
func (o Owners) Or(others Owners) Owners {
	return Owners{cmp.Or(o.Owner, others.Owner), cmp.Or(o.Group, others.Group)}
}
