package jobs

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"northstake/service/store"
)

// NotForgotten says that something is still there of what is to be forgotten.
type NotForgotten struct{ Left map[string]int } // stakes that runs made, by host

func (n NotForgotten) Error() string {
	var out []string
	for _, h := range slices.Sorted(maps.Keys(n.Left)) {
		out = append(out, fmt.Sprintf("%d on %s", n.Left[h], h))
	}
	return "runs brought things about that are still there: " + strings.Join(out, ", ")
}

// Forget drops the record of a ground, or of some hosts that are not declared any more. With
// regardless, what runs made there may still be there.
func (j *Service) Forget(ctx context.Context, g store.Ground, hosts []string, regardless bool) error {
	d, err := j.Declaration(ctx, g.ID, g.Newest)
	if err != nil && len(hosts) > 0 { // all of a ground goes whatever stands in it
		return err
	}
	known, err := j.Store.PlacesOf(ctx, g.ID)
	if err != nil {
		return err
	}
	runs, err := j.Store.Runs(ctx, g.ID, 100)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if r.State == "queued" || r.State == "running" {
			return NotReady{fmt.Sprintf("run %d is %s", r.ID, r.State), "wait until it has ended: northstake watch " + fmt.Sprint(r.ID)}
		}
	}
	for _, h := range hosts {
		switch {
		case d.SortOf(h) != "":
			at := d.PlaceAt(h)
			return NotReady{fmt.Sprintf("%s %s is declared", d.SortOf(h), h), fmt.Sprintf("take it out of the declaration first: %s:%d", at.File, at.Line)}
		case !slices.Contains(known, h):
			return NotReady{fmt.Sprintf("nothing is known of a host %q", h), "northstake hosts lists the hosts"}
		}
	}
	if len(hosts) > 0 {
		known = hosts
	}
	left := map[string]int{}
	for _, h := range known {
		applied, _, err := j.Store.Applied(ctx, g.ID, h)
		if err != nil {
			return err
		}
		for _, a := range applied {
			if a.Made {
				left[h]++
			}
		}
	}
	if len(left) > 0 && !regardless {
		return NotForgotten{left}
	}
	for _, h := range known {
		j.Places.Drop(connKey(scope{groundID: g.ID}, h))
	}
	return j.Store.Forget(ctx, g.ID, hosts)
}
