package judge

import (
	"encoding/json"
	"fmt"
	"testing"

	"northstake/core/stake"
	"northstake/core/wire"
)

// The work of several is read back as it was written, that of one is written as its own, and
// a resumed step does nothing but what the planned one showed.
func TestWorkOfSeveral(t *testing.T) {
	dir := func(names ...string) wire.Works[wire.DirectoryWork] {
		var out wire.Works[wire.DirectoryWork]
		for _, n := range names {
			out = append(out, wire.DirectoryWork{DirectoryWant: wire.DirectoryWant{Path: wire.Path(n)}})
		}
		return out
	}
	for _, w := range []wire.Works[wire.DirectoryWork]{dir("/a"), dir("/a", "/b", "/c")} {
		var back wire.Works[wire.DirectoryWork]
		if err := json.Unmarshal(wire.JSON(w), &back); err != nil || fmt.Sprint(back) != fmt.Sprint(w) {
			t.Errorf("%s becomes %v, %v", wire.JSON(w), back, err)
		}
	}
	if got, want := string(wire.JSON(dir("/a"))), string(wire.JSON(dir("/a")[0])); got != want {
		t.Errorf("one is written %s, and by itself %s", got, want)
	}
	for _, c := range []struct {
		planned, now wire.Works[wire.DirectoryWork]
		within       bool
	}{
		{dir("/a", "/b", "/c"), dir("/b", "/c"), true}, {dir("/a", "/b", "/c"), dir("/c"), true}, {dir("/a"), dir("/a"), true},
		{dir("/a", "/b"), dir("/a", "/d"), false}, {dir("/a"), dir("/a", "/b"), false}, {dir("/a"), dir("/b"), false},
	} {
		if got := worksWithin(wire.JSON(c.planned), wire.JSON(c.now)); got != c.within {
			t.Errorf("%s within %s: %t", wire.JSON(c.now), wire.JSON(c.planned), got)
		}
	}
	var moves []wire.Move
	for i := range 7 {
		moves = append(moves, wire.Move{Verb: "make", Text: fmt.Sprintf("make directory /d%d", i), Work: wire.JSON(wire.DirectoryWork{DirectoryWant: wire.DirectoryWant{Path: wire.Path(fmt.Sprint("/d", i))}}), Details: []wire.Detail{{Title: fmt.Sprint(i)}}})
	}
	kind, err := stake.KindOf("directory")
	if err != nil {
		t.Fatal(err)
	}
	m := kind.Join(moves)
	var works wire.Works[wire.DirectoryWork]
	if err := json.Unmarshal(m.Work, &works); err != nil || len(works) != 7 || len(m.Details) != 7 || m.Text != "make 7 directories: /d0, /d1, /d2, /d3, /d4 and 2 more" {
		t.Errorf("%q with %d details is %v, %v", m.Text, len(m.Details), works, err)
	}
}
