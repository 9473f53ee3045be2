package jobs

import (
	"context"
	"sync"
	"time"

	"northstake/core/resolve"
	"northstake/host/probe"
	"northstake/host/rod"
	"northstake/service/contract"
	"northstake/service/store"
)

func (h *hostRun) probeAll(ctx context.Context, probes []resolve.Probe) ([]probe.Result, *probe.Result) {
	address := h.s.d.Hosts[h.doc.Host].Address
	patience := probePatience
	if h.went {
		patience = bootPatience
	}
	deadline := time.Now().Add(patience)
	for {
		results := probeBoth(ctx, h.conn, probes, address)
		var bad *probe.Result
		for i := range results {
			if h.worse(results[i]) {
				bad = &results[i]
				break
			}
		}
		if bad == nil || time.Now().After(deadline) || ctx.Err() != nil {
			return results, bad
		}
		time.Sleep(probePause)
	}
}

// probeBoth makes each check from inside the host and from outside.
func probeBoth(ctx context.Context, conn *rod.Conn, probes []resolve.Probe, address string) []probe.Result {
	results := make([]probe.Result, 2*len(probes))
	var wg sync.WaitGroup
	for i, p := range probes {
		wg.Go(func() {
			inside, err := conn.Probe(ctx, p)
			if err != nil {
				inside = probe.Failed(p, err)
			}
			results[2*i] = inside
		})
		wg.Go(func() { results[2*i+1] = probe.Fetch(ctx, p, address, "outside") })
	}
	wg.Wait()
	return results
}

// Probe makes the checks of a ground's sites from inside the hosts and from
// outside.
func (j *Service) Probe(ctx context.Context, g store.Ground, ask contract.Ask) ([]probe.Result, error) {
	s, err := j.scope(ctx, g.ID, g.Name, g.Newest, ask.SudoPasswords)
	if err != nil {
		return nil, err
	}
	names, err := s.d.Choose(ask.Hosts)
	if err != nil {
		return nil, err
	}
	if err := needPasswords(s.d, names, ask.SudoPasswords); err != nil {
		return nil, err
	}
	all := make([][]probe.Result, len(names))
	var wg sync.WaitGroup
	for i, name := range names {
		wg.Go(func() { all[i] = j.probeHost(ctx, s, name) })
	}
	wg.Wait()
	out := []probe.Result{}
	for _, r := range all {
		out = append(out, r...)
	}
	return out, nil
}

// probeHost checks one host's sites; when the host cannot be reached over SSH
// its sites are checked from outside all the same.
func (j *Service) probeHost(ctx context.Context, s scope, name string) []probe.Result {
	address := s.d.Hosts[name].Address
	probes := resolve.ProbesOf(s.d, name)
	if len(probes) == 0 {
		return nil
	}
	var results []probe.Result
	err := j.withRod(ctx, s, name, func(conn *rod.Conn, _ int64) error {
		if _, err := conn.Traits(ctx); err != nil { // is the line still there?
			return err
		}
		results = probeBoth(ctx, conn, probes, address)
		return nil
	})
	if err == nil {
		return results
	}
	for _, p := range probes {
		results = append(results, probe.Failed(p, err), probe.Fetch(ctx, p, address, "outside"))
	}
	return results
}
