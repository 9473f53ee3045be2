package judge

import (
	"northstake/core/stake"
	"northstake/core/wire"
)

func restartMove(text, because string, work any) wire.Move {
	return wire.Move{Verb: "restart", Text: text, Because: because, Work: wire.JSON(work), Returns: true}
}

var _ = stake.Judged("restart", stake.Judgement{
	MayCutAccess: cutsOnlyAtPaths,
	Judge:        stake.Judging(judgeRestart),
	Follows:      true,
})

func judgeRestart(_ stake.Input, _ wire.RestartWant, f wire.RestartFound) stake.Verdict {
	if f.Needed == "" {
		return stake.Verdict{Gone: true} // it leaves nothing behind
	}
	return stake.Verdict{Gone: true, Differences: []wire.Difference{{Attribute: "restart", Wanted: "not needed", Found: f.Needed}},
		Moves: []wire.Move{restartMove("restart the host, and wait for it", f.Needed, wire.ActWork{ActWant: wire.ActWant{Do: "reboot"}})}}
}
