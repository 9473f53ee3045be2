package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"northstake/core/declare"
	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/host/reach"
	"northstake/lab"
	"northstake/service/contract"
)

// The tests share a PostgreSQL cluster of their own; each uses grounds of its own.
var url string

func TestMain(m *testing.M) {
	os.Exit(lab.WithPostgres(func(address string) int {
		url = address
		return m.Run()
	}))
}

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(context.Background(), url, 10*time.Second, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

var ctx = context.Background()

// within waits until something is so, for ten seconds.
func within(t *testing.T, what string, so func() bool) {
	t.Helper()
	for deadline := time.Now().Add(10 * time.Second); !so(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("not so within ten seconds: %s", what)
		}
	}
}

// Replicas that start together bring one database up to date, all of them.
func TestReplicasStartTogether(t *testing.T) {
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			s, err := Open(ctx, url, 10*time.Second, slog.New(slog.DiscardHandler))
			if err != nil {
				t.Error(err)
				return
			}
			s.Close()
		})
	}
	wg.Wait()
}

const declaration = "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.a]\naddress = \"10.0.0.1\"\n"

func ground(t *testing.T, s *Store, name string) Ground {
	t.Helper()
	if _, _, err := s.AddRevision(ctx, name, []declare.Source{{Name: "g.toml", Text: declaration}}, &declare.Manifest{}, "admin"); err != nil {
		t.Fatal(err)
	}
	g, err := s.Ground(ctx, name)
	if err != nil {
		t.Fatal(err)
	}
	return g
}

func TestRevisionsAreNumberedAndNeverDoubled(t *testing.T) {
	s := open(t)
	g := ground(t, s, "revisions")
	add := func(text string) (int, bool) {
		r, fresh, err := s.AddRevision(ctx, "revisions", []declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{}, "admin")
		if err != nil {
			t.Fatal(err)
		}
		return r.Number, fresh
	}
	if n, fresh := add(declaration); n != 1 || fresh {
		t.Errorf("the same declaration is revision %d, new %t", n, fresh)
	}
	if n, fresh := add(declaration + "# more\n"); n != 2 || !fresh {
		t.Errorf("another is revision %d, new %t", n, fresh)
	}
	if n, fresh := add(declaration); n != 3 || !fresh {
		t.Errorf("going back is revision %d, new %t", n, fresh)
	}
	r, err := s.Revision(ctx, g.ID, 1)
	if err != nil {
		t.Fatal(err)
	}
	d, _, err := r.Declaration()
	if err != nil || d.Hosts["a"] == nil || d.At("host", "a").Line != 6 {
		t.Errorf("read back: %+v, %v", d, err)
	}
	if _, err := s.Revision(ctx, g.ID, 9); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
	if _, err := s.Ground(ctx, "nowhere"); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
}

// What an earlier release kept is read in the words of its time; what is kept now, in those of now.
func TestRevisionsAreReadInTheirOwnWords(t *testing.T) {
	s := open(t)
	g := ground(t, s, "words")
	text := strings.ReplaceAll(declaration, "key_secret", "key") + "[host.a.services.cron]\nrunning = true\n"
	if _, _, err := s.AddRevision(ctx, "words", []declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{}, "admin"); err != nil {
		t.Fatal(err)
	}
	r, err := s.Revision(ctx, g.ID, 0)
	if err != nil || r.Words != declare.Words {
		t.Fatalf("it is kept in words %d: %v", r.Words, err)
	}
	if _, problems, err := r.Declaration(); err != nil || len(problems) == 0 || !strings.Contains(problems.Error(), "key is written key_secret now") {
		t.Errorf("former words in a revision of now: %v", err)
	}
	// As the release before wrote it: the column is filled by the migration.
	if _, err := s.DB.ExecContext(ctx, "UPDATE revisions SET words = DEFAULT WHERE ground_id = $1 AND number = $2", g.ID, r.Number); err != nil {
		t.Fatal(err)
	}
	if r, err = s.Revision(ctx, g.ID, 0); err != nil {
		t.Fatal(err)
	}
	d, _, err := r.Declaration()
	if err != nil || d.ReachOf("a").KeySecret != "k" {
		t.Fatalf("a revision of before: %v", err)
	}
	if line := d.LineOf(d.At("host", "a", "service", "cron")); line != "[host.a.services.cron]" {
		t.Errorf("it is shown as %q", line)
	}
}

