package jobs

import (
	"context"
	"strings"

	"northstake/core/wire"
	"northstake/service/contract"
	"northstake/service/place"
	"northstake/service/store"
)

// Journal is what a host's own journal has of the steps of runs.
func (j *Service) Journal(ctx context.Context, g store.Ground, host string, passwords contract.SudoPasswords) (out []wire.JournalStep, err error) {
	err = j.onPlace(ctx, g, host, passwords, func(conn place.Line) error {
		service, err := j.Store.ServiceID(ctx)
		if err == nil {
			out, err = conn.Journal(ctx, service)
		}
		return err
	})
	return out, err
}

// Dismiss has a step that could not be taken back on a host hold up nothing any more.
func (j *Service) Dismiss(ctx context.Context, g store.Ground, host string, in contract.Dismissal, by string) error {
	if strings.TrimSpace(in.Reason) == "" {
		return NotReady{"no reason is given", "say what you found and did on the host: whoever looks there next needs it"}
	}
	return j.onPlace(ctx, g, host, in.SudoPasswords, func(conn place.Line) error {
		return conn.Dismiss(ctx, in.Run, in.Number, strings.TrimSpace(in.Reason)+" ("+by+")")
	})
}

// onPlace does something over a line to a place.
func (j *Service) onPlace(ctx context.Context, g store.Ground, host string, passwords contract.SudoPasswords, do func(place.Line) error) error {
	s, err := j.scope(ctx, g.ID, g.Name, g.Newest, passwords)
	if err != nil {
		return err
	}
	if s.d.SortOf(host) == "" {
		return Unknown{host}
	}
	if err := needPasswords(s.d, []string{host}, passwords); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, placeLimit)
	defer cancel()
	return j.over(ctx, s, host, func(conn place.Line, _ access) error { return do(conn) })
}
