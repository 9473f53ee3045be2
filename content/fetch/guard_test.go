package fetch

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"northstake/core/declare"
)

// here is for tests, whose servers are on this machine.
var here = From{OwnMachine: true}

// Nothing is read on the service's machine, nor asked of its own network (X4, B9).
func TestNothingIsFetchedFromWithin(t *testing.T) {
	asked := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		w.Write([]byte("what only this machine serves"))
	}))
	defer server.Close()
	port := server.URL[strings.LastIndexByte(server.URL, ':'):]
	sum := strings.Repeat("0", 64)
	for _, from := range []string{server.URL + "/x.html", "http://localhost" + port + "/x.html", "http://[::ffff:127.0.0.1]" + port + "/x.html", "http://0.0.0.0" + port + "/x.html", "http://169.254.169.254/latest/meta-data"} {
		err := From{}.Content(context.Background(), &declare.Content{URL: from, SHA256: sum}, nil, t.TempDir())
		if err == nil || !strings.Contains(err.Error(), "own machine, from which nothing is fetched") {
			t.Errorf("%s: %v", from, err)
		}
	}
	repository := t.TempDir()
	for _, args := range [][]string{{"init", "-q"}, {"-c", "user.name=k", "-c", "user.email=k@x.test", "commit", "-q", "--allow-empty", "-m", "ebb"}} {
		if out, err := exec.Command("git", append([]string{"-C", repository}, args...)...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	for _, from := range []string{"file://" + repository, repository, "git://127.0.0.1/x.git", server.URL + "/x.git", "ssh://git@127.0.0.1/x.git", "git@localhost:x.git"} {
		if err := (From{}).Content(context.Background(), &declare.Content{Git: from}, nil, t.TempDir()); err == nil || !strings.Contains(err.Error(), "cannot be fetched") {
			t.Errorf("%s: %v", from, err)
		}
	}
	if asked > 0 {
		t.Errorf("the machine's own server was asked %d times", asked)
	}
	if left, err := filepath.Glob(filepath.Join(os.TempDir(), "northstake-git-*")); err != nil || len(left) > 0 {
		t.Errorf("there is left: %v, %v", left, err)
	}
}

// Who is sent on stays on the side of the network that the declared URL is on.
func TestWhereOneIsSentOnTo(t *testing.T) {
	for _, c := range []struct {
		from, to string
		may      bool
	}{
		{"203.0.113.7", "198.51.100.9", true}, {"203.0.113.7", "10.0.0.1", false}, {"203.0.113.7", "fd00::7", false}, {"203.0.113.7", "::ffff:192.168.1.1", false},
		{"10.0.0.1", "10.0.0.2", true}, {"10.0.0.1", "203.0.113.7", true}, {"10.0.0.1", "127.0.0.1", false}, {"10.0.0.1", "169.254.169.254", false}, {"10.0.0.1", "fe80::1", false}, {"10.0.0.1", "::", false},
	} {
		g := &guard{}
		if err := g.may(netip.MustParseAddr(c.from)); err != nil {
			t.Errorf("%s: %v", c.from, err)
		}
		if err := g.may(netip.MustParseAddr(c.to)); (err == nil) != c.may {
			t.Errorf("from %s to %s: %v", c.from, c.to, err)
		}
	}
	ask := func(u string) *http.Request {
		at, err := url.Parse(u)
		if err != nil {
			t.Fatal(err)
		}
		return &http.Request{URL: at}
	}
	if err := web.CheckRedirect(ask("http://x.test/"), []*http.Request{ask("https://x.test/")}); err == nil {
		t.Error("an encrypted way becomes one that is not")
	}
	if err := web.CheckRedirect(ask("https://y.test/"), []*http.Request{ask("http://x.test/")}); err != nil {
		t.Error(err)
	}
}
