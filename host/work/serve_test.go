package work

import (
	"context"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/http2"

	"northstake/core/wire"
	"northstake/host/journal"
)

var aStep = string(wire.JSON(wire.Step{Number: 1, Type: "directory",
	Move: wire.Move{Work: wire.JSON(wire.DirectoryWant{Path: "/srv/a", Owners: wire.Owners{Owner: "me", Group: "me"}, Mode: "0750"})}}))

// A request that comes to its turn when the connection has ended does nothing: the
// host's lock is another's by then.
func TestNothingBeginsWhenTheConnectionHasEnded(t *testing.T) {
	m := folder(t)
	s := NewServer(m)
	ours, theirs := net.Pipe()
	ours.Close()
	s.ServeConn(theirs)
	for _, what := range []string{"/runs/7/open", "/runs/7/steps/1", "/runs/7/back", "/runs/7/steps/1/confirm"} {
		w := httptest.NewRecorder()
		r := httptest.NewRequest("POST", what, strings.NewReader(aStep))
		r.Header.Set(wire.VersionHeader, strconv.Itoa(wire.Version))
		s.ServeHTTP(w, r)
		if w.Code != http.StatusInternalServerError || !strings.Contains(w.Body.String(), "the connection has ended") {
			t.Errorf("%s: %d %s", what, w.Code, w.Body)
		}
	}
	if m.Exists("/srv/a") {
		t.Error("a step was done")
	}
	free(t, m)
}

// What is asked in another version of the wire, or in none, is not understood by chance.
func TestWhatIsAskedInAnotherVersion(t *testing.T) {
	m := folder(t)
	for _, version := range []string{"", "0", strconv.Itoa(wire.Version + 1), "x"} {
		w := httptest.NewRecorder()
		r := httptest.NewRequest("POST", "/runs/7/open", strings.NewReader("{}"))
		r.Header.Set(wire.VersionHeader, version)
		NewServer(m).ServeHTTP(w, r)
		if w.Code != http.StatusInternalServerError || !strings.Contains(w.Body.String(), "of the wire") {
			t.Errorf("%q: %d %s", version, w.Code, w.Body)
		}
	}
	free(t, m)
}

// Connections end at moments of their own. Whatever was under way then has ended when
// ServeConn returns: the lock is free, and the host stays as it is.
func TestAConnectionThatEndsAnywhere(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	rnd := rand.New(rand.NewPCG(seed, 0))
	for range 60 {
		m := folder(t)
		ours, theirs := net.Pipe()
		ended := make(chan struct{})
		go func() { NewServer(m).ServeConn(theirs); close(ended) }()
		conn, err := (&http2.Transport{AllowHTTP: true}).NewClientConn(ours)
		if err != nil {
			t.Fatal(err)
		}
		post := func(path string) error {
			r, err := http.NewRequest("POST", "http://host"+path, strings.NewReader(aStep))
			if err != nil {
				return err
			}
			r.Header.Set(wire.VersionHeader, strconv.Itoa(wire.Version))
			answer, err := conn.RoundTrip(r)
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			_, err = io.Copy(io.Discard, answer.Body)
			return err
		}
		if err := post("/runs/7/open"); err != nil {
			t.Fatal(err)
		}
		asked := make(chan struct{})
		go func() { _ = post("/runs/7/steps/1"); close(asked) }()
		for range rnd.IntN(40) {
			time.Sleep(time.Duration(rnd.IntN(20)) * time.Microsecond)
		}
		ours.Close()
		<-ended
		there := m.Exists("/srv/a")
		free(t, m)
		<-asked
		if m.Exists("/srv/a") != there {
			t.Fatal("a step went on when the connection and its lock had gone")
		}
	}
}

// free fails unless the host's lock can be had.
func free(t *testing.T, m *Host) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	l, err := journal.Take(ctx, m.Machine, "8")
	if err != nil {
		t.Fatal(err)
	}
	l.Release()
}
