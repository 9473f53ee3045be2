package api_test

import (
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"northstake/core/declare"
	"northstake/host/system/systemtest"
	"northstake/service/contract"
	"northstake/service/servicetest"
)

// Who prefers to wait has the whole record with the answer, and the same one as by asking for it
// afterwards; who does not, or not for that long, has it under way.
func TestWhoWaitsHasTheRecordAtOnce(t *testing.T) {
	s, h := servicetest.Start(t), servicetest.NewHost(t, "await1")
	declared(t, s, "await", "await1", "")
	applied(t, s, "await", planned(t, s, "await", contract.Ask{}))
	systemtest.Put(t, h.Machine, "/etc/tide", "flood\n")
	for _, prefer := range []string{"wait=30", `respond-async, Wait="30"`, "wait=100000"} {
		res, err := s.Client.CreateSurveyWithResponse(ctx, "await", &contract.CreateSurveyParams{Prefer: prefer}, contract.Ask{})
		if err != nil || res.JSON200 == nil || res.HTTPResponse.Header.Get("Preference-Applied") == "" {
			t.Fatalf("%s: %v: %s: %s", prefer, err, res.Status(), res.Body)
		}
		if got := res.JSON200; got.State != "done" || len(got.Hosts) != 1 || got.Hosts[0].Counts.Shifted != 1 || len(got.Hosts[0].Rows) != 3 {
			t.Errorf("%s: the survey is %s", prefer, res.Body)
		}
		again, err := s.Client.GetSurveyWithResponse(ctx, "await", res.JSON200.Id)
		if err != nil || string(again.Body) != string(res.Body) {
			t.Errorf("%s: the record is %s, and the answer was %s", prefer, again.Body, res.Body)
		}
		systemtest.Put(t, h.Machine, "/etc/tide", "flood "+prefer+"\n") // the next is no repetition
	}
	p, err := s.Client.CreatePlanWithResponse(ctx, "await", &contract.CreatePlanParams{Prefer: "wait=30"}, contract.Ask{Only: "shifted"})
	if err != nil || p.JSON200 == nil || p.JSON200.State != "done" || p.JSON200.Steps != 1 || len(p.JSON200.Hosts) != 1 {
		t.Fatalf("%v: %s: %s", err, p.Status(), p.Body)
	}
	for _, prefer := range []string{"", "wait=0", "wait=-3", "wait=soon", "waiting=5", "wait"} {
		res, err := s.Client.CreateSurveyWithResponse(ctx, "await", &contract.CreateSurveyParams{Prefer: prefer}, contract.Ask{})
		if err != nil || res.JSON202 == nil || res.JSON202.State != "running" || res.HTTPResponse.Header.Get("Preference-Applied") != "" {
			t.Errorf("%q: %v: %s: %s", prefer, err, res.Status(), res.Body)
			continue
		}
		s.Follow(t, fmt.Sprintf("/grounds/await/surveys/%d/events", res.JSON202.Id))
	}
}

// A host that takes its time is not waited for: the answer is that the survey is under way, and
// its record is whole later.
func TestWhoWaitsIsNotHeldForEver(t *testing.T) {
	s := servicetest.Start(t)
	mute, err := net.Listen("tcp", "127.0.0.1:0") // lets in, and never says a word
	if err != nil {
		t.Fatal(err)
	}
	defer mute.Close()
	port := mute.Addr().(*net.TCPAddr).Port
	text := fmt.Sprintf("[ground]\nname = \"mute\"\n[reach]\nuser = \"keeper\"\npassword_secret = \"pw\"\nport = %d\n[host.mute1]\naddress = \"127.0.0.1\"\n[host.mute1.link.\"/srv/now\"]\npoints_to = \"/srv\"\n", port)
	res, err := s.Client.CreateRevisionWithResponse(ctx, "mute", contract.NewRevision{Sources: []declare.Source{{Name: "g.toml", Text: text}}, Files: []declare.File{}})
	if err != nil || res.StatusCode() >= 300 {
		t.Fatalf("%v: %s", err, res.Body)
	}
	keep, err := s.Client.KeepSecretWithResponse(ctx, "pw", contract.KeepSecretJSONRequestBody{Value: "tide"})
	if err != nil || keep.StatusCode() >= 300 {
		t.Fatalf("%v: %s", err, keep.Body)
	}
	start := time.Now()
	asked, err := s.Client.CreateSurveyWithResponse(ctx, "mute", &contract.CreateSurveyParams{Prefer: "wait=1"}, contract.Ask{})
	if err != nil || asked.JSON202 == nil {
		t.Fatalf("%v: %s", err, asked.Body)
	}
	if took := time.Since(start); took < time.Second {
		t.Errorf("the answer came after %s, before the wait was over", took)
	}
	mute.Close()
	s.Follow(t, fmt.Sprintf("/grounds/mute/surveys/%d/events", asked.JSON202.Id))
	made, err := s.Client.GetSurveyWithResponse(ctx, "mute", asked.JSON202.Id)
	if err != nil || made.JSON200 == nil || made.JSON200.State != "done" || len(made.JSON200.Hosts) != 1 || made.JSON200.Hosts[0].Unread == "" {
		t.Errorf("%v: %s", err, made.Body)
	}
}

// How long a survey of one host takes that has a hundred stakes: followed by its stream, and
// awaited with the answer.
func BenchmarkASurvey(b *testing.B) {
	s := servicetest.Start(b)
	servicetest.NewHost(b, "bench1")
	var more strings.Builder
	for n := range 97 {
		fmt.Fprintf(&more, "[host.bench1.file.\"/etc/tide%d\"]\ntext = \"ebb\\n\"\n", n)
	}
	declared(b, s, "bench", "bench1", more.String())
	applied(b, s, "bench", planned(b, s, "bench", contract.Ask{}))
	b.Run("followed", func(b *testing.B) {
		for b.Loop() {
			surveyed(b, s, "bench")
		}
	})
	b.Run("awaited", func(b *testing.B) {
		for b.Loop() {
			res, err := s.Client.CreateSurveyWithResponse(ctx, "bench", &contract.CreateSurveyParams{Prefer: "wait=30"}, contract.Ask{})
			if err != nil || res.JSON200 == nil {
				b.Fatal(err)
			}
		}
	})
}
