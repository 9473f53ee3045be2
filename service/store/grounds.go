package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/host/reach"
)

// Ground is a ground's record. Newest is the number of its newest revision.
type Ground struct {
	ID     int64  `db:"id"`
	Name   string `db:"name"`
	Newest int    `db:"newest"`
}

const selectGrounds = "SELECT id, name, coalesce((SELECT max(number) FROM revisions WHERE ground_id = id), 0) AS newest FROM grounds"

// Grounds lists the grounds by name.
func (s *Store) Grounds(ctx context.Context) ([]Ground, error) {
	var out []Ground
	err := s.DB.SelectContext(ctx, &out, selectGrounds+" ORDER BY name")
	return out, err
}

// Ground finds a ground by name.
func (s *Store) Ground(ctx context.Context, name string) (Ground, error) {
	var g Ground
	err := s.DB.GetContext(ctx, &g, selectGrounds+" WHERE name = $1", name)
	if err = notFound(err); err == ErrNotFound {
		return g, Missing{fmt.Sprintf("there is no ground called %q", name), "northstake grounds lists them; northstake declare DIR makes one"}
	}
	return g, err
}

// Revision is a numbered, immutable declaration. Words is the number of the words that it was
// written in.
type Revision struct {
	GroundID  int64           `db:"ground_id"`
	Number    int             `db:"number"`
	Digest    string          `db:"digest"`
	Sources   json.RawMessage `db:"sources"`
	Manifest  json.RawMessage `db:"manifest"`
	By        string          `db:"made_by"`
	CreatedAt time.Time       `db:"created_at"`
	Words     int             `db:"words"`
}

// Files lists what lies beside the revision's declaration.
func (r Revision) Files() (declare.Manifest, error) {
	var m declare.Manifest
	return m, json.Unmarshal(r.Manifest, &m)
}

// Texts are the revision's TOML files.
func (r Revision) Texts() ([]declare.Source, error) {
	var sources []declare.Source
	return sources, json.Unmarshal(r.Sources, &sources)
}

// Declaration reads the revision. It was sound when it was stored: what this release finds wrong in
// it comes beside it, and it fails only where nothing of it can be read.
func (r Revision) Declaration() (*declare.Declaration, declare.Problems, error) {
	sources, err := r.Texts()
	if err != nil {
		return nil, nil, err
	}
	manifest, err := r.Files()
	if err != nil {
		return nil, nil, err
	}
	d, problems := lint.ParseIn(r.Words, sources, &manifest)
	if !d.Readable() {
		return nil, nil, fmt.Errorf("revision %d cannot be read: %w", r.Number, problems)
	}
	return d, problems, nil
}

// AddRevision stores a declaration under the next number. A declaration equal
// to the newest one is not stored again; fresh says whether it was stored.
func (s *Store) AddRevision(ctx context.Context, ground string, sources []declare.Source, m *declare.Manifest, by string) (r Revision, fresh bool, err error) {
	src, man := wire.JSON(sources), wire.JSON(m)
	h := sha256.New()
	h.Write(src)
	h.Write(man)
	digest := hex.EncodeToString(h.Sum(nil))
	err = s.Tx(ctx, func(tx *sqlx.Tx) error {
		var id int64
		if err := tx.GetContext(ctx, &id, "INSERT INTO grounds (name) VALUES ($1) ON CONFLICT (name) DO UPDATE SET name = excluded.name RETURNING id", ground); err != nil {
			return err
		}
		err := tx.GetContext(ctx, &r, "SELECT * FROM revisions WHERE ground_id = $1 ORDER BY number DESC LIMIT 1", id)
		if err == nil && r.Digest == digest {
			return nil
		}
		if err != nil && notFound(err) != ErrNotFound {
			return err
		}
		fresh = true
		return tx.GetContext(ctx, &r, `INSERT INTO revisions (ground_id, number, digest, sources, manifest, made_by, words) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING *`,
			id, r.Number+1, digest, src, man, by, declare.Words)
	})
	return r, fresh, err
}

