package engine

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

// What was found of a container counts for as long as the engine tells of no change and its
// process is the same; what is done in it by a command that asks whether it is well is none.
func TestWhatWasFoundCountsWhileNothingChanges(t *testing.T) {
	m := systemtest.Folder(t)
	asked, events, user := 0, "", "one"
	serve(t, m, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Api-Version", "1.41")
		switch {
		case strings.HasSuffix(r.URL.Path, "/events"):
			if q := r.URL.Query(); q.Get("stream") != "false" || q.Get("since") == "" || strings.Contains(q.Get("until"), ".") {
				t.Errorf("it is asked for events with %s", r.URL.RawQuery)
			}
			fmt.Fprint(w, events)
		case strings.HasSuffix(r.URL.Path, "/containers/json"):
			fmt.Fprintf(w, `[{"Names":["/tides"],"Image":"registry.test/tides:1","State":"running","Labels":{"northstake.by":"saltmarsh"}},{"Names":["/pi\u001brate"],"Image":%q,"State":"exited"}]`, user)
		case strings.Contains(r.URL.Path, "/containers/tides/json"):
			asked++
			fmt.Fprintf(w, `{"Id":"c1","Name":"/tides","Image":"i1","State":{"Status":"running","Running":true,"Pid":77},"Config":{"User":%q,"Labels":{"northstake.by":"saltmarsh"}},"HostConfig":{"NetworkMode":"bridge","RestartPolicy":{"Name":"always"}}}`, user)
		case r.Method == http.MethodPost:
			w.WriteHeader(http.StatusNoContent)
		case strings.Contains(r.URL.Path, "/images/"):
			fmt.Fprint(w, `{"Id":"i1","Config":{}}`)
		}
	})
	began := func(at string) {
		systemtest.Put(t, m, "/proc/77/stat", "77 (ti) des) S"+strings.Repeat(" 1", 18)+" "+at+" 1\n")
	}
	linked := func(names ...string) {
		out := "Inter-|   Receive\n face |bytes\n"
		for _, n := range names {
			out += "  " + n + ": 1 2 3\n"
		}
		systemtest.Put(t, m, "/proc/77/net/dev", out)
	}
	began("100")
	linked("lo", "eth0")
	w := wire.ContainerWant{Name: "tides", By: "saltmarsh", Image: "registry.test/tides:1", Running: true}
	look := func(w wire.ContainerWant) wire.ContainerFound {
		t.Helper()
		e, trouble := Of(context.Background(), m)
		if trouble != nil {
			t.Fatal(trouble)
		}
		round, err := e.NewRound(context.Background(), m)
		if err != nil {
			t.Fatal(err)
		}
		f, err := round.Found(context.Background(), w)
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	if f := look(w); f.RunsAs != "one" || f.Wanted != "i1" || f.By != "saltmarsh" {
		t.Fatalf("%+v", f)
	}
	if got := fmt.Sprint(Listed(m)); got != "[{pirate one exited  } {tides registry.test/tides:1 running saltmarsh }]" {
		t.Errorf("it has %s", got)
	}
	for what, c := range map[string]struct {
		change func()
		anew   bool
	}{
		"nothing": {func() {}, false},
		"a command in it": {func() {
			events = `{"Type":"container","Action":"exec_create"}{"Type":"container","Action":"exec_died"}`
		}, false},
		"a container that died":    {func() { events = `{"Type":"container","Action":"died"}` }, true},
		"a tag":                    {func() { events = `{"Type":"image","Action":"tag"}` }, true},
		"events that are none":     {func() { events = `{"Type":` }, true},
		"its process is another":   {func() { began("200") }, true},
		"its process is gone":      {func() { os.Remove(m.Path("/proc/77/stat")) }, true},
		"another network":          {func() { linked("lo", "eth0", "eth1") }, true},
		"taken from its network":   {func() { linked("lo") }, true},
		"something else is wanted": {func() { w.RunsAs = "three" }, true},
		"this rod has stopped one": {func() {
			e, _ := Of(context.Background(), m)
			if err := e.Stop(context.Background(), "c2"); err != nil {
				t.Fatal(err)
			}
		}, true},
		"it was long ago": {func() {
			e, _ := Of(context.Background(), m)
			round, err := e.NewRound(context.Background(), m)
			if err != nil {
				t.Fatal(err)
			}
			round.memory.since = time.Now().Add(-2 * rememberTime)
		}, true},
	} {
		w.RunsAs, events, user = "", `{"Type":"container","Action":"remove"}`, "one"
		began("100")
		linked("lo", "eth0")
		look(w) // and so begins anew
		events = ""
		look(w)
		before := asked
		user = "two"
		c.change()
		f := look(w)
		if (asked > before) != c.anew || (f.RunsAs == "two") != c.anew {
			t.Errorf("%s: it was asked %d times, and runs as %s", what, asked-before, f.RunsAs)
		}
	}
}
