package stake

import "northstake/core/declare"

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
	WayIn:    byPaths,
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
	Judge: Judging(judgeRestart), Follows: true,
})

func judgeRestart(_ Input, _ RestartWant, f RestartFound) Verdict {
	if f.Needed == "" {
		return Verdict{Gone: true} // it leaves nothing behind
	}
	return Verdict{Gone: true, Differences: []Difference{{"restart", "not needed", f.Needed}},
		Moves: []Move{restartMove("restart the host, and wait for it", f.Needed, ActWork{ActWant: ActWant{Do: "reboot"}})}}
}
