package jobs_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/wire"
	"northstake/service/contract"
	"northstake/service/jobs"
	"northstake/service/servicetest"
	"northstake/service/store"
)

func TestMain(m *testing.M) { os.Exit(servicetest.Main(m)) }

var ctx = context.Background()

// grounded declares a ground in which each host has three files, and returns it.
func grounded(t *testing.T, s *servicetest.Service, name string, hosts ...string) store.Ground {
	t.Helper()
	text := fmt.Sprintf("[ground]\nname = %q\n", name)
	for i, h := range hosts {
		text += fmt.Sprintf("[host.%s]\nvia = \"folder\"\naddress = \"127.0.0.%d\"\nkits = [\"base\"]\n", h, i+1)
	}
	for _, f := range []string{"a", "b", "c"} {
		text += fmt.Sprintf("[kit.base.file.\"/etc/tides/%s\"]\ntext = \"%s\\n\"\nowner = \"me\"\n", f, f)
	}
	sources := []declare.Source{{Name: "g.toml", Text: text}}
	if _, problems := lint.Parse(sources, &declare.Manifest{}); len(problems) > 0 {
		t.Fatal(problems)
	}
	if _, _, err := s.Store.AddRevision(ctx, name, sources, &declare.Manifest{}, "keeper"); err != nil {
		t.Fatal(err)
	}
	return ground(t, s, name)
}

