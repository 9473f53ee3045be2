// Package store keeps the service's records in PostgreSQL.
package store

import (
	"cmp"
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned where a record that was named is not there.
var ErrNotFound = errors.New("not found")

// Missing is an ErrNotFound that says what is not there, and what to do.
type Missing struct{ What, Fix string }

func (m Missing) Error() string { return m.What }

// Is makes it an ErrNotFound.
func (Missing) Is(err error) bool { return err == ErrNotFound }

// Store is the database. What Quick writes is there at once for everybody and
// reaches the disk a moment later: after a power cut on PostgreSQL's machine, the
// last half second of it may be missing. It is for what can be looked at again:
// surveys, plans, how hosts were last seen, and which replica took a job.
type Store struct {
	Pool      *pgxpool.Pool
	DB        *sqlx.DB
	QuickPool *pgxpool.Pool
	Quick     *sqlx.DB

	bell atomic.Pointer[Bell] // of who listens in this process
}

// Open connects to PostgreSQL and brings the schema up to date. Replicas that
// start together wait for one another. The database is waited for, patience
// long.
func Open(ctx context.Context, url string, patience time.Duration, log *slog.Logger) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	config.MaxConns = 30
	config.MinConns = 4
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connect to PostgreSQL: %w", err)
	}
	deadline := time.Now().Add(patience)
	for {
		err = pool.Ping(ctx)
		if err == nil {
			break
		}
		if refused := refusal(err, config.ConnConfig); refused != nil || time.Now().After(deadline) || ctx.Err() != nil {
			pool.Close()
			return nil, cmp.Or(refused, fmt.Errorf("connect to PostgreSQL: %w", err))
		}
		log.Info("waiting for PostgreSQL", "error", err)
		_ = Pause(ctx, 500*time.Millisecond)
	}
	quick := config.Copy()
	quick.ConnConfig.RuntimeParams["synchronous_commit"] = "off"
	quickPool, err := pgxpool.NewWithConfig(ctx, quick)
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("connect to PostgreSQL: %w", err)
	}
	s := &Store{Pool: pool, DB: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx"), QuickPool: quickPool, Quick: sqlx.NewDb(stdlib.OpenDBFromPool(quickPool), "pgx")}
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// refusal says what to do where PostgreSQL answers and lets nobody in, which waiting does not
// change; nil for everything else.
func refusal(err error, c *pgx.ConnConfig) error {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		return nil
	}
	fix := map[string]string{
		"28P01": "correct the password in --database, or set it: ALTER ROLE " + c.User + " PASSWORD '…'",
		"28000": "let role " + c.User + " in from here (pg_hba.conf), make it (CREATE ROLE " + c.User + " LOGIN), or correct --database",
		"3D000": "make it: CREATE DATABASE " + c.Database + " OWNER " + c.User,
		"42501": "let the role connect: GRANT CONNECT ON DATABASE " + c.Database + " TO " + c.User,
	}[pg.Code]
	if fix == "" {
		return nil
	}
	return fmt.Errorf("PostgreSQL at %s:%d lets role %s not into database %s: %s; %s", c.Host, c.Port, c.User, c.Database, pg.Message, fix)
}

// versions are those of the database, one step up or down from each to the next.
func (s *Store) versions() (*goose.Provider, error) {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectPostgres, s.DB.DB, dir, goose.WithSessionLocker(locker))
}

func (s *Store) migrate(ctx context.Context) error {
	p, err := s.versions()
	if err == nil {
		_, err = p.Up(ctx)
	}
	if err != nil {
		return fmt.Errorf("bring the database up to date: %w", err)
	}
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	// River's own migrations have no lock of theirs.
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_lock(7471105)"); err != nil {
		return err
	}
	defer conn.Exec(ctx, "SELECT pg_advisory_unlock(7471105)")
	m, err := rivermigrate.New(riverpgxv5.New(s.Pool), nil)
	if err != nil {
		return err
	}
	if _, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("bring the job tables up to date: %w", err)
	}
	return nil
}

// Close closes all connections.
func (s *Store) Close() {
	s.DB.Close()
	s.Pool.Close()
	s.Quick.Close()
	s.QuickPool.Close()
}

// Ready says whether the database answers.
func (s *Store) Ready(ctx context.Context) error { return s.Pool.Ping(ctx) }

// Tx runs work in a transaction.
func (s *Store) Tx(ctx context.Context, work func(*sqlx.Tx) error) error {
	return transact(ctx, s.DB, work)
}

// QuickTx runs work in a transaction of Quick.
func (s *Store) QuickTx(ctx context.Context, work func(*sqlx.Tx) error) error {
	return transact(ctx, s.Quick, work)
}

func transact(ctx context.Context, db *sqlx.DB, work func(*sqlx.Tx) error) error {
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := work(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// Persist repeats work while the database is away, up to three minutes: what a
// host has done must be noted even when PostgreSQL restarts meanwhile.
func (s *Store) Persist(ctx context.Context, work func() error) error {
	deadline := time.Now().Add(3 * time.Minute)
	for wait := 50 * time.Millisecond; ; wait = min(2*wait, 2*time.Second) {
		err := work()
		if err == nil || !away(err) || time.Now().After(deadline) || ctx.Err() != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(wait):
		}
	}
}

// away says whether an error means that the database was not there, and not
// that it refused.
func away(err error) bool {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		// 57P0x: shutting down or starting up (PostgreSQL, appendix A).
		return len(pg.Code) == 5 && (pg.Code[:4] == "57P0" || pg.Code[:2] == "08")
	}
	return !errors.Is(err, sql.ErrNoRows) && !errors.Is(err, ErrNotFound) && !errors.Is(err, context.Canceled)
}

func notFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}
