package jobs_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"northstake/core/certificate"
	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/service/contract"
	"northstake/service/servicetest"
	"northstake/service/store"
)

const day = 24 * time.Hour

// renewable is a ground with a certificate of its own that a site shows on a host to which nobody gets, with more
// that is said of the host.
func renewable(t *testing.T, s *servicetest.Service, name, more string) store.Ground {
	t.Helper()
	text := fmt.Sprintf("[ground]\nname = %q\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\n[host.%[1]s]\naddress = \"127.0.0.1\"\n%s\n[certificate.quays]\nself_signed = true\nnames = [\"tides.saltmarsh.test\"]\n"+
		"[site.tides]\non = [\"%[1]s\"]\nserver = \"nginx\"\nnames = [\"tides.saltmarsh.test\"]\ncertificate = \"quays\"\n", name, more)
	sources := []declare.Source{{Name: "g.toml", Text: text}}
	if _, problems := lint.Parse(sources, &declare.Manifest{}); len(problems) > 0 {
		t.Fatal(problems)
	}
	if _, _, err := s.Store.AddRevision(ctx, name, sources, &declare.Manifest{}, "keeper"); err != nil {
		t.Fatal(err)
	}
	return ground(t, s, name)
}

// listed is the ground's certificate, as it is told.
func listed(t *testing.T, s *servicetest.Service, g store.Ground) contract.CertificateView {
	t.Helper()
	res, err := s.Client.ListCertificatesWithResponse(ctx, g.Name)
	if err != nil || res.JSON200 == nil {
		t.Fatalf("%v: %s", err, res.Body)
	}
	return (*res.JSON200)[0]
}

// plans counts those of a ground.
func plans(t *testing.T, s *servicetest.Service, g store.Ground) int {
	t.Helper()
	list, err := s.Store.Tasks(ctx, store.Plans, g.ID, 1000)
	if err != nil {
		t.Fatal(err)
	}
	return len(list)
}

func renew(t *testing.T, s *servicetest.Service, g store.Ground) {
	t.Helper()
	if err := s.Jobs.Renew(ctx, g); err != nil {
		t.Fatal(err)
	}
}

// showsOn remembers that the site of a ground shows a certificate on the host of the same name.
func showsOn(t *testing.T, s *servicetest.Service, g store.Ground, fingerprint string, names ...string) {
	t.Helper()
	_, version, err := s.Store.Applied(ctx, g.ID, g.Name)
	if err != nil {
		t.Fatal(err)
	}
	want := wire.SiteWant{Certificate: &wire.SiteCertificate{Name: "quays", Fingerprint: fingerprint, Names: names}}
	if _, err := s.Store.PutApplied(ctx, g.ID, g.Name, version, map[string]plan.Applied{"site/tides": {Type: "site", Name: "tides", Want: wire.JSON(want), Found: []byte("{}")}}); err != nil {
		t.Fatal(err)
	}
}

// A certificate is made anew when a third of its life is left, by nobody's asking, and not before; while nobody
// shows the one before there is nothing more to do.
func TestCertificatesAreMadeAnewInTime(t *testing.T) {
	s := servicetest.Start(t)
	g := renewable(t, s, "intime", "")
	now := time.Now()
	s.Jobs.Now = func() time.Time { return now }
	renew(t, s, g)
	first := listed(t, s, g)
	if left := first.RenewedFrom.Sub(now); left < 59*day || left > 61*day {
		t.Fatalf("it is made anew from %s on: %+v", first.RenewedFrom, first)
	}
	for _, c := range []struct {
		at  time.Time
		new bool
	}{{first.RenewedFrom.Add(-time.Second), false}, {first.RenewedFrom.Add(time.Second), true}} {
		now = c.at
		renew(t, s, g)
		if is := listed(t, s, g); (is.Fingerprint != first.Fingerprint) != c.new {
			t.Errorf("at %s it is another: %t", c.at, !c.new)
		}
	}
	if n := plans(t, s, g); n > 0 || listed(t, s, g).Renewal.Tries > 0 {
		t.Errorf("%d plans were made of what is shown nowhere", n)
	}
}

