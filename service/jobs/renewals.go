package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"northstake/core/certificate"
	"northstake/core/declare"
	"northstake/core/plan"
	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/service/contract"
	"northstake/service/store"
)

// RenewEvery is how often it is looked after certificates, unless the service is told otherwise.
const RenewEvery = 10 * time.Minute

// Byself is who has made a plan, or a run, that nobody has asked for.
const Byself = "the service"

// How many grounds are renewed at once; and how long is waited until a certificate is tried again that could not
// be brought to its hosts, at first and at most.
const (
	renewAtOnce = 4
	firstAgain  = 15 * time.Minute
	lastAgain   = 12 * time.Hour
)

// again is how long is waited after so many tries.
func again(tries int) time.Duration {
	wait := firstAgain
	for range tries - 1 {
		if wait *= 2; wait >= lastAgain {
			return lastAgain
		}
	}
	return wait
}

// keepRenewing makes certificates anew in time, and brings them to where they are shown.
func (j *Service) keepRenewing(ctx context.Context) {
	for wait := j.RenewEvery / 10; store.Pause(ctx, wait) == nil; wait = j.RenewEvery {
		j.RenewAll(ctx)
	}
}

// RenewAll looks after the certificates of all grounds, once.
func (j *Service) RenewAll(ctx context.Context) {
	grounds, err := j.Store.Grounds(ctx)
	if err != nil && ctx.Err() == nil {
		j.Log.Warn("could not look after certificates", "error", err)
	}
	gate := make(chan struct{}, renewAtOnce)
	var wg sync.WaitGroup
	for _, g := range grounds {
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			if err := j.Renew(ctx, g); err != nil && ctx.Err() == nil {
				j.Log.Warn("could not look after the certificates of a ground", "ground", g.Name, "error", err)
			}
		})
	}
	wg.Wait()
}

// Renew makes certificates of a ground anew of which a third of the life is left, and brings them to where they
// are shown by a run that does nothing else; one replica at a time.
func (j *Service) Renew(ctx context.Context, g store.Ground) error {
	if g.Newest == 0 {
		return nil
	}
	mine, err := j.Store.ClaimRenewals(ctx, g.ID, j.ID, j.silence)
	if err != nil || !mine {
		return err
	}
	held, end := context.WithCancel(ctx)
	defer func() {
		end()
		if err := j.Store.LeaveRenewals(context.WithoutCancel(ctx), g.ID, j.ID); err != nil {
			j.Log.Warn("could not let go of a ground's certificates", "ground", g.Name, "error", err)
		}
	}()
	go func() {
		for store.Pause(held, j.silence/4) == nil {
			if mine, err := j.Store.ClaimRenewals(held, g.ID, j.ID, j.silence); err == nil && !mine {
				end()
			}
		}
	}()
	return j.renew(held, g)
}

// awaited is a site on a host that still shows a certificate which was made anew since.
type awaited struct{ certificate, site, host string }

func (j *Service) renew(ctx context.Context, g store.Ground) error {
	s, err := j.scope(ctx, g.ID, g.Name, g.Newest, nil)
	if err != nil {
		return err
	}
	waiting, err := j.awaited(ctx, s)
	if err != nil {
		return err
	}
	if err := j.Store.KeepRenewals(ctx, g.ID, certificatesOf(waiting)); err != nil {
		return err
	}
	tried, err := j.Store.Renewals(ctx, g.ID)
	if err != nil {
		return err
	}
	waiting = slices.DeleteFunc(waiting, func(a awaited) bool { return j.Now().Before(tried[a.certificate].NextAt) })
	if len(waiting) == 0 {
		return nil
	}
	if at, err := j.Store.AtWork(ctx, g.ID); err != nil || at {
		return err // when that has ended
	}
	did := j.bringCertificates(ctx, g, s, waiting)
	if ctx.Err() != nil {
		return ctx.Err() // another replica looks at what came of it
	}
	left, err := j.awaited(ctx, s)
	if err != nil {
		return err
	}
	if err := j.Store.KeepRenewals(ctx, g.ID, certificatesOf(left)); err != nil {
		return err
	}
	troubles := map[string]bool{}
	for _, a := range left {
		if troubles[a.certificate] || !slices.Contains(waiting, a) {
			continue
		}
		troubles[a.certificate] = true
		tries := tried[a.certificate].Tries + 1
		why := did.trouble(a)
		j.Log.Warn("a certificate was made anew, and is not where it is shown", "ground", g.Name, "certificate", a.certificate, "host", a.host, "why", why.What)
		if err := j.Store.PutRenewal(ctx, g.ID, store.Renewal{Certificate: a.certificate, Tries: tries, NextAt: j.Now().Add(again(tries)), What: why.What, Fix: why.Fix}); err != nil {
			return err
		}
	}
	return nil
}

func certificatesOf(list []awaited) []string {
	names := map[string]bool{}
	for _, a := range list {
		names[a.certificate] = true
	}
	return slices.Sorted(maps.Keys(names))
}

