package kinds

import (
	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/core/wire"
)

var _ = stake.Register(stake.Kind{
	Type:     "restart",
	After:    []string{"package"},
	Settings: []declare.Setting{declare.Value[*bool]("may_restart", "Whether a run restarts the host when it needs that, after an upgrade say, and waits for it.", "false: the need is shown", "true")},
	Wanted: func(w *stake.Wanting) error {
		may, from := false, declare.Position{}
		w.Each(func(s declare.Settings, at func(...string) declare.Position) {
			if v := declare.Get[*bool](s, "may_restart"); v != nil {
				may, from = *v, at("may_restart")
			}
		})
		if may {
			w.Want(stake.Stake{Type: "restart", Name: "host", Want: wire.JSON(wire.RestartWant{}), From: from})
		}
		return nil
	},
})
