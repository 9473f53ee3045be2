package e2e

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"northstake/service/contract"
)

func write(t testing.TB, file, text string) {
	t.Helper()
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}

func (s *service) request(t testing.TB, method, path, body, token string) (int, string) {
	t.Helper()
	req, err := http.NewRequest(method, s.address+"/api/v1"+path, strings.NewReader(body))
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

func (g *ground) post(path, body string) (int, string) {
	return g.s.request(g.t, http.MethodPost, path, body, g.s.token(g.t))
}

func (g *ground) get(path string) (int, string) {
	return g.s.request(g.t, http.MethodGet, path, "", g.s.token(g.t))
}

func (g *ground) waitFor(ok func() bool) {
	g.t.Helper()
	for range 600 {
		if ok() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	g.t.Fatal("waited 30 s in vain")
}

// dump is everything that the service's database holds, as text.
func (s *service) dump(t testing.TB) string {
	t.Helper()
	out, err := exec.Command("pg_dump", "--data-only", s.database).CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return string(out)
}

// Every route of the contract but signing in refuses a request without a token,
// and one with a wrong one, with a problem document.
func TestEveryRouteNeedsAToken(t *testing.T) {
	t.Parallel()
	doc, err := openapi3.NewLoader().LoadFromData(contract.OpenAPI)
	if err != nil {
		t.Fatal(err)
	}
	parameter := regexp.MustCompile(`\{[a-z]+\}`)
	tried := 0
	for path, item := range doc.Paths.Map() {
		for method := range item.Operations() {
			if path == "/session" && method == http.MethodPost {
				continue
			}
			for _, token := range []string{"", "ns_wrong"} {
				tried++
				url := parameter.ReplaceAllString(path, "1")
				status, body := shared.request(t, method, url, "{}", token)
				if status != http.StatusUnauthorized || !strings.Contains(body, `"title"`) {
					t.Errorf("%s %s with token %q answers %d %s", method, path, token, status, body)
				}
			}
		}
	}
	if tried < 40 {
		t.Errorf("only %d requests were tried", tried)
	}
	for _, path := range []string{"/healthz", "/readyz"} {
		res, err := http.Get(shared.address + path)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if res.StatusCode != http.StatusOK {
			t.Errorf("%s answers %d", path, res.StatusCode)
		}
	}
	info, err := os.Stat(shared.state + "/admin.token")
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the first token's file has mode %v, %v", info.Mode(), err)
	}
}

// What the service answers is what the contract says.
func TestAnswersFitTheContract(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, bareKit)
	g.trust()
	p := g.plan(1)
	r := g.applyPlan(0, p.Id)
	doc, err := openapi3.NewLoader().LoadFromData(contract.OpenAPI)
	if err != nil {
		t.Fatal(err)
	}
	for path, url := range map[string]string{
		"/grounds": "/grounds", "/grounds/{ground}": "/grounds/" + g.name, "/grounds/{ground}/hosts/{host}": "/grounds/" + g.name + "/hosts/" + g.hosts[0],
		"/grounds/{ground}/plans/{id}": fmt.Sprintf("/grounds/%s/plans/%d", g.name, p.Id), "/grounds/{ground}/runs/{id}": fmt.Sprintf("/grounds/%s/runs/%d", g.name, r.Id),
		"/grounds/{ground}/drift": "/grounds/" + g.name + "/drift", "/grounds/{ground}/plans": "/grounds/" + g.name + "/plans", "/grounds/{ground}/runs": "/grounds/" + g.name + "/runs",
		"/grounds/{ground}/revisions": "/grounds/" + g.name + "/revisions", "/grounds/{ground}/hosts/{host}/keys": "/grounds/" + g.name + "/hosts/" + g.hosts[0] + "/keys",
		"/secrets": "/secrets", "/tokens": "/tokens", "/session": "/session",
	} {
		status, body := g.get(url)
		if status != http.StatusOK {
			t.Errorf("%s answers %d %s", url, status, body)
			continue
		}
		schema := doc.Paths.Find(path).Get.Responses.Status(200).Value.Content["application/json"].Schema.Value
		var v any
		decode(t, body, &v)
		if err := schema.VisitJSON(v); err != nil {
			t.Errorf("%s does not fit the contract: %v", url, err)
		}
	}
	for _, c := range []struct {
		path, body string
		status     int
	}{
		{"/grounds/nowhere/plans", "{}", 404}, {"/grounds/" + g.name + "/plans", "{", 400}, {"/grounds/" + g.name + "/plans", `{"hosts":["nobody"]}`, 404},
		{"/grounds/" + g.name + "/runs", `{"plan":999999}`, 404}, {"/grounds/" + g.name + "/revisions", `{"sources":[],"files":[]}`, 422},
	} {
		if status, body := g.post(c.path, c.body); status != c.status || !strings.Contains(body, `"title"`) {
			t.Errorf("POST %s %s answers %d %s", c.path, c.body, status, body)
		}
	}
}

// A secret is sealed, listed by name alone, and in no log.
func TestSecretsStaySecret(t *testing.T) {
	t.Parallel()
	token := shared.token(t)
	if status, body := shared.request(t, http.MethodPut, "/secrets/spring-tide", `{"value":"moored-at-nine"}`, token); status != http.StatusNoContent {
		t.Fatalf("%d %s", status, body)
	}
	if _, body := shared.request(t, http.MethodGet, "/secrets", "", token); !strings.Contains(body, "spring-tide") || strings.Contains(body, "moored") {
		t.Errorf("the list of secrets is %s", body)
	}
	if strings.Contains(shared.dump(t), "moored-at-nine") {
		t.Error("the secret lies in the database in the clear")
	}
	if strings.Contains(shared.dump(t), token) {
		t.Error("the token lies in the database in the clear")
	}
	log, err := os.ReadFile(shared.log)
	if err != nil || strings.Contains(string(log), "moored") || strings.Contains(string(log), token) {
		t.Error("a secret is in the log")
	}
}
