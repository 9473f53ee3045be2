package stake

import (
	"fmt"
	"slices"
	"strings"
)

// ActWant is something to be done now that is no lasting state: a service is
// restarted or reloaded, the lists of what package sources offer are read anew, all
// packages are upgraded, or the host is restarted.
type ActWant struct {
	Do      string `json:"do"` // one of Acts
	Service string `json:"service,omitempty"`

	Leave []string `json:"leave,omitempty"` // packages that an upgrade leaves, because their version is declared
}

// Acts are what can be done now.
var Acts = []string{"restart", "reload", "relist", "upgrade", "reboot"}

// ActFound is what an act is worked out from.
type ActFound struct {
	Known    bool          `json:"known,omitempty"` // there is such a service
	Running  bool          `json:"running,omitempty"`
	NoReload bool          `json:"no_reload,omitempty"` // it takes notice of a change by a restart alone
	Near     []string      `json:"near,omitempty"`
	Here     string        `json:"here,omitempty"` // what the host's family calls a service that is unknown
	Upgrades []PackageGoal `json:"upgrades,omitempty"`
	Manager  string        `json:"manager,omitempty"` // of packages
}

// ActWork is an act as a host does it.
type ActWork struct {
	ActWant
	Upgrades []PackageGoal `json:"upgrades,omitempty"`
}

var _ = Register(Kind{Type: "act", Judge: Judging(judgeAct)})

func judgeAct(in Input, w ActWant, f ActFound) Verdict {
	work := ActWork{ActWant: w}
	asked := []Difference{{"asked for", w.Do, "not done"}}
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
		move := Move{Verb: w.Do, Text: w.Do + " " + w.Service + " now", Work: JSON(work)}
		if FiltersItself(w.Service) {
			move.Confirm, move.Details = true, []Detail{armed}
		}
		return Verdict{Differences: asked, Moves: []Move{move}}
	case "relist":
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
	case "reboot":
		return Verdict{Differences: asked, Moves: []Move{restartMove("restart the host, and wait for it", "", work)}}
	}
	return Verdict{Differences: asked, Blockers: []Note{{in.Stake.Address(), fmt.Sprintf("nothing is known that is called %q", w.Do), "it is one of " + strings.Join(Acts, ", ")}}}
}
