package stake

import (
	"northstake/core/declare"
	"northstake/core/wire"
)

func restartMove(text, because string, work any) wire.Move {
	return wire.Move{Verb: "restart", Text: text, Because: because, Work: wire.JSON(work), Returns: true}
}

var _ = Register(Kind{
	Type:     "restart",
	After:    []string{"package"},
	Settings: []declare.Setting{declare.Value[*bool]("may_restart", "Whether a run restarts the host when it needs that, after an upgrade say, and waits for it.", "false: the need is shown", "true")},
	Wanted: func(w *Wanting) error {
		may, from := false, declare.Position{}
		w.Each(func(s declare.Settings, at func(...string) declare.Position) {
			if v := declare.Get[*bool](s, "may_restart"); v != nil {
				may, from = *v, at("may_restart")
			}
		})
		if may {
			w.Want(Stake{Type: "restart", Name: "host", Want: wire.JSON(wire.RestartWant{}), From: from})
		}
		return nil
	},
})

var _ = Judged("restart", Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        Judging(judgeRestart),
	Follows:      true,
})

func judgeRestart(_ Input, _ wire.RestartWant, f wire.RestartFound) Verdict {
	if f.Needed == "" {
		return Verdict{Gone: true} // it leaves nothing behind
	}
	return Verdict{Gone: true, Differences: []wire.Difference{{Attribute: "restart", Wanted: "not needed", Found: f.Needed}},
		Moves: []wire.Move{restartMove("restart the host, and wait for it", f.Needed, wire.ActWork{ActWant: wire.ActWant{Do: "reboot"}})}}
}