// What keeps a certificate from where it is shown is told, and it is tried again after a time that grows; not
// while a run of the ground is under way, nor by two replicas at once, nor where it is not for the same names.
func TestARenewalThatFailsIsToldAndTriedAgain(t *testing.T) {
	s := servicetest.Start(t)
	g := renewable(t, s, "failing", "")
	now := time.Now()
	s.Jobs.Now = func() time.Time { return now }
	renew(t, s, g)

	showsOn(t, s, g, strings.Repeat("a", 64), "boats.saltmarsh.test")
	if renew(t, s, g); plans(t, s, g) > 0 {
		t.Error("one that was for other names is brought there by nobody's asking")
	}
	showsOn(t, s, g, strings.Repeat("a", 64), "tides.saltmarsh.test")

	if mine, err := s.Store.ClaimRenewals(ctx, g.ID, "another", time.Minute); err != nil || !mine {
		t.Fatal(mine, err)
	}
	if renew(t, s, g); plans(t, s, g) > 0 {
		t.Error("it is renewed while another replica does that")
	}
	if err := s.Store.LeaveRenewals(ctx, g.ID, "a third"); err != nil { // which has nothing to let go of
		t.Fatal(err)
	}
	if mine, err := s.Store.ClaimRenewals(ctx, g.ID, "a third", time.Minute); err != nil || mine {
		t.Errorf("two replicas renew at once: %v", err)
	}
	if _, err := s.Store.DB.ExecContext(ctx, "UPDATE grounds SET renewer_beat_at = now() - interval '2 minutes' WHERE id = $1", g.ID); err != nil {
		t.Fatal(err)
	}

	var underWay int64
	if err := s.Store.DB.GetContext(ctx, &underWay, "INSERT INTO plans (ground_id, revision, ask, made_by, state) VALUES ($1, 1, '{}', 'keeper', 'done') RETURNING id", g.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Store.DB.ExecContext(ctx, "INSERT INTO runs (ground_id, plan_id, made_by, state, owner, beat_at) VALUES ($1, $2, 'keeper', 'running', 'another', now() + interval '1 hour')", g.ID, underWay); err != nil {
		t.Fatal(err)
	}
	if renew(t, s, g); plans(t, s, g) > 1 {
		t.Error("it is renewed while a run of the ground is under way")
	}
	if _, err := s.Store.DB.ExecContext(ctx, "UPDATE runs SET state = 'done' WHERE plan_id = $1", underWay); err != nil {
		t.Fatal(err)
	}

	tries := 0
	for _, wait := range []time.Duration{15 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 4 * time.Hour, 8 * time.Hour, 12 * time.Hour, 12 * time.Hour} {
		renew(t, s, g)
		tries++
		r := listed(t, s, g).Renewal
		if plans(t, s, g) != tries+1 || r.Tries != tries || r.What == "" || r.Fix == "" || r.NextTry.Sub(now).Round(time.Second) != wait {
			t.Fatalf("after try %d, with %d plans, it is told %+v, %s from now", tries, plans(t, s, g), r, r.NextTry.Sub(now))
		}
		now = now.Add(wait - time.Second)
		if renew(t, s, g); plans(t, s, g) != tries+1 {
			t.Fatalf("it is tried before the %s are over", wait)
		}
		now = now.Add(2 * time.Second)
	}

	leaf, err := certificate.ReadChain([]byte(listed(t, s, g).Pem))
	if err != nil {
		t.Fatal(err)
	}
	showsOn(t, s, g, certificate.Sum(leaf.Leaf()), "tides.saltmarsh.test")
	if renew(t, s, g); listed(t, s, g).Renewal.Tries > 0 {
		t.Error("what is where it is shown is still told as missing there")
	}
}

// A host on which somebody has to give a password for sudo each time is left to people, and told.
func TestARenewalAsksForNoPassword(t *testing.T) {
	s := servicetest.Start(t)
	g := renewable(t, s, "asking", "reach = { sudo_asks = true }")
	renew(t, s, g)
	showsOn(t, s, g, strings.Repeat("a", 64), "tides.saltmarsh.test")
	renew(t, s, g)
	if r := listed(t, s, g).Renewal; plans(t, s, g) > 0 || !strings.Contains(r.What, "takes a password for sudo that is asked for each time") {
		t.Errorf("with %d plans it is told %+v", plans(t, s, g), r)
	}
}