// Revision finds a revision of a ground; number 0 is the newest.
func (s *Store) Revision(ctx context.Context, groundID int64, number int) (Revision, error) {
	var r Revision
	err := s.DB.GetContext(ctx, &r, "SELECT * FROM revisions WHERE ground_id = $1 AND ($2 = 0 OR number = $2) ORDER BY number DESC LIMIT 1", groundID, number)
	return r, notFound(err)
}

// Revisions lists a ground's revisions without their text, the newest first.
func (s *Store) Revisions(ctx context.Context, groundID int64) ([]Revision, error) {
	var out []Revision
	err := s.DB.SelectContext(ctx, &out, "SELECT ground_id, number, digest, made_by, created_at FROM revisions WHERE ground_id = $1 ORDER BY number DESC LIMIT 200", groundID)
	return out, err
}

// MissingBlobs returns those of the sums that are not stored.
func (s *Store) MissingBlobs(ctx context.Context, sums []string) ([]string, error) {
	out := []string{}
	err := s.DB.SelectContext(ctx, &out, "SELECT DISTINCT s FROM unnest($1::text[]) AS s WHERE NOT EXISTS (SELECT 1 FROM blobs WHERE sha256 = s)", sums)
	return out, err
}

// PutBlob stores a piece of content under its sum.
func (s *Store) PutBlob(ctx context.Context, sum string, content []byte) error {
	if got := sha256.Sum256(content); hex.EncodeToString(got[:]) != sum {
		return fmt.Errorf("content %s arrived with other bytes", sum)
	}
	_, err := s.DB.ExecContext(ctx, "INSERT INTO blobs (sha256, size, content) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", sum, len(content), content)
	return err
}

// Blobs hands each piece of content to take, in any order, one in memory at a time
// and the next on its way. Take must not keep the bytes.
func (s *Store) Blobs(ctx context.Context, sums []string, take func(sum string, content []byte) error) error {
	rows, err := s.DB.QueryContext(ctx, "SELECT sha256, content FROM blobs WHERE sha256 = ANY($1)", sums)
	if err != nil {
		return err
	}
	defer rows.Close()
	lacks := map[string]bool{}
	for _, sum := range sums {
		lacks[sum] = true
	}
	for rows.Next() {
		var sum string
		var content sql.RawBytes
		if err := rows.Scan(&sum, &content); err != nil {
			return err
		}
		if err := take(sum, content); err != nil {
			return err
		}
		delete(lacks, sum)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for sum := range lacks {
		return Missing{"content " + sum + " is not in the service", "declare the ground again: northstake declare DIR"}
	}
	return nil
}

// HostKeys returns the trusted keys of a host.
func (s *Store) HostKeys(ctx context.Context, groundID int64, host string) ([]reach.HostKey, error) {
	out := []reach.HostKey{}
	rows, err := s.DB.QueryxContext(ctx, "SELECT type, fingerprint, key FROM host_keys WHERE ground_id = $1 AND host = $2 ORDER BY type", groundID, host)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var k reach.HostKey
		if err := rows.Scan(&k.Type, &k.Fingerprint, &k.Key); err != nil {
			return nil, err
		}
		out = append(out, k)
	}
	return out, rows.Err()
}

// KeyOwner returns the host whose trusted key has the fingerprint, "" for none.
func (s *Store) KeyOwner(ctx context.Context, groundID int64, fingerprint string) (string, error) {
	var host string
	err := s.DB.GetContext(ctx, &host, "SELECT host FROM host_keys WHERE ground_id = $1 AND fingerprint = $2 LIMIT 1", groundID, fingerprint)
	if notFound(err) == ErrNotFound {
		return "", nil
	}
	return host, err
}

