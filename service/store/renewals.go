package store

import (
	"context"
	"time"
)

// Renewal is a certificate of a ground that was made anew and is not where it is shown yet: what keeps it from
// there and what to do, how often it was tried, and when that is tried again.
type Renewal struct {
	Certificate string    `db:"certificate"`
	Tries       int       `db:"tries"`
	NextAt      time.Time `db:"next_at"`
	What        string    `db:"what"`
	Fix         string    `db:"fix"`
}

// Renewals are those of a ground, by their certificates.
func (s *Store) Renewals(ctx context.Context, groundID int64) (map[string]Renewal, error) {
	var list []Renewal
	if err := s.DB.SelectContext(ctx, &list, "SELECT certificate, tries, next_at, what, fix FROM renewals WHERE ground_id = $1", groundID); err != nil {
		return nil, err
	}
	out := map[string]Renewal{}
	for _, r := range list {
		out[r.Certificate] = r
	}
	return out, nil
}

// PutRenewal notes that a certificate could not be brought to where it is shown.
func (s *Store) PutRenewal(ctx context.Context, groundID int64, r Renewal) error {
	_, err := s.DB.ExecContext(ctx, `INSERT INTO renewals (ground_id, certificate, tries, next_at, what, fix) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (ground_id, certificate) DO UPDATE SET tries = $3, next_at = $4, what = $5, fix = $6`, groundID, r.Certificate, r.Tries, r.NextAt, r.What, r.Fix)
	return err
}

// KeepRenewals forgets the renewals of a ground but those of some certificates.
func (s *Store) KeepRenewals(ctx context.Context, groundID int64, certificates []string) error {
	_, err := s.DB.ExecContext(ctx, "DELETE FROM renewals WHERE ground_id = $1 AND NOT certificate = ANY($2)", groundID, append([]string{}, certificates...))
	return err
}

// ClaimRenewals makes a replica the one that renews the certificates of a ground, or notes that it still is;
// false says that another is, which was heard of in silence.
func (s *Store) ClaimRenewals(ctx context.Context, groundID int64, owner string, silence time.Duration) (bool, error) {
	err := s.one(ctx, `UPDATE grounds SET renewer = $2, renewer_beat_at = now()
		WHERE id = $1 AND (renewer IN ('', $2) OR renewer_beat_at < now() - make_interval(secs => $3))`, groundID, owner, silence.Seconds())
	if err == ErrNotFound {
		return false, nil
	}
	return err == nil, err
}

// LeaveRenewals lets go of a ground's certificates.
func (s *Store) LeaveRenewals(ctx context.Context, groundID int64, owner string) error {
	_, err := s.DB.ExecContext(ctx, "UPDATE grounds SET renewer = '' WHERE id = $1 AND renewer = $2", groundID, owner)
	return err
}

// AtWork says whether a run of a ground has not ended.
func (s *Store) AtWork(ctx context.Context, groundID int64) (at bool, err error) {
	err = s.DB.GetContext(ctx, &at, "SELECT EXISTS (SELECT FROM runs WHERE ground_id = $1 AND state IN ('queued', 'running'))", groundID)
	return at, err
}
