package jobs

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"northstake/core/declare"
	"northstake/core/plan"
	"northstake/core/resolve"
	"northstake/core/wire"
	"northstake/host/probe"
)

// What went wrong first is told whole, whatever goes wrong after it.
func TestAFaultKeepsWhatItSaid(t *testing.T) {
	first := &wire.Fault{What: "nginx does not accept the configuration", Fix: "the host is back to what it was", Output: "unknown directive", File: "/etc/nginx/nginx.conf", Line: 7}
	f := andThen(fmt.Errorf("write the virtual host: %w", first), "the host could not be taken back: no room", resumeIt)
	if f.What != "write the virtual host: nginx does not accept the configuration; and the host could not be taken back: no room" || f.Fix != resumeIt || f.Output != first.Output || f.File != first.File || f.Line != first.Line {
		t.Errorf("it is %+v", f)
	}
	if first.Fix == resumeIt {
		t.Error("the first is changed")
	}
}

// A site that is answered otherwise than declared is shifted, unless that follows from something
// that is told of anyhow; what is only declared by now is no drift, and what was not answered is not
// known.
func TestWhatIsAnsweredIsJudgedWithTheRest(t *testing.T) {
	row := func(local, typ, site string, standing plan.Standing) plan.Row {
		return plan.Row{Address: "quay1/" + local, Type: typ, Site: site, Standing: standing}
	}
	wrong := probe.Result{Probe: wire.Probe{Site: "tides", Endpoint: wire.Endpoint{Name: "tides.test", Port: 80}}, From: "inside", GotStatus: 503, Error: "answered 503, wanted 200"}
	late := wrong
	late.Error = "no answer in 5s"
	unmade := wrong
	unmade.Error = "not checked: quay2 refuses connections"
	for name, c := range map[string]struct {
		answer    probe.Result
		site      plan.Standing
		beside    plan.Row
		want      plan.Standing
		otherwise int
	}{
		"all lies there":           {wrong, plan.Set, row("service/nginx", "service", "", plan.Set), plan.Shifted, 1},
		"no answer in time":        {late, plan.Set, row("service/nginx", "service", "", plan.Set), plan.Unread, 0},
		"not asked":                {unmade, plan.Set, row("service/nginx", "service", "", plan.Set), plan.Set, 0},
		"the server is stopped":    {wrong, plan.Set, row("service/nginx", "service", "", plan.Shifted), plan.Set, 0},
		"its content is declared":  {wrong, plan.Set, row("content/srv/www/tides", "content", "tides", plan.Due), plan.Set, 0},
		"its content has shifted":  {wrong, plan.Set, row("content/srv/www/tides", "content", "tides", plan.Shifted), plan.Set, 0},
		"another's has shifted":    {wrong, plan.Set, row("content/srv/www/charts", "content", "charts", plan.Shifted), plan.Shifted, 1},
		"something lies there too": {wrong, plan.Set, row("content/srv/www/tides/x", "content", "tides", plan.Stray), plan.Shifted, 1},
		"it has shifted itself":    {wrong, plan.Shifted, row("service/nginx", "service", "", plan.Set), plan.Shifted, 0},
		"it is declared":           {wrong, plan.Due, row("service/nginx", "service", "", plan.Set), plan.Due, 0},
	} {
		h := plan.Place{Name: "quay1", Rows: []plan.Row{row("site/tides", "site", "tides", c.site), c.beside}}
		rows, otherwise := answered(h, []probe.Result{c.answer}, nil, time.Unix(9, 0))
		if h.Rows[0].Standing != c.site {
			t.Errorf("%s: what was seen is changed", name)
		}
		if rows == nil {
			rows = h.Rows
		}
		if got := rows[0]; got.Standing != c.want || len(otherwise) != c.otherwise || (got.Standing == plan.Shifted) != (len(got.Differences) == 1) {
			t.Errorf("%s: %+v, %v", name, got, otherwise)
		}
	}
}

// A server that runs and does not listen yet is asked again until it does; one that is told of
// anyhow as stopped is not waited for.
func TestAServerThatIsJustStartedIsAskedAgain(t *testing.T) {
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := door.Addr().String()
	door.Close() // nothing listens there
	p := wire.Probe{Site: "tides", Host: "quay1", Endpoint: wire.Endpoint{Name: "tides.test", Port: door.Addr().(*net.TCPAddr).Port}, Check: wire.Check{Path: "/", Status: 200, From: []string{wire.ProbeOutside}}}
	s := scope{d: &declare.Declaration{Hosts: map[string]*declare.Host{"quay1": {Address: "127.0.0.1"}}}}
	ask := func(service plan.Standing) look {
		l := look{probes: []wire.Probe{p}, host: plan.Place{Name: "quay1", Rows: []plan.Row{{Address: "quay1/site/tides", Type: "site", Site: "tides", Standing: plan.Set}, {Address: "quay1/service/nginx", Type: "service", Standing: service}}}}
		l.answers = (&Service{}).askBeside(t.Context(), s, nil, "quay1", l.probes)()
		if len(l.answers) != 1 || !l.answers[0].Refused() {
			t.Fatalf("before anything listens the answer is %+v", l.answers)
		}
		(&Service{}).askAgain(t.Context(), s, nil, &l)
		return l
	}
	before := time.Now()
	if l := ask(plan.Shifted); !l.answers[0].Refused() || time.Since(before) > startPatience/2 {
		t.Errorf("a server that is stopped was waited for: %+v", l.answers)
	}
	timer := time.AfterFunc(3*probePause, func() {
		again, err := net.Listen("tcp", at)
		if err != nil {
			t.Error(err)
			return
		}
		t.Cleanup(func() { again.Close() })
		go http.Serve(again, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {}))
	})
	defer timer.Stop()
	if l := ask(plan.Set); !l.answers[0].OK {
		t.Errorf("a server that was just started is judged by its first moment: %+v", l.answers)
	}
}

