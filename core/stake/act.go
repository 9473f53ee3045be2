package stake

import (
	"fmt"
	"slices"
	"strings"

	"northstake/core/declare"
)

// ActWant is something to be done now that is no lasting state: a service is
// restarted or reloaded, the lists of what package sources offer are read anew, all
// packages are upgraded, or the host is restarted.
type ActWant struct {
	Do      string `json:"do"` // one of Acts
	Service string `json:"service,omitempty"`
}

// Acts are what can be done now.
var Acts = []string{"restart", "reload", "relist", "upgrade", "reboot"}

// ActFound is what an act is worked out from.
type ActFound struct {
	Known    bool          `json:"known,omitempty"` // there is such a service
	Running  bool          `json:"running,omitempty"`
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
		work.Upgrades = f.Upgrades
		var lines []string
		for _, u := range f.Upgrades {
			lines = append(lines, strings.TrimSpace(fmt.Sprintf("%s %s in place of %s", u.Name, u.Version, u.From)))
		}
		slices.Sort(lines)
		return Verdict{Differences: asked, Moves: []Move{{Verb: "upgrade", Text: "upgrade " + count(len(f.Upgrades), "package", "packages"),
			Details: []Detail{{Title: "packages", Text: strings.Join(lines, "\n")}}, Work: JSON(work)}}}
	case "reboot":
		return Verdict{Differences: asked, Moves: []Move{restartMove("restart the host, and wait for it", "", work)}}
	}
	return Verdict{Differences: asked, Blockers: []Note{{in.Stake.Address(), fmt.Sprintf("nothing is known that is called %q", w.Do), "it is one of " + strings.Join(Acts, ", ")}}}
}

func restartMove(text, because string, work any) Move {
	return Move{Verb: "restart", Text: text, Because: because, Work: JSON(work), Returns: true}
}

// RestartWant says that a run may restart the host when it needs that.
type RestartWant struct{}

// RestartFound is why the host needs a restart, "" where it does not.
type RestartFound struct {
	Needed string `json:"needed,omitempty"`
}

var _ = Register(Kind{
	Type: "restart", After: []string{"package"},
	Settings: []declare.Setting{declare.Value[*bool]("may_restart", "Whether a run restarts the host when it needs that, after an upgrade say, and waits for it.", "false: the need is shown", "true")},
	Wanted: func(w *Wanting) error {
		may, from := false, declare.Position{}
		w.Each(func(s declare.Settings, at func(...string) declare.Position) {
			if v := declare.Get[*bool](s, "may_restart"); v != nil {
				may, from = *v, at("may_restart")
			}
		})
		if may {
			w.Want(Stake{Type: "restart", Name: "host", Want: JSON(RestartWant{}), From: from})
		}
		return nil
	},
	Judge: Judging(judgeRestart),
})

func judgeRestart(_ Input, _ RestartWant, f RestartFound) Verdict {
	if f.Needed == "" {
		return Verdict{Gone: true} // it leaves nothing behind
	}
	return Verdict{Gone: true, Differences: []Difference{{"restart", "not needed", f.Needed}},
		Moves: []Move{restartMove("restart the host, and wait for it", f.Needed, ActWork{ActWant: ActWant{Do: "reboot"}})}}
}
