//go:build bench

package speed

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

const (
	manyContainers  = 200
	containerRounds = 20
)

// TestSpeedOfContainers times a survey of a host with 200 containers beside ssh HOST true.
func TestSpeedOfContainers(t *testing.T) {
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian.Able()}, stage.BareKit)
	at := stage.Registry(t)
	stage.Pushed(t, at, "tides", "1", nil, "sleep", "100000")
	var b strings.Builder
	b.WriteString("# instead of [site.timetable]\n" + stage.EngineKit(at))
	for i := range manyContainers {
		fmt.Fprintf(&b, "[kit.base.container.c%d]\nimage = \"%s/tides:1\"\nvariables = { N = \"%d\" }\nnetwork = \"none\"\n", i, at, i)
	}
	g.DeclareText(b.String())
	g.Trust()
	start := time.Now()
	g.Apply(0)
	t.Logf("applied in %s", time.Since(start))
	var login, survey, onHost []time.Duration
	for range containerRounds {
		login = append(login, timed(t, g.Dir, stage.SshTo(g.Address(g.Hosts[0]))+" true"))
		start := time.Now()
		out := g.Ns(0, "survey", g.Name, "--json")
		survey = append(survey, time.Since(start))
		var s contract.Survey
		stage.Decode(t, out, &s)
		onHost = append(onHost, time.Duration(s.Hosts[0].TookMs*float64(time.Millisecond)))
	}
	t.Logf("of which the host took %s", middle(onHost))
	l, s := middle(login), middle(survey)
	text := fmt.Sprintf("A survey of a lab host that runs %d containers, over the kept connection, beside `ssh HOST true`, in turns in one run. Medians of %d.\n\nMade on %s, on 2 processors.\n\n| what | median | ratio | wanted |\n|---|---:|---:|---:|\n| ssh HOST true | %.1f ms | 1.000 | |\n| northstake survey, warm | %.1f ms | %.3f | 0.5 |\n",
		manyContainers, containerRounds, time.Now().Format(time.DateOnly), float64(l.Microseconds())/1000, float64(s.Microseconds())/1000, float64(s)/float64(l))
	t.Log(text)
	section(t, "Containers", text)
}

// TestSpeedOfAContainerHost times a survey of a host through its container engine beside one of
// the same host over SSH, warm and with a connection made anew.
func TestSpeedOfAContainerHost(t *testing.T) {
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	host := g.Hosts[0]
	var kit strings.Builder
	for i := range 100 {
		fmt.Fprintf(&kit, "[kit.base.file.\"/etc/tides/f%d\"]\ntext = \"%d\\n\"\n", i, i)
	}
	declared := func(via string) {
		g.Beside("ground.toml", fmt.Sprintf("[ground]\nname = %q\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\nsudo = true\n[host.%s]\n%s\nkits = [\"base\"]\n[kit.base]\n%s", g.Name, host, via, kit.String()))
		g.Ns(0, "declare", g.Dir)
	}
	over := map[string]string{"SSH": fmt.Sprintf("address = %q", g.Address(host)), "the engine": "via = \"container\""}
	declared(over["SSH"])
	g.Trust()
	g.Apply(0)
	warm, cold := map[string][]time.Duration{}, map[string][]time.Duration{}
	for range containerRounds {
		for _, way := range []string{"SSH", "the engine"} {
			declared(over[way]) // another way to a host makes the connection anew
			for _, list := range []map[string][]time.Duration{cold, warm} {
				start := time.Now()
				g.Ns(0, "survey", g.Name)
				list[way] = append(list[way], time.Since(start))
			}
		}
	}
	text := fmt.Sprintf("A survey of 100 files of a lab host, which is a container: through its engine beside over SSH, in turns in one run, with the client's own time. *Cold*: the connection is made anew. Medians of %d.\n\nMade on %s, on 2 processors.\n\n| what | over SSH | through the engine | ratio | wanted |\n|---|---:|---:|---:|---:|\n", containerRounds, time.Now().Format(time.DateOnly))
	for _, one := range []struct {
		what string
		of   map[string][]time.Duration
	}{{"cold", cold}, {"warm", warm}} {
		s, e := middle(one.of["SSH"]), middle(one.of["the engine"])
		text += fmt.Sprintf("| northstake survey, %s | %.1f ms | %.1f ms | %.3f | 1.0 |\n", one.what, float64(s.Microseconds())/1000, float64(e.Microseconds())/1000, float64(e)/float64(s))
	}
	t.Log(text)
	section(t, "Container hosts", text)
}
