package store

import (
	"context"
	"database/sql"
	"time"
)

// Token is a token's record; its value is never kept.
type Token struct {
	Name      string     `db:"name"`
	CreatedAt time.Time  `db:"created_at"`
	UsedAt    *time.Time `db:"used_at"`
}

// Tokens lists the tokens, sessions left out.
func (s *Store) Tokens(ctx context.Context) ([]Token, error) {
	var out []Token
	err := s.DB.SelectContext(ctx, &out, "SELECT name, created_at, used_at FROM tokens WHERE NOT session ORDER BY name")
	return out, err
}

// AddToken stores the hash of a token. A session has a life; a token has none.
func (s *Store) AddToken(ctx context.Context, name string, hash []byte, life time.Duration) error {
	var until *time.Time
	if life > 0 {
		t := time.Now().Add(life)
		until = &t
	}
	_, err := s.DB.ExecContext(ctx, "INSERT INTO tokens (hash, name, session, expires_at) VALUES ($1, $2, $3, $4)", hash, name, life > 0, until)
	return err
}

// TokenName returns whose token has the hash, ErrNotFound where nobody's has.
func (s *Store) TokenName(ctx context.Context, hash []byte) (string, error) {
	var name string
	err := s.DB.GetContext(ctx, &name, "SELECT name FROM tokens WHERE hash = $1 AND (expires_at IS NULL OR expires_at > now())", hash)
	return name, notFound(err)
}

// Admitted returns whose token has the hash, ErrNotFound where nobody's has, and the ground of a name, nil
// where there is none: what almost every request begins with, by one query.
func (s *Store) Admitted(ctx context.Context, hash []byte, ground string) (who string, g *Ground, err error) {
	var row struct {
		Who    string         `db:"who"`
		ID     sql.NullInt64  `db:"id"`
		Name   sql.NullString `db:"name"`
		Newest sql.NullInt64  `db:"newest"`
	}
	err = s.DB.GetContext(ctx, &row, "SELECT t.name AS who, g.* FROM tokens t LEFT JOIN ("+selectGrounds+" WHERE name = $2) g ON true WHERE t.hash = $1 AND (t.expires_at IS NULL OR t.expires_at > now())", hash, ground)
	if row.ID.Valid {
		g = &Ground{row.ID.Int64, row.Name.String, int(row.Newest.Int64)}
	}
	return row.Who, g, notFound(err)
}

// TouchToken notes that a token was used.
func (s *Store) TouchToken(ctx context.Context, hash []byte) error {
	_, err := s.DB.ExecContext(ctx, "UPDATE tokens SET used_at = now() WHERE hash = $1", hash)
	return err
}

// DeleteToken removes a token by name.
func (s *Store) DeleteToken(ctx context.Context, name string) error {
	return s.one(ctx, "DELETE FROM tokens WHERE name = $1", name)
}

// DeleteSession removes the token with the hash.
func (s *Store) DeleteSession(ctx context.Context, hash []byte) error {
	_, err := s.DB.ExecContext(ctx, "DELETE FROM tokens WHERE hash = $1 AND session", hash)
	return err
}

func (s *Store) one(ctx context.Context, query string, args ...any) error {
	r, err := s.DB.ExecContext(ctx, query, args...)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		if err == nil {
			err = ErrNotFound
		}
		return err
	}
	return nil
}

// Secret is a secret's record without its value.
type Secret struct {
	Name      string    `db:"name"`
	UpdatedAt time.Time `db:"updated_at"`
}

// Secrets lists the names of the secrets that people keep; those of what the service has made have a slash.
func (s *Store) Secrets(ctx context.Context) ([]Secret, error) {
	var out []Secret
	err := s.DB.SelectContext(ctx, &out, "SELECT name, updated_at FROM secrets WHERE name NOT LIKE '%/%' ORDER BY name")
	return out, err
}

// Secret is the sealed value of a secret.
func (s *Store) Secret(ctx context.Context, name string) ([]byte, error) {
	var sealed []byte
	err := s.DB.GetContext(ctx, &sealed, "SELECT sealed FROM secrets WHERE name = $1", name)
	return sealed, notFound(err)
}

// KeepSecret keeps a sealed value.
func (s *Store) KeepSecret(ctx context.Context, name string, sealed []byte) error {
	_, err := s.DB.ExecContext(ctx, "INSERT INTO secrets (name, sealed) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET sealed = excluded.sealed, updated_at = now()", name, sealed)
	return err
}

// ReplaceSecret keeps a sealed value in place of the one that was read, nil where there was none. False says that
// another is there by now, which stays.
func (s *Store) ReplaceSecret(ctx context.Context, name string, was, sealed []byte) (bool, error) {
	query, args := "INSERT INTO secrets (name, sealed) VALUES ($1, $2) ON CONFLICT (name) DO NOTHING", []any{name, sealed}
	if was != nil {
		query, args = "UPDATE secrets SET sealed = $2, updated_at = now() WHERE name = $1 AND sealed = $3", append(args, was)
	}
	res, err := s.DB.ExecContext(ctx, query, args...)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

// ForgetSecret removes a secret.
func (s *Store) ForgetSecret(ctx context.Context, name string) error {
	return s.one(ctx, "DELETE FROM secrets WHERE name = $1", name)
}