// Each name of each site is visited from outside, at each port where the site listens: somebody who answers in
// the place of one name alone is found, and a port at which nobody answers says nothing.
func TestEachNameIsVisited(t *testing.T) {
	listen := func(answer http.HandlerFunc) int {
		s := httptest.NewServer(answer)
		t.Cleanup(s.Close)
		return s.Listener.Addr().(*net.TCPAddr).Port
	}
	var asked sync.Map
	marks := map[string]string{"tides.test": "mark-tides", "www.tides.test": "mark-tides", "charts.test": "mark-charts", "ferries.test": "mark-ferries"}
	whole := listen(func(w http.ResponseWriter, r *http.Request) {
		name, _, _ := strings.Cut(r.Host, ":")
		asked.Store(name, true)
		switch name {
		case "old.tides.test":
			http.Redirect(w, r, "http://tides.test"+r.URL.Path, http.StatusMovedPermanently)
		case "former.tides.test": // by somebody else
			http.Redirect(w, r, "http://ebb.test"+r.URL.Path, http.StatusMovedPermanently)
		default:
			io.WriteString(w, marks[name])
		}
	})
	led := listen(func(w http.ResponseWriter, r *http.Request) {
		if name, _, _ := strings.Cut(r.Host, ":"); name != "www.tides.test" {
			io.WriteString(w, marks[name])
			return
		}
		http.Error(w, "theirs", http.StatusTeapot)
	})
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	closed.Close()
	nobody := closed.Addr().(*net.TCPAddr).Port
	visit := func(site string, names []string, at ...wire.Endpoint) wire.SiteVisit {
		return wire.SiteVisit{Site: site, Mark: "mark-" + site, Own: names, At: at, Visit: wire.Visit{Path: "/mark", Names: names}}
	}
	r := &resolved{visits: []wire.SiteVisit{
		visit("tides", []string{"tides.test", "www.tides.test"}, wire.Endpoint{Port: whole}, wire.Endpoint{Address: "127.0.0.1", Port: led}),
		visit("tides", []string{"tides.test", "old.tides.test", "former.tides.test"}, wire.Endpoint{Port: whole}),
		visit("charts", []string{"charts.test"}, wire.Endpoint{Port: led}, wire.Endpoint{Port: nobody}, wire.Endpoint{Address: "127.0.0.2", Port: whole}),
		visit("ferries", []string{"ferries.test"}, wire.Endpoint{Port: whole}),
	}, host: resolve.Place{Probes: []wire.Probe{{Site: "ferries", Check: wire.Check{From: []string{wire.ProbeOutside}}}}}}
	got := (&Service{}).visitBeside(t.Context(), &declare.Host{Address: "127.0.0.1"}, r, []int{whole, led, nobody})()
	if want := []elsewhere{{"tides", "former.tides.test", whole, http.StatusMovedPermanently}, {"tides", "www.tides.test", led, http.StatusTeapot}}; !slices.Equal(got, want) {
		t.Errorf("somebody else answers for %+v, not %+v", got, want)
	}
	for name, want := range map[string]bool{"tides.test": true, "www.tides.test": true, "charts.test": false, "ferries.test": false} {
		if _, was := asked.Load(name); was != want {
			t.Errorf("%s was visited at its port: %v", name, was)
		}
	}
}

// A site is shifted where somebody else answers in its place who comes from outside, with each of its names, and is told of once; what
// differs anyhow, or is not applied yet, is told of by itself.
func TestWhoIsLedElsewhere(t *testing.T) {
	for standing, want := range map[plan.Standing]plan.Standing{plan.Set: plan.Shifted, plan.Shifted: plan.Shifted, plan.Due: plan.Due, plan.Unread: plan.Unread} {
		h := plan.Place{Name: "quay1", Rows: []plan.Row{{Address: "quay1/site/tides", Type: "site", Site: "tides", Standing: standing}}}
		rows, otherwise := answered(h, nil, []elsewhere{{"charts", "charts.test", 80, 404}, {"tides", "tides.test", 8081, 200}, {"tides", "www.tides.test", 8081, 200}}, time.Unix(9, 0))
		if standing != plan.Set {
			if rows != nil || otherwise != nil {
				t.Errorf("of one that is %s: %+v", standing, rows)
			}
			continue
		}
		if len(rows) != 1 || rows[0].Standing != want || len(rows[0].Differences) != 2 || rows[0].Differences[0].Found != "somebody else, with 200" || !rows[0].ShiftedAt.Equal(time.Unix(9, 0)) || len(otherwise) != 1 || h.Rows[0].Standing != plan.Set {
			t.Errorf("%+v, %v", rows, otherwise)
		}
	}
}
