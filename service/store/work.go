package store

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"northstake/core/wire"
	"northstake/host/reach"
	"northstake/service/contract"
)

// Task is a survey or a plan: a look at places that was asked for.
type Task struct {
	ID         int64           `db:"id"`
	GroundID   int64           `db:"ground_id"`
	Ground     string          `db:"ground"` // its name
	Revision   int             `db:"revision"`
	State      string          `db:"state"`
	Ask        json.RawMessage `db:"ask"`
	Error      string          `db:"error"`
	Places     json.RawMessage `db:"places"` // of a plan
	Steps      int             `db:"steps"`
	Blockers   int             `db:"blockers"`
	Unread     int             `db:"unread"` // stakes, and places, that could not be read
	By         string          `db:"made_by"`
	CreatedAt  time.Time       `db:"created_at"`
	FinishedAt *time.Time      `db:"finished_at"`
	BeatAt     time.Time       `db:"beat_at"`

	Found []SurveyPlace `db:"-"` // of a survey that is done
}

// Asked is what was asked for.
func (t Task) Asked() (contract.Ask, error) {
	var a contract.Ask
	return a, json.Unmarshal(t.Ask, &a)
}

// Table is the table of a sort of task.
type Table string

// The sorts of task.
const (
	Surveys Table = "surveys"
	Plans   Table = "plans"
)

// AddTask notes a survey or plan of a ground's newest revision, queued or running; passwords are left out
// of what is kept.
func (s *Store) AddTask(ctx context.Context, to sqlx.QueryerContext, table Table, g Ground, ask contract.Ask, by, state string) (Task, error) {
	ask.SudoPasswords = nil
	t := Task{Ground: g.Name}
	err := sqlx.GetContext(ctx, to, &t, "INSERT INTO "+string(table)+" (ground_id, revision, ask, made_by, state) VALUES ($1, $2, $3, $4, $5) RETURNING id, ground_id, revision, state, ask, made_by, created_at", g.ID, g.Newest, wire.JSON(ask), by, state)
	return t, err
}

// Task finds a survey or plan; a survey that is done with its places.
func (s *Store) Task(ctx context.Context, table Table, id int64) (Task, error) {
	if table == Surveys {
		return s.survey(ctx, id)
	}
	var t Task
	err := s.DB.GetContext(ctx, &t, "SELECT t.*, g.name AS ground FROM "+string(table)+" t JOIN grounds g ON g.id = t.ground_id WHERE t.id = $1", id)
	return t, notFound(err)
}

// TaskState is the state of a survey or plan.
func (s *Store) TaskState(ctx context.Context, table Table, id int64) (string, error) {
	var state string
	err := s.DB.GetContext(ctx, &state, "SELECT state FROM "+string(table)+" WHERE id = $1", id)
	return state, notFound(err)
}

// Tasks lists a ground's surveys or plans without their places, the newest first.
func (s *Store) Tasks(ctx context.Context, table Table, groundID int64, limit int) ([]Task, error) {
	var out []Task
	err := s.DB.SelectContext(ctx, &out, "SELECT id, ground_id, revision, state, ask, error, steps, blockers, unread, made_by, created_at, finished_at FROM "+string(table)+" WHERE ground_id = $1 ORDER BY id DESC LIMIT $2", groundID, limit)
	return out, err
}

// ended is what the last event of a stream says.
type ended struct {
	State string `json:"state"`
}

// FinishTask notes the end of a survey or plan that has not ended and announces it. The places of a survey
// stand in its record already.
func (s *Store) FinishTask(ctx context.Context, table Table, t Task) error {
	args := []any{t.ID, t.State, t.Error, t.Steps, t.Blockers, t.Unread, Topic(string(table), t.ID), wire.JSON(ended{t.State})}
	places := ""
	if table == Plans {
		places = ", places = $9"
		args = append(args, t.Places)
	}
	_, err := s.Quick.ExecContext(ctx, `WITH ended AS (UPDATE `+string(table)+` SET state = $2, error = $3, steps = $4, blockers = $5, unread = $6, finished_at = now()`+places+`
			WHERE id = $1 AND state IN ('queued', 'running') RETURNING 1)
		INSERT INTO events (topic, kind, data) SELECT $7, 'end', $8 FROM ended`, args...)
	if err == nil {
		s.over(Topic(string(table), t.ID))
	}
	return err
}

