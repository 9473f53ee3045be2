package stake

import (
	"encoding/json"
	"fmt"
	"slices"
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

// WithLogin is an act with the login of an image's registry, made of a secret.
func (w ActWant) WithLogin(secrets *Secrets) ActWant {
	if w.ImageSecret != "" {
		w.Login = secrets.seal(w.ImageSecret, login)
	}
	return w
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

var _ = Register(Kind{
	Type: "act", Judge: Judging(judgeAct), Unsealed: unsealedAct,
	WayIn: workOnWay(func(way *Way, w ActWork) bool {
		return way.OnService(w.Service) || slices.ContainsFunc(w.Upgrades, func(g PackageGoal) bool { return way.OnPackages(g.Name) })
	}),
})

func unsealedAct(raw json.RawMessage, secrets *Secrets) (json.RawMessage, error) {
	var w ActWork
	if err := json.Unmarshal(raw, &w); err != nil || w.Login == nil {
		return raw, err
	}
	secrets.put(w.Login, login)
	return json.Marshal(w)
}

func judgeAct(in Input, w ActWant, f ActFound) Verdict {
	work := ActWork{ActWant: w}
	asked := []Difference{{"asked for", string(w.Do), "not done"}}
	switch w.Do {
	case "restart", "reload":
		switch {
		case !f.Known:
			return Verdict{Differences: asked, Blockers: []Note{{in.Stake.Address(), fmt.Sprintf("no unit on this host is called %s", w.Service), "check the name" + nearWords(f.Here, f.Near)}}}
		case !f.Running:
			return Verdict{Differences: asked, Blockers: []Note{{in.Stake.Address(), fmt.Sprintf("%s does not run, so that it cannot %s", w.Service, w.Do), "declare that it runs, and apply that"}}}
		}
		if w.Do == "reload" && f.NoReload {
			return Verdict{Differences: asked, Blockers: []Note{{in.Stake.Address(), fmt.Sprintf("%s cannot reload: it takes notice of a change by a restart alone", w.Service), "restart it"}}}
		}
		move := Move{Verb: string(w.Do), Text: string(w.Do) + " " + w.Service + " now", Work: JSON(work)}
		if FiltersItself(w.Service) {
			move.Confirm, move.Details = true, []Detail{armed}
		}
		return Verdict{Differences: asked, Moves: []Move{move}}
	case RefreshLists:
		return Verdict{Differences: asked, Moves: []Move{{Verb: "read", Text: "read the lists of what the package sources offer anew, with " + f.Manager, Work: JSON(work)}}}
	case "upgrade":
		if len(f.Upgrades) == 0 {
			return Verdict{}
		}
		var left []string
		for _, u := range f.Upgrades {
			if slices.Contains(w.Leave, u.Name) {
				left = append(left, u.Name)
			} else {
				work.Upgrades = append(work.Upgrades, u)
			}
		}
		var cautions []Note
		if len(left) > 0 {
			cautions = []Note{{in.Stake.Address(), fmt.Sprintf("%s stays as it is: its version is declared", strings.Join(left, ", ")), "declare another version, and apply that"}}
		}
		if len(work.Upgrades) == 0 {
			return Verdict{Cautions: cautions}
		}
		var lines []string
		for _, u := range work.Upgrades {
			lines = append(lines, strings.TrimSpace(fmt.Sprintf("%s %s in place of %s", u.Name, u.Version, u.From)))
		}
		slices.Sort(lines)
		return Verdict{Differences: asked, Cautions: cautions, Moves: []Move{{Verb: "upgrade", Text: "upgrade " + count(len(work.Upgrades), "package", "packages"),
			Details: []Detail{{Title: "packages", Text: strings.Join(lines, "\n")}}, Work: JSON(work)}}}
	case MakeImage:
		v := Verdict{Differences: asked}
		block := func(what, fix string) { v.Blockers = append(v.Blockers, Note{in.Stake.Address(), what, fix}) }
		switch {
		case f.Engine != nil:
			block(f.Engine.What, f.Engine.Fix)
		case !f.Known:
			block(fmt.Sprintf("there is no container called %s", w.Container), "make it, or correct the name")
		case w.Unlike != "":
			block(w.Unlike, fmt.Sprintf("an image says which revision it holds: northstake apply it, or northstake survey --on %s, and make it then", w.Host))
		case w.Login != nil && w.Login.Lacks != "":
			block(w.Login.Lacks, fmt.Sprintf("northstake secret keep %s takes it", w.Login.Secret))
		}
		if len(v.Blockers) > 0 {
			return v
		}
		v.Cautions = []Note{{in.Stake.Address(), "everything in the container goes into the image, the secrets that it was given among it; only what North Stake keeps there for itself is left out", "push it to no registry that people can read who may not know these secrets"}}
		v.Moves = []Move{{Verb: "make", Text: fmt.Sprintf("make image %[4]s of container %[1]s, which is host %[2]s as revision %[3]d declares it, and push it to its registry", w.Container, w.Host, w.Revision, w.Image), Work: JSON(work)}}
		return v
	case "reboot":
		if in.Traits.ServiceManager != "" && in.Traits.ServiceManager != "systemd" {
			return Verdict{Differences: asked, Blockers: []Note{{in.Stake.Address(), "this host has no systemd, which is told to restart it", "restart it by its own means; northstake survey sees it again afterwards"}}}
		}
		return Verdict{Differences: asked, Moves: []Move{restartMove("restart the host, and wait for it", "", work)}}
	}
	return Verdict{Differences: asked, Blockers: []Note{{in.Stake.Address(), fmt.Sprintf("nothing is known that is called %q", w.Do), "it is one of " + ActNames()}}}
}
