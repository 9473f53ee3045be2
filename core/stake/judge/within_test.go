package judge_test

import (
	"strings"
	"testing"

	"northstake/core/stake"
	"northstake/core/wire"
)

// A container that serves sites is made while what has its port still serves, and started when
// that has let go; a run that is resumed behind that does what was shown, and no more.
func TestAContainerThatTakesOver(t *testing.T) {
	kind, err := stake.KindOf("container")
	if err != nil {
		t.Fatal(err)
	}
	want := wire.ContainerWant{Name: "sites-nginx", By: "saltmarsh", Image: "registry.test/web:1", Running: true, Policy: "always", Network: "host", Serves: "nginx", Ports: []int{80}, Reload: []string{"nginx", "-s", "reload"}}
	leaving := stake.Stake{Place: "quay1", Type: "service", Name: "nginx", Want: wire.JSON(wire.ServiceWant{Name: "nginx", Serves: "nginx"})}
	judge := func(f wire.ContainerFound, gone ...stake.Stake) []wire.Move {
		t.Helper()
		v, err := kind.Judge(stake.Input{Stake: stake.Stake{Place: "quay1", Type: "container", Name: want.Name, Want: wire.JSON(want)}, Found: wire.JSON(f), Leaving: gone})
		if err != nil {
			t.Fatal(err)
		}
		return v.Moves
	}
	both := judge(wire.ContainerFound{}, leaving)
	if len(both) != 2 || both[0].Late || !both[1].Late || !strings.HasPrefix(both[0].Text, "make container") || !strings.HasPrefix(both[1].Text, "start container") {
		t.Fatalf("with something in its way the moves are %+v", both)
	}
	once := judge(wire.ContainerFound{})
	if len(once) != 1 || once[0].Late || !strings.HasPrefix(once[0].Text, "run container") {
		t.Fatalf("with nothing in its way the moves are %+v", once)
	}
	made := judge(wire.ContainerFound{There: true, By: "saltmarsh", State: "created", Image: "a", Wanted: "a", Policy: "always", Network: "host"})
	if len(made) != 1 || !strings.HasPrefix(made[0].Text, "start container") {
		t.Fatalf("of one that is made the moves are %+v", made)
	}
	for _, c := range []struct {
		what         string
		planned, now wire.Move
		within       bool
	}{
		{"what was made first is made and started at once", both[0], once[0], true},
		{"what was made is started", both[1], made[0], true},
		{"what was to be run is started", once[0], made[0], true},
		{"what was to be started alone is not made", made[0], once[0], false},
	} {
		if got := kind.Within(c.planned.Work, c.now.Work); got != c.within {
			t.Errorf("%s: %t", c.what, got)
		}
	}
	// Its site's change is taken in by a reload, its image's by another container.
	for how, text := range map[string]string{"reload": "reload container sites-nginx", wire.MakeContainer: "make container sites-nginx anew"} {
		m, err := kind.Nudged(stake.Input{Stake: stake.Stake{Type: "container", Name: want.Name, Want: wire.JSON(want)}, Found: wire.JSON(wire.ContainerFound{There: true}), Nudges: []stake.Nudge{{How: how, Reason: "r"}}})
		if err != nil || m == nil || !strings.HasPrefix(m.Text, text) {
			t.Errorf("%s: %+v, %v", how, m, err)
		}
	}
	// One whose port a site has by now without it goes, before that one's server starts.
	why, sake := kind.Unwanted(stake.Stake{Place: "quay1", Type: "container", Name: want.Name, Want: wire.JSON(want)}, stake.Surroundings{Declared: []stake.Stake{
		{Place: "quay1", Type: "site", Name: "fares", Want: wire.JSON(wire.SiteWant{Service: "caddy", Listen: wire.Listening{{Port: 80}}})}}})
	if why != "site fares listens on port 80 with caddy now" || sake != "site/fares" {
		t.Errorf("it goes because %q, for %q", why, sake)
	}
}
