package contract

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// A stream that breaks off is taken up after the last event that came, and every
// event comes once.
func TestAStreamIsTakenUpAgain(t *testing.T) {
	var asked []string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Header.Get("Last-Event-ID"))
		if r.Header.Get("Authorization") != "Bearer x" {
			t.Error("the request is not signed")
		}
		switch len(asked) {
		case 1:
			fmt.Fprint(w, "id: 4\nevent: host\ndata: {\"n\":1}\n\n: waiting\n\nid: 5\nevent: host\ndata: {\"cut")
		case 2:
			w.WriteHeader(http.StatusBadGateway)
		default:
			fmt.Fprint(w, "id: 5\nevent: host\ndata: {\"n\":2}\n\nid: 9\nevent: end\ndata: {}\n\n")
		}
	}))
	defer s.Close()
	var got []string
	err := Follow(context.Background(), s.Client(), s.URL, 0, func(r *http.Request) { r.Header.Set("Authorization", "Bearer x") }, 10*time.Second, func(e StreamEvent) error {
		got = append(got, fmt.Sprintf("%d %s %s", e.ID, e.Kind, e.Data))
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if want := `4 host {"n":1}|5 host {"n":2}|9 end {}`; strings.Join(got, "|") != want {
		t.Errorf("the events are %q", got)
	}
	if fmt.Sprint(asked) != "[ 4 4]" {
		t.Errorf("it was asked for %q", asked)
	}
}

func TestARefusedStreamEnds(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNotFound) }))
	defer s.Close()
	err := Follow(context.Background(), s.Client(), s.URL, 0, func(*http.Request) {}, time.Minute, func(StreamEvent) error { return nil })
	if !errors.Is(err, ErrStreamRefused) {
		t.Errorf("%v", err)
	}
}

func TestAServiceThatStaysAwayIsGivenUp(t *testing.T) {
	s := httptest.NewServer(nil)
	s.Close()
	start := time.Now()
	err := Follow(context.Background(), http.DefaultClient, s.URL, 0, func(*http.Request) {}, 600*time.Millisecond, func(StreamEvent) error { return nil })
	if err == nil || !strings.Contains(err.Error(), "away") || time.Since(start) > 10*time.Second {
		t.Errorf("%v after %v", err, time.Since(start))
	}
	stop := errors.New("enough")
	ok := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "id: 1\nevent: host\ndata: {}\n\n") }))
	defer ok.Close()
	if err := Follow(context.Background(), ok.Client(), ok.URL, 0, func(*http.Request) {}, time.Minute, func(StreamEvent) error { return stop }); !errors.Is(err, stop) {
		t.Errorf("the reader's own error becomes %v", err)
	}
}
