package wire

import (
	"fmt"
	"slices"
	"strconv"
	"time"
)

// What an engine is told of starting a container again, in the words that wants have had
// from the first.
const (
	PolicyAlways    = "always"
	PolicyNotAtBoot = "unless stopped"
	PolicyOnFailure = "on failure"
	PolicyNever     = "no"
)

// What is declared of when a container is started again.
const (
	RestartsAlways    = "always"
	RestartsOnFailure = "on-failure"
	RestartsNever     = "never"
)

// Door is a port of the host that leads to one of a container.
type Door struct {
	Outside int    `toml:"outside" json:"outside" example:"8080"`
	Inside  int    `toml:"inside" json:"inside" default:"the same" example:"80"`
	At      string `toml:"at" json:"at,omitempty" default:"all of them" example:"\"127.0.0.1\""`
}

// Words names a door for people.
func (d Door) Words() string {
	at := strconv.Itoa(d.Outside)
	if d.At != "" {
		at = d.At + ":" + at
	}
	return fmt.Sprintf("%s leads to %d", at, d.Inside)
}

// ContainerWant is a container as it should be. Memory is in bytes, Processors in billionths
// of one; 0 is no limit. By is the ground that declares it.
type ContainerWant struct {
	Name         string             `json:"name"`
	By           string             `json:"by"`
	Image        string             `json:"image"`
	Running      bool               `json:"running"`
	Command      []string           `json:"starts_with,omitempty"`
	ReachedAt    []Door             `json:"doors,omitempty"`
	Mounts       []HeldAt           `json:"holds,omitempty"`
	Variables    map[string]string  `json:"variables,omitempty"`
	Secrets      map[string]*Sealed `json:"secrets,omitempty"`
	RunsAs       string             `json:"as,omitempty"`
	Network      string             `json:"joins,omitempty"`
	Address      string             `json:"address,omitempty"`
	Policy       string             `json:"stays_up"` // one of PolicyAlways and the like
	Memory       int64              `json:"memory,omitempty"`
	Processors   int64              `json:"processors,omitempty"`
	EngineLabels map[string]string  `json:"marks,omitempty"`
	WellWhen     []string           `json:"well_when,omitempty"`

	Entry  []string `json:"entry,omitempty"`  // in place of the image's own entry point
	Serves string   `json:"serves,omitempty"` // of one that serves sites, the name of its program
	Ports  []int    `json:"ports,omitempty"`  // on which it serves sites
	Reload []string `json:"reload,omitempty"` // command inside by which it takes notice of a change
}

// HeldAt is what a container sees at a path inside. One that is Made is made on the host where it
// is not there.
type HeldAt struct {
	At       Path `json:"at"`
	From     Path `json:"from"`
	Writable bool `json:"writable,omitempty"`
	Made     bool `json:"made,omitempty"`
}

func (h HeldAt) Words() string {
	if h.From == h.At {
		return string(h.At) + map[bool]string{true: ", writable"}[h.Writable]
	}
	return fmt.Sprintf("%s at %s%s", h.From, h.At, map[bool]string{true: ", writable"}[h.Writable])
}

