package api_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/plan"
	"northstake/host/system/systemtest"
	"northstake/service/contract"
	"northstake/service/servicetest"
)

func TestMain(m *testing.M) { os.Exit(servicetest.Main(m)) }

var ctx = context.Background()

// declaration is a ground of one host with a few stakes that a folder can have.
func declaration(ground, host, more string) contract.NewRevision {
	return contract.NewRevision{Sources: []declare.Source{{Name: "g.toml", Text: fmt.Sprintf(`[ground]
name = %q
[host.%s]
via = "folder"
[host.%[2]s.directory."/srv/tides"]
owner = "me"
mode = "0750"
[host.%[2]s.file."/etc/tide"]
text = "ebb\n"
owner = "me"
[host.%[2]s.link."/srv/now"]
points_to = "/srv/tides"
%s`, ground, host, more)}}, Files: []declare.File{}}
}

func declared(t testing.TB, s *servicetest.Service, ground, host, more string) {
	t.Helper()
	res, err := s.Client.CreateRevisionWithResponse(ctx, ground, declaration(ground, host, more))
	if err != nil || res.StatusCode() >= 300 {
		t.Fatalf("%v: %s", err, res.Body)
	}
}

func planned(t testing.TB, s *servicetest.Service, ground string, ask contract.Ask) contract.Plan {
	t.Helper()
	res, err := s.Client.CreatePlanWithResponse(ctx, ground, nil, ask)
	if err != nil || res.JSON202 == nil {
		t.Fatalf("%v: %s", err, res.Body)
	}
	s.Follow(t, fmt.Sprintf("/grounds/%s/plans/%d/events", ground, res.JSON202.Id))
	made, err := s.Client.GetPlanWithResponse(ctx, ground, res.JSON202.Id)
	if err != nil || made.JSON200 == nil || made.JSON200.State != "done" {
		t.Fatalf("%v: %s", err, made.Body)
	}
	return *made.JSON200
}

func applied(t testing.TB, s *servicetest.Service, ground string, p contract.Plan) contract.Run {
	t.Helper()
	res, err := s.Client.CreateRunWithResponse(ctx, ground, contract.NewRun{Plan: p.Id})
	if err != nil || res.JSON202 == nil {
		t.Fatalf("%v: %s", err, res.Body)
	}
	s.Follow(t, fmt.Sprintf("/grounds/%s/runs/%d/events", ground, res.JSON202.Id))
	done, err := s.Client.GetRunWithResponse(ctx, ground, res.JSON202.Id)
	if err != nil || done.JSON200 == nil {
		t.Fatalf("%v: %s", err, done.Body)
	}
	return *done.JSON200
}

// A round over the network interface: declared, planned, applied; found shifted after a
// hand edit; put back; and each time nothing is left to do.
func TestARoundOverTheNetwork(t *testing.T) {
	s, h := servicetest.Start(t), servicetest.NewHost(t, "quay1")
	declared(t, s, "round", "quay1", "")
	p := planned(t, s, "round", contract.Ask{})
	if p.Steps != 3 || p.Blockers != 0 {
		t.Fatalf("%d steps, %d blockers: %+v", p.Steps, p.Blockers, p.Hosts)
	}
	if r := applied(t, s, "round", p); r.State != "done" || r.Hosts[0].State != "done" {
		t.Fatalf("the run is %s: %+v", r.State, r.Hosts)
	}
	if target, err := os.Readlink(h.Path("/srv/now")); err != nil || target != "/srv/tides" || h.Text("/etc/tide") != "ebb\n" {
		t.Errorf("the link leads to %q, %v; the file holds %q", target, err, h.Text("/etc/tide"))
	}
	if again := planned(t, s, "round", contract.Ask{}); again.Steps != 0 {
		t.Errorf("a second plan has %d steps", again.Steps)
	}
	systemtest.Put(t, h.Machine, "/etc/tide", "flood\n")
	shifted := planned(t, s, "round", contract.Ask{Only: "shifted"})
	if shifted.Steps != 1 || shifted.Hosts[0].Steps[0].Address != "quay1/file/etc/tide" {
		t.Fatalf("after a hand edit the plan is %+v", shifted.Hosts)
	}
	res, err := s.Client.GetHostWithResponse(ctx, "round", "quay1")
	if err != nil || res.JSON200 == nil {
		t.Fatal(err)
	}
	standing := map[string]plan.Standing{}
	for _, row := range res.JSON200.Rows {
		standing[row.Address] = row.Standing
	}
	if standing["quay1/file/etc/tide"] != plan.Shifted || standing["quay1/link/srv/now"] != plan.Set {
		t.Errorf("the stakes stand as %v", standing)
	}
	claims := map[string]string{}
	for _, c := range res.JSON200.Claims {
		claims[c.By+" "+c.What] = c.Need + " " + c.Sort
	}
	if claims["file/etc/tide /etc/tide"] != "own path" || claims["directory/srv/tides me"] != "find account" {
		t.Errorf("it claims %v", claims)
	}
	if r := applied(t, s, "round", shifted); r.State != "done" || h.Text("/etc/tide") != "ebb\n" {
		t.Errorf("put back the file holds %q, the run is %s", h.Text("/etc/tide"), r.State)
	}
	// A plan that was carried out says so when it is asked for once more.
	if res, err := s.Client.CreateRunWithResponse(ctx, "round", contract.NewRun{Plan: shifted.Id}); err != nil || res.StatusCode() != http.StatusConflict {
		t.Errorf("a plan is carried out twice: %v, %s", err, res.Body)
	}
}