// Run is a run's record.
type Run struct {
	ID         int64      `db:"id"`
	GroundID   int64      `db:"ground_id"`
	PlanID     int64      `db:"plan_id"`
	State      string     `db:"state"`
	By         string     `db:"made_by"`
	Owner      string     `db:"owner"`
	Once       string     `db:"once"`         // what no other run has
	Cancelled  string     `db:"cancelled_by"` // who has, "" for nobody
	Error      string     `db:"error"`        // why it could not be begun, or carried to its end
	BeatAt     time.Time  `db:"beat_at"`
	CreatedAt  time.Time  `db:"created_at"`
	FinishedAt *time.Time `db:"finished_at"`
}

// AddRun notes a run of a plan, with a record for each place.
func (s *Store) AddRun(ctx context.Context, tx *sqlx.Tx, groundID, planID int64, by string, places []contract.RunPlace) (Run, error) {
	var r Run
	if err := tx.GetContext(ctx, &r, "INSERT INTO runs (ground_id, plan_id, made_by) VALUES ($1, $2, $3) RETURNING *", groundID, planID, by); err != nil {
		return r, err
	}
	for _, p := range places {
		if _, err := tx.ExecContext(ctx, "INSERT INTO run_places (run_id, place, doc) VALUES ($1, $2, $3)", r.ID, p.Place, wire.JSON(p)); err != nil {
			return r, err
		}
	}
	return r, nil
}

// Run finds a run.
func (s *Store) Run(ctx context.Context, id int64) (Run, error) {
	var r Run
	err := s.DB.GetContext(ctx, &r, "SELECT * FROM runs WHERE id = $1", id)
	return r, notFound(err)
}

// Runs lists a ground's runs, the newest first.
func (s *Store) Runs(ctx context.Context, groundID int64, limit int) ([]Run, error) {
	var out []Run
	err := s.DB.SelectContext(ctx, &out, "SELECT * FROM runs WHERE ground_id = $1 ORDER BY id DESC LIMIT $2", groundID, limit)
	return out, err
}

// RunOfPlan is the newest run of a plan, 0 for none.
func (s *Store) RunOfPlan(ctx context.Context, planID int64) (int64, error) {
	var id int64
	err := s.DB.GetContext(ctx, &id, "SELECT coalesce(max(id), 0) FROM runs WHERE plan_id = $1", planID)
	return id, err
}

// FirstRun holds a plan until the transaction ends, and is the run that it has already, 0 for none:
// of two who ask for a run at once, the second one finds that of the first.
func (s *Store) FirstRun(ctx context.Context, tx *sqlx.Tx, planID int64) (int64, error) {
	if _, err := tx.ExecContext(ctx, "SELECT FROM plans WHERE id = $1 FOR UPDATE", planID); err != nil {
		return 0, err
	}
	var id int64
	err := tx.GetContext(ctx, &id, "SELECT coalesce(max(id), 0) FROM runs WHERE plan_id = $1", planID)
	return id, err
}