// awaited are the sites that show a certificate as it was before the service made it anew, for the same names, in
// the order of certificates, sites and hosts.
func (j *Service) awaited(ctx context.Context, s scope) ([]awaited, error) {
	var out []awaited
	applied := map[string]map[string]plan.Applied{}
	for _, name := range stake.SortedKeys(s.d.Certificates) {
		if !s.d.Certificates[name].IsMade() {
			continue
		}
		chain, err := j.made(ctx, keptAs(s.ground, name))
		if err != nil {
			return nil, err
		}
		if len(chain) == 0 {
			continue
		}
		for _, site := range s.d.UsersOf(name) {
			for _, host := range s.d.HostsOf(site) {
				if applied[host] == nil {
					if applied[host], _, err = j.Store.Applied(ctx, s.groundID, host); err != nil {
						return nil, err
					}
				}
				w, known := stake.Decoded[wire.SiteWant](applied[host][wire.Local("site", site)].Want)
				if known && w.Certificate != nil && w.Certificate.Name == name && w.Certificate.Fingerprint != certificate.Sum(chain.Leaf()) && slices.Equal(w.Certificate.Names, certificate.Names(chain.Leaf())) {
					out = append(out, awaited{name, site, host})
				}
			}
		}
	}
	return out, nil
}

// brought is what came of bringing certificates to where they are shown.
type brought struct {
	s      scope
	places map[string]plan.Place
	run    int64
	ended  map[string]contract.RunPlace
	err    error // why it was not carried out
}

// bringCertificates plans and carries out what brings certificates to sites that wait for them.
func (j *Service) bringCertificates(ctx context.Context, g store.Ground, s scope, waiting []awaited) (did brought) {
	did = brought{s: s, places: map[string]plan.Place{}, ended: map[string]contract.RunPlace{}}
	hosts := map[string]bool{}
	for _, a := range waiting {
		if !asksEachTime(s.d, a.host) {
			hosts[a.host] = true
		}
	}
	if len(hosts) == 0 {
		return did
	}
	t, err := j.Ask(ctx, store.Plans, g, contract.Ask{Renew: certificatesOf(waiting), Hosts: slices.Sorted(maps.Keys(hosts))}, Byself)
	if err != nil {
		did.err = err
		return did
	}
	did.err = j.awaitEnd(ctx, func() (over bool, err error) {
		t, err = j.Store.Task(ctx, store.Plans, t.ID)
		return err == nil && t.State != "queued" && t.State != "running", err
	})
	if did.err != nil {
		return did
	}
	if t.State != "done" {
		did.err = errors.New(t.Error)
		return did
	}
	var places []plan.Place
	if did.err = json.Unmarshal(t.Places, &places); did.err != nil {
		return did
	}
	for _, p := range places {
		did.places[p.Name] = p
	}
	if t.Steps == 0 {
		return did
	}
	r, err := j.StartRun(ctx, g, t.ID, contract.NewRun{}, Byself)
	if err != nil {
		did.err = err
		return did
	}
	did.run = r.ID
	did.err = j.awaitEnd(ctx, func() (over bool, err error) {
		r, err = j.Store.Run(ctx, r.ID)
		return err == nil && r.State != "queued" && r.State != "running", err
	})
	if did.err != nil {
		return did
	}
	docs, err := j.Store.RunPlaces(ctx, r.ID)
	for _, d := range docs {
		did.ended[d.Place] = d
	}
	did.err = err
	return did
}

// awaitEnd asks again and again until something is over; while the database is away it waits.
func (j *Service) awaitEnd(ctx context.Context, look func() (over bool, err error)) error {
	for {
		var over bool
		err := j.Store.Persist(ctx, func() (err error) {
			over, err = look()
			return err
		})
		if err != nil || over {
			return err
		}
		if err := store.Pause(ctx, 100*time.Millisecond); err != nil {
			return err
		}
	}
}

// trouble says why a site still shows the certificate before.
func (b brought) trouble(a awaited) wire.Fault {
	site, place := a.host+"/"+wire.Local("site", a.site), b.places[a.host]
	row := slices.IndexFunc(place.Rows, func(r plan.Row) bool { return r.Address == site })
	blocked := slices.IndexFunc(place.Blockers, func(n stake.Note) bool { return n.Address == site || slices.Contains(place.LeftSites, a.site) })
	ended := b.ended[a.host]
	switch {
	case asksEachTime(b.s.d, a.host):
		return wire.Fault{What: fmt.Sprintf("host %s takes a password for sudo that is asked for each time", a.host), Fix: "plan and apply: it goes with that; or keep the password as a secret, as sudo_secret in [reach]"}
	case b.err != nil:
		return wire.Fault{What: "no plan or run could be made of it: " + b.err.Error(), Fix: "it is tried again; northstake plan says whether that goes"}
	case place.Unread != "":
		return wire.Fault{What: place.Unread, Fix: "it is tried again"}
	case ended.Fault.What != "":
		return wire.Fault{What: fmt.Sprintf("run %d on host %s: %s", b.run, a.host, ended.Fault.What), Fix: ended.Fault.Fix}
	case blocked >= 0:
		return wire.Fault{What: place.Blockers[blocked].What, Fix: place.Blockers[blocked].Fix}
	case row >= 0 && place.Rows[row].Standing == plan.Unread:
		return wire.Fault{What: fmt.Sprintf("%s could not be read: %s", site, place.Rows[row].Reason), Fix: "it is tried again"}
	case row >= 0 && place.Rows[row].Standing == plan.Shifted:
		return wire.Fault{What: fmt.Sprintf("%s was changed by hand, and is left as it is", site), Fix: "northstake drift says what; northstake restore puts it back"}
	}
	return wire.Fault{What: site + " is declared otherwise than it stands there", Fix: "plan and apply: the certificate goes with that"}
}

// asksEachTime says whether nobody gets root's rights on a host without somebody who gives a password.
func asksEachTime(d *declare.Declaration, host string) bool {
	return d.SortOf(host) == declare.HostSort && d.ReachOf(host).AsksForSudo()
}