// What a run of an earlier release found absent, by its plan, is known to have been brought about where
// nothing was; what is not told so is not, and lists of that time may be empty in every way.
func TestWhatEarlierReleasesFoundAbsent(t *testing.T) {
	s := open(t)
	g := ground(t, s, "fresh")
	exec := func(query string, args ...any) {
		t.Helper()
		if _, err := s.DB.ExecContext(ctx, query, args...); err != nil {
			t.Fatal(err)
		}
	}
	p, err := s.versions()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.DownTo(ctx, 6); err != nil {
		t.Fatal(err)
	}
	row := func(name, found string) string {
		return fmt.Sprintf(`{"address":"a/%s","differences":[{"attribute":"what it is","wanted":"x","found":%q}]}`, name, found)
	}
	run := func(id int, hosts, doc string) {
		exec("INSERT INTO plans (id, ground_id, revision, ask, hosts, made_by) OVERRIDING SYSTEM VALUE VALUES ($1, $2, 1, '{}', $3, 'admin')", 9000+id, g.ID, hosts)
		exec("INSERT INTO runs (id, ground_id, plan_id, made_by, state) OVERRIDING SYSTEM VALUE VALUES ($1, $2, $1, 'admin', 'done')", 9000+id, g.ID)
		exec("INSERT INTO run_hosts (run_id, host, doc) VALUES ($1, 'a', $2)", 9000+id, doc)
	}
	steps := func(names ...string) string {
		var out []string
		for i, n := range names {
			out = append(out, fmt.Sprintf(`{"number":%d,"address":"a/%s"}`, i+1, n))
		}
		return strings.Join(out, ",")
	}
	run(1, `[{"host":"a","rows":[`+row("file/etc/new", "nothing")+","+row("file/etc/there", "different")+","+row("package/tree", "absent")+","+row("package/curl", "absent")+","+row("file/etc/failed", "nothing")+`],
		"steps":[{"number":1,"address":"a/package/tree","also":["a/package/curl"]},{"number":2,"address":"a/file/etc/new","also":null},{"number":3,"address":"a/file/etc/there"},{"number":4,"address":"a/file/etc/failed"}]}]`,
		`{"steps":[{"number":1,"state":"done"},{"number":2,"state":"done"},{"number":3,"state":"done"},{"number":4,"state":"failed"}]}`)
	run(2, `[{"host":"a","rows":[`+row("file/etc/there", "nothing")+`],"steps":[`+steps("file/etc/there")+`]}]`, `{"steps":[{"number":1,"state":"done"}]}`) // it went, and came back
	run(3, `[{"host":"a","rows":null,"steps":null},{"host":"b"}]`, `{"steps":null}`)
	run(4, `null`, `{}`)
	applied := map[string]string{}
	for _, n := range []string{"file/etc/new", "file/etc/there", "package/tree", "package/curl", "file/etc/failed", "file/etc/found"} {
		applied[n] = fmt.Sprintf(`{"type":"x","name":"y","made":%t}`, n != "file/etc/found")
	}
	var text []string
	for n, a := range applied {
		text = append(text, fmt.Sprintf("%q:%s", n, a))
	}
	exec("INSERT INTO hosts (ground_id, host, applied) VALUES ($1, 'a', $2), ($1, 'empty', '{}')", g.ID, "{"+strings.Join(text, ",")+"}")
	if err := s.migrate(ctx); err != nil {
		t.Fatal(err)
	}
	got, _, err := s.Applied(ctx, g.ID, "a")
	if err != nil || len(got) != len(applied) {
		t.Fatalf("%+v, %v", got, err)
	}
	for n, a := range got {
		if want := n == "file/etc/new" || n == "package/tree" || n == "package/curl"; a.Fresh != want {
			t.Errorf("%s was brought about where nothing was: %t", n, a.Fresh)
		}
	}
}

