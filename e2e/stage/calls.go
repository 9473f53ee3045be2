package stage

import (
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"
)

// Write writes a file that nobody else can read.
func Write(t testing.TB, file, text string) {
	t.Helper()
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}

// Request makes a request to the service, below /api/v1, and returns the status and the body of its answer.
func (s *Service) Request(t testing.TB, method, path, body, token string) (int, string) {
	t.Helper()
	req, err := http.NewRequest(method, s.Address+"/api/v1"+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return res.StatusCode, string(b)
}

// Post makes a request that changes something, with the administrator's token.
func (g *Ground) Post(path, body string) (int, string) {
	return g.Service.Request(g.T, http.MethodPost, path, body, g.Service.Token(g.T))
}

// Get asks the service for something, with the administrator's token.
func (g *Ground) Get(path string) (int, string) {
	return g.Service.Request(g.T, http.MethodGet, path, "", g.Service.Token(g.T))
}

// WaitFor waits until something is so, half a minute at most.
func (g *Ground) WaitFor(ok func() bool) {
	g.T.Helper()
	for range 600 {
		if ok() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	g.T.Fatal("waited 30 s in vain")
}

// Dump is everything that the service's database holds, as text.
func (s *Service) Dump(t testing.TB) string {
	t.Helper()
	out, err := exec.Command("pg_dump", "--data-only", s.Database).CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return string(out)
}

// Dialable says whether something takes connections at an address with its port.
func Dialable(address string) bool {
	c, err := net.DialTimeout("tcp", address, 2*time.Second)
	if err != nil {
		return false
	}
	c.Close()
	return true
}

// BareKit is for grounds whose hosts are to have nothing that is not declared for the test.
const BareKit = "[kit.base]\npackages = []\n"
