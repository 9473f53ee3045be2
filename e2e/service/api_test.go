package service

import (
	"fmt"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"

	"northstake/e2e/stage"
	"northstake/service/contract"
)

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
				status, body := stage.Shared().Request(t, method, url, "{}", token)
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
		res, err := http.Get(stage.Shared().Address + path)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if res.StatusCode != http.StatusOK {
			t.Errorf("%s answers %d", path, res.StatusCode)
		}
	}
	info, err := os.Stat(stage.Shared().State + "/admin.token")
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the first token's file has mode %v, %v", info.Mode(), err)
	}
}

// What the service answers is what the contract says.
func TestAnswersFitTheContract(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	g.Trust()
	p := g.Plan(1)
	r := g.ApplyPlan(0, p.Id)
	doc, err := openapi3.NewLoader().LoadFromData(contract.OpenAPI)
	if err != nil {
		t.Fatal(err)
	}
	for path, url := range map[string]string{
		"/grounds": "/grounds", "/grounds/{ground}": "/grounds/" + g.Name, "/grounds/{ground}/hosts/{host}": "/grounds/" + g.Name + "/hosts/" + g.Hosts[0],
		"/grounds/{ground}/plans/{id}": fmt.Sprintf("/grounds/%s/plans/%d", g.Name, p.Id), "/grounds/{ground}/runs/{id}": fmt.Sprintf("/grounds/%s/runs/%d", g.Name, r.Id),
		"/grounds/{ground}/drift": "/grounds/" + g.Name + "/drift", "/grounds/{ground}/plans": "/grounds/" + g.Name + "/plans", "/grounds/{ground}/runs": "/grounds/" + g.Name + "/runs",
		"/grounds/{ground}/revisions": "/grounds/" + g.Name + "/revisions", "/grounds/{ground}/hosts/{host}/keys": "/grounds/" + g.Name + "/hosts/" + g.Hosts[0] + "/keys",
		"/secrets": "/secrets", "/tokens": "/tokens", "/session": "/session",
	} {
		status, body := g.Get(url)
		if status != http.StatusOK {
			t.Errorf("%s answers %d %s", url, status, body)
			continue
		}
		schema := doc.Paths.Find(path).Get.Responses.Status(200).Value.Content["application/json"].Schema.Value
		var v any
		stage.Decode(t, body, &v)
		if err := schema.VisitJSON(v); err != nil {
			t.Errorf("%s does not fit the contract: %v", url, err)
		}
	}
	for _, c := range []struct {
		path, body string
		status     int
	}{
		{"/grounds/nowhere/plans", "{}", 404}, {"/grounds/" + g.Name + "/plans", "{", 400}, {"/grounds/" + g.Name + "/plans", `{"hosts":["nobody"]}`, 404},
		{"/grounds/" + g.Name + "/runs", `{"plan":999999}`, 404}, {"/grounds/" + g.Name + "/revisions", `{"sources":[],"files":[]}`, 422},
	} {
		if status, body := g.Post(c.path, c.body); status != c.status || !strings.Contains(body, `"title"`) {
			t.Errorf("POST %s %s answers %d %s", c.path, c.body, status, body)
		}
	}
}

// A secret is sealed, listed by name alone, and in no log.
func TestSecretsStaySecret(t *testing.T) {
	t.Parallel()
	token := stage.Shared().Token(t)
	if status, body := stage.Shared().Request(t, http.MethodPut, "/secrets/spring-tide", `{"value":"moored-at-nine"}`, token); status != http.StatusNoContent {
		t.Fatalf("%d %s", status, body)
	}
	if _, body := stage.Shared().Request(t, http.MethodGet, "/secrets", "", token); !strings.Contains(body, "spring-tide") || strings.Contains(body, "moored") {
		t.Errorf("the list of secrets is %s", body)
	}
	if strings.Contains(stage.Shared().Dump(t), "moored-at-nine") {
		t.Error("the secret lies in the database in the clear")
	}
	if strings.Contains(stage.Shared().Dump(t), token) {
		t.Error("the token lies in the database in the clear")
	}
	log, err := os.ReadFile(stage.Shared().Log)
	if err != nil || strings.Contains(string(log), "moored") || strings.Contains(string(log), token) {
		t.Error("a secret is in the log")
	}
}
