package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"

	"northstake/core/declare"
	"northstake/core/plan"
	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/service/contract"
)

// northstake runs the command line in this process and returns what it printed.
func northstake(t *testing.T, args ...string) (string, int) {
	t.Helper()
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	out, errs := os.Stdout, os.Stderr
	os.Stdout, os.Stderr = w, w
	code := run(context.Background(), args)
	os.Stdout, os.Stderr = out, errs
	w.Close()
	var b bytes.Buffer
	if _, err := b.ReadFrom(r); err != nil {
		t.Fatal(err)
	}
	return b.String(), code
}

func TestANewGroundLintsClean(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "Quay side")
	if out, code := northstake(t, "new", dir); code != 0 {
		t.Fatal(out)
	}
	out, code := northstake(t, "lint", dir)
	if code != 0 || !strings.Contains(out, "ground quayside is sound: 1 host, 1 site, 1 content file") {
		t.Errorf("exit %d: %s", code, out)
	}
	if out, code := northstake(t, "new", dir); code != 2 || !strings.Contains(out, "not empty") {
		t.Errorf("a second time: exit %d: %s", code, out)
	}
	text, err := os.ReadFile(filepath.Join(dir, "ground.toml"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "ground.toml"), []byte(strings.Replace(string(text), "index.html", "index.htm", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	out, code = northstake(t, "lint", dir)
	if code != 2 || !strings.Contains(out, "ground.toml:") || !strings.Contains(out, `did you mean "index.html"?`) || !strings.Contains(out, "1 mistake") {
		t.Errorf("exit %d: %s", code, out)
	}
	out, code = northstake(t, "lint", "--json", dir)
	var v struct{ Problems []declare.Problem }
	if code != 2 || json.Unmarshal([]byte(out), &v) != nil || len(v.Problems) != 1 || v.Problems[0].Line == 0 {
		t.Errorf("exit %d: %s", code, out)
	}
}

func TestTheDemoGroundIsSound(t *testing.T) {
	if out, code := northstake(t, "lint", "../../demo/saltmarsh"); code != 0 {
		t.Error(out)
	}
}

// The schema that is shipped is the one that the types give.
func TestTheShippedSchemaIsCurrent(t *testing.T) {
	out, code := northstake(t, "schema")
	if code != 0 {
		t.Fatal(out)
	}
	shipped, err := os.ReadFile("../../docs/declaration.schema.json")
	if err != nil || string(shipped) != out {
		t.Errorf("docs/declaration.schema.json is not what northstake schema prints (%v): make generate", err)
	}
	var s struct {
		Defs map[string]struct {
			Properties           map[string]struct{ Description string }
			Required             []string
			AdditionalProperties any
		} `json:"$defs"`
	}
	if err := json.Unmarshal([]byte(out), &s); err != nil {
		t.Fatal(err)
	}
	for _, k := range declare.Keys() {
		p, ok := s.Defs[k.Type].Properties[k.Word]
		if k.Table != "" && (!ok || !strings.HasPrefix(p.Description, k.About)) {
			t.Errorf("%s is described as %q, not as %q", k.Name, p.Description, k.About)
		}
		if k.Required && !strings.Contains(strings.Join(s.Defs[k.Type].Required, " "), k.Word) {
			t.Errorf("%s is not required", k.Name)
		}
	}
	if s.Defs["Site"].AdditionalProperties != false {
		t.Error("the schema takes keys that lint refuses")
	}
}

// The page of keys is the one that the types give, and the prompt says the same.
func TestEveryKeyIsExplainedAtThePrompt(t *testing.T) {
	out, code := northstake(t, "help", "--document")
	shipped, err := os.ReadFile("../../docs/keys.md")
	if code != 0 || err != nil || string(shipped) != out {
		t.Errorf("docs/keys.md is not what northstake help --document prints (%v): make generate", err)
	}
	if out, code := northstake(t, "help", "site.root"); code != 0 || !strings.Contains(out, "Document root.") || !strings.Contains(out, "on debian\t/var/www/NAME") || !strings.Contains(out, `root = "/srv/www/timetable"`) {
		t.Errorf("%d: %s", code, out)
	}
	if out, code := northstake(t, "help", "site.indx"); code != 2 || !strings.Contains(out, `did you mean "site.index"?`) {
		t.Errorf("%d: %s", code, out)
	}
	if out, code := northstake(t, "help", "host.contant"); code != trouble || !strings.Contains(out, `no key of a declaration is called "host.contant"`) || !strings.Contains(out, `did you mean "host.content"?`) {
		t.Errorf("a key that is not there: %d\n%s", code, out)
	}
	if out, code := northstake(t, "help", "host.quay9"); code != trouble || !strings.Contains(out, "northstake help host lists the keys that there are") {
		t.Errorf("a name where a key is asked for: %d\n%s", code, out)
	}
	for word, want := range map[string]string{"host.li": "host.link.points_to\tWhat it leads to.", "pla": "plan\t"} {
		if out, code := northstake(t, "__complete", "help", word); code != 0 || !strings.Contains(out, want) {
			t.Errorf("%s is completed with %d\n%s", word, code, out)
		}
	}
	for word, want := range map[string]string{"volumes": "volumes is called mounts in [host.NAME.container.NAME]\n", "ports": "elsewhere ports is called reached_at in [host.NAME.container.NAME]; listen in [site.NAME]\n", "container.env": "container.env is called variables"} {
		if out, code := northstake(t, "help", word); code != 0 || !strings.HasPrefix(out, want) {
			t.Errorf("help %s: %d\n%s", word, code, out)
		}
	}
	if out, code := northstake(t, "help", "plan"); code != 0 || !strings.Contains(out, "Usage\n\n  northstake plan [GROUND]") {
		t.Errorf("%d: %s", code, out)
	}
}

func TestTroubleHasItsOwnStatus(t *testing.T) {
	t.Setenv("HOME", t.TempDir())
	t.Setenv("NORTHSTAKE_TOKEN", "ns_x")
	for _, args := range [][]string{{"lint", "/nowhere"}, {"apply", "twelve"}, {"nonsense"}, {"plan", "--nonsense"}, {"hosts", "x", "--server", "http://127.0.0.1:1"}} {
		if out, code := northstake(t, args...); code != 2 || out == "" {
			t.Errorf("%v exits with %d: %s", args, code, out)
		}
	}
}

// A secret is taken from what is piped in, without its line break, and an empty one
// is none.
func TestASecretThatIsPipedIn(t *testing.T) {
	terminal := os.Stdin
	defer func() { os.Stdin = terminal }()
	for piped, want := range map[string]string{"keeper:tides\n": "keeper:tides", "\n": "", "": "", "-----BEGIN X\n-----END X\n": "-----BEGIN X\n-----END X\n"} {
		for _, file := range []string{"", "-"} {
			r, w, err := os.Pipe()
			if err != nil {
				t.Fatal(err)
			}
			if _, err := w.WriteString(piped); err != nil {
				t.Fatal(err)
			}
			w.Close()
			os.Stdin = r
			if got, err := readSecret(file, "leaflets"); got != want || (err == nil) != (want != "") {
				t.Errorf("%q piped in, file %q: %q, %v", piped, file, got, err)
			}
		}
	}
}

func TestACommandSaysHowItIsWritten(t *testing.T) {
	for words, want := range map[string]string{
		"show": "northstake show was given nothing; it is written\n  northstake show HOST", "lint a b": "northstake lint was given a b; it is written\n  northstake lint [DIR]",
		"plan --bogus": "northstake plan --help says which there are", "trust": "say which hosts", "secret forget": "northstake secret forget NAME",
		"secret keap x": `did you mean "northstake secret keep"?`, "token give": "there is no command \"northstake token give\"\n  it has create, list, remove", "pln": `did you mean "northstake plan"?`,
		"ls": "northstake hosts: List a ground's hosts", "validate": "northstake lint: ", "status": "northstake drift: ", "destroy": "northstake retire: ", "deploy": "northstake apply: ",
		"help interval": "after every run", "help ls": "northstake grounds: ", "secret add x": "it has forget, keep, list",
	} {
		if out, code := northstake(t, strings.Fields(words)...); code != trouble || !strings.Contains(out, want) {
			t.Errorf("%s exits with %d: %s", words, code, out)
		}
	}
}

// A plan, a run or a host is looked for in every ground that the service has.
func TestTheGroundOfARunIsFound(t *testing.T) {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch r.URL.Path {
		case "/api/v1/grounds":
			w.Write([]byte(`[{"name":"marsh"},{"name":"saltmarsh"},{"name":"trial"}]`))
		case "/api/v1/grounds/marsh/sites/islands", "/api/v1/grounds/trial/hosts/quay1", "/api/v1/grounds/trial/sites/ebb", "/api/v1/grounds/marsh/hosts/ebb":
			w.Write([]byte(`{}`))
		case "/api/v1/grounds/saltmarsh/runs/7", "/api/v1/grounds/saltmarsh/runs/8", "/api/v1/grounds/trial/runs/8":
			w.Write([]byte(`{}`))
		case "/api/v1/grounds/trial/runs/9":
			w.WriteHeader(http.StatusInternalServerError)
			w.Write([]byte(`{"title":"the database does not answer"}`))
		default:
			w.WriteHeader(http.StatusNotFound)
			w.Write([]byte(`{"title":"it is not there"}`))
		}
	}))
	defer service.Close()
	t.Setenv("HOME", t.TempDir())
	t.Chdir(t.TempDir())
	for word, want := range map[string]string{"islands": "marsh", "quay1": "trial", "host:quay1": "trial", "site:islands": "marsh", "ebb": "say with --ground which ground is meant: marsh, trial", "host:ebb": "marsh", "site:quay1": "no ground has", "none": `no ground has a site or a host "none"`} {
		a := &app{server: service.URL, out: newPaper(os.Stdout)}
		got, err := a.groundOfSite(context.Background(), "", word)
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, want) {
			t.Errorf("%s: %q, want %q", word, got, want)
		}
	}
	for run, want := range map[int64]string{7: "saltmarsh", 8: "say with --ground which ground is meant: saltmarsh, trial", 9: "the database does not answer", 10: "no ground has run 10"} {
		a := &app{server: service.URL, out: newPaper(os.Stdout)}
		got, err := a.groundOfRun(context.Background(), "", run)
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, want) {
			t.Errorf("run %d: %q, want %q", run, got, want)
		}
	}
	a := &app{server: service.URL, out: newPaper(os.Stdout)}
	if got, err := a.groundOfRun(context.Background(), "trial", 7); err != nil || got != "trial" {
		t.Errorf("the ground that is named: %q, %v", got, err)
	}
}

