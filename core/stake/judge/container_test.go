package judge_test

import (
	"strings"
	"testing"
	"time"

	"northstake/core/stake"
	"northstake/core/wire"
)

// Every setting of a container is compared, and each alone makes it anew.
func TestEverySettingOfAContainerCounts(t *testing.T) {
	kind, err := stake.KindOf("container")
	if err != nil {
		t.Fatal(err)
	}
	want := wire.ContainerWant{Name: "tides", By: "saltmarsh", Image: "registry.test/tides:1", Running: true, Command: []string{"tides"}, ReachedAt: []wire.Door{{Outside: 8080, Inside: 80}},
		Mounts: []wire.HeldAt{{At: "/srv", From: "/srv/tides"}}, Variables: map[string]string{"OFFICE": "north"}, Secrets: map[string]*wire.Sealed{"TOKEN": {Secret: "tides-token", Mark: "m"}},
		RunsAs: "tides", Network: "harbour", Address: "10.89.0.7", Policy: "always", Memory: 1 << 28, Processors: 5e8, EngineLabels: map[string]string{"team": "tides"}, WellWhen: []string{"true"}}
	good := func() wire.ContainerFound {
		return wire.ContainerFound{There: true, By: "saltmarsh", State: "running", Image: "sha256:aa", Wanted: "sha256:aa", Command: []string{"tides"}, ReachedAt: []wire.Door{{Outside: 8080, Inside: 80}},
			Mounts: []wire.HeldAt{{At: "/srv", From: "/srv/tides"}}, Variables: map[string]string{"OFFICE": "north"}, Secrets: map[string]bool{"TOKEN": true}, RunsAs: "tides", Network: "harbour", Address: "10.89.0.7", Policy: "always",
			Memory: 1 << 28, Processors: 5e8, EngineLabels: map[string]string{"team": "tides"}, Networks: []string{"harbour"}}
	}
	judge := func(f wire.ContainerFound) stake.Verdict {
		t.Helper()
		v, err := kind.Judge(stake.Input{Stake: stake.Stake{Place: "quay1", Type: "container", Name: "tides", Want: wire.JSON(want)}, Found: wire.JSON(f)})
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	if v := judge(good()); len(v.Differences)+len(v.Moves)+len(v.Blockers) > 0 {
		t.Fatalf("one that is as declared: %+v", v)
	}
	for what, c := range map[string]struct {
		change  func(f *wire.ContainerFound)
		differs string
		does    string // "" for blocked
	}{
		"gone":               {func(f *wire.ContainerFound) { *f = wire.ContainerFound{Networks: f.Networks} }, "container", "run container tides of image registry.test/tides:1"},
		"another image":      {func(f *wire.ContainerFound) { f.Image = "sha256:bb" }, "image", "make"},
		"another command":    {func(f *wire.ContainerFound) { f.Command = []string{"tides", "--x"} }, "command", "make"},
		"another door":       {func(f *wire.ContainerFound) { f.ReachedAt[0].Outside = 8081 }, "reached at", "make"},
		"an address":         {func(f *wire.ContainerFound) { f.ReachedAt[0].At = "127.0.0.1" }, "reached at", "make"},
		"one door more":      {func(f *wire.ContainerFound) { f.ReachedAt = append(f.ReachedAt, wire.Door{Outside: 9, Inside: 9}) }, "reached at", "make"},
		"writable":           {func(f *wire.ContainerFound) { f.Mounts[0].Writable = true }, "mounts", "make"},
		"held from":          {func(f *wire.ContainerFound) { f.Mounts[0].From = "/srv/x" }, "mounts", "make"},
		"a variable":         {func(f *wire.ContainerFound) { f.Variables["OFFICE"] = "south" }, "variable OFFICE", "make"},
		"no variable":        {func(f *wire.ContainerFound) { f.Variables = nil }, "variable OFFICE", "make"},
		"a secret":           {func(f *wire.ContainerFound) { f.Secrets["TOKEN"] = false }, "variable TOKEN", "make"},
		"more variables":     {func(f *wire.ContainerFound) { f.More = []string{"X"} }, "more variables", "make"},
		"more rights":        {func(f *wire.ContainerFound) { f.Beyond = []string{"all rights of the host"} }, "besides", "make"},
		"another user":       {func(f *wire.ContainerFound) { f.RunsAs = "" }, "runs as", "make"},
		"another network":    {func(f *wire.ContainerFound) { f.Network = "" }, "network", "make"},
		"another of its own": {func(f *wire.ContainerFound) { f.Address = "10.89.0.8" }, "address", "make"},
		"a former file":      {func(f *wire.ContainerFound) { f.Former = []string{"/srv/tides"} }, "sees at /srv/tides", "restart container tides"},
		"started again":      {func(f *wire.ContainerFound) { f.Policy = "no" }, "restarts", "make"},
		"a byte of memory":   {func(f *wire.ContainerFound) { f.Memory++ }, "memory at most", "make"},
		"processors":         {func(f *wire.ContainerFound) { f.Processors++ }, "processors at most", "make"},
		"a mark":             {func(f *wire.ContainerFound) { f.EngineLabels["team"] = "harbour" }, "engine labels", "make"},
		"a mark more":        {func(f *wire.ContainerFound) { f.EngineLabels["x"] = "" }, "engine labels", "make"},
		"ended":              {func(f *wire.ContainerFound) { f.State, f.Status = "exited", 3 }, "state", "start container tides"},
		"paused":             {func(f *wire.ContainerFound) { f.State = "paused" }, "state", "make container tides anew, because it is paused"},
		"not well":           {func(f *wire.ContainerFound) { f.Unwell = "true ends with status 1" }, "well", "make container tides anew, because it is not well"},
		"another's":          {func(f *wire.ContainerFound) { f.By = "" }, "made by", ""},
		"another ground's":   {func(f *wire.ContainerFound) { f.By = "harbour" }, "made by", ""},
		"no engine": {func(f *wire.ContainerFound) {
			*f = wire.ContainerFound{Engine: &wire.Trouble{What: "none", Fix: "x"}}
		}, "container", ""},
		"nothing to hold": {func(f *wire.ContainerFound) { f.Missing, f.There = []string{"/srv/tides"}, false }, "container", ""},
		"no such network": {func(f *wire.ContainerFound) { f.Networks, f.There = []string{"podman"}, false }, "container", ""},
	} {
		f := good()
		c.change(&f)
		v := judge(f)
		if len(v.Differences) == 0 || v.Differences[0].Attribute != c.differs || v.Differences[0].Wanted == v.Differences[0].Found {
			t.Errorf("%s: it differs in %+v", what, v.Differences)
		}
		switch {
		case c.does == "" && (len(v.Blockers) == 0 || len(v.Moves) > 0), c.does != "" && (len(v.Moves) != 1 || !strings.HasPrefix(v.Moves[0].Text, c.does)):
			t.Errorf("%s: moves %+v, blockers %+v", what, v.Moves, v.Blockers)
		}
	}
}

// An image that its registry has moved comes anew, with what is made of it; one whose registry
// is away stays, and it is said what that rests on.
func TestAnImageThatHasMoved(t *testing.T) {
	kind, err := stake.KindOf("image")
	if err != nil {
		t.Fatal(err)
	}
	silent := &wire.Trouble{What: "registry registry.test does not answer", Fix: "see that it is up"}
	of := stake.Stake{Place: "quay1", Type: "container", Name: "tides", Want: wire.JSON(wire.ContainerWant{Name: "tides", Image: "registry.test/tides:1"})}
	for what, c := range map[string]struct {
		found                  wire.ImageFound
		differs, does, blocked string
		nudges                 int
	}{
		"as it is":         {wire.ImageFound{ID: "a", Digest: "sha256:1", Offered: "sha256:1"}, "", "", "", 0},
		"not there":        {wire.ImageFound{Offered: "sha256:1"}, "image", "fetch image registry.test/tides:1 from its registry", "", 1},
		"nowhere":          {wire.ImageFound{Silent: silent}, "image", "", "does not answer", 0},
		"moved":            {wire.ImageFound{ID: "a", Digest: "sha256:1", Offered: "sha256:2"}, "digest", "fetch image registry.test/tides:1 anew", "", 1},
		"registry is away": {wire.ImageFound{ID: "a", Digest: "sha256:1", Silent: silent}, "", "", "", 0},
		"made here":        {wire.ImageFound{ID: "a", Offered: "sha256:2"}, "", "", "", 0},
	} {
		v, err := kind.Judge(stake.Input{Stake: stake.Stake{Place: "quay1", Type: "image", Name: "registry.test/tides:1", Want: wire.JSON(wire.ImageWant{Image: "registry.test/tides:1"})}, Found: wire.JSON(c.found), Declared: []stake.Stake{of}})
		if err != nil {
			t.Fatal(err)
		}
		differs, does, blocked := "", "", ""
		if len(v.Differences) > 0 {
			differs = v.Differences[0].Attribute
		}
		if len(v.Moves) > 0 {
			does = v.Moves[0].Text
		}
		if len(v.Blockers) > 0 {
			blocked = v.Blockers[0].What
		}
		if differs != c.differs || !strings.HasPrefix(does, c.does) || (does == "") != (c.does == "") || !strings.Contains(blocked, c.blocked) || (blocked == "") != (c.blocked == "") || len(v.Nudges) != c.nudges {
			t.Errorf("%s: differs in %q, does %q, blocked %q, %d nudges", what, differs, does, blocked, len(v.Nudges))
		}
		if c.found.Silent != nil && c.found.ID != "" && !strings.Contains(v.Rests, "does not answer") {
			t.Errorf("%s: it rests on %q", what, v.Rests)
		}
	}
}

// Two copies of a container never write at one place at once (K1), and what lies in volumes of the
// engine goes along, which is said at every making anew (K2). A container of which the engine says
// that it runs, and nothing in it does, is made anew (K3).
func TestWhatAContainerWritesIsNotLost(t *testing.T) {
	held := func(from string, writable bool) []wire.HeldAt {
		return []wire.HeldAt{{At: "/data", From: wire.Path(from), Writable: writable}}
	}
	for _, c := range []struct {
		wants, has []wire.HeldAt
		loose      []string
		overlaps   bool
	}{
		{held("/srv/tides", true), held("/srv/tides", true), nil, true},
		{held("/srv/tides", true), held("/srv/tides/deep", true), nil, true},
		{held("/srv/tides/deep", true), held("/srv/tides", true), nil, true},
		{held("/srv/tides", false), held("/srv/tides", true), nil, false},
		{held("/srv/tides", true), held("/srv/tides", false), nil, false},
		{held("/srv/tides", true), held("/srv/tides2", true), nil, false},
		{nil, nil, []string{"/var/lib/tides"}, true},
		{held("/srv/tides", true), nil, []string{"/data"}, false},
	} {
		w, f := wire.ContainerWant{Name: "tides", Mounts: c.wants}, wire.ContainerFound{There: true, Mounts: c.has, Loose: c.loose}
		if got := w.Overlaps(f); got != c.overlaps {
			t.Errorf("wanting %+v beside %+v and %v: they overlap: %t", c.wants, c.has, c.loose, got)
		}
	}
	kind, err := stake.KindOf("container")
	if err != nil {
		t.Fatal(err)
	}
	want := wire.ContainerWant{Name: "tides", By: "saltmarsh", Image: "registry.test/tides:1", Running: true, Policy: "always", WellWhen: []string{"true"}}
	for what, change := range map[string]func(f *wire.ContainerFound){
		"another image": func(f *wire.ContainerFound) { f.Image = "sha256:bb" },
		"unwell":        func(f *wire.ContainerFound) { f.Unwell = "it says no" },
		"dead":          func(f *wire.ContainerFound) { f.State = wire.ContainerDead },
		"restarting":    func(f *wire.ContainerFound) { f.State = wire.ContainerRestarting },
		"ended since":   func(f *wire.ContainerFound) { f.ID, f.Restarts = "c1", 3 },
	} {
		f := wire.ContainerFound{There: true, By: "saltmarsh", State: "running", Image: "sha256:aa", Wanted: "sha256:aa", Policy: "always", Loose: []string{"/var/lib/tides"}}
		change(&f)
		v, err := kind.Judge(stake.Input{Stake: stake.Stake{Place: "quay1", Type: "container", Name: "tides", Want: wire.JSON(want)}, Found: wire.JSON(f), LastFound: wire.JSON(wire.ContainerFound{ID: "c1", Restarts: 2})})
		if err != nil || len(v.Moves) != 1 || v.Moves[0].Verb != "make" || len(v.Differences) == 0 {
			t.Errorf("%s: %+v, %v", what, v, err)
			continue
		}
		said := false
		for _, n := range v.Cautions {
			said = said || strings.Contains(n.What, "what container tides wrote at /var/lib/tides lies in a volume of the engine: the new one goes on with it")
		}
		if !said {
			t.Errorf("%s: the plan says nothing of what it wrote: %+v", what, v.Cautions)
		}
	}
}

// A container that was started lately has time to become well; one that was well in the same life, or is
// otherwise than declared, has not.
func TestAYoungContainerHasTime(t *testing.T) {
	kind, err := stake.KindOf("container")
	if err != nil {
		t.Fatal(err)
	}
	since := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	want := wire.ContainerWant{Name: "tides", By: "saltmarsh", Image: "registry.test/tides:1", Running: true, WellWhen: []string{"true"}}
	found := wire.ContainerFound{There: true, ID: "c1", By: "saltmarsh", State: "running", Image: "sha256:aa", Wanted: "sha256:aa", Since: since, Unwell: "true ends with status 1", Young: true}
	for what, c := range map[string]struct {
		change func(f *wire.ContainerFound)
		was    wire.ContainerFound
		unread bool
	}{
		"never seen":                {func(*wire.ContainerFound) {}, wire.ContainerFound{}, true},
		"well before the restart":   {func(*wire.ContainerFound) {}, wire.ContainerFound{ID: "c1", Since: since.Add(-time.Hour)}, true},
		"another container":         {func(*wire.ContainerFound) {}, wire.ContainerFound{ID: "c0", Since: since}, true},
		"well before":               {func(*wire.ContainerFound) {}, wire.ContainerFound{ID: "c1", Since: since}, false},
		"old":                       {func(f *wire.ContainerFound) { f.Young = false }, wire.ContainerFound{}, false},
		"otherwise than declared":   {func(f *wire.ContainerFound) { f.RunsAs = "root" }, wire.ContainerFound{}, false},
		"another image than wanted": {func(f *wire.ContainerFound) { f.Image = "sha256:bb" }, wire.ContainerFound{}, false},
	} {
		f := found
		c.change(&f)
		v, err := kind.Judge(stake.Input{Stake: stake.Stake{Place: "quay1", Type: "container", Name: "tides", Want: wire.JSON(want)}, Found: wire.JSON(f), LastFound: wire.JSON(c.was)})
		if err != nil || (v.Unread != "") != c.unread || c.unread == (len(v.Differences) > 0) {
			t.Errorf("%s: %+v, %v", what, v, err)
		}
	}
}

// A container that somebody renamed is told by the name that it has now, and no second one is made
// beside it (K9).
func TestARenamedContainerIsFound(t *testing.T) {
	kind, err := stake.KindOf("container")
	if err != nil {
		t.Fatal(err)
	}
	want := wire.ContainerWant{Name: "tides", By: "saltmarsh", Image: "registry.test/tides:1", Running: true, ReachedAt: []wire.Door{{Outside: 8080, Inside: 80}}}
	in := stake.Input{Stake: stake.Stake{Place: "quay1", Type: "container", Name: "tides", Want: wire.JSON(want)}, Found: wire.JSON(wire.ContainerFound{}), LastFound: wire.JSON(wire.ContainerFound{ID: "c1"})}
	in.Traits.Containers = []wire.ContainerSeen{{Name: "ebb", By: "saltmarsh", ID: "c0"}, {Name: "tides-old", By: "saltmarsh", ID: "c1"}}
	v, err := kind.Judge(in)
	if err != nil || len(v.Moves) > 0 || len(v.Blockers) != 1 || v.Blockers[0].What != "container tides was renamed to tides-old" {
		t.Errorf("%+v, %v", v, err)
	}
	in.Traits.Containers = in.Traits.Containers[:1]
	if v, err := kind.Judge(in); err != nil || len(v.Moves) != 1 || len(v.Blockers) > 0 {
		t.Errorf("with none of that name: %+v, %v", v, err)
	}
}
