package wire

import (
	"maps"
	"slices"
)

// ServiceWant is how a service should be; a nil pointer leaves that half alone.
type ServiceWant struct {
	Name    string `json:"name"`
	Running *bool  `json:"running,omitempty"`
	AtBoot  *bool  `json:"at_boot,omitempty"`
	Serves  string `json:"serves,omitempty"` // of one that serves sites, the name of its program
	Ports   []int  `json:"ports,omitempty"`  // on which it serves sites
}

// How a service is told to take notice of something.
const (
	TellReload  = "reload"
	TellRestart = "restart"
)

// ServiceFound is what systemd says of a unit. Is is the unit's own name where the one
// that was asked for is another of it. Active is its ActiveState, Boot the unit file's state
// as read from disk (systemctl(1), is-enabled). Unsteady says that it ends and is started
// again, Ends that it does its work and is over, Wanted that something starts it at boot
// although it has no state of its own there; Starters start it when they are asked. DropIns
// maps the files that change the unit to the SHA-256 of their text, with the mode where that
// is unusual, or with where a link leads.
type ServiceFound struct {
	Known   bool              `json:"known"`
	Is      string            `json:"is,omitempty"`
	Active  string            `json:"active"`
	Boot    string            `json:"boot"`
	DropIns map[string]string `json:"drop_ins,omitempty"`

	Unsteady bool     `json:"unsteady,omitempty"`
	Ends     bool     `json:"ends,omitempty"`
	Wanted   bool     `json:"wanted,omitempty"`
	Starters []string `json:"starters,omitempty"`

	Elsewhere string `json:"elsewhere,omitempty"` // of an enabled one, what it starts with, where the host does not boot to that
	Target    string `json:"target,omitempty"`    // to which it boots instead

	NoReload bool `json:"no_reload,omitempty"` // it takes notice of a change by a restart alone

	Touched Touch    `json:"touched,omitzero"`
	Near    []string `json:"near,omitempty"` // of an unknown one, units that are called alike
	Here    string   `json:"here,omitempty"` // of an unknown one, what the host's family calls it
}

// ServiceWork is what a step does to a service, in this order: bring drop-ins
// back to what they were, unmask, set what happens at boot, and then start,
// stop, reload or restart it.
type ServiceWork struct {
	Name    string            `json:"name"`
	Unmask  bool              `json:"unmask,omitempty"`
	AtBoot  *bool             `json:"at_boot,omitempty"`
	Now     string            `json:"now,omitempty"`      // start, stop, reload, restart
	Nudge   string            `json:"nudge,omitempty"`    // when it already runs by then
	DropIns map[string]string `json:"drop_ins,omitempty"` // nil leaves them
	SetDrop bool              `json:"set_drop,omitempty"`
	Away    bool              `json:"away,omitempty"` // it is not declared any more
}

// Paths are the drop-ins that the work writes.
func (w ServiceWork) Paths() (out []Path) {
	for _, p := range slices.Sorted(maps.Keys(w.DropIns)) {
		out = append(out, Path(p))
	}
	return out
}
