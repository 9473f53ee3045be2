package probe

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"testing"
	"time"

	"northstake/core/resolve"
)

// A probe says what it got, whether that is what was wanted, and how long it took.
func TestAProbeSaysWhatItGot(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(5 * time.Millisecond) // so that it takes some time
		if r.URL.Path != "/" {
			w.WriteHeader(http.StatusNotFound)
		}
		w.Write([]byte("Next sailing from " + r.Host))
	}))
	defer site.Close()
	address, text, err := net.SplitHostPort(site.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	port, err := strconv.Atoi(text)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		path, contains string
		status         int
		ok             bool
	}{
		{"/", "Next sailing from timetable.test:" + text, 200, true}, {"/", "cancelled", 200, false}, {"/none", "", 200, false}, {"/none", "", 404, true},
	} {
		r := Fetch(context.Background(), resolve.Probe{Name: "timetable.test", Port: port, Path: c.path, Status: c.status, Contains: c.contains}, address, "inside")
		if r.OK != c.ok || r.From != "inside" || r.Took < 5*time.Millisecond {
			t.Errorf("%+v: %+v", c, r)
		}
	}
	closed := Fetch(context.Background(), resolve.Probe{Name: "x.test", Port: 1, Path: "/", Status: 200}, "127.0.0.1", "outside")
	if closed.OK || closed.Error == "" {
		t.Errorf("where nobody listens: %+v", closed)
	}
}