// ContainerFound is what an engine says of a container. What the image brings by itself is left
// out of its settings. Engine says why there is no answer. Variables has the values of those
// that are wanted and no secrets, Secrets whether those are as wanted, and More the names of
// others: what else is in an environment is nobody's business. Log is the end of what it said,
// where it does not run and should.
type ContainerFound struct {
	Engine       *Trouble          `json:"engine,omitempty"`
	There        bool              `json:"there"`
	By           string            `json:"by,omitempty"`
	State        string            `json:"state,omitempty"`
	Status       int               `json:"status,omitempty"`   // with which it ended
	Since        time.Time         `json:"since,omitzero"`     // it was started
	Restarts     int               `json:"restarts,omitempty"` // by the engine, since it was made
	ID           string            `json:"id,omitempty"`
	Image        string            `json:"image,omitempty"`  // its identifier
	Wanted       string            `json:"wanted,omitempty"` // that of the image that is wanted; "" where the host has not got it
	Command      []string          `json:"starts_with,omitempty"`
	ReachedAt    []Door            `json:"doors,omitempty"`
	Mounts       []HeldAt          `json:"holds,omitempty"`
	Variables    map[string]string `json:"variables,omitempty"`
	Secrets      map[string]bool   `json:"secrets,omitempty"`
	More         []string          `json:"more,omitempty"`
	RunsAs       string            `json:"as,omitempty"`
	Network      string            `json:"joins,omitempty"`
	Address      string            `json:"address,omitempty"` // where one is wanted and it runs
	Policy       string            `json:"stays_up,omitempty"`
	Memory       int64             `json:"memory,omitempty"`
	Processors   int64             `json:"processors,omitempty"`
	EngineLabels map[string]string `json:"marks,omitempty"`
	Unwell       string            `json:"unwell,omitempty"` // what the command said that is to say that all is well
	Young        bool              `json:"young,omitempty"`  // it was started so lately that it may not be well yet
	Log          []string          `json:"log,omitempty"`
	Missing      []string          `json:"missing,omitempty"` // paths of the host that it is to see
	Former       []string          `json:"former,omitempty"`  // paths of the host where it sees what lay there before
	Empty        []string          `json:"empty,omitempty"`   // directories of the host that it only sees, and that hold nothing
	Networks     []string          `json:"networks,omitempty"`
	Beyond       []string          `json:"beyond,omitempty"` // what it has that none has that North Stake makes
	Looks        []string          `json:"looks,omitempty"`  // where the web server in the image looks by itself for what it serves
	Loose        []string          `json:"loose,omitempty"`  // paths inside at which the image has it write to a volume of the engine
}

// Trouble is why something on a host does not answer.
type Trouble struct {
	What string `json:"what"`
	Fix  string `json:"fix"`
}

// ContainerWork makes a container, starts or stops it, or takes it away.
type ContainerWork struct {
	ContainerWant
	Do string `json:"do"` // one of MakeContainer and the like
}

// What a step does with a container.
const (
	MakeContainer  = "make" // in the place of what has its name
	StartContainer = "start"
	AnewContainer  = "start anew" // so that it sees what lies on the host now where it holds something
	StopContainer  = "stop"
	AwayContainer  = "away"

	PrepareContainer = "prepare" // make it, and leave it stopped
	ReloadContainer  = "reload"
)

// Loose are the paths at which a container writes to a volume of the engine that the one that
// is wanted does not hold.
func (w ContainerWant) Loose(f ContainerFound) []string {
	return slices.DeleteFunc(slices.Clone(f.Loose), func(p string) bool {
		return slices.ContainsFunc(w.Mounts, func(h HeldAt) bool { return h.At == Path(p) })
	})
}

// JoinsNamed says whether the container joins a network of its engine that has a name of its own.
func (w ContainerWant) JoinsNamed() bool {
	return w.Network != "" && w.Network != "host" && w.Network != "none"
}

// Overlaps says whether the container cannot run beside the one that is there.
func (w ContainerWant) Overlaps(f ContainerFound) bool {
	if w.Network == "host" || f.Network == "host" || w.Address != "" && w.Address == f.Address {
		return true
	}
	if len(w.Loose(f)) > 0 || slices.ContainsFunc(w.Mounts, func(h HeldAt) bool { // two would write at one place
		return h.Writable && slices.ContainsFunc(f.Mounts, func(o HeldAt) bool {
			return o.Writable && h.From.Meets(o.From)
		})
	}) {
		return true
	}
	return slices.ContainsFunc(w.ReachedAt, func(d Door) bool {
		return slices.ContainsFunc(f.ReachedAt, func(o Door) bool { return o.Outside == d.Outside })
	})
}

// ContainerRestarting is a container that ends again and again, and is started again by its engine:
// whether it runs just now is a matter of luck.
const ContainerRestarting = "restarting"

// ContainerDead is a container of which the engine says that it runs, and nothing in it does.
const ContainerDead = "dead"
