// Package jobs does the work that takes time: surveys, plans and runs. It is
// spread over replicas by River; what a replica keeps in memory is a cache that
// another can do without.
package jobs

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"northstake/content/fetch"
	"northstake/core/declare"
	"northstake/host/reach"
	"northstake/service/auth"
	"northstake/service/contract"
	"northstake/service/place"
	"northstake/service/store"
)

// Service is one replica's share of the work.
type Service struct {
	ID     string
	Store  *store.Store
	Places place.Sorts
	Seal   *auth.Seal
	Log    *slog.Logger

	Fetching fetch.From // where content is fetched from

	RenewEvery time.Duration    // how often it is looked after certificates
	Now        func() time.Time // the clock that they are made and renewed by

	Engine string // socket of the container engine of the service's own machine, "" for its usual place

	silence time.Duration
	worker  *river.Client[pgx.Tx]
	insert  *river.Client[*sql.Tx]
	atOnce  *atOnce

	mu           sync.Mutex
	declarations map[string]declared
	resolved     map[string]*resolved
	applied      map[string]appliedCache
	seen         map[string]*seen
	passwords    map[string]contract.SudoPasswords
	working      map[int64]*cancelling // runs
	mute         time.Time             // until when no resolver is asked, because none answered
}

// Silence is how long the owner of a run may be quiet before another replica
// takes the run over, unless the service is told otherwise.
const Silence = 12 * time.Second

// lostAfter is how many times that it takes until a survey or a plan counts as lost, which
// nobody takes over.
const lostAfter = 3

// New makes a replica's share; Start sets it to work.
func New(s *store.Store, hosts *reach.Pool, seal *auth.Seal, silence time.Duration, log *slog.Logger) (*Service, error) {
	id := make([]byte, 6)
	rand.Read(id)
	j := &Service{ID: hex.EncodeToString(id), silence: silence, RenewEvery: RenewEvery, Now: time.Now, Store: s, Places: place.NewSorts(place.Hosts{Pool: hosts}), Seal: seal, Log: log,
		declarations: map[string]declared{}, resolved: map[string]*resolved{}, applied: map[string]appliedCache{}, seen: map[string]*seen{}, passwords: map[string]contract.SudoPasswords{}, atOnce: newAtOnce(), working: map[int64]*cancelling{}}
	workers := river.NewWorkers()
	river.AddWorker(workers, &taskWorker{j: j})
	river.AddWorker(workers, &runWorker{j: j})
	config := &river.Config{
		Workers: workers, Logger: slog.New(slog.DiscardHandler),
		Queues:        map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 64}, j.ownQueue(): {MaxWorkers: 16}},
		FetchCooldown: time.Millisecond, FetchPollInterval: 500 * time.Millisecond,
		JobTimeout: -1, MaxAttempts: 1,
	}
	var err error
	if j.worker, err = river.NewClient(riverpgxv5.New(s.QuickPool), config); err != nil {
		return nil, fmt.Errorf("set up jobs: %w", err)
	}
	// Inserts are announced at most once in FetchCooldown.
	if j.insert, err = river.NewClient(riverdatabasesql.New(s.DB.DB), &river.Config{Logger: slog.New(slog.DiscardHandler), FetchCooldown: time.Millisecond}); err != nil {
		return nil, fmt.Errorf("set up jobs: %w", err)
	}
	return j, nil
}

// ownQueue holds the jobs that only this replica can do, because it alone has
// the passwords that were given for them.
func (j *Service) ownQueue() string { return "replica_" + j.ID }

// Start works until ctx ends.
func (j *Service) Start(ctx context.Context) error {
	if err := j.worker.Start(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("start jobs: %w", err)
	}
	go j.lookAfter(ctx)
	go j.keepRenewing(ctx)
	return nil
}

// Stop ends the work in order: what is under way is let go of, and another
// replica, or the next start of this one, carries on.
func (j *Service) Stop() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	j.atOnce.stop(ctx)
	if err := j.worker.StopAndCancel(ctx); err != nil {
		j.Log.Warn("jobs did not end in time", "error", err)
	}
	if err := j.Store.ReleaseRuns(ctx, j.ID); err != nil {
		j.Log.Warn("could not let go of runs", "error", err)
	}
}

