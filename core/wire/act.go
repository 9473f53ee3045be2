package wire

import (
	"strings"
)

// ActWant is something to be done now that is no lasting state: a service is
// restarted or reloaded, the lists of what package sources offer are read anew, all
// packages are upgraded, or the host is restarted.
type ActWant struct {
	Do      Act    `json:"do"` // one of Acts
	Service string `json:"service,omitempty"`

	Leave []string `json:"leave,omitempty"` // packages that an upgrade leaves, because their version is declared

	// Of a container that is a host and is kept as an image, which goes to its registry: the
	// image's name, and the secret that its registry lets in with. What else there is to say, the
	// service knows: the container, the host that it is, the ground, the revision that it holds,
	// and in what it does not.
	Image       string  `json:"image,omitempty"`
	ImageSecret string  `json:"image_secret,omitempty"`
	Login       *Sealed `json:"login,omitempty"`
	Container   string  `json:"container,omitempty"`
	Host        string  `json:"host,omitempty"`
	Ground      string  `json:"ground,omitempty"`
	Revision    int     `json:"revision,omitempty"`
	Unlike      string  `json:"unlike,omitempty"`
}

// Act is what is done now.
type Act string

// MakeImage makes an image of a container; RefreshLists reads the lists of what package
// sources offer anew.
const (
	MakeImage    Act = "make-image"
	RefreshLists Act = "refresh-lists"
)

// Acts are what can be done now.
var Acts = []Act{"restart", "reload", RefreshLists, "upgrade", "reboot", MakeImage}

// formerActs are the words of acts in plans and journals of releases before.
var formerActs = map[string]Act{"keep": MakeImage, "relist": RefreshLists}

// UnmarshalText takes a word of today, or one of before.
func (a *Act) UnmarshalText(text []byte) error {
	if *a = Act(text); formerActs[string(text)] != "" {
		*a = formerActs[string(text)]
	}
	return nil
}

// ActNames lists the acts for people.
func ActNames() string {
	var out []string
	for _, a := range Acts {
		out = append(out, string(a))
	}
	return strings.Join(out, ", ")
}

// ActFound is what an act is worked out from.
type ActFound struct {
	Known    bool          `json:"known,omitempty"` // there is such a service
	Running  bool          `json:"running,omitempty"`
	NoReload bool          `json:"no_reload,omitempty"` // it takes notice of a change by a restart alone
	Near     []string      `json:"near,omitempty"`
	Here     string        `json:"here,omitempty"` // what the host's family calls a service that is unknown
	Upgrades []PackageGoal `json:"upgrades,omitempty"`
	Manager  string        `json:"manager,omitempty"` // of packages
	Engine   *Trouble      `json:"engine,omitempty"`
}

// ActWork is an act as a host does it.
type ActWork struct {
	ActWant
	Upgrades []PackageGoal `json:"upgrades,omitempty"`
}