// RunPlaces returns the records of a run's places by name.
func (s *Store) RunPlaces(ctx context.Context, run int64) ([]contract.RunPlace, error) {
	var docs []json.RawMessage
	if err := s.DB.SelectContext(ctx, &docs, "SELECT doc FROM run_places WHERE run_id = $1 ORDER BY place", run); err != nil {
		return nil, err
	}
	out := []contract.RunPlace{}
	for _, d := range docs {
		var p contract.RunPlace
		if err := json.Unmarshal(d, &p); err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

// PutRunPlace notes how a place of a run stands and announces what of it is news.
func (s *Store) PutRunPlace(ctx context.Context, run int64, p, news contract.RunPlace) error {
	return s.Persist(ctx, func() error {
		return s.Tx(ctx, func(tx *sqlx.Tx) error { return s.PutRunPlaceIn(ctx, tx, run, p, news) })
	})
}

// PutRunPlaceIn is PutRunPlace in a transaction.
func (s *Store) PutRunPlaceIn(ctx context.Context, tx *sqlx.Tx, run int64, p, news contract.RunPlace) error {
	if _, err := tx.ExecContext(ctx, "UPDATE run_places SET doc = $3 WHERE run_id = $1 AND place = $2", run, p.Place, wire.JSON(p)); err != nil {
		return err
	}
	return s.AddEvent(ctx, tx, Topic("runs", run), "host", wire.JSON(news))
}

// ClaimRun makes a replica the owner of a run that nobody works on: one that is
// queued, or whose owner has not been heard of for silence.
func (s *Store) ClaimRun(ctx context.Context, id int64, owner string, silence time.Duration) (bool, error) {
	err := s.one(ctx, `UPDATE runs SET owner = $2, beat_at = now(), state = 'running', finished_at = NULL
		WHERE id = $1 AND (state = 'queued' OR (state = 'running' AND beat_at < now() - make_interval(secs => $3)))`, id, owner, silence.Seconds())
	if err == ErrNotFound {
		return false, nil
	}
	return err == nil, err
}

// Beat notes that the owner of a run still works on it; false says that it is another's by now.
// Cancelled is who has cancelled the run, "" for nobody.
func (s *Store) Beat(ctx context.Context, id int64, owner string) (mine bool, cancelled string, err error) {
	err = s.DB.GetContext(ctx, &cancelled, "UPDATE runs SET beat_at = now() WHERE id = $1 AND owner = $2 RETURNING cancelled_by", id, owner)
	if notFound(err) == ErrNotFound {
		return false, "", nil
	}
	return true, cancelled, err
}

// CancelRun notes that somebody has cancelled a run that has not ended, and announces it; false says
// that it has ended. One that nobody has begun ends with it.
func (s *Store) CancelRun(ctx context.Context, id int64, by string) (bool, error) {
	open := true
	err := s.Persist(ctx, func() error {
		return s.Tx(ctx, func(tx *sqlx.Tx) error {
			r, err := tx.ExecContext(ctx, "UPDATE runs SET cancelled_by = $2 WHERE id = $1 AND state IN ('queued', 'running') AND cancelled_by = ''", id, by)
			if err != nil {
				return err
			}
			if n, err := r.RowsAffected(); err != nil || n == 0 {
				return errors.Join(err, tx.GetContext(ctx, &open, "SELECT state IN ('queued', 'running') FROM runs WHERE id = $1", id))
			}
			if err := s.AddEvent(ctx, tx, Topic("runs", id), "cancelled", wire.JSON(map[string]string{"by": by})); err != nil {
				return err
			}
			r, err = tx.ExecContext(ctx, "UPDATE runs SET state = 'cancelled', finished_at = now() WHERE id = $1 AND state = 'queued'", id)
			if err != nil {
				return err
			}
			if n, err := r.RowsAffected(); err != nil || n == 0 {
				return err
			}
			return s.AddEvent(ctx, tx, Topic("runs", id), "end", wire.JSON(ended{"cancelled"}))
		})
	})
	return open, err
}

// ServiceID names the service whose records these are, whichever replica asks.
func (s *Store) ServiceID(ctx context.Context) (string, error) {
	var id string
	err := s.DB.GetContext(ctx, &id, "SELECT id FROM service")
	return id, err
}

// ReleaseRuns lets go of the runs of a replica that is ending in order.
func (s *Store) ReleaseRuns(ctx context.Context, owner string) error {
	_, err := s.DB.ExecContext(ctx, "UPDATE runs SET beat_at = 'epoch' WHERE owner = $1 AND state = 'running'", owner)
	return err
}

// FinishRun notes the end of a run that this owner works on, and why where it could not go on; who
// owns it no more writes nothing.
func (s *Store) FinishRun(ctx context.Context, id int64, owner, state, why string) error {
	return s.Persist(ctx, func() error {
		return s.Tx(ctx, func(tx *sqlx.Tx) error {
			r, err := tx.ExecContext(ctx, "UPDATE runs SET state = $2, error = $4, finished_at = now() WHERE id = $1 AND owner = $3 AND state = 'running'", id, state, owner, why)
			if err != nil {
				return err
			}
			if n, err := r.RowsAffected(); err != nil || n == 0 {
				return err
			}
			return s.AddEvent(ctx, tx, Topic("runs", id), "end", wire.JSON(ended{state}))
		})
	})
}

// Access is what is needed to get to a place, in one answer: encrypted secrets by
// name, a host's trusted keys, and the version of what is remembered of it.
type Access struct {
	Secrets map[string][]byte
	Keys    []reach.HostKey
	Version int64
	Kept    string // changes when any secret does
}

// Access reads what is needed to get to a place.
func (s *Store) Access(ctx context.Context, groundID int64, place string, secrets []string) (Access, error) {
	var row struct {
		Secrets json.RawMessage `db:"secrets"`
		Keys    json.RawMessage `db:"keys"`
		Version int64           `db:"version"`
		Kept    string          `db:"kept"`
	}
	err := s.DB.GetContext(ctx, &row, `SELECT
		(SELECT coalesce(json_object_agg(name, encode(sealed, 'base64')), '{}') FROM secrets WHERE name = ANY($3)) AS secrets,
		(SELECT coalesce(json_agg(json_build_object('type', type, 'fingerprint', fingerprint, 'key', key) ORDER BY type), '[]') FROM host_keys WHERE ground_id = $1 AND host = $2) AS keys,
		coalesce((SELECT version FROM places WHERE ground_id = $1 AND place = $2), 0) AS version,
		(SELECT count(*) || ' ' || coalesce(max(updated_at)::text, '') FROM secrets) AS kept`, groundID, place, secrets)
	if err != nil {
		return Access{}, err
	}
	out := Access{Version: row.Version, Kept: row.Kept, Secrets: map[string][]byte{}}
	if err := json.Unmarshal(row.Keys, &out.Keys); err != nil {
		return out, err
	}
	encoded := map[string]string{}
	if err := json.Unmarshal(row.Secrets, &encoded); err != nil {
		return out, err
	}
	for name, v := range encoded {
		if out.Secrets[name], err = base64.StdEncoding.DecodeString(strings.ReplaceAll(v, "\n", "")); err != nil {
			return out, err
		}
	}
	return out, nil
}

// QueueRun makes an ended run one that is waiting again; false says that it has not ended.
func (s *Store) QueueRun(ctx context.Context, tx *sqlx.Tx, id int64) (bool, error) {
	r, err := tx.ExecContext(ctx, "UPDATE runs SET state = 'queued', finished_at = NULL, cancelled_by = '', error = '', beat_at = now() WHERE id = $1 AND state NOT IN ('queued', 'running')", id)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

// LostRuns lists runs whose owner has not been heard of for silence.
func (s *Store) LostRuns(ctx context.Context, silence time.Duration) ([]int64, error) {
	var out []int64
	err := s.DB.SelectContext(ctx, &out, "SELECT id FROM runs WHERE state = 'running' AND beat_at < now() - make_interval(secs => $1)", silence.Seconds())
	return out, err
}

// BeatTask notes that a survey or plan is worked on.
func (s *Store) BeatTask(ctx context.Context, table Table, id int64) error {
	_, err := s.Quick.ExecContext(ctx, "UPDATE "+string(table)+" SET state = 'running', beat_at = now() WHERE id = $1 AND state IN ('queued', 'running')", id)
	return err
}

// unasked is how long a survey or a plan may wait for somebody to begin it.
const unasked = "1 hour"

// ServiceEnded is why a survey or plan has failed that the end of a service cut off.
const ServiceEnded = "the service ended while it was being made; ask for it again"

// FailLostTasks ends surveys and plans of which nothing has been heard for silence, and announces
// it; those that nobody has begun, and runs that nobody has, wait for longer.
func (s *Store) FailLostTasks(ctx context.Context, silence time.Duration) error {
	_, err := s.DB.ExecContext(ctx, `WITH lost AS (UPDATE runs SET state = 'failed', error = 'no replica of the service has begun it', finished_at = now()
		WHERE state = 'queued' AND beat_at < now() - interval '`+unasked+`' RETURNING id)
		INSERT INTO events (topic, kind, data) SELECT 'runs/' || id, 'end', $1 FROM lost ORDER BY id`, wire.JSON(ended{"failed"}))
	if err != nil {
		return err
	}
	for _, table := range []Table{Surveys, Plans} {
		_, err := s.DB.ExecContext(ctx, `WITH lost AS (UPDATE `+string(table)+` SET state = 'failed', error = '`+ServiceEnded+`', finished_at = now()
			WHERE state = 'running' AND beat_at < now() - make_interval(secs => $1) OR state = 'queued' AND created_at < now() - interval '`+unasked+`' RETURNING id)
			INSERT INTO events (topic, kind, data) SELECT $2 || '/' || id, 'end', $3 FROM lost ORDER BY id`, silence.Seconds(), string(table), wire.JSON(ended{"failed"}))
		if err != nil {
			return err
		}
	}
	return nil
}

// SurveyPlace is how a survey found a place: a document, and the rows that belong to it, null where
// they stand in the document.
type SurveyPlace struct {
	Doc  json.RawMessage `db:"doc"`
	Rows json.RawMessage `db:"rows"`
}

// survey reads a survey, and its places by their names where it is done, in one.
func (s *Store) survey(ctx context.Context, id int64) (Task, error) {
	var list []struct {
		Task
		SurveyPlace
	}
	err := s.DB.SelectContext(ctx, &list, `SELECT t.*, g.name AS ground, coalesce(p.doc, 'null') AS doc, coalesce(r.rows, 'null') AS rows FROM surveys t JOIN grounds g ON g.id = t.ground_id
		LEFT JOIN survey_places p ON p.survey_id = t.id AND t.state = 'done' LEFT JOIN readings r ON r.sum = p.rows_sum WHERE t.id = $1 ORDER BY p.place`, id)
	if err != nil || len(list) == 0 {
		return Task{}, cmp.Or(err, ErrNotFound)
	}
	t := list[0].Task
	for _, one := range list {
		if string(one.Doc) != "null" {
			t.Found = append(t.Found, one.SurveyPlace)
		}
	}
	return t, nil
}