// lookAfter takes over runs that lost their replica, and forgets old events.
func (j *Service) lookAfter(ctx context.Context) {
	tick := time.NewTicker(j.silence / 4)
	defer tick.Stop()
	for n := 0; ; n++ {
		lost, err := j.Store.LostRuns(ctx, j.silence)
		if err == nil {
			for _, id := range lost {
				if j.worksOn(id) {
					continue
				}
				j.Log.Info("taking over a run whose replica is gone", "run", id)
				if _, err := j.worker.Insert(ctx, runArgs{Run: id}, nil); err != nil {
					j.Log.Warn("could not take a run over", "run", id, "error", err)
				}
			}
		}
		if n%300 == 0 {
			if err := j.Store.Prune(ctx); err != nil && ctx.Err() == nil {
				j.Log.Warn("could not forget old streams", "error", err)
			}
		}
		if err := j.Store.FailLostTasks(ctx, lostAfter*j.silence); err != nil && ctx.Err() == nil {
			j.Log.Warn("could not end lost tasks", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// enqueue adds a job in the transaction that makes its record. A job that has
// passwords goes to this replica's own queue; they stay in memory.
func (j *Service) enqueue(ctx context.Context, tx *sqlx.Tx, args river.JobArgs, topic string, passwords contract.SudoPasswords) error {
	opts := &river.InsertOpts{MaxAttempts: 1}
	if len(passwords) > 0 {
		opts.Queue = j.ownQueue()
		j.mu.Lock()
		j.passwords[topic] = passwords
		j.mu.Unlock()
	}
	_, err := j.insert.InsertTx(ctx, tx.Tx, args, opts)
	return err
}

func (j *Service) passwordsOf(topic string) contract.SudoPasswords {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.passwords[topic]
}

func (j *Service) forgetPasswords(topic string) {
	j.mu.Lock()
	defer j.mu.Unlock()
	delete(j.passwords, topic)
}

// declared is a revision's declaration, with what this release finds wrong in it.
type declared struct {
	*declare.Declaration
	problems declare.Problems
}

// Declaration returns a revision's declaration.
func (j *Service) Declaration(ctx context.Context, groundID int64, number int) (*declare.Declaration, error) {
	d, err := j.declared(ctx, groundID, number)
	return d.Declaration, err
}

// declared reads a revision once.
func (j *Service) declared(ctx context.Context, groundID int64, number int) (declared, error) {
	key := fmt.Sprintf("%d/%d", groundID, number)
	j.mu.Lock()
	d := j.declarations[key]
	j.mu.Unlock()
	if d.Declaration != nil {
		return d, nil
	}
	r, err := j.Store.Revision(ctx, groundID, number)
	if err != nil {
		return d, err
	}
	if d.Declaration, d.problems, err = r.Declaration(); err != nil {
		return d, err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	if len(j.declarations) > 50 {
		clear(j.declarations)
	}
	j.declarations[key] = d
	return d, nil
}

// Ask starts a survey or a plan of a ground's newest revision.
func (j *Service) Ask(ctx context.Context, table store.Table, g store.Ground, ask contract.Ask, by string) (store.Task, error) {
	if err := purposeOf(ask).check(table); err != nil {
		return store.Task{}, err
	}
	s, err := j.scopeOf(ctx, table, g.ID, g.Name, g.Newest, ask)
	if err != nil {
		return store.Task{}, err
	}
	if table == store.Plans && s.purpose.extent().sound {
		d, err := j.declared(ctx, g.ID, g.Newest)
		if err != nil {
			return store.Task{}, err
		}
		if len(d.problems) > 0 {
			return store.Task{}, NotReady{fmt.Sprintf("revision %d was sound when it was declared, and is not any more: %s", g.Newest, d.problems[0].Error()), strings.TrimPrefix(d.problems[0].Fix+"; then declare it again", "; ")}
		}
	}
	hosts, err := s.purpose.hosts(s.d)
	if err != nil {
		return store.Task{}, err
	}
	for _, name := range ask.Removing {
		host, _, _ := strings.Cut(name, "/")
		switch {
		case !s.purpose.extent().clears:
			return store.Task{}, NotReady{fmt.Sprintf("%s is named to go, and this plan takes nothing away", name), "ask to clear as well"}
		case !slices.Contains(hosts, host):
			return store.Task{}, NotReady{fmt.Sprintf("%s is named to go, and the plan is not about a host %q", name, host), "write the whole name of a stake, such as quay1/content/srv/www/tides"}
		}
	}
	if err := needPasswords(s.d, hosts, ask.SudoPasswords); err != nil {
		return store.Task{}, err
	}
	t, began, err := j.soon(ctx, table, s, hosts, func() (store.Task, error) {
		return j.Store.AddTask(ctx, j.Store.Quick, table, g, ask, by, "running")
	})
	if began || err != nil {
		return t, err
	}
	err = j.Store.QuickTx(ctx, func(tx *sqlx.Tx) (err error) {
		if t, err = j.Store.AddTask(ctx, tx, table, g, ask, by, "queued"); err != nil {
			return err
		}
		return j.enqueue(ctx, tx, taskArgs{Table: table, ID: t.ID}, store.Topic(string(table), t.ID), ask.SudoPasswords)
	})
	return t, err
}

// Unknown is a host that was asked for and is not declared.
type Unknown struct{ Host string }

func (u Unknown) Error() string { return fmt.Sprintf("no host is called %q", u.Host) }

// PasswordNeeded says that hosts ask for a password for sudo that was not given.
type PasswordNeeded struct{ Hosts []string }

func (p PasswordNeeded) Error() string {
	return fmt.Sprintf("hosts %v take a password for sudo that is asked for each time", p.Hosts)
}

func needPasswords(d *declare.Declaration, hosts []string, given contract.SudoPasswords) error {
	var missing []string
	for _, h := range hosts {
		if asksEachTime(d, h) && given[h] == "" && given["*"] == "" {
			missing = append(missing, h)
		}
	}
	if len(missing) > 0 {
		return PasswordNeeded{missing}
	}
	return nil
}
