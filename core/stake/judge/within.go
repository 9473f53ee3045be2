package judge

import (
	"fmt"
	"slices"

	"northstake/core/stake"
	"northstake/core/wire"
)

// unwantedContainer says whether a container that served sites holds a port on which a declared
// site listens by now without it.
func unwantedContainer(gone stake.Stake, in stake.Surroundings) (why, forStake string) {
	was, _ := stake.Decoded[wire.ContainerWant](gone.Want)
	for d, now := range stake.Of[wire.SiteWant](in.Declared, "site", in.Memo) {
		if now.Off || now.ServedBy() == gone.Local() {
			continue
		}
		for _, p := range now.Listen.Ports() {
			if slices.Contains(was.Ports, p) {
				return fmt.Sprintf("site %s listens on port %d with %s now", d.Name, p, now.By()), d.Local()
			}
		}
	}
	return "", ""
}
