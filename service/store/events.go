package store

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"
)

// Event is one line of a stream.
type Event struct {
	ID   int64           `db:"id"`
	Kind string          `db:"kind"`
	Data json.RawMessage `db:"data"`
}

// Said is news of a host for a stream; without a topic there is none. Survey is the survey in
// whose record it stands, 0 for none, and Ends says that this survey has ended with it.
type Said struct {
	Topic  string
	Data   json.RawMessage
	Survey int64
	Ends   bool
}

// Topic names the stream of a record: "runs/12".
func Topic(sort string, id int64) string { return fmt.Sprintf("%s/%d", sort, id) }

// AddEvent appends to a stream; listeners hear of it when the transaction ends.
func (s *Store) AddEvent(ctx context.Context, q sqlx.ExtContext, topic, kind string, data json.RawMessage) error {
	_, err := q.ExecContext(ctx, "INSERT INTO events (topic, kind, data) VALUES ($1, $2, $3)", topic, kind, data)
	return err
}

// Resumed is the event by which a stream was last carried on with, 0 where it never was.
func (s *Store) Resumed(ctx context.Context, topic string) (id int64, err error) {
	err = s.DB.GetContext(ctx, &id, "SELECT coalesce(max(id), 0) FROM events WHERE topic = $1 AND kind = 'resumed'", topic)
	return id, err
}

// Events returns what a stream holds after an event.
func (s *Store) Events(ctx context.Context, topic string, after int64) ([]Event, error) {
	var out []Event
	err := s.DB.SelectContext(ctx, &out, "SELECT id, kind, data FROM events WHERE topic = $1 AND id > $2 ORDER BY id", topic, after)
	return out, err
}

// Prune forgets streams and surveys that are older than a week, and rows that nobody refers to.
func (s *Store) Prune(ctx context.Context) error {
	return s.Tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM surveys WHERE created_at < now() - interval '7 days'"); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM events WHERE at < now() - interval '7 days'"); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM readings r WHERE at < now() - interval '1 hour'
			AND NOT EXISTS (SELECT FROM places WHERE rows_sum = r.sum) AND NOT EXISTS (SELECT FROM survey_places WHERE rows_sum = r.sum)`)
		return err
	})
}

// Bell rings for the listeners of a stream when something is added to it.
type Bell struct {
	mu    sync.Mutex
	ears  map[string]map[chan struct{}]bool
	store *Store
	log   *slog.Logger
}

// NewBell makes a bell; Run has to be called for it to ring. What ends through the same store it is told
// of at once.
func NewBell(s *Store, log *slog.Logger) *Bell {
	b := &Bell{ears: map[string]map[chan struct{}]bool{}, store: s, log: log}
	s.bell.Store(b)
	return b
}

// Listen returns a channel that gets a value when the topic may have news, and a
// function that ends it.
func (b *Bell) Listen(topic string) (<-chan struct{}, func()) {
	ch := make(chan struct{}, 1)
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.ears[topic] == nil {
		b.ears[topic] = map[chan struct{}]bool{}
	}
	b.ears[topic][ch] = true
	return ch, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.ears[topic], ch)
		if len(b.ears[topic]) == 0 {
			delete(b.ears, topic)
		}
	}
}

func (b *Bell) ring(match func(string) bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for topic, ears := range b.ears {
		if !match(topic) {
			continue
		}
		for ch := range ears {
			select {
			case ch <- struct{}{}:
			default:
			}
		}
	}
}

// over rings for what has just ended in this process: the word of the database takes a while.
func (s *Store) over(topic string) {
	if b := s.bell.Load(); b != nil {
		b.ring(func(t string) bool { return t == topic })
	}
}

// Run listens to PostgreSQL until ctx ends; after a break everybody is told to
// look.
func (b *Bell) Run(ctx context.Context) {
	for ctx.Err() == nil {
		if err := b.listen(ctx); err != nil && ctx.Err() == nil {
			b.log.Warn("listening for events broke off", "error", err)
			b.ring(func(string) bool { return true })
			_ = Pause(ctx, time.Second)
		}
	}
}

func (b *Bell) listen(ctx context.Context) error {
	conn, err := b.store.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "LISTEN northstake_events"); err != nil {
		return err
	}
	b.ring(func(string) bool { return true })
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		b.ring(func(topic string) bool { return topic == n.Payload })
	}
}
