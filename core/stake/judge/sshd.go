package judge

import (
	"northstake/core/stake"
	"northstake/core/wire"
)

// nudgesOf are for services that take notice of what lies at a path.
func nudgesOf(what, path string, reload, restart []string) []stake.Nudge {
	var out []stake.Nudge
	for _, n := range []struct {
		how      string
		services []string
	}{{"reload", reload}, {"restart", restart}} {
		for _, s := range n.services {
			out = append(out, stake.Nudge{Target: wire.Local("service", s), How: n.how, Reason: "its " + what + " " + path + " changed"})
		}
	}
	return out
}