// A host that has changed since its plan is left alone.
func TestAHostThatMovedIsLeftAlone(t *testing.T) {
	s, h := servicetest.Start(t), servicetest.NewHost(t, "quay2")
	declared(t, s, "moved", "quay2", "")
	p := planned(t, s, "moved", contract.Ask{})
	if err := os.MkdirAll(h.Path("/etc/tide"), 0o755); err != nil {
		t.Fatal(err)
	}
	r := applied(t, s, "moved", p)
	if r.Hosts[0].State != "moved" || h.Exists("/srv/tides") {
		t.Errorf("the host's part is %s, and something was done: %t", r.Hosts[0].State, h.Exists("/srv/tides"))
	}
}

// What is asked for wrongly is answered with what is wrong and what to do, and a status
// of its own.
func TestWhatIsAskedWronglyIsAnswered(t *testing.T) {
	s := servicetest.Start(t)
	servicetest.NewHost(t, "quay3")
	declared(t, s, "asked", "quay3", "")
	for _, c := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"GET", "/grounds/nowhere", "", 404, "nowhere"},
		{"POST", "/grounds/asked/plans", `{"hosts":["quay9"]}`, 404, "quay9"},
		{"POST", "/grounds/asked/plans", `{"act":{"do":"dance"}}`, 409, "dance"},
		{"POST", "/grounds/asked/plans", `{"act":{"do":"restart"}}`, 409, "name the service"},
		{"POST", "/grounds/asked/plans", `{`, 400, ""},
		{"POST", "/grounds/asked/plans", ``, 400, ""},
		{"POST", "/grounds/asked/plans", `null`, 400, "null"},
		{"POST", "/grounds/asked/plans", `[]`, 400, ""},
		{"POST", "/grounds/asked/plans", `{"host":["quay3"]}`, 400, `unknown field \"host\"`},
		{"POST", "/grounds/asked/plans", `{} garbage`, 400, "follows"},
		{"POST", "/grounds/asked/plans", `{"only":"shiftd"}`, 409, "shiftd"},
		{"POST", "/grounds/asked/surveys", `{"only":"shifted"}`, 409, "ask for a plan"},
		{"POST", "/grounds/asked/surveys", "", 400, "send {} where nothing in particular is asked for"}, // U8
		{"POST", "/grounds/asked/surveys", `{"hosts":[],"x":1}`, 400, `unknown field`},
		{"POST", "/grounds/asked/plans", `{"act":{"do":"upgrade","leave":["curl"]}}`, 409, "declare the version"},
		{"POST", "/grounds/asked/runs", `{"plan":4711}`, 404, ""},
		{"GET", "/grounds/asked/runs/4711", "", 404, ""},
		{"POST", "/grounds/asked/revisions", `{"sources":[{"name":"g.toml","text":"[ground]\nname=\"asked\"\nnmae=\"x\"\n"}],"files":[]}`, 422, `there is no key \"nmae\"`},
		{"POST", "/grounds/other/revisions", `{"sources":[{"name":"g.toml","text":"[ground]\nname=\"asked\"\n"}],"files":[]}`, 409, "is of ground"},
		{"PUT", "/secrets/Not%20A%20Name", `{"value":"x"}`, 422, "lower-case letters"},
		{"GET", "/nothing", "", 404, "openapi.yaml"},
	} {
		req, err := http.NewRequest(c.method, s.URL+"/api/v1"+c.path, strings.NewReader(c.body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		s.Sign(req)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(res.Body)
		res.Body.Close()
		if err != nil || res.StatusCode != c.status || !strings.Contains(string(b), c.says) {
			t.Errorf("%s %s %s: %d %s, want %d with %q", c.method, c.path, c.body, res.StatusCode, b, c.status, c.says)
		}
	}
}

// Nothing is told to who shows no token, or one that is not known.
func TestWithoutATokenNothingIsTold(t *testing.T) {
	s := servicetest.Start(t)
	for _, bearer := range []string{"", "Bearer ", "Bearer ns_none", "Basic " + s.Token} {
		for _, path := range []string{"/grounds", "/secrets", "/tokens", "/grounds/x/plans"} {
			req, err := http.NewRequest("GET", s.URL+"/api/v1"+path, nil)
			if err != nil {
				t.Fatal(err)
			}
			req.Header.Set("Authorization", bearer)
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			res.Body.Close()
			if res.StatusCode != http.StatusUnauthorized {
				t.Errorf("%s with %q: %d", path, bearer, res.StatusCode)
			}
		}
	}
	for path, want := range map[string]int{"/healthz": 200, "/readyz": 200, "/openapi.yaml": 200, "/": 200, "/saltmarsh/plans/3": 200} {
		res, err := http.Get(s.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if res.StatusCode != want {
			t.Errorf("%s: %d", path, res.StatusCode)
		}
	}
}

// A secret is kept, listed by its name, and forgotten, and its value comes back in no
// answer.
func TestASecretIsKeptAndForgotten(t *testing.T) {
	s := servicetest.Start(t)
	if res, err := s.Client.KeepSecretWithResponse(ctx, "tide-word", contract.KeepSecretJSONRequestBody{Value: "low tide at six"}); err != nil || res.StatusCode() != 204 {
		t.Fatalf("%v: %s", err, res.Body)
	}
	list, err := s.Client.ListSecretsWithResponse(ctx)
	if err != nil || !strings.Contains(string(list.Body), "tide-word") || strings.Contains(string(list.Body), "low tide") {
		t.Errorf("%v: %s", err, list.Body)
	}
	for _, want := range []int{204, 404} {
		if res, err := s.Client.ForgetSecretWithResponse(ctx, "tide-word"); err != nil || res.StatusCode() != want {
			t.Errorf("%v: %d, want %d: %s", err, res.StatusCode(), want, res.Body)
		}
	}
}

// What is only declared is due, and what was changed on the host has shifted, both within
// one stake; a restore puts back what was last applied, and never what is new.
func TestWhatIsNewIsNotRestored(t *testing.T) {
	s, h := servicetest.Start(t), servicetest.NewHost(t, "quay6")
	declared(t, s, "newer", "quay6", "")
	if r := applied(t, s, "newer", planned(t, s, "newer", contract.Ask{})); r.State != "done" {
		t.Fatalf("%+v", r)
	}
	newer := declaration("newer", "quay6", "")
	newer.Sources[0].Text = strings.Replace(newer.Sources[0].Text, `text = "ebb\n"`, `text = "spring\n"`, 1)
	if res, err := s.Client.CreateRevisionWithResponse(ctx, "newer", newer); err != nil || res.StatusCode() != 201 {
		t.Fatalf("%v: %s", err, res.Body)
	}
	standing := func(p contract.Plan) plan.Row {
		for _, r := range p.Hosts[0].Rows {
			if r.Type == "file" {
				return r
			}
		}
		return plan.Row{}
	}
	if r := standing(planned(t, s, "newer", contract.Ask{})); r.Standing != plan.Due {
		t.Errorf("only declared it is %s: %+v", r.Standing, r.Differences)
	}
	if p := planned(t, s, "newer", contract.Ask{Only: "shifted"}); p.Steps != 0 {
		t.Errorf("a restore would %+v", p.Hosts[0].Steps)
	}
	systemtest.Put(t, h.Machine, "/etc/tide", "by hand\n")
	p := planned(t, s, "newer", contract.Ask{Only: "shifted"})
	if r := standing(p); r.Standing != plan.Shifted || !r.NewlyDeclared {
		t.Errorf("edited by hand it is %s: %+v", r.Standing, r)
	}
	if r := applied(t, s, "newer", p); r.State != "done" || h.Text("/etc/tide") != "ebb\n" {
		t.Errorf("restored it holds %q, and the run is %s: %+v", h.Text("/etc/tide"), r.State, r.Hosts[0].Fault)
	}
	if r := standing(planned(t, s, "newer", contract.Ask{})); r.Standing != plan.Due || !r.ShiftedAt.IsZero() {
		t.Errorf("after that it is %s since %s", r.Standing, r.ShiftedAt)
	}
	if r := applied(t, s, "newer", planned(t, s, "newer", contract.Ask{})); r.State != "done" || h.Text("/etc/tide") != "spring\n" {
		t.Errorf("applied it holds %q, and the run is %s", h.Text("/etc/tide"), r.State)
	}
}

// A file that was edited between plan and apply is somebody's work, shown or not: the host
// is left alone.
func TestAnEditBetweenPlanAndApplyIsNotOverwritten(t *testing.T) {
	s, h := servicetest.Start(t), servicetest.NewHost(t, "quay7")
	declared(t, s, "between", "quay7", "")
	systemtest.Put(t, h.Machine, "/etc/tide", "theirs\n")
	p := planned(t, s, "between", contract.Ask{})
	systemtest.Put(t, h.Machine, "/etc/tide", "theirs, later\n")
	if r := applied(t, s, "between", p); r.Hosts[0].State != "moved" || h.Text("/etc/tide") != "theirs, later\n" {
		t.Errorf("the host's part is %s, and the file holds %q", r.Hosts[0].State, h.Text("/etc/tide"))
	}
}

// With a stake that cannot be read, a plan says so, and does not call the rest all.
func TestAPlanCountsWhatCouldNotBeRead(t *testing.T) {
	s, h := servicetest.Start(t), servicetest.NewHost(t, "quay8")
	declared(t, s, "unreadable", "quay8", "[host.quay8.file.\"/srv/loop/tide\"]\ntext = \"x\"\nowner = \"me\"\n")
	if r := applied(t, s, "unreadable", planned(t, s, "unreadable", contract.Ask{})); r.State != "done" {
		t.Fatalf("%+v", r)
	}
	loop := h.Machine.Path("/srv/loop")
	if err := errors.Join(os.RemoveAll(loop), os.Symlink("loop", loop)); err != nil {
		t.Fatal(err)
	}
	for _, only := range []contract.AskOnly{"", "shifted"} {
		p := planned(t, s, "unreadable", contract.Ask{Only: only})
		if p.Unread != 1 || len(p.Hosts[0].NotRead) != 1 || p.Hosts[0].NotRead[0].Address != "quay8/file/srv/loop/tide" || !strings.Contains(p.Hosts[0].NotRead[0].Why, "too many links") {
			t.Errorf("%q: %d not read: %+v", only, p.Unread, p.Hosts[0].NotRead)
		}
	}
}

// What is fetched at a whole commit is known for good: with its server away, the ground can
// still be declared and planned.
func TestAWholeCommitIsFetchedOnce(t *testing.T) {
	s := servicetest.Start(t)
	servicetest.NewHost(t, "quay9")
	dir := t.TempDir()
	script := "git init -q -b main work && cd work && git config user.email office@saltmarsh.test && git config user.name Office && mkdir web docs && echo one > web/index.html && echo two > docs/index.html && git add . && git commit -qm one && git rev-parse HEAD && git --exec-path"
	cmd := exec.Command("sh", "-euc", script)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	said := strings.Fields(string(out))
	backend := &cgi.Handler{Path: filepath.Join(said[1], "git-http-backend"), Env: []string{"GIT_PROJECT_ROOT=" + dir, "GIT_HTTP_EXPORT_ALL=1"}}
	repository := httptest.NewServer(backend)
	content := func(folder, at string) string {
		return fmt.Sprintf("[host.quay9.content.\"/srv/%[1]s\"]\ngit = \"%[2]s/work/.git\"\nat = %[3]q\nfolder = %[1]q\nowner = \"me\"\n", folder, repository.URL, at)
	}
	// Two folders of one repository are both published.
	both := content("web", said[0]) + content("docs", said[0])
	declared(t, s, "commits", "quay9", both)
	p := planned(t, s, "commits", contract.Ask{})
	publishes := 0
	for _, step := range p.Hosts[0].Steps {
		if step.Verb == "publish" {
			publishes++
		}
	}
	if publishes != 2 {
		t.Errorf("the plan is %+v", p.Hosts[0].Steps)
	}
	repository.Close()
	declared(t, s, "commits", "quay9", both+"[host.quay9.link.\"/srv/later\"]\npoints_to = \"/srv/web\"\n")
	if res, err := s.Client.CreateRevisionWithResponse(ctx, "commits", declaration("commits", "quay9", content("web", "main"))); err != nil || res.StatusCode() != 422 {
		t.Errorf("a branch needs its server: %v, %s", err, res.Body)
	}
}

// What is not declared any more goes when that is asked for, or when the ground says so, and
// not before; what cannot be understood of it is refused. What a look finds is remembered.
func TestWhatIsNoLongerDeclaredGoesWhenItIsAsked(t *testing.T) {
	s, h := servicetest.Start(t), servicetest.NewHost(t, "quay8")
	revision := func(former, text string) {
		t.Helper()
		next := declaration("former", "quay8", "")
		head, _, _ := strings.Cut(next.Sources[0].Text, "[host.quay8.file")
		next.Sources[0].Text = strings.Replace(head, "[ground]\n", "[ground]\n"+former+"\n", 1) + text
		if res, err := s.Client.CreateRevisionWithResponse(ctx, "former", next); err != nil || res.StatusCode() != 201 {
			t.Fatalf("%v: %s", err, res.Body)
		}
	}
	file := func(path string) string {
		return fmt.Sprintf("[host.quay8.file.%q]\ntext = \"ebb\\n\"\nowner = \"me\"\ngroup = \"me\"\n", path)
	}
	revision("", file("/etc/tide")+file("/etc/ebb"))
	if r := applied(t, s, "former", planned(t, s, "former", contract.Ask{})); r.State != "done" {
		t.Fatalf("%+v", r)
	}
	revision("", file("/etc/ebb"))
	if p := planned(t, s, "former", contract.Ask{}); p.Steps != 0 || len(p.Hosts[0].Cautions) != 1 {
		t.Errorf("it is to %+v, with cautions %+v", p.Hosts[0].Steps, p.Hosts[0].Cautions)
	}
	for _, ask := range []contract.Ask{
		{Clear: true, Only: "shifted"}, {Clear: true, Retire: "quay8"}, {Removing: []string{"quay8/content/srv"}},
		{Clear: true, Removing: []string{"quay9/content/srv"}}, {Retire: "quay9"}, {Retire: "quay8", Only: "shifted"},
	} {
		if res, err := s.Client.CreatePlanWithResponse(ctx, "former", nil, ask); err != nil || res.StatusCode() < 400 || res.StatusCode() >= 500 {
			t.Errorf("%+v is answered with %d: %v", ask, res.StatusCode(), err)
		}
	}
	if res, err := s.Client.CreateSurveyWithResponse(ctx, "former", nil, contract.Ask{Clear: true}); err != nil || res.StatusCode() != 409 {
		t.Errorf("a survey that takes away: %v, %s", err, res.Body)
	}
	if p := planned(t, s, "former", contract.Ask{Clear: true, Removing: []string{"quay8/content/srv"}}); p.Blockers != 1 {
		t.Errorf("a name of nothing: %+v", p.Hosts[0].Blockers)
	}
	if h.Text("/etc/tide") != "ebb\n" {
		t.Error("it went before it was asked for")
	}
	if r := applied(t, s, "former", planned(t, s, "former", contract.Ask{Clear: true})); r.State != "done" || h.Exists("/etc/tide") || h.Text("/etc/ebb") != "ebb\n" {
		t.Errorf("asked for, the run is %s: %+v", r.State, r.Hosts[0].Fault)
	}
	revision("no_longer_declared = \"removed\"", "")
	if r := applied(t, s, "former", planned(t, s, "former", contract.Ask{})); r.State != "done" || h.Exists("/etc/ebb") {
		t.Errorf("where the ground says so, the run is %s: %+v", r.State, r.Hosts[0].Fault)
	}
	if p := planned(t, s, "former", contract.Ask{}); p.Steps != 0 || len(p.Hosts[0].Cautions) != 0 {
		t.Errorf("after that it is to %+v, with cautions %+v", p.Hosts[0].Steps, p.Hosts[0].Cautions)
	}
}