func ground(t *testing.T, s *servicetest.Service, name string) store.Ground {
	t.Helper()
	list, err := s.Store.Grounds(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, g := range list {
		if g.Name == name {
			return g
		}
	}
	t.Fatalf("there is no ground %s", name)
	return store.Ground{}
}

func planned(t *testing.T, s *servicetest.Service, g store.Ground) int64 {
	t.Helper()
	task, err := s.Jobs.Ask(ctx, store.Plans, g, contract.Ask{}, "keeper")
	if err != nil {
		t.Fatal(err)
	}
	s.Follow(t, fmt.Sprintf("/grounds/%s/plans/%d/events", g.Name, task.ID))
	return task.ID
}

func run(t *testing.T, s *servicetest.Service, g store.Ground, id int64) contract.Run {
	t.Helper()
	res, err := s.Client.GetRunWithResponse(ctx, g.Name, id)
	if err != nil || res.JSON200 == nil {
		t.Fatal(err)
	}
	return *res.JSON200
}

// ended waits until a run has, and returns it.
func ended(t *testing.T, s *servicetest.Service, g store.Ground, id int64) contract.Run {
	t.Helper()
	s.Follow(t, fmt.Sprintf("/grounds/%s/runs/%d/events", g.Name, id))
	return run(t, s, g, id)
}

// A line that breaks at any boundary of a step leaves a run that one resume ends, with
// all done once; a host beside it is not held up.
func TestABrokenLineIsResumedOnce(t *testing.T) {
	s := servicetest.Start(t)
	for _, boundary := range []string{"before", "begun", "worked", "done"} {
		broken, other := "cut-"+boundary, "beside-"+boundary
		h, beside := servicetest.NewHost(t, broken), servicetest.NewHost(t, other)
		g := grounded(t, s, "broken-"+boundary, broken, other)
		h.Hold("2 " + boundary)
		r, err := s.Jobs.StartRun(ctx, g, planned(t, s, g), contract.NewRun{}, "keeper")
		if err != nil {
			t.Fatal(err)
		}
		h.Reached()
		h.Cut()
		h.Unhold()
		got := ended(t, s, g, r.ID)
		states := map[string]contract.RunPlaceState{}
		for _, one := range got.Hosts {
			states[one.Place] = one.State
		}
		if states[broken] != "interrupted" || states[other] != "done" || beside.Text("/etc/tides/c") != "c\n" {
			t.Fatalf("cut at %s the hosts are %v: %+v", boundary, states, got.Hosts)
		}
		if _, err := s.Jobs.ResumeRun(ctx, g, r.ID, contract.ResumeRun{}); err != nil {
			t.Fatal(err)
		}
		if got = ended(t, s, g, r.ID); got.State != "done" || h.Text("/etc/tides/a")+h.Text("/etc/tides/b")+h.Text("/etc/tides/c") != "a\nb\nc\n" {
			t.Errorf("resumed after %s it is %s: %+v", boundary, got.State, got.Hosts)
		}
		var unready jobs.NotReady
		if _, err := s.Jobs.ResumeRun(ctx, g, r.ID, contract.ResumeRun{}); !errors.As(err, &unready) {
			t.Errorf("a run that is done is resumed again: %v", err)
		}
	}
}

// unnoted begins work, waits until looks at so many hosts are over and about to be noted, and does then before
// they are.
func unnoted(t *testing.T, s *servicetest.Service, g store.Ground, hosts int, begin, then func()) {
	t.Helper()
	err := s.Store.Tx(ctx, func(tx *sqlx.Tx) error {
		var holder, waits int
		if err := tx.Get(&holder, "SELECT pg_backend_pid() FROM places WHERE ground_id = $1 FOR UPDATE", g.ID); err != nil {
			return err
		}
		begin()
		for began := time.Now(); waits < hosts; time.Sleep(time.Millisecond) {
			err := s.Store.DB.Get(&waits, "SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query LIKE '%UPDATE places%' AND $1 = ANY (pg_blocking_pids(pid))", holder)
			if err != nil || time.Since(began) > 30*time.Second {
				return fmt.Errorf("%d of %d hosts are about to be noted: %v", waits, hosts, err)
			}
		}
		then()
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// A run whose line broke after its last step is called done only when its host has been told so: where
// the host refuses to be told over a new line, the run is cut off, since the host would take back in the
// end what was called done (X5). When the host listens again, it is carried on with.
func TestARunIsDoneWhenItsHostIsTold(t *testing.T) {
	s := servicetest.Start(t)
	for name, refuses := range map[string]bool{"told1": false, "told2": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := servicetest.NewHost(t, name)
			g := grounded(t, s, name, name)
			h.Hold("3 begun")
			r, err := s.Jobs.StartRun(ctx, g, planned(t, s, g), contract.NewRun{}, "keeper")
			if err != nil {
				t.Fatal(err)
			}
			h.Reached()
			// The last look is over, and not noted: nothing is left but to tell the host.
			end := func() {}
			unnoted(t, s, g, 1, h.Unhold, func() {
				h.Cut()
				if refuses {
					end = h.Busy("7.another")
				}
			})
			got := ended(t, s, g, r.ID)
			if !refuses {
				if got.State != "done" {
					t.Errorf("it is %s: %+v", got.State, got.Hosts[0])
				}
				return
			}
			f := got.Hosts[0].Fault
			if got.Hosts[0].State != "interrupted" || !strings.Contains(f.What, "before it was told so: come back to the run: another run works on this host") || !strings.Contains(f.Fix, "resume the run") {
				t.Fatalf("it is %s: %+v", got.Hosts[0].State, f)
			}
			end()
			if _, err := s.Jobs.ResumeRun(ctx, g, r.ID, contract.ResumeRun{}); err != nil {
				t.Fatal(err)
			}
			if got = ended(t, s, g, r.ID); got.State != "done" {
				t.Errorf("carried on with, it is %s: %+v", got.State, got.Hosts[0].Fault)
			}
		})
	}
}

// A host that does not answer in time when its part of a run begins is tried once more, and no oftener.
func TestABusyHostIsTriedOnceMore(t *testing.T) {
	s := servicetest.Start(t)
	for name, c := range map[string]struct {
		late  int
		state contract.RunPlaceState
	}{"late0": {0, "done"}, "late1": {1, "done"}, "late2": {2, "failed"}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := servicetest.NewHost(t, name)
			g := grounded(t, s, name, name)
			p := planned(t, s, g)
			h.Late(c.late)
			r, err := s.Jobs.StartRun(ctx, g, p, contract.NewRun{}, "keeper")
			if err != nil {
				t.Fatal(err)
			}
			got := ended(t, s, g, r.ID).Hosts[0]
			if got.State != c.state {
				t.Fatalf("it is %s: %+v", got.State, got.Fault)
			}
			if done := h.Text("/etc/tides/a") != ""; done != (c.state == "done") {
				t.Errorf("it is %s, and what was to be done is there: %t", got.State, done)
			}
			if got.State == "failed" && !strings.Contains(got.Fault.What, "does not answer") {
				t.Errorf("it failed because %s", got.Fault.What)
			}
		})
	}
}