// A file that a declaration needs may lie directly beside it.
func TestAFileBesideTheDeclaration(t *testing.T) {
	dir := t.TempDir()
	text := "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.a]\naddress = \"10.0.0.1\"\n[host.a.file.\"/etc/motd\"]\nfrom = \"motd\"\n[host.a.source.ferries]\nurl = \"http://packages.saltmarsh.test/\"\nkey = \"ferries.asc\"\nsuites = [\"./\"]\n"
	for name, b := range map[string]string{"g.toml": text, "motd": "Kept.\n", "ferries.asc": "-----BEGIN PGP PUBLIC KEY BLOCK-----\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(b), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	out, code := northstake(t, "lint", dir)
	if code != trouble || strings.Contains(out, "there is no file") || !strings.Contains(out, "leave suites out") || !strings.Contains(out, "1 mistake") {
		t.Errorf("lint exits with %d:\n%s", code, out)
	}
}

// What is written faint is not filled up with blanks to its longest line.
func TestLinesAreNotFilledUp(t *testing.T) {
	if got := newPaper(os.Stdout).faint("ebb\na longer line\n\nflood"); got != "ebb\na longer line\n\nflood" {
		t.Errorf("%q", got)
	}
}

// A plan ends by saying where it would do how much, as what it is kept, and what comes
// next.
func TestAPlanEndsWithWhatComesNext(t *testing.T) {
	step := wire.Step{Number: 1, Move: wire.Move{Text: "install package nginx"}}
	one := contract.Plan{Id: 4, Steps: 1, Hosts: []contract.PlanPlace{{Name: "quay1", Steps: []wire.Step{step}}, {Name: "quay2"}}}
	two := contract.Plan{Id: 12, Steps: 3, Hosts: []contract.PlanPlace{{Name: "quay1", Steps: []wire.Step{step, step}}, {Name: "quay2", Steps: []wire.Step{step}}}}
	for want, p := range map[string]contract.Plan{
		"\n1 step on quay1, kept as plan 4. Next: northstake apply 4\n": one, "\n3 steps on 2 hosts, kept as plan 12. Next: northstake apply 12\n": two,
	} {
		var out strings.Builder
		a := &app{out: &paper{w: &out}}
		a.showPlan("saltmarsh", p, false)
		if !strings.HasSuffix(out.String(), want) {
			t.Errorf("a plan ends with %q, want %q", out.String(), want)
		}
	}
}

// What is kept twice is kept once, the later way; and a declaration that would not be sound
// with it is refused before anything changes.
func TestWhatIsBroughtIsKeptAgainAndAgain(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("ground.toml", "[ground]\nname = \"saltmarsh\"\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\n[host.quay1]\naddress = \"10.88.0.11\"\npackages = [\"curl\"]\n")
	a := &app{out: newPaper(os.Stderr)}
	keep := func(sort, name string, keys map[string]any) error {
		k, err := a.tryKeep(t.Context(), dir, map[string]any{"quay1": map[string]any{sort: map[string]any{name: keys}}}, nil, keys)
		if err != nil {
			return err
		}
		return k.write(k.after)
	}
	for _, k := range []struct {
		sort, name string
		keys       map[string]any
	}{{"package", "tree", map[string]any{}}, {"package", "rsync", map[string]any{}}, {"service", "cron", map[string]any{"running": true}}, {"package", "tree", map[string]any{"is": "gone"}}} {
		if err := keep(k.sort, k.name, k.keys); err != nil {
			t.Fatalf("%+v: %v", k, err)
		}
	}
	d, _, _, err := lintGround(t.Context(), a.programs(), dir, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(filepath.Join(dir, keptFile))
	if err != nil || strings.Count(string(text), "tree") != 1 || !strings.Contains(string(text), "gone") || !strings.Contains(string(text), "rsync") || d.Hosts["quay1"] == nil {
		t.Errorf("kept as\n%s%v", text, err)
	}
	before := string(text)
	if err := keep("package", "curl", map[string]any{"is": "gone"}); err == nil {
		t.Error("a declaration that contradicts itself is kept")
	}
	if text, err = os.ReadFile(filepath.Join(dir, keptFile)); err != nil || string(text) != before {
		t.Errorf("after that it is\n%s%v", text, err)
	}
}

// printed is what a command prints when it is piped.
func printed(t *testing.T, do func(a *app)) string {
	t.Helper()
	f, err := os.Create(filepath.Join(t.TempDir(), "out"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	do(&app{out: newPaper(f)})
	b, err := os.ReadFile(f.Name())
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// What could not be read comes before any word of the rest, and a host that is down is not
// one on which nothing has shifted.
func TestUnreadComesFirst(t *testing.T) {
	down := contract.SurveyPlace{Place: "quay1", Unread: "host quay1 refuses connections"}
	fine := contract.SurveyPlace{Place: "quay2", Counts: contract.Counts{Set: 3}}
	partly := contract.SurveyPlace{Place: "quay3", Counts: contract.Counts{Set: 2, Unread: 1}, Rows: []plan.Row{{Address: "quay3/file/etc/x", Standing: plan.Unread, Reason: "it is larger than 1.0 MB"}}}
	for name, c := range map[string]struct {
		hosts []contract.SurveyPlace
		says  string
		not   string
		exit  status
	}{
		"all down":         {[]contract.SurveyPlace{down}, "1 host could not be read", "nothing has shifted on", trouble},
		"one of two":       {[]contract.SurveyPlace{down, fine}, "nothing else has shifted on 1 host", "", trouble},
		"a stake":          {[]contract.SurveyPlace{partly}, "nothing else has shifted on 1 host", "nothing has shifted on", trouble},
		"both":             {[]contract.SurveyPlace{down, partly}, "1 host and 1 stake of others could not be read", "", trouble},
		"all as it should": {[]contract.SurveyPlace{fine}, "nothing has shifted on 1 host", "could not be read", asDeclared},
	} {
		s := contract.Survey{Hosts: c.hosts}
		out := printed(t, func(a *app) { a.showDrift("saltmarsh", s) })
		if !strings.Contains(out, c.says) || c.not != "" && strings.Contains(out, c.not) || surveyStatus(s, true) != c.exit {
			t.Errorf("%s: %d\n%s", name, surveyStatus(s, true), out)
		}
	}
	for name, c := range map[string]struct {
		p    contract.Plan
		says string
		exit status
	}{
		"all as declared":   {contract.Plan{Revision: 3, Hosts: []contract.PlanPlace{{Name: "quay1"}}}, "there is nothing to do: all is as revision 3", asDeclared},
		"answers otherwise": {contract.Plan{Revision: 3, Hosts: []contract.PlanPlace{{Name: "quay1", Otherwise: []stake.Note{{Address: "quay1/site/tides", What: "it is answered by another"}}}}}, "not all is as declared: 1 site answers otherwise", differs},
		"no host read":      {contract.Plan{Unread: 1, Hosts: []contract.PlanPlace{{Name: "quay1", Unread: "host quay1 refuses connections"}}}, "1 host could not be read: nothing is planned", trouble},
		"one host read":     {contract.Plan{Unread: 1, Hosts: []contract.PlanPlace{{Name: "quay1", Unread: "host quay1 refuses connections"}, {Name: "quay2"}}}, "as far as the rest goes there is nothing to do", trouble},
		"a stake unread":    {contract.Plan{Revision: 3, Unread: 1, Hosts: []contract.PlanPlace{{Name: "quay1", NotRead: []plan.Unreadable{{Address: "quay1/file/etc/x", Why: "it is larger"}}}}}, "not read quay1/file/etc/x: it is larger", trouble},
		"steps, and one":    {contract.Plan{Id: 7, Steps: 1, Unread: 1, Hosts: []contract.PlanPlace{{Name: "quay1", Steps: []wire.Step{{Number: 1}}, NotRead: []plan.Unreadable{{Address: "quay1/file/etc/x", Why: "it is larger"}}}}}, "1 stake could not be read, and nothing is planned for it", trouble},
	} {
		out := printed(t, func(a *app) { a.showPlan("saltmarsh", c.p, false) })
		if !strings.Contains(out, c.says) || planStatus(c.p) != c.exit || c.p.Unread > 0 && strings.Contains(out, "there is nothing to do:") {
			t.Errorf("%s: %d\n%s", name, planStatus(c.p), out)
		}
	}
}

// A run is to be carried on with where something is left of it: not on a host of which nothing was
// planned, since it could not be read.
func TestOnlyWhatWasPlannedIsCarriedOnWith(t *testing.T) {
	unread := contract.RunPlace{Place: "quay1", State: "failed"}
	failed := contract.RunPlace{Place: "quay2", State: "failed", Steps: []contract.RunStep{{Number: 1}}}
	for _, c := range []struct {
		hosts []contract.RunPlace
		want  bool
	}{{[]contract.RunPlace{unread}, false}, {[]contract.RunPlace{failed}, true}, {[]contract.RunPlace{unread, failed}, true}} {
		out := printed(t, func(a *app) { a.showRunEnd(contract.Run{Id: 9, Hosts: c.hosts}) })
		if got := strings.Contains(out, "to carry on there: northstake resume 9"); got != c.want {
			t.Errorf("of %d hosts it says\n%s", len(c.hosts), out)
		}
	}
}

// Many steps that are alike are said in one line, and each of them with --details; what holds somebody's
// content and goes, and what can shut the way in, always stands alone.
func TestStepsThatAreAlikeAreSaidOnce(t *testing.T) {
	var h contract.PlanPlace
	h.Name = "quay1"
	step := func(typ, verb, name, text string) *wire.Step {
		h.Steps = append(h.Steps, wire.Step{Number: len(h.Steps) + 1, Type: typ, Name: name, Move: wire.Move{Verb: verb, Text: text, Details: []wire.Detail{{Text: "one\ntwo\nthree"}}}})
		return &h.Steps[len(h.Steps)-1]
	}
	step("package", "install", "nginx", "install package nginx")
	for i := range 200 {
		step("content", "publish", fmt.Sprintf("/srv/www/s%d", i), fmt.Sprintf("publish 2 files to /srv/www/s%d", i))
	}
	for i := range 200 {
		step("site", "write", fmt.Sprintf("s%d", i), fmt.Sprintf("write the virtual host of site s%d", i))
		h.Cautions = append(h.Cautions, stake.Note{Address: fmt.Sprintf("quay1/site/s%d", i), What: "it is the first", Fix: "leave it"})
	}
	for i := range 9 {
		step("content", "take", fmt.Sprintf("/srv/old%d", i), fmt.Sprintf("take away what is in /srv/old%d", i)).Removes = []string{"content"}
	}
	for i := range 9 {
		step("file", "write", fmt.Sprintf("/etc/ssh/x%d", i), fmt.Sprintf("write /etc/ssh/x%d", i)).Confirm = true
	}
	many := step("site", "write", "one of many", "write the virtual hosts of 30 sites")
	for i := range 29 {
		many.Details = append(many.Details, wire.Detail{Text: fmt.Sprintf("text of site %d", i)})
	}
	for i := range 7 {
		step("port", "open", fmt.Sprint(i), fmt.Sprintf("open port %d", i))
	}
	p := contract.Plan{Id: 4, Steps: len(h.Steps), Hosts: []contract.PlanPlace{h}}
	short := printed(t, func(a *app) { a.showPlan("saltmarsh", p, false) })
	for _, line := range []string{
		"2-201  publish 200 roots: /srv/www/s0, /srv/www/s1, /srv/www/s2, /srv/www/s3 and 196 more (--details shows each)\n",
		"202-401  write 200 virtual hosts: s0, s1, s2, s3 and 196 more (--details shows each)\n",
		"402  take away what is in /srv/old0\n", "410  take away what is in /srv/old8\n", "419  write /etc/ssh/x8\n", "420  write the virtual hosts of 30 sites\n", "text of site 0\n        28 more differences: --details\n", "421  open port 0\n",
		"caution quay1/site/s0, quay1/site/s1, quay1/site/s2, quay1/site/s3 and 196 more: it is the first\n",
	} {
		if strings.Count(short, line) != 1 {
			t.Errorf("%q is not said once:\n%s", line, short)
		}
	}
	if strings.Contains(short, "site s7") || strings.Count(short, "\n") > 120 {
		t.Errorf("it is long:\n%s", short)
	}
	if whole := printed(t, func(a *app) { a.showPlan("saltmarsh", p, true) }); !strings.Contains(whole, "  9  publish 2 files to /srv/www/s7\n") || strings.Contains(whole, "200 roots") {
		t.Errorf("with --details:\n%.2000s", whole)
	}
}

// A sentence that is wider than the terminal breaks between words, below its own beginning;
// what it says is the same.
func TestSentencesBreakBetweenWords(t *testing.T) {
	for _, c := range []struct {
		text  string
		width int
		want  string
	}{
		{"  4  install package nginx 1.22.1", 20 + 5, "  4  install package\n     nginx 1.22.1"},
		{"     take it away by hand", 30, "     take it away by hand"},
		{"take it away by hand", 12, "take it away\nby hand"},
		{"/a/path/that/has/no/blanks/at/all/in/it", 24, "/a/path/that/has/no/blan\nks/at/all/in/it"},
		{"one\n        two three four five six seven", 30, "one\n        two three four five\n        six seven"},
		{"     \x1b[2mfaint words that go on and on\x1b[0m", 28, "     faint words that go on\n     and on"},
		{strings.Repeat(" ", 60) + "deep in a page", 30, ""},
	} {
		got := broken(c.text, c.width)
		if c.want != "" && ansi.Strip(got) != c.want {
			t.Errorf("%q at %d is %q", c.text, c.width, got)
		}
		for _, l := range strings.Split(got, "\n") {
			if ansi.StringWidth(l) > c.width {
				t.Errorf("%q is wider than %d", l, c.width)
			}
		}
		squeeze := func(s string) string { return strings.Join(strings.Fields(ansi.Strip(s)), "") }
		if squeeze(got) != squeeze(c.text) {
			t.Errorf("%q says %q", c.text, got)
		}
	}
}
