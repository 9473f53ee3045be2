package stage

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"northstake/core/wire"
	"northstake/service/contract"
)

// Boundaries are the places in a step where the journal is written or has just
// been.
var Boundaries = []string{"before", "begun", "worked", "done"}

// HoldFile is where a rehearsing rod reads at which step, and which boundary of it, it is to stop.
const HoldFile = "/var/lib/northstake/hold"

// Hold makes the rod stop at a boundary of a step, and returns when it has.
func (g *Ground) Hold(host string, step int, boundary string) {
	g.T.Helper()
	g.On(host, fmt.Sprintf("mkdir -p /var/lib/northstake; rm -f %s.reached; echo '%d %s' > %s", HoldFile, step, boundary, HoldFile))
}

// Reached waits until the rod has stopped at a boundary of a step.
func (g *Ground) Reached(host string, step int, boundary string) {
	g.T.Helper()
	want := fmt.Sprintf("%d %s", step, boundary)
	deadline := time.Now().Add(4 * time.Minute)
	for n := 1; time.Now().Before(deadline); n++ {
		out, err := Lab().Shell(context.Background(), host, "cat "+HoldFile+".reached 2>/dev/null || true")
		if err == nil && strings.TrimSpace(out) == want {
			return
		}
		if n%100 == 0 && g.allEnded() {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	_, runs := g.Get("/grounds/" + g.Name + "/runs")
	var list []contract.Run
	Decode(g.T, runs, &list)
	g.T.Fatalf("step %d was not reached at %q by %+v", step, boundary, g.RunState(list[0].Id))
}

// allEnded says whether no run of the ground is under way.
func (g *Ground) allEnded() bool {
	_, runs := g.Get("/grounds/" + g.Name + "/runs")
	var list []contract.Run
	Decode(g.T, runs, &list)
	return !slices.ContainsFunc(list, func(r contract.Run) bool { return r.State == "queued" || r.State == "running" })
}

// Unhold lets the rod go on from then on.
func (g *Ground) Unhold(host string) { g.On(host, "rm -f "+HoldFile+" "+HoldFile+".reached") }

// StartRun starts a run without waiting for its end. Removing is what is confirmed to go.
func (g *Ground) StartRun(plan int64, removing ...string) int64 {
	g.T.Helper()
	status, body := g.Post("/grounds/"+g.Name+"/runs", string(wire.JSON(contract.NewRun{Plan: plan, Removing: removing})))
	if status != 202 {
		g.T.Fatalf("%d %s", status, body)
	}
	var r contract.Run
	Decode(g.T, body, &r)
	return r.Id
}

// RunState is a run as it stands.
func (g *Ground) RunState(id int64) contract.Run {
	g.T.Helper()
	var r contract.Run
	_, body := g.Get(fmt.Sprintf("/grounds/%s/runs/%d", g.Name, id))
	Decode(g.T, body, &r)
	return r
}

// Ended waits until a run has ended.
func (g *Ground) Ended(id int64) contract.Run {
	g.T.Helper()
	var r contract.Run
	deadline := time.Now().Add(4 * time.Minute)
	for time.Now().Before(deadline) {
		if r = g.RunState(id); r.State != "queued" && r.State != "running" {
			return r
		}
		time.Sleep(30 * time.Millisecond)
	}
	g.T.Fatalf("run %d has not ended: %+v", id, r)
	return r
}

// Confirmed are the stakes of a plan that go only when they are confirmed by name.
func Confirmed(p contract.Plan) []string {
	var out []string
	for _, h := range p.Hosts {
		for _, st := range h.Steps {
			if len(st.Removes) > 0 {
				out = append(out, st.Address)
			}
		}
	}
	return out
}

// Killed runs a plan, and at every boundary of a step of each kind kills something and
// resumes, until the run is done.
func (g *Ground) Killed(p contract.Plan, kinds []string, skip func(contract.Step) bool, at []string, kill func(g *Ground, host string), resume func(g *Ground, run int64)) {
	g.T.Helper()
	host := g.Hosts[0]
	var run int64
	seen := map[string]bool{}
	for _, st := range p.Hosts[0].Steps {
		if seen[st.Type] || skip(st) {
			continue
		}
		seen[st.Type] = true
		for _, b := range at {
			g.Hold(host, st.Number, b)
			if run == 0 {
				run = g.StartRun(p.Id, Confirmed(p)...)
			} else {
				resume(g, run)
			}
			g.Reached(host, st.Number, b)
			kill(g, host)
			g.Unhold(host)
		}
	}
	for _, k := range kinds {
		if !seen[k] {
			g.T.Fatalf("the plan has no step of kind %s", k)
		}
	}
	resume(g, run)
	r := g.Ended(run)
	if r.State != "done" {
		g.T.Fatalf("the run ended %s: %+v", r.State, r.Hosts)
	}
}

// ResumeByHand waits for the end of a run that was interrupted, and has it go on.
func ResumeByHand(g *Ground, run int64) {
	g.T.Helper()
	r := g.Ended(run)
	if r.State == "done" {
		return
	}
	if st := r.Hosts[0].State; st != "interrupted" {
		g.T.Fatalf("the host's part of the run is %s, not interrupted: %+v", st, r.Hosts[0].Fault)
	}
	status, body := g.Post(fmt.Sprintf("/grounds/%s/runs/%d/resume", g.Name, run), "{}")
	if status != 202 {
		g.T.Fatalf("%d %s", status, body)
	}
}

// KillRod ends the rod on a host, at once, and waits until it is gone.
func KillRod(g *Ground, host string) {
	g.On(host, "pkill -KILL -f '[r]od/[0-9a-f]* serve' || true; while pgrep -f '[r]od/[0-9a-f]* serve' >/dev/null; do sleep 0.02; done")
}

// KillHost ends a host as a power cut does, and waits until it is up again.
func KillHost(g *Ground, host string) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	if err := Lab().Kill(ctx, host); err != nil {
		g.T.Fatal(err)
	}
	if err := Lab().Start(ctx, host); err != nil {
		g.T.Fatal(err)
	}
	if err := Lab().WaitSSH(ctx, g.Number[host]); err != nil {
		g.T.Fatal(err)
	}
	g.On(host, Started) // while it boots it lets nobody in
}

// Unconfirmed runs a plan whose last step puts a firewall up, and cuts the line before
// that is confirmed: the host takes it back, of which left lists what is left. Then the
// run is resumed.
func (g *Ground) Unconfirmed(left string) {
	g.T.Helper()
	host := g.Hosts[0]
	p := g.Plan(1)
	last := p.Hosts[0].Steps[len(p.Hosts[0].Steps)-1]
	if last.Type != "firewall" || !last.Confirm {
		g.T.Fatalf("the last step is %+v", last)
	}
	g.Hold(host, last.Number, "worked")
	run := g.StartRun(p.Id)
	g.Reached(host, last.Number, "worked")
	if out := g.On(host, "nft list ruleset"); !strings.Contains(out, "policy drop") {
		g.T.Fatalf("the rules are not up:\n%s", out)
	}
	// The rod dies, and with it the only line to the host.
	g.On(host, "pkill -KILL -f '[r]od/[0-9a-f]* serve'; rm -f "+HoldFile)
	deadline := time.Now().Add(3 * time.Minute)
	for strings.Contains(g.On(host, "nft list ruleset"), "northstake") {
		if time.Now().After(deadline) {
			g.T.Fatal("the rules are still up after three minutes")
		}
		time.Sleep(500 * time.Millisecond)
	}
	g.Eventually("after the rules their files go", func() error {
		if out := strings.TrimSpace(g.On(host, left)); out != "" {
			return fmt.Errorf("left behind: %s", out)
		}
		return nil
	})
	ResumeByHand(g, run)
	if r := g.Ended(run); r.State != "done" {
		g.T.Fatalf("the resumed run ended %s: %+v", r.State, r.Hosts)
	}
}