// What stands in the way of a run that is resumed keeps it for the next resume: nothing is
// done meanwhile, and nothing is said to have changed that only could not be read.
func TestWhatIsInTheWayOfAResumedRunPasses(t *testing.T) {
	s, h := servicetest.Start(t), servicetest.NewHost(t, "way1")
	g := grounded(t, s, "inway", "way1")
	h.Hold("2 begun")
	r, err := s.Jobs.StartRun(ctx, g, planned(t, s, g), contract.NewRun{}, "keeper")
	if err != nil {
		t.Fatal(err)
	}
	h.Reached()
	h.Cut()
	h.Unhold()
	ended(t, s, g, r.ID)
	in := h.Path("/etc/tides/c")
	if err := os.Mkdir(in, 0o755); err != nil {
		t.Fatal(err)
	}
	resume := func() contract.Run {
		t.Helper()
		if _, err := s.Jobs.ResumeRun(ctx, g, r.ID, contract.ResumeRun{}); err != nil {
			t.Fatal(err)
		}
		return ended(t, s, g, r.ID)
	}
	got := resume()
	if f := got.Hosts[0].Fault; got.Hosts[0].State != "interrupted" || !strings.Contains(f.What, "way1/file/etc/tides/c") || !strings.Contains(f.What, "was not so when the plan was made") || !strings.Contains(f.Fix, "resume the run") {
		t.Errorf("it is %s: %+v", got.Hosts[0].State, f)
	}
	if err := os.Remove(in); err != nil {
		t.Fatal(err)
	}
	if got = resume(); got.State != "done" || h.Text("/etc/tides/b")+h.Text("/etc/tides/c") != "b\nc\n" {
		t.Errorf("after that it is %s: %+v", got.State, got.Hosts[0].Fault)
	}
}

// A run that was taken back and is carried on with begins anew: what failed the first time is not said
// to have failed this time, and of a host on which nothing lies nothing is taken back.
func TestACarriedOnRunTellsOfThisTime(t *testing.T) {
	s, h := servicetest.Start(t), servicetest.NewHost(t, "anew1")
	g := grounded(t, s, "anew", "anew1")
	h.Hold("1 done")
	r, err := s.Jobs.StartRun(ctx, g, planned(t, s, g), contract.NewRun{}, "keeper")
	if err != nil {
		t.Fatal(err)
	}
	h.Reached()
	in := h.Path("/etc/tides/b")
	if err := os.Mkdir(in, 0o755); err != nil {
		t.Fatal(err)
	}
	h.Unhold()
	if got := ended(t, s, g, r.ID).Hosts[0]; got.State != "back" || got.Steps[1].State != "failed" {
		t.Fatalf("with a directory in the way it is %s: %+v", got.State, got)
	}
	if _, err := s.Jobs.ResumeRun(ctx, g, r.ID, contract.ResumeRun{}); err != nil {
		t.Fatal(err)
	}
	got := ended(t, s, g, r.ID).Hosts[0]
	if got.State != "interrupted" || got.Steps[0].State != "waiting" || got.Steps[1].State != "waiting" || strings.Contains(got.Fault.Fix, "by itself") {
		t.Errorf("carried on with, it is %s: %+v", got.State, got)
	}
	if err := os.Remove(in); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Jobs.ResumeRun(ctx, g, r.ID, contract.ResumeRun{}); err != nil {
		t.Fatal(err)
	}
	if got := ended(t, s, g, r.ID); got.State != "done" || h.Text("/etc/tides/b") != "b\n" {
		t.Errorf("with nothing in the way it is %s: %+v", got.State, got.Hosts[0])
	}
}

// Two services on one database see one another's work: what one plans the other carries
// out, and a host that changed in between is seen by both.
func TestTwoServicesShareOneDatabase(t *testing.T) {
	one, two := servicetest.Start(t), servicetest.Start(t)
	h := servicetest.NewHost(t, "shared1")
	g := grounded(t, one, "shared", "shared1")
	id := planned(t, one, g)
	r, err := two.Jobs.StartRun(ctx, g, id, contract.NewRun{}, "keeper")
	if err != nil {
		t.Fatal(err)
	}
	if got := ended(t, one, g, r.ID); got.State != "done" || h.Text("/etc/tides/b") != "b\n" {
		t.Fatalf("the run is %s: %+v", got.State, got.Hosts)
	}
	for _, s := range []*servicetest.Service{one, two} {
		p, err := s.Client.GetPlanWithResponse(ctx, g.Name, planned(t, s, g))
		if err != nil || p.JSON200.Steps != 0 {
			t.Errorf("%v: %s", err, p.Body)
		}
	}
}

