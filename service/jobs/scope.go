package jobs

import (
	"cmp"
	"context"
	"errors"
	"sync"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
	"northstake/service/contract"
	"northstake/service/store"
)

// scope is what a look at a host is about.
type scope struct {
	table     store.Table // of what was asked for; a run is one of a plan
	groundID  int64
	ground    string // its name
	revision  int
	d         *declare.Declaration
	passwords contract.SudoPasswords
	purpose   purpose

	asksSites  bool // a look asks each site as its visitors do, beside reading what lies there
	carriesOut bool // it is that of a run, of which a part may be done

	unwise func() []lint.Caution // what is unwise in the declaration, worked out once
}

func (j *Service) scope(ctx context.Context, groundID int64, ground string, revision int, passwords contract.SudoPasswords) (scope, error) {
	d, err := j.Declaration(ctx, groundID, revision)
	if err == nil {
		err = j.makeCertificates(ctx, ground, d)
	}
	unwise := sync.OnceValue(func() []lint.Caution { return lint.Cautions(d) })
	return scope{groundID: groundID, ground: ground, revision: revision, d: d, passwords: passwords, purpose: everything{}, unwise: unwise}, err
}

// scopeOf is the scope of a survey or plan of what was asked for, or of the run of such a plan.
func (j *Service) scopeOf(ctx context.Context, table store.Table, groundID int64, ground string, revision int, ask contract.Ask) (scope, error) {
	s, err := j.scope(ctx, groundID, ground, revision, ask.SudoPasswords)
	if err != nil {
		return s, err
	}
	s.table = table
	s.purpose, err = purposeOf(ask).begin(ctx, j, &s)
	return s, err
}

// placeSort is what a place is called, "host" for one that is declared no more.
func placeSort(s scope, name string) string { return cmp.Or(s.d.SortOf(name), declare.HostSort) }

// addressOf is the address of a host, "" of what is none.
func (s scope) addressOf(name string) string {
	if h := s.d.Hosts[name]; h != nil {
		return h.Address
	}
	return ""
}

// Claims are what a declaration needs on a host as that was last seen; none where its
// platform cannot do what is declared, which a survey says.
func Claims(d *declare.Declaration, host string, traits wire.Traits) []claim.Claim {
	h, err := everything{}.stakes(d, host, traits, nil)
	if err != nil {
		return nil
	}
	return stake.ClaimsOf(h.Stakes)
}

var errGone = errors.New("the host has not come back")