// Trust replaces a host's trusted keys.
func (s *Store) Trust(ctx context.Context, groundID int64, host string, keys []reach.HostKey, by string) error {
	return s.Tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM host_keys WHERE ground_id = $1 AND host = $2", groundID, host); err != nil {
			return err
		}
		for _, k := range keys {
			if _, err := tx.ExecContext(ctx, "INSERT INTO host_keys (ground_id, host, type, fingerprint, key, trusted_by) VALUES ($1, $2, $3, $4, $5, $6)",
				groundID, host, k.Type, k.Fingerprint, k.Key, by); err != nil {
				return err
			}
		}
		return nil
	})
}

// TrustedHosts returns the hosts of a ground that have a trusted key.
func (s *Store) TrustedHosts(ctx context.Context, groundID int64) (map[string]bool, error) {
	var names []string
	if err := s.DB.SelectContext(ctx, &names, "SELECT DISTINCT host FROM host_keys WHERE ground_id = $1", groundID); err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for _, n := range names {
		out[n] = true
	}
	return out, nil
}

// PlaceState is a place as it was last seen, and what is remembered of its stakes.
type PlaceState struct {
	Place    string          `db:"place"`
	Revision int             `db:"revision"`
	SeenAt   *time.Time      `db:"seen_at"`
	Unread   string          `db:"unread"`
	Traits   json.RawMessage `db:"traits"`
	Rows     json.RawMessage `db:"rows"`

	Sum []byte `db:"-"` // SumOf the rows, where it is known
}

// SumOf is by what rows are kept.
func SumOf(rows json.RawMessage) []byte {
	sum := sha256.Sum256(rows)
	return sum[:]
}

// PlaceStates returns all places of a ground that were ever looked at.
func (s *Store) PlaceStates(ctx context.Context, groundID int64) (map[string]PlaceState, error) {
	var list []PlaceState
	if err := s.DB.SelectContext(ctx, &list, "SELECT place, revision, seen_at, unread, coalesce(traits, 'null') AS traits, rows FROM places WHERE ground_id = $1", groundID); err != nil {
		return nil, err
	}
	out := map[string]PlaceState{}
	for _, h := range list {
		out[h.Place] = h
	}
	return out, nil
}

// PutPlaceState notes how a place was just seen, puts it into the record of a survey, and announces
// said, in one. Rows that are as they were are not written again.
func (s *Store) PutPlaceState(ctx context.Context, groundID int64, h PlaceState, said Said) error {
	err := s.putPlaceState(ctx, groundID, h, said)
	if err == nil && said.Ends {
		s.over(said.Topic)
	}
	return err
}

func (s *Store) putPlaceState(ctx context.Context, groundID int64, h PlaceState, said Said) error {
	const announced = `said AS (INSERT INTO events (topic, kind, data) SELECT $4, e.kind, e.data FROM put, (VALUES ('host', $5::bytea), ('end', $6::bytea)) e (kind, data)
			WHERE $4 <> '' AND (e.kind = 'host' OR $7::boolean) ORDER BY e.kind DESC),
		kept AS (INSERT INTO survey_places (survey_id, place, doc, rows_sum) SELECT $10::bigint, $2, $5, $9 FROM put WHERE $10::bigint > 0
			ON CONFLICT (survey_id, place) DO UPDATE SET doc = excluded.doc, rows_sum = excluded.rows_sum),
		ended AS (UPDATE surveys SET state = 'done', finished_at = now() FROM put WHERE id = $10::bigint AND $7::boolean)
		SELECT count(*) FROM put`
	sum := h.Sum
	if sum == nil {
		sum = SumOf(h.Rows)
	}
	args := []any{groundID, h.Place, h.Revision, said.Topic, said.Data, wire.JSON(ended{"done"}), said.Ends, h.Traits, sum, said.Survey}
	if h.Unread == "" {
		var put int
		err := s.Quick.GetContext(ctx, &put, `WITH put AS (UPDATE places SET revision = $3, seen_at = now(), unread = '', traits = $8 WHERE ground_id = $1 AND place = $2 AND rows_sum = $9 RETURNING 1),
			`+announced, args...)
		if err != nil || put > 0 {
			return err
		}
	}
	// By itself: who holds these rows would hold up who holds the stream.
	if _, err := s.Quick.ExecContext(ctx, "INSERT INTO readings (sum, rows) VALUES ($1, $2) ON CONFLICT (sum) DO UPDATE SET at = now()", sum, h.Rows); err != nil {
		return err
	}
	_, err := s.Quick.ExecContext(ctx, `WITH put AS (
		INSERT INTO places (ground_id, place, revision, seen_at, traits, rows_sum, unread, rows) VALUES ($1, $2, $3, now(), $8, $9, $11, $12)
		ON CONFLICT (ground_id, place) DO UPDATE SET revision = excluded.revision, unread = excluded.unread,
			seen_at = CASE WHEN excluded.unread = '' THEN now() ELSE places.seen_at END,
			traits = CASE WHEN excluded.unread = '' THEN excluded.traits ELSE places.traits END,
			rows = CASE WHEN excluded.unread = '' THEN excluded.rows ELSE places.rows END,
			rows_sum = CASE WHEN excluded.unread = '' THEN excluded.rows_sum ELSE places.rows_sum END
		RETURNING 1),
		`+announced, append(args, h.Unread, h.Rows)...)
	return err
}

