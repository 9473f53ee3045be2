//go:build bench

package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"northstake/lab"
)

const (
	manyContainers  = 200
	containerRounds = 20
)

// TestSpeedOfContainers times a survey of a host with 200 containers beside ssh HOST true.
func TestSpeedOfContainers(t *testing.T) {
	g := newGroundOf(t, shared, []lab.Family{lab.Debian.Able()}, bareKit)
	at := registry(t)
	pushed(t, at, "tides", "1", nil, "sleep", "100000")
	var b strings.Builder
	b.WriteString("# instead of [site.timetable]\n" + engineKit(at))
	for i := range manyContainers {
		fmt.Fprintf(&b, "[kit.base.container.c%d]\nimage = \"%s/tides:1\"\nvariables = { N = \"%d\" }\njoins = \"none\"\n", i, at, i)
	}
	g.declareText(b.String())
	g.trust()
	start := time.Now()
	g.apply(0)
	t.Logf("applied in %s", time.Since(start))
	var login, survey []time.Duration
	for range containerRounds {
		login = append(login, timed(t, g.dir, sshTo(g.address(g.hosts[0]))+" true"))
		start := time.Now()
		g.ns(0, "survey", g.name)
		survey = append(survey, time.Since(start))
	}
	l, s := middle(login), middle(survey)
	text := fmt.Sprintf("A survey of a lab host that runs %d containers, over the kept connection, beside `ssh HOST true`, in turns in one run. Medians of %d.\n\nMade on %s, on 2 processors.\n\n| what | median | ratio | wanted |\n|---|---:|---:|---:|\n| ssh HOST true | %.1f ms | 1.000 | |\n| northstake survey, warm | %.1f ms | %.3f | 0.5 |\n",
		manyContainers, containerRounds, time.Now().Format(time.DateOnly), float64(l.Microseconds())/1000, float64(s.Microseconds())/1000, float64(s)/float64(l))
	t.Log(text)
	section(t, "Containers", text)
}
