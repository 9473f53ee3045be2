package api_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"northstake/core/declare"
	"northstake/host/system/systemtest"
	"northstake/service/contract"
	"northstake/service/jobs"
	"northstake/service/servicetest"
	"northstake/service/store"
)

// surveyed makes a survey, and returns it with the number of hosts that its stream told of.
func surveyed(t testing.TB, s *servicetest.Service, ground string) (contract.Survey, int) {
	t.Helper()
	res, err := s.Client.CreateSurveyWithResponse(ctx, ground, nil, contract.Ask{})
	if err != nil || res.JSON202 == nil {
		t.Fatalf("%v: %s", err, res.Body)
	}
	told := map[string]bool{}
	limited, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	err = contract.Follow(limited, http.DefaultClient, fmt.Sprintf("%s/api/v1/grounds/%s/surveys/%d/events", s.URL, ground, res.JSON202.Id), 0, s.Sign, time.Second, func(e contract.StreamEvent) error {
		if e.Kind == "host" {
			told[string(e.Data)] = true
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	made, err := s.Client.GetSurveyWithResponse(ctx, ground, res.JSON202.Id)
	if err != nil || made.JSON200 == nil || made.JSON200.State != "done" {
		t.Fatalf("%v: %s", err, made.Body)
	}
	return *made.JSON200, len(told)
}

// Of 300 hosts, most of them out of reach, every survey tells of all 300, in its stream and in its
// record, each time (V1).
func TestNoHostIsLostOnTheWay(t *testing.T) {
	s := servicetest.Start(t)
	var text strings.Builder
	text.WriteString("[ground]\nname = \"many\"\n[kit.base.link.\"/srv/now\"]\npoints_to = \"/srv/tides\"\n")
	for n := range 300 {
		fmt.Fprintf(&text, "[host.many%d]\nvia = \"folder\"\naddress = \"127.1.%d.%d\"\nkits = [\"base\"]\n", n, n/200, n%200+1)
		if n%100 == 0 {
			servicetest.NewHost(t, fmt.Sprintf("many%d", n))
		}
	}
	res, err := s.Client.CreateRevisionWithResponse(ctx, "many", contract.NewRevision{Sources: []declare.Source{{Name: "g.toml", Text: text.String()}}, Files: []declare.File{}})
	if err != nil || res.StatusCode() >= 300 {
		t.Fatalf("%v: %s", err, res.Body)
	}
	for n := range systemtest.Rounds(200) {
		survey, told := surveyed(t, s, "many")
		read := 0
		for _, h := range survey.Hosts {
			if h.Unread == "" && len(h.Rows) == 1 && !h.SeenAt.IsZero() {
				read++
			}
		}
		if len(survey.Hosts) != 300 || told != 300 || read != 3 {
			t.Fatalf("survey %d: its stream told of %d hosts, its record has %d, and %d of them were read", n, told, len(survey.Hosts), read)
		}
	}
}

// A ground that has the name of one that was forgotten is another one: nothing that was worked
// out for the first is taken for it (S1).
func TestAGroundOfAFormerNameIsAnother(t *testing.T) {
	s, h := servicetest.Start(t), servicetest.NewHost(t, "again1")
	declared(t, s, "again", "again1", "")
	if p := planned(t, s, "again", contract.Ask{}); p.Steps != 3 {
		t.Fatalf("%d steps", p.Steps)
	}
	if res, err := s.Client.ForgetGroundWithResponse(ctx, "again", &contract.ForgetGroundParams{}); err != nil || res.StatusCode() != http.StatusNoContent {
		t.Fatalf("%v: %s", err, res.Body)
	}
	declared(t, s, "again", "again1", "[host.again1.file.\"/etc/other\"]\ntext = \"flood\\n\"\nowner = \"me\"\n")
	p := planned(t, s, "again", contract.Ask{})
	if p.Steps != 4 {
		t.Fatalf("the ground that is declared under a former one's name has %d steps: %+v", p.Steps, p.Hosts)
	}
	if r := applied(t, s, "again", p); r.State != "done" || h.Text("/etc/other") != "flood\n" {
		t.Errorf("%s, and the file holds %q", r.State, h.Text("/etc/other"))
	}
}

// Of many who ask for a run of one plan at once, one gets it, and all others its number (S2, C6).
func TestAPlanHasOneRun(t *testing.T) {
	s := servicetest.Start(t)
	servicetest.NewHost(t, "once1")
	declared(t, s, "once", "once1", "")
	p := planned(t, s, "once", contract.Ask{})
	var wg sync.WaitGroup
	answers := make([]*contract.CreateRunResponse, 12)
	for i := range answers {
		wg.Go(func() { answers[i], _ = s.Client.CreateRunWithResponse(ctx, "once", contract.NewRun{Plan: p.Id}) })
	}
	wg.Wait()
	run := int64(0)
	for _, a := range answers {
		if a != nil && a.JSON202 != nil {
			if run != 0 {
				t.Fatalf("runs %d and %d are of one plan", run, a.JSON202.Id)
			}
			run = a.JSON202.Id
		}
	}
	if run == 0 {
		t.Fatal("nobody got a run")
	}
	for _, a := range answers {
		if a.JSON202 == nil && (a.StatusCode() != http.StatusConflict || !strings.Contains(string(a.Body), fmt.Sprintf("as run %d", run))) {
			t.Errorf("another is answered %d: %s", a.StatusCode(), a.Body)
		}
	}
	s.Follow(t, fmt.Sprintf("/grounds/once/runs/%d/events", run))
}

// A run that cannot be begun ends as failed and says why, one that nobody has begun is cancelled at
// once, and both let others go on (S3).
func TestARunThatCannotBeginEnds(t *testing.T) {
	s := servicetest.Start(t)
	servicetest.NewHost(t, "stuck1")
	declared(t, s, "stuck", "stuck1", "")
	broken, waiting := planned(t, s, "stuck", contract.Ask{}), planned(t, s, "stuck", contract.Ask{})
	add := func(p contract.Plan, set string) (r store.Run) {
		t.Helper()
		err := s.Store.Tx(ctx, func(tx *sqlx.Tx) (err error) {
			var ground int64
			if err := tx.Get(&ground, "SELECT ground_id FROM plans WHERE id = $1", p.Id); err != nil {
				return err
			}
			if r, err = s.Store.AddRun(ctx, tx, ground, p.Id, "keeper", []contract.RunPlace{{Place: "stuck1", State: "waiting", Steps: []contract.RunStep{}}}); err != nil {
				return err
			}
			_, err = tx.Exec("UPDATE runs SET "+set+" WHERE id = $1", r.ID)
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	if _, err := s.Store.DB.Exec("UPDATE plans SET places = '{}' WHERE id = $1", broken.Id); err != nil {
		t.Fatal(err)
	}
	lost := add(broken, "state = 'running', owner = 'gone', beat_at = 'epoch'")
	s.Follow(t, fmt.Sprintf("/grounds/stuck/runs/%d/events", lost.ID))
	res, err := s.Client.GetRunWithResponse(ctx, "stuck", lost.ID)
	if err != nil || res.JSON200.State != "failed" || !strings.Contains(res.JSON200.Error, "the run could not be begun: ") {
		t.Errorf("%v: it is %s: %q", err, res.JSON200.State, res.JSON200.Error)
	}
	queued := add(waiting, "state = 'queued'") // and in no queue
	if res, err := s.Client.CancelRunWithResponse(ctx, "stuck", queued.ID); err != nil || res.StatusCode() >= 300 {
		t.Fatalf("%v: %s", err, res.Body)
	}
	s.Follow(t, fmt.Sprintf("/grounds/stuck/runs/%d/events", queued.ID))
	if r, err := s.Store.Run(ctx, queued.ID); err != nil || r.State != "cancelled" {
		t.Errorf("a run that nobody has begun is %s after it was cancelled, %v", r.State, err)
	}
	if p := planned(t, s, "stuck", contract.Ask{}); applied(t, s, "stuck", p).State != "done" {
		t.Error("the next run is held up")
	}
}

// A stream that is taken up behind its last event ends at once (S4).
func TestAStreamIsTakenUpAfterItsEnd(t *testing.T) {
	s := servicetest.Start(t)
	servicetest.NewHost(t, "late1")
	declared(t, s, "late", "late1", "")
	p := planned(t, s, "late", contract.Ask{})
	limited, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	ends := 0
	err := contract.Follow(limited, http.DefaultClient, fmt.Sprintf("%s/api/v1/grounds/late/plans/%d/events", s.URL, p.Id), 1<<40, s.Sign, time.Second, func(e contract.StreamEvent) error {
		if e.Kind == "end" && string(e.Data) == `{"state":"done"}` {
			ends++
		}
		return nil
	})
	if err != nil || ends != 1 {
		t.Errorf("%d ends, %v", ends, err)
	}
}

// A revision that was sound once, and that a stricter release finds wrong, holds up no list and no
// survey; a plan names what is wrong, and the ground can be forgotten (S5, C7).
func TestARevisionThatIsNoLongerSound(t *testing.T) {
	s := servicetest.Start(t)
	servicetest.NewHost(t, "strict1")
	text := declaration("strict", "strict1", "").Sources[0].Text + "[host.strict1.account.root]\n"
	if _, _, err := s.Store.AddRevision(ctx, "strict", []declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{}, "keeper"); err != nil {
		t.Fatal(err)
	}
	list, err := s.Client.ListGroundsWithResponse(ctx)
	if err != nil || list.JSON200 == nil {
		t.Fatalf("%v: %s", err, list.Body)
	}
	found := false
	for _, g := range *list.JSON200 {
		found = found || g.Name == "strict" && g.Hosts == 1
	}
	if !found {
		t.Errorf("the ground is not listed: %s", list.Body)
	}
	if survey, _ := surveyed(t, s, "strict"); len(survey.Hosts) != 1 {
		t.Errorf("the survey is %+v", survey)
	}
	var unready jobs.NotReady
	g, err := s.Store.Ground(ctx, "strict")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Jobs.Ask(ctx, store.Plans, g, contract.Ask{}, "keeper"); !errors.As(err, &unready) || !strings.Contains(unready.What, "root is the system's own account") || !strings.Contains(unready.Fix, "then declare it again") {
		t.Errorf("a plan of it: %v, %s", err, unready.Fix)
	}
	if res, err := s.Client.ForgetGroundWithResponse(ctx, "strict", &contract.ForgetGroundParams{}); err != nil || res.StatusCode() != http.StatusNoContent {
		t.Errorf("%v: %s", err, res.Body)
	}
}

// What was never looked at is unread and says so; what was, says when (Y1).
func TestNothingIsAsDeclaredThatWasNotLookedAt(t *testing.T) {
	s := servicetest.Start(t)
	servicetest.NewHost(t, "unseen1")
	declared(t, s, "unseen", "unseen1", "")
	drift := func() contract.SurveyPlace {
		t.Helper()
		res, err := s.Client.GetDriftWithResponse(ctx, "unseen")
		if err != nil || res.JSON200 == nil || len(res.JSON200.Hosts) != 1 {
			t.Fatalf("%v: %s", err, res.Body)
		}
		return res.JSON200.Hosts[0]
	}
	if h := drift(); !strings.Contains(h.Unread, "has never been looked at") || !h.SeenAt.IsZero() {
		t.Errorf("before any survey it is %+v", h)
	}
	before := time.Now().Add(-time.Second)
	surveyed(t, s, "unseen")
	if h := drift(); h.Unread != "" || h.SeenAt.Before(before) {
		t.Errorf("after a survey it is %+v", h)
	}
}