// Applied returns what is remembered of a place's stakes, and its version.
func (s *Store) Applied(ctx context.Context, groundID int64, place string) (map[string]plan.Applied, int64, error) {
	var row struct {
		Applied json.RawMessage `db:"applied"`
		Version int64           `db:"version"`
	}
	out := map[string]plan.Applied{}
	err := s.DB.GetContext(ctx, &row, "SELECT applied, version FROM places WHERE ground_id = $1 AND place = $2", groundID, place)
	if notFound(err) == ErrNotFound {
		return out, 0, nil
	}
	if err != nil {
		return nil, 0, err
	}
	return out, row.Version, json.Unmarshal(row.Applied, &out)
}

// PutApplied replaces what is remembered of a place's stakes, unless another has
// done so since version; the new version comes back, 0 when it was too late.
func (s *Store) PutApplied(ctx context.Context, groundID int64, place string, version int64, applied map[string]plan.Applied) (int64, error) {
	if version == 0 {
		if _, err := s.DB.ExecContext(ctx, "INSERT INTO places (ground_id, place) VALUES ($1, $2) ON CONFLICT DO NOTHING", groundID, place); err != nil {
			return 0, err
		}
	}
	var v int64
	err := s.DB.GetContext(ctx, &v, "UPDATE places SET applied = $4, version = version + 1 WHERE ground_id = $1 AND place = $2 AND version = $3 RETURNING version", groundID, place, version, wire.JSON(applied))
	if notFound(err) == ErrNotFound {
		return 0, nil
	}
	return v, err
}

// PlacesOf lists the places of which something is known, declared or not.
func (s *Store) PlacesOf(ctx context.Context, groundID int64) ([]string, error) {
	var out []string
	err := s.DB.SelectContext(ctx, &out, "SELECT place FROM places WHERE ground_id = $1 UNION SELECT host FROM host_keys WHERE ground_id = $1 ORDER BY place", groundID)
	return out, err
}

// Forget drops the record of a ground's places, or, where none is named, that of the ground, with the keys that
// the service has made for it.
func (s *Store) Forget(ctx context.Context, groundID int64, places []string) error {
	if len(places) == 0 {
		return s.Tx(ctx, func(tx *sqlx.Tx) error {
			const made = "DELETE FROM secrets s USING grounds g WHERE g.id = $1 AND s.name LIKE '%/%' AND split_part(s.name, '/', 2) = g.name"
			if _, err := tx.ExecContext(ctx, made, groundID); err != nil {
				return err
			}
			_, err := tx.ExecContext(ctx, "DELETE FROM grounds WHERE id = $1", groundID)
			return err
		})
	}
	return s.Tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM places WHERE ground_id = $1 AND place = ANY($2)", groundID, places); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM host_keys WHERE ground_id = $1 AND host = ANY($2)", groundID, places)
		return err
	})
}