func TestContentIsStoredOnceUnderItsSum(t *testing.T) {
	s := open(t)
	sum := sha256.Sum256([]byte("tide"))
	name := hex.EncodeToString(sum[:])
	if err := s.PutBlob(ctx, name, []byte("ebb")); err == nil {
		t.Error("other bytes are stored")
	}
	for range 2 {
		if err := s.PutBlob(ctx, name, []byte("tide")); err != nil {
			t.Fatal(err)
		}
	}
	missing, err := s.MissingBlobs(ctx, []string{name, "00", "00"})
	if err != nil || fmt.Sprint(missing) != "[00]" {
		t.Errorf("%v, %v", missing, err)
	}
	other := sha256.Sum256([]byte("ebb"))
	if err := s.PutBlob(ctx, hex.EncodeToString(other[:]), []byte("ebb")); err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	take := func(sum string, b []byte) error {
		got[sum] = string(b)
		return nil
	}
	if err := s.Blobs(ctx, []string{name, hex.EncodeToString(other[:])}, take); err != nil || got[name] != "tide" || len(got) != 2 {
		t.Errorf("%q, %v", got, err)
	}
	if err := s.Blobs(ctx, []string{name, "00"}, take); !errors.Is(err, ErrNotFound) {
		t.Errorf("a piece that is not there: %v", err)
	}
}

func TestAccessHasAllThatIsNeeded(t *testing.T) {
	s := open(t)
	g := ground(t, s, "access")
	long := make([]byte, 500) // PostgreSQL breaks long base64 into lines
	for i := range long {
		long[i] = byte(i)
	}
	if err := s.KeepSecret(ctx, "access-key", long); err != nil {
		t.Fatal(err)
	}
	keys := []reach.HostKey{{Type: "ssh-ed25519", Fingerprint: "SHA256:a", Key: "ssh-ed25519 A"}, {Type: "ssh-rsa", Fingerprint: "SHA256:b", Key: "ssh-rsa B"}}
	if err := s.Trust(ctx, g.ID, "a", keys, "admin"); err != nil {
		t.Fatal(err)
	}
	got, err := s.Access(ctx, g.ID, "a", []string{"access-key", "not-there"})
	if err != nil || string(got.Secrets["access-key"]) != string(long) || len(got.Secrets) != 1 || fmt.Sprint(got.Keys) != fmt.Sprint(keys) || got.Version != 0 {
		t.Errorf("%+v, %v", got, err)
	}
	if host, err := s.KeyOwner(ctx, g.ID, "SHA256:b"); err != nil || host != "a" {
		t.Errorf("%q, %v", host, err)
	}
	if err := s.Trust(ctx, g.ID, "a", keys[:1], "admin"); err != nil {
		t.Fatal(err)
	}
	if host, err := s.KeyOwner(ctx, g.ID, "SHA256:b"); err != nil || host != "" {
		t.Errorf("a key that is no longer trusted belongs to %q, %v", host, err)
	}
}

// Of two that remember something about a host at once, the later one does not
// undo the earlier.
func TestWhatIsRememberedIsNotOverwrittenBlindly(t *testing.T) {
	s := open(t)
	g := ground(t, s, "applied")
	one := map[string]plan.Applied{"package/curl": {Type: "package", Name: "curl", Want: []byte(`{"name": "curl"}`)}}
	v, err := s.PutApplied(ctx, g.ID, "a", 0, one)
	if err != nil || v != 1 {
		t.Fatalf("version %d, %v", v, err)
	}
	if late, err := s.PutApplied(ctx, g.ID, "a", 0, nil); err != nil || late != 0 {
		t.Errorf("a late one gets version %d, %v", late, err)
	}
	got, v, err := s.Applied(ctx, g.ID, "a")
	if err != nil || v != 1 || got["package/curl"].Name != "curl" {
		t.Errorf("%+v, %d, %v", got, v, err)
	}
}

// An unread host keeps what was last seen of it.
func TestAnUnreadHostKeepsWhatWasSeen(t *testing.T) {
	s := open(t)
	g := ground(t, s, "seen")
	put := func(h PlaceState) {
		t.Helper()
		if err := s.PutPlaceState(ctx, g.ID, h, Said{}); err != nil {
			t.Fatal(err)
		}
	}
	put(PlaceState{Place: "a", Revision: 1, Traits: []byte(`{"system":"Debian"}`), Rows: []byte(`[{"address":"a/x"}]`)})
	put(PlaceState{Place: "a", Revision: 1, Unread: "no route", Traits: []byte("null"), Rows: []byte("[]")})
	states, err := s.PlaceStates(ctx, g.ID)
	if h := states["a"]; err != nil || h.Unread != "no route" || string(h.Rows) != `[{"address":"a/x"}]` || h.SeenAt == nil {
		t.Errorf("%+v, %v", h, err)
	}
}

