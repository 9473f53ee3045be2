package probe

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"northstake/core/wire"
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
		r := Fetch(context.Background(), Asked{wire.Probe{Endpoint: wire.Endpoint{Name: "timetable.test", Port: port}, Check: wire.Check{Path: c.path, Status: c.status, Contains: c.contains}}, address, "inside"})
		if r.OK != c.ok || r.From != "inside" || r.Took < 5*time.Millisecond {
			t.Errorf("%+v: %+v", c, r)
		}
	}
	closed := Fetch(context.Background(), Asked{wire.Probe{Endpoint: wire.Endpoint{Name: "x.test", Port: 1}, Check: wire.Check{Path: "/", Status: 200}}, "127.0.0.1", "outside"})
	if closed.OK || closed.Error == "" || closed.Failed != FailedConnection {
		t.Errorf("where nobody listens: %+v", closed)
	}
}

// A probe asks as it is told to, follows where it is sent, and says whether the name, the
// connection or the answer was wrong.
func TestAProbeAsksAndSaysWhatWasWrong(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		switch r.URL.Path {
		case "/old":
			http.Redirect(w, r, "/new", http.StatusMovedPermanently)
		case "/round":
			http.Redirect(w, r, "/round", http.StatusFound)
		case "/slow":
			time.Sleep(1500 * time.Millisecond)
		}
		w.Header().Set("X-Tide", "low/ebb")
		fmt.Fprintf(w, "%s %s %s tide: 12 m", r.Method, r.Header.Get("Accept"), body)
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
	for name, c := range map[string]struct {
		wire.Check
		at, wrong, says string
	}{
		"method, header and body": {wire.Check{Path: "/", Method: "POST", Headers: map[string]string{"Accept": "text/x"}, Body: "a=b", Contains: "POST text/x a=b"}, address, "", "200"},
		"a pattern":               {wire.Check{Path: "/", Matches: "tide: [0-9]+ m$"}, address, "", "200"},
		"another pattern":         {wire.Check{Path: "/", Matches: "^tide"}, address, FailedAnswer, "nothing that matches"},
		"a header":                {wire.Check{Path: "/", Shows: map[string]string{"X-Tide": "low*", "X-None": ""}}, address, "", "200"},
		"another header":          {wire.Check{Path: "/", Shows: map[string]string{"X-Tide": "high*"}}, address, FailedAnswer, `X-Tide: "low/ebb", wanted "high*"`},
		"sent on":                 {wire.Check{Path: "/old", Follows: true, EndsAt: "/new"}, address, "", "sent on to"},
		"sent on elsewhere":       {wire.Check{Path: "/old", Follows: true, EndsAt: "/other"}, address, FailedAnswer, "it ends at"},
		"where it says to go":     {wire.Check{Path: "/old", Status: 301, EndsAt: "/new"}, address, "", "301"},
		"round and round":         {wire.Check{Path: "/round", Follows: true}, address, FailedAnswer, "more than 10 times"},
		"too slow":                {wire.Check{Path: "/slow", Within: "1s"}, address, FailedAnswer, "no answer in 1s"},
		"slow enough":             {wire.Check{Path: "/slow", Within: "20s"}, address, "", "200"},
		"no such name":            {wire.Check{Path: "/", Resolver: "name"}, address, FailedName, "name none.invalid"},
		"no such server":          {wire.Check{Path: "/", Resolver: "127.0.0.1", Within: "2s"}, address, FailedName, "name none.invalid"},
		"nobody there":            {wire.Check{Path: "/"}, "127.0.0.66", FailedConnection, "connection refused"},
	} {
		if c.Status == 0 {
			c.Status = 200
		}
		r := Fetch(context.Background(), Asked{wire.Probe{Endpoint: wire.Endpoint{Name: "none.invalid", Port: port}, Check: c.Check}, c.at, "inside"})
		if r.Failed != c.wrong || r.OK != (c.wrong == "") || !strings.Contains(r.Words(), c.says) {
			t.Errorf("%s: %q wrong, %s", name, r.Failed, r.Words())
		}
		if r.OK && (r.Answered != site.Listener.Addr().String() || r.First == 0 || r.First > r.Took) {
			t.Errorf("%s: answered by %q, first byte after %s of %s", name, r.Answered, r.First, r.Took)
		}
	}
}

// What is asked once is a URL with a name and a port, and nothing else.
func TestWhatIsAskedOnce(t *testing.T) {
	for url, want := range map[string]string{
		"http://a.test":              "a.test 80 / system [outside]",
		"http://a.test:81/x%20y?z=1": "a.test 81 /x%20y?z=1 system [outside]",
		"https://a.test/":            "a.test 443 / system [outside]",
		"ftp://a.test/":              "", "/path": "", "http://": "", "http://a.test:99999/": "", "http://a.test:x/": "",
	} {
		p, err := Once{URL: url}.Probe()
		if got := fmt.Sprint(p.Name, " ", p.Port, " ", p.Path, " ", p.Resolver, " ", p.From); err == nil && got != want || err != nil && want != "" {
			t.Errorf("%s: %s, %v", url, got, err)
		}
	}
	for _, o := range []Once{{URL: "http://a.test", At: "b.test"}, {URL: "http://a.test", Check: wire.Check{Matches: "("}}, {URL: "http://a.test", Check: wire.Check{Within: "soon"}}} {
		if _, err := o.Probe(); err == nil {
			t.Errorf("%+v can be asked", o)
		}
	}
}