// One host that does not answer holds up nobody else, and says why it could not be read.
func TestASilentHostHoldsUpNobody(t *testing.T) {
	s := servicetest.Start(t)
	servicetest.NewHost(t, "awake")
	g := grounded(t, s, "silent", "awake", "asleep") // nobody has made the folder "asleep"
	p, err := s.Client.GetPlanWithResponse(ctx, g.Name, planned(t, s, g))
	if err != nil || p.JSON200 == nil {
		t.Fatal(err)
	}
	for _, h := range p.JSON200.Hosts {
		switch {
		case h.Name == "awake" && len(h.Steps) != 3:
			t.Errorf("the host that answers has %d steps", len(h.Steps))
		case h.Name == "asleep" && !strings.Contains(h.Unread, "no folder is called asleep"):
			t.Errorf("the other is unread because %q", h.Unread)
		}
	}
}

// What is asked for that cannot be done is refused before anything is begun.
func TestWhatCannotBeAskedFor(t *testing.T) {
	s := servicetest.Start(t)
	servicetest.NewHost(t, "asked1")
	g := grounded(t, s, "asking", "asked1")
	for _, ask := range []contract.Ask{
		{Act: wire.ActWant{Do: "dance"}}, {Act: wire.ActWant{Do: "restart"}}, {Act: wire.ActWant{Do: "reboot", Service: "cron"}}, {Act: wire.ActWant{Do: "refresh-lists"}, Only: "shifted"},
	} {
		var unready jobs.NotReady
		if _, err := s.Jobs.Ask(ctx, store.Plans, g, ask, "keeper"); !errors.As(err, &unready) || unready.Fix == "" {
			t.Errorf("%+v: %v", ask, err)
		}
	}
	var unknown declare.UnknownHosts
	if _, err := s.Jobs.Ask(ctx, store.Surveys, g, contract.Ask{Hosts: []string{"askd1"}}, "keeper"); !errors.As(err, &unknown) || unknown.Near != "asked1" {
		t.Errorf("a host that is not there: %v", err)
	}
}

// What is under way is said to run from its first moment on, whether the replica that was asked began it at
// once or the queue gave it: with the end of the service it ends, and does not wait in a queue for ever.
func TestWhatTheEndOfAServiceCutsOffEnds(t *testing.T) {
	s := servicetest.Start(t) // and no other, to which the queue could give it
	var hosts []string
	for i := range 5 { // more than are looked at at once
		hosts = append(hosts, fmt.Sprintf("off%d", i))
		servicetest.NewHost(t, hosts[i])
	}
	g := grounded(t, s, "off", hosts...)
	planned(t, s, g) // so that each host has a row
	var few, many store.Task
	unnoted(t, s, g, len(hosts), func() {
		for task, hosts := range map[*store.Task][]string{&few: {"off0"}, &many: nil} {
			var err error
			if *task, err = s.Jobs.Ask(ctx, store.Plans, g, contract.Ask{Hosts: hosts}, "keeper"); err != nil {
				t.Fatal(err)
			}
		}
	}, func() {
		if few.State != "running" || many.State != "queued" {
			t.Errorf("of one host it is %s, of many %s", few.State, many.State)
		}
		for _, task := range []store.Task{few, many} {
			if state, err := s.Store.TaskState(ctx, store.Plans, task.ID); state != "running" {
				t.Errorf("what is under way is %s: %v", state, err)
			}
		}
		s.Jobs.Stop()
	})
	for _, task := range []store.Task{few, many} {
		s.Follow(t, fmt.Sprintf("/grounds/off/plans/%d/events", task.ID))
		if got, err := s.Store.Task(ctx, store.Plans, task.ID); got.State != "failed" || got.Error != store.ServiceEnded {
			t.Errorf("after the end of the service it is %s: %s; %v", got.State, got.Error, err)
		}
	}
	var ends int
	if err := s.Store.DB.Get(&ends, "SELECT count(*) FROM events WHERE kind = 'end' AND topic IN ($1, $2)", store.Topic("plans", few.ID), store.Topic("plans", many.ID)); err != nil || ends != 2 {
		t.Errorf("two streams have %d ends: %v", ends, err)
	}
}
