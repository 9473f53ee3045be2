package rod

import (
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"unicode/utf8"

	"golang.org/x/net/http2"

	"northstake/core/wire"
)

// lying is a connection to a rod that answers as it likes.
func lying(t *testing.T, rod http.HandlerFunc) *Conn {
	t.Helper()
	ours, theirs := net.Pipe()
	go (&http2.Server{}).ServeConn(theirs, &http2.ServeConnOpts{Handler: rod})
	c, err := NewConn(ours)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close(); theirs.Close() })
	return c
}

// An answer without an end is read as far as a host has reason to answer, and no further (X7).
func TestAnAnswerWithoutAnEnd(t *testing.T) {
	var sent atomic.Int64
	c := lying(t, func(w http.ResponseWriter, r *http.Request) {
		io.WriteString(w, `{"system":"`)
		one := []byte(strings.Repeat("x", 1<<20))
		for {
			n, err := w.Write(one)
			if sent.Add(int64(n)); err != nil {
				return
			}
		}
	})
	c.most = 4 << 20
	_, err := c.Traits(context.Background())
	if err == nil || !strings.Contains(err.Error(), "more than 4 MB") {
		t.Errorf("it ends with %v", err)
	}
	if n := sent.Load(); n > 3*c.most {
		t.Errorf("%d bytes were sent", n)
	}
}

// Of what a host says while it works, so many lines of such a length are heard, and the end of its
// step all the same; of a fault, what people read.
func TestAHostThatTalksTooMuch(t *testing.T) {
	line := strings.Repeat("ebb ü ", 1000)
	c := lying(t, func(w http.ResponseWriter, r *http.Request) {
		out := json.NewEncoder(w)
		for range 2000 {
			out.Encode(wire.Event{Say: line})
		}
		if strings.HasSuffix(r.URL.Path, "/1") {
			out.Encode(wire.Event{State: wire.Done})
			return
		}
		out.Encode(wire.Event{Fault: &wire.Fault{What: line, Fix: line, Output: strings.Repeat("ü", 100_000) + "the end"}})
	})
	lines, bytes := 0, 0
	say := func(s string) {
		if !utf8.ValidString(s) {
			t.Errorf("a line is no text: %q", s[len(s)-8:])
		}
		lines, bytes = lines+1, bytes+len(s)
	}
	if state, err := c.Step(context.Background(), "r", wire.Step{Number: 1}, say); state != wire.Done || err != nil {
		t.Errorf("the step ends %s, %v", state, err)
	}
	if lines != linesLimit || bytes > linesLimit*(lineLimit+4) {
		t.Errorf("%d lines of %d bytes were heard", lines, bytes)
	}
	_, err := c.Step(context.Background(), "r", wire.Step{Number: 2}, func(string) {})
	f, ok := err.(*wire.Fault)
	if !ok || len(f.What) > lineLimit+4 || len(f.Fix) > lineLimit+4 || len(f.Output) > outputLimit+4 || !strings.HasSuffix(f.Output, "the end") || !utf8.ValidString(f.What+f.Output) {
		t.Errorf("the fault is %.80v …", err)
	}
}
