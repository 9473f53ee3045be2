package wire

// AccountWant is a system account that owns files or runs a program: nobody logs
// in with it. Its own group has its name; Groups are others that it is in. Home and Shell are
// "" where they are not declared: of an account that is there they are left alone.
type AccountWant struct {
	Name   string   `json:"name"`
	Home   string   `json:"home,omitempty"`
	Shell  string   `json:"shell,omitempty"`
	Groups []string `json:"groups,omitempty"`
}

// AccountFound is what passwd(5) and group(5) say. Groups are those that the
// account is in beside its first one.
type AccountFound struct {
	Known   bool     `json:"known"`
	ID      int      `json:"id,omitempty"`
	Opens   bool     `json:"opens,omitempty"`  // it has a password that somebody can log in with
	System  bool     `json:"system,omitempty"` // its number is among those of the system
	Group   string   `json:"group,omitempty"`  // its first one
	Home    string   `json:"home,omitempty"`
	Shell   string   `json:"shell,omitempty"`
	Groups  []string `json:"groups,omitempty"`
	Missing []string `json:"missing,omitempty"` // wanted groups that the host has not
	Taken   bool     `json:"taken,omitempty"`   // a group of its name is there already
	Touched Touch    `json:"touched,omitzero"`
}

// AccountWork makes an account, or changes one. Join adds groups to those that it
// is in.
type AccountWork struct {
	AccountWant
	Make     bool     `json:"make,omitempty"`
	OwnGroup bool     `json:"own_group,omitempty"` // the group of its name is made with it
	Lock     bool     `json:"lock,omitempty"`      // its password is made to open nothing
	Join     []string `json:"join,omitempty"`
	Away     bool     `json:"away,omitempty"` // it is taken away
}
