package plan_test

import (
	"fmt"

	"northstake/core/plan"
	"northstake/core/stake"
	"northstake/core/wire"
)

// A plan is worked out from values alone: what is wanted, what was read, and what is
// remembered. Here a link is wanted, and leads elsewhere.
func ExampleBuild() {
	want := wire.LinkWant{Path: "/srv/current", PointsTo: "/srv/tides"}
	h, err := plan.Build(plan.Input{
		Place:    "quay1",
		Stakes:   []stake.Stake{{Place: "quay1", Type: "link", Name: string(want.Path), Want: wire.JSON(want)}},
		Readings: map[string]wire.Reading{"link/srv/current": {Name: "link/srv/current", Found: wire.JSON(wire.Entry{Kind: "link", Target: "/srv/old"})}},
	}, nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, r := range h.Rows {
		fmt.Println(r.Address, r.Standing, r.Differences)
	}
	for _, s := range h.Steps {
		fmt.Printf("%d %s\n", s.Number, s.Text)
	}
	// Output:
	// quay1/link/srv/current due [{leads to /srv/tides /srv/old}]
	// 1 point the link /srv/current to /srv/tides, from /srv/old
}