// How a host was seen and the news of it go together, once each, whether or not
// its rows are as they were; a survey's hosts are those of its stream.
func TestAHostIsSeenAndAnnouncedInOne(t *testing.T) {
	s := open(t)
	g := ground(t, s, "announced")
	var survey Task
	err := s.Tx(ctx, func(tx *sqlx.Tx) (err error) {
		survey, err = s.AddTask(ctx, tx, Surveys, g, contract.Ask{}, "admin", "queued")
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	topic := Topic("surveys", survey.ID)
	for i, h := range []PlaceState{
		{Place: "a", Revision: 1, Traits: []byte(`{"n":1}`), Rows: []byte(`[1]`)},
		{Place: "a", Revision: 1, Traits: []byte(`{"n":2}`), Rows: []byte(`[1]`)}, // rows as they were
		{Place: "a", Revision: 1, Traits: []byte(`{"n":3}`), Rows: []byte(`[2]`)},
		{Place: "a", Revision: 1, Unread: "no route", Traits: []byte("null"), Rows: []byte("[]")},
		{Place: "a", Revision: 1, Traits: []byte(`{"n":5}`), Rows: []byte(`[2]`)},
	} {
		if err := s.PutPlaceState(ctx, g.ID, h, Said{Topic: topic, Data: wire.JSON(i)}); err != nil {
			t.Fatal(err)
		}
		if events, err := s.Events(ctx, topic, 0); err != nil || len(events) != i+1 || string(events[i].Data) != fmt.Sprint(i) {
			t.Errorf("after %d: %+v, %v", i, events, err)
		}
		states, err := s.PlaceStates(ctx, g.ID)
		if err != nil {
			t.Fatal(err)
		}
		now := states["a"]
		if now.Unread != h.Unread || h.Unread == "" && (string(now.Rows) != string(h.Rows) || string(now.Traits) != string(h.Traits)) {
			t.Errorf("after %d: %+v", i, now)
		}
	}
	survey.State = "done"
	if err := s.FinishTask(ctx, Surveys, survey); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Task(ctx, Surveys, survey.ID); err != nil || got.Ground != g.Name || got.State != "done" {
		t.Errorf("%+v, %v", got, err)
	}
	if events, err := s.Events(ctx, topic, 0); err != nil || len(events) != 6 || events[5].Kind != "end" || string(events[5].Data) != `{"state":"done"}` {
		t.Errorf("%+v, %v", events, err)
	}
}

// The news of a survey's last host ends the survey as well, after that news, however the host was
// found; that of another survey goes on.
func TestTheLastHostEndsItsSurvey(t *testing.T) {
	s := open(t)
	g := ground(t, s, "ended")
	add := func() (task Task) {
		t.Helper()
		err := s.Tx(ctx, func(tx *sqlx.Tx) (err error) {
			task, err = s.AddTask(ctx, tx, Surveys, g, contract.Ask{}, "admin", "queued")
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
		return task
	}
	other := add()
	for _, h := range []PlaceState{
		{Place: "a", Revision: 1, Traits: []byte(`{"n":1}`), Rows: []byte(`[1]`)},
		{Place: "a", Revision: 1, Traits: []byte(`{"n":2}`), Rows: []byte(`[1]`)}, // rows as they were
		{Place: "a", Revision: 1, Traits: []byte(`{"n":3}`), Rows: []byte(`[2]`)},
		{Place: "a", Revision: 1, Unread: "no route", Traits: []byte("null"), Rows: []byte("[]")},
	} {
		survey := add()
		topic := Topic("surveys", survey.ID)
		if err := s.PutPlaceState(ctx, g.ID, h, Said{Topic: topic, Data: []byte(`"seen"`), Survey: survey.ID, Ends: true}); err != nil {
			t.Fatal(err)
		}
		events, err := s.Events(ctx, topic, 0)
		if err != nil || len(events) != 2 || events[0].Kind+string(events[0].Data) != `host"seen"` || events[1].Kind+string(events[1].Data) != `end{"state":"done"}` {
			t.Errorf("%+v: the stream holds %+v, %v", h, events, err)
		}
		if got, err := s.Task(ctx, Surveys, survey.ID); err != nil || got.State != "done" || got.FinishedAt == nil {
			t.Errorf("%+v: the survey is %+v, %v", h, got, err)
		}
	}
	if got, err := s.Task(ctx, Surveys, other.ID); err != nil || got.State != other.State || got.FinishedAt != nil {
		t.Errorf("another survey is %+v, %v", got, err)
	}
}

// A run is worked on by one replica at a time, and by another once that one has
// fallen silent.
func TestARunIsClaimedOnce(t *testing.T) {
	s := open(t)
	g := ground(t, s, "claims")
	var r Run
	err := s.Tx(ctx, func(tx *sqlx.Tx) error {
		p, err := s.AddTask(ctx, tx, Plans, g, contract.Ask{SudoPasswords: contract.SudoPasswords{"a": "secret"}}, "admin", "queued")
		if err != nil {
			return err
		}
		if string(p.Ask) != "{}" {
			t.Errorf("what was asked is kept as %s", p.Ask)
		}
		r, err = s.AddRun(ctx, tx, g.ID, p.ID, "admin", []contract.RunPlace{{Place: "a", State: "waiting"}})
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	claim := func(owner string, silence time.Duration) bool {
		ok, err := s.ClaimRun(ctx, r.ID, owner, silence)
		if err != nil {
			t.Fatal(err)
		}
		return ok
	}
	if !claim("one", time.Hour) || claim("two", time.Hour) {
		t.Error("two replicas have one run")
	}
	within(t, "a silent replica's run is lost", func() bool {
		lost, err := s.LostRuns(ctx, 50*time.Millisecond)
		return err == nil && len(lost) == 1
	})
	if mine, _, err := s.Beat(ctx, r.ID, "other"); err != nil || mine {
		t.Errorf("a beat of one that it does not belong to: %t, %v", mine, err)
	}
	if mine, by, err := s.Beat(ctx, r.ID, "one"); err != nil || !mine || by != "" {
		t.Fatal(mine, by, err)
	}
	// Whoever cancels it first has, and its owner is told with the next beat.
	for _, by := range []string{"keeper", "warden"} {
		if open, err := s.CancelRun(ctx, r.ID, by); err != nil || !open {
			t.Fatal(open, err)
		}
	}
	if _, by, err := s.Beat(ctx, r.ID, "one"); err != nil || by != "keeper" {
		t.Errorf("it was cancelled by %q, %v", by, err)
	}
	if claim("two", time.Second) {
		t.Error("a run is taken from a replica that is there")
	}
	if err := s.ReleaseRuns(ctx, "one"); err != nil {
		t.Fatal(err)
	}
	if !claim("two", time.Hour) {
		t.Error("a run that was let go of cannot be taken")
	}
	if err := s.FinishRun(ctx, r.ID, "two", "done", ""); err != nil {
		t.Fatal(err)
	}
	if claim("three", 0) {
		t.Error("an ended run can be taken")
	}
}

// Who waits for a survey or plan in the process that makes it hears of its end once it can be read, without
// the word of the database.
func TestWhatEndsHereIsHeardAtOnce(t *testing.T) {
	s := open(t)
	g := ground(t, s, "at-once")
	bell := NewBell(s, slog.New(slog.DiscardHandler)) // and it never listens to the database
	for name, end := range map[string]func(Task) error{
		"finished": func(task Task) error {
			task.State = "done"
			return s.FinishTask(ctx, Surveys, task)
		},
		"its last host": func(task Task) error {
			return s.PutPlaceState(ctx, g.ID, PlaceState{Place: "h", Revision: 1, Traits: []byte("null"), Rows: []byte("[]")}, Said{Topic: Topic("surveys", task.ID), Survey: task.ID, Data: []byte(`{"host":"h"}`), Ends: true})
		},
	} {
		var task Task
		if err := s.Tx(ctx, func(tx *sqlx.Tx) (err error) {
			task, err = s.AddTask(ctx, tx, Surveys, g, contract.Ask{}, "admin", "running")
			return err
		}); err != nil {
			t.Fatal(err)
		}
		news, stop := bell.Listen(Topic("surveys", task.ID))
		defer stop()
		other, stopOther := bell.Listen(Topic("plans", task.ID))
		defer stopOther()
		if err := end(task); err != nil {
			t.Fatal(err)
		}
		if len(news) != 1 || len(other) != 0 {
			t.Errorf("%s: it is heard of %d times, and by others %d", name, len(news), len(other))
		}
		if got, err := s.Task(ctx, Surveys, task.ID); err != nil || got.State != "done" {
			t.Errorf("%s: it is %s: %v", name, got.State, err)
		}
	}
}

// Whoever listens hears of an event after it can be read.
func TestEventsAreHeard(t *testing.T) {
	s := open(t)
	bell := NewBell(s, slog.New(slog.DiscardHandler))
	limited, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	id := time.Now().UnixNano()
	topic := Topic("runs", id)
	news, stop := bell.Listen(topic)
	defer stop()
	other, stopOther := bell.Listen(Topic("runs", id+1))
	defer stopOther()
	go bell.Run(limited)
	select { // the first ring says that listening has begun
	case <-news:
	case <-limited.Done():
		t.Fatal("listening never begins")
	}
	<-other
	if err := s.AddEvent(ctx, s.DB, topic, "host", []byte(`{"n":1}`)); err != nil {
		t.Fatal(err)
	}
	select {
	case <-news:
	case <-limited.Done():
		t.Fatal("the event is not heard of")
	}
	events, err := s.Events(ctx, topic, 0)
	if err != nil || len(events) != 1 || events[0].Kind != "host" {
		t.Fatalf("%+v, %v", events, err)
	}
	if again, err := s.Events(ctx, topic, events[0].ID); err != nil || len(again) != 0 {
		t.Errorf("after it: %+v, %v", again, err)
	}
	select {
	case <-other:
		t.Error("another stream's listener was rung")
	default:
	}
}

func TestTokensEnd(t *testing.T) {
	s := open(t)
	if err := s.AddToken(ctx, "deckhand", []byte("hash-1"), 0); err != nil {
		t.Fatal(err)
	}
	if err := s.AddToken(ctx, "deckhand", []byte("hash-2"), time.Hour); err != nil {
		t.Fatal(err)
	}
	if err := s.AddToken(ctx, "late", []byte("hash-3"), time.Millisecond); err != nil {
		t.Fatal(err)
	}
	g := ground(t, s, "tokens")
	for name, want := range map[string]*Ground{"tokens": &g, "none": nil, "": nil} {
		who, got, err := s.Admitted(ctx, []byte("hash-1"), name)
		if err != nil || who != "deckhand" || (got == nil) != (want == nil) || got != nil && *got != *want {
			t.Errorf("to ground %q %s is admitted: %+v, %v", name, who, got, err)
		}
	}
	shut := func(hash string) bool {
		_, err := s.TokenName(ctx, []byte(hash))
		_, _, too := s.Admitted(ctx, []byte(hash), "tokens")
		return errors.Is(err, ErrNotFound) && errors.Is(too, ErrNotFound)
	}
	within(t, "a session that is over lets nobody in", func() bool { return shut("hash-3") })
	if err := s.DeleteToken(ctx, "deckhand"); err != nil {
		t.Fatal(err)
	}
	for _, h := range []string{"hash-1", "hash-2"} {
		if !shut(h) {
			t.Errorf("%s lets in after its token has ended", h)
		}
	}
	if err := s.DeleteToken(ctx, "deckhand"); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
}

// A survey or plan of which nobody has heard for long ends, and its stream with it; one that is
// worked on goes on however long it takes, and one that nobody has begun waits (S4, I4).
func TestWhatNobodyWorksOnEnds(t *testing.T) {
	s := open(t)
	g := ground(t, s, "lost")
	add := func(set string) (task Task) {
		t.Helper()
		err := s.Tx(ctx, func(tx *sqlx.Tx) (err error) {
			if task, err = s.AddTask(ctx, tx, Plans, g, contract.Ask{}, "admin", "queued"); err == nil {
				_, err = tx.Exec("UPDATE plans SET "+set+" WHERE id = $1", task.ID)
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
		return task
	}
	lost := add("state = 'running', beat_at = now() - interval '2 minutes'")
	slow := add("state = 'running', beat_at = 'epoch', created_at = 'epoch'")
	waiting := add("created_at = now() - interval '10 minutes'")
	forgotten := add("created_at = now() - interval '2 hours'")
	if err := s.BeatTask(ctx, Plans, slow.ID); err != nil {
		t.Fatal(err)
	}
	if err := s.FailLostTasks(ctx, time.Minute); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		task  Task
		state string
	}{{lost, "failed"}, {slow, "running"}, {waiting, "queued"}, {forgotten, "failed"}} {
		state, err := s.TaskState(ctx, Plans, c.task.ID)
		events, eventsErr := s.Events(ctx, Topic("plans", c.task.ID), 0)
		if ends := len(events) == 1 && events[0].Kind == "end"; err != nil || eventsErr != nil || state != c.state || ends != (c.state == "failed") {
			t.Errorf("plan %d is %s, not %s; its stream has %+v; %v, %v", c.task.ID, state, c.state, events, err, eventsErr)
		}
	}
}
