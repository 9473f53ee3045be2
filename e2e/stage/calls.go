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

func Write(t testing.TB, file, text string) {
	t.Helper()
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}

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

func (g *Ground) Post(path, body string) (int, string) {
	return g.Service.Request(g.T, http.MethodPost, path, body, g.Service.Token(g.T))
}

func (g *Ground) Get(path string) (int, string) {
	return g.Service.Request(g.T, http.MethodGet, path, "", g.Service.Token(g.T))
}

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

func Dialable(address string) bool {
	c, err := net.DialTimeout("tcp", address, 2*time.Second)
	if err != nil {
		return false
	}
	c.Close()
	return true
}

const BareKit = "[kit.base]\npackages = []\n"
