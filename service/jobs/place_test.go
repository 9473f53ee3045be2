package jobs_test

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/plan"
	"northstake/service/contract"
	"northstake/service/place"
	"northstake/service/servicetest"
	"northstake/service/store"
)

// drawered is a ground of one drawer, with a host beside it, and how its declaration is given.
type drawered struct {
	t    *testing.T
	s    *servicetest.Service
	host *servicetest.Host
	dir  string
}

// declared gives a declaration whose drawer has these cards, none for no drawer, and returns the ground.
func (d *drawered) declared(cards map[string]string) store.Ground {
	d.t.Helper()
	text := "[ground]\nname = \"office\"\n[host.office1]\nvia = \"folder\"\n[host.office1.file.\"/etc/hours\"]\ntext = \"nine to five\\n\"\nowner = \"me\"\n"
	if len(cards) > 0 {
		text += fmt.Sprintf("[drawer.tides]\nfolder = %q\nkey_secret = \"drawer\"\nlabels = [\"paper\"]\n", d.dir)
	}
	for _, name := range slices.Sorted(maps.Keys(cards)) {
		text += fmt.Sprintf("[drawer.tides.card.%s]\nsays = %q\n", name, cards[name])
	}
	sources := []declare.Source{{Name: "g.toml", Text: text}}
	if _, problems := lint.Parse(sources, &declare.Manifest{}); len(problems) > 0 {
		d.t.Fatal(problems)
	}
	if _, _, err := d.s.Store.AddRevision(ctx, "office", sources, &declare.Manifest{}, "keeper"); err != nil {
		d.t.Fatal(err)
	}
	return ground(d.t, d.s, "office")
}

// cards are what lies in the drawer.
func (d *drawered) cards() string {
	d.t.Helper()
	out := map[string]string{}
	entries, err := os.ReadDir(d.dir)
	if err != nil {
		d.t.Fatal(err)
	}
	for _, e := range entries {
		if e.Name() != ".journal" {
			b, err := os.ReadFile(filepath.Join(d.dir, e.Name()))
			if err != nil {
				d.t.Fatal(err)
			}
			out[e.Name()] = string(b)
		}
	}
	return fmt.Sprint(out)
}

// planned makes a plan of what is asked for, and returns it.
func (d *drawered) planned(g store.Ground, ask contract.Ask) contract.Plan {
	d.t.Helper()
	task, err := d.s.Jobs.Ask(ctx, store.Plans, g, ask, "keeper")
	if err != nil {
		d.t.Fatal(err)
	}
	d.s.Follow(d.t, fmt.Sprintf("/grounds/%s/plans/%d/events", g.Name, task.ID))
	res, err := d.s.Client.GetPlanWithResponse(ctx, g.Name, task.ID)
	if err != nil || res.JSON200 == nil || res.JSON200.State != "done" {
		d.t.Fatalf("the plan is %+v, %v", res, err)
	}
	return *res.JSON200
}

// run carries a plan out, and returns what became of it on the drawer.
func (d *drawered) run(g store.Ground, p contract.Plan) (int64, contract.RunPlace) {
	d.t.Helper()
	r, err := d.s.Jobs.StartRun(ctx, g, p.Id, contract.NewRun{}, "keeper")
	if err != nil {
		d.t.Fatal(err)
	}
	return r.ID, on(d.t, ended(d.t, d.s, g, r.ID), "tides")
}

func on(t *testing.T, r contract.Run, name string) contract.RunPlace {
	t.Helper()
	i := slices.IndexFunc(r.Hosts, func(h contract.RunPlace) bool { return h.Place == name })
	if i < 0 {
		t.Fatalf("the run is not on %s: %+v", name, r)
	}
	return r.Hosts[i]
}

// stands is how the drawer's stakes stand in a new survey.
func (d *drawered) stands(g store.Ground) string {
	d.t.Helper()
	task, err := d.s.Jobs.Ask(ctx, store.Surveys, g, contract.Ask{Hosts: []string{"label:paper"}}, "keeper")
	if err != nil {
		d.t.Fatal(err)
	}
	d.s.Follow(d.t, fmt.Sprintf("/grounds/%s/surveys/%d/events", g.Name, task.ID))
	res, err := d.s.Client.GetSurveyWithResponse(ctx, g.Name, task.ID)
	if err != nil || res.JSON200 == nil || len(res.JSON200.Hosts) != 1 || res.JSON200.Hosts[0].Unread != "" {
		d.t.Fatalf("the survey is %s, %v", res.Body, err)
	}
	out := map[string]plan.Standing{}
	for _, r := range res.JSON200.Hosts[0].Rows {
		out[r.Address] = r.Standing
	}
	return fmt.Sprint(out)
}

func texts(p contract.Plan, name string) string {
	for _, h := range p.Hosts {
		if h.Name == name {
			var out []string
			for _, s := range h.Steps {
				out = append(out, s.Text)
			}
			return strings.Join(out, "; ")
		}
	}
	return "not planned for"
}

// A place that is no machine is declared, planned for, applied, cut off and carried on with, taken back, found
// shifted, restored, cleared and retired, beside a host, by the same service.
func TestAPlaceThatIsNoMachine(t *testing.T) {
	s := servicetest.Start(t)
	d := &drawered{t: t, s: s, host: servicetest.NewHost(t, "office1"), dir: t.TempDir()}
	sealed, err := s.Jobs.Seal.Close("drawer", []byte("sesame"))
	if err == nil {
		err = s.Store.KeepSecret(ctx, "drawer", sealed)
	}
	if err != nil {
		t.Fatal(err)
	}
	g := d.declared(map[string]string{"high": "noon", "low": "six"})

	p := d.planned(g, contract.Ask{})
	if got := texts(p, "tides"); got != "write card high; write card low" || texts(p, "office1") == "" {
		t.Fatalf("the plan is to %s; on the host to %s", got, texts(p, "office1"))
	}
	if i := slices.IndexFunc(p.Hosts, func(h contract.PlanPlace) bool { return h.Sort == "drawer" }); i < 0 || p.Hosts[i].Name != "tides" {
		t.Errorf("none of %+v is a drawer", p.Hosts)
	}
	if _, h := d.run(g, p); h.State != "done" || h.Sort != "drawer" || d.cards() != "map[high:noon low:six]" || d.host.Text("/etc/hours") != "nine to five\n" {
		t.Fatalf("applied it is %s with %s: %+v", h.State, d.cards(), h.Fault)
	}
	if got := d.stands(g); got != "map[tides/card/high:set tides/card/low:set]" {
		t.Errorf("applied it stands %s", got)
	}

	// Somebody writes on a card.
	if err := os.WriteFile(filepath.Join(d.dir, "low"), []byte("seven"), 0o644); err != nil {
		t.Fatal(err)
	}
	if got := d.stands(g); got != "map[tides/card/high:set tides/card/low:shifted]" {
		t.Errorf("after a hand edit it stands %s", got)
	}
	if _, h := d.run(g, d.planned(g, contract.Ask{Only: "shifted"})); h.State != "done" || d.cards() != "map[high:noon low:six]" {
		t.Errorf("restored it is %s with %s: %+v", h.State, d.cards(), h.Fault)
	}

	// The line breaks before and after the work of a step.
	for i, boundary := range []string{"begun", "worked"} {
		says := fmt.Sprint("half past ", i)
		g = d.declared(map[string]string{"high": says, "low": says})
		p := d.planned(g, contract.Ask{})
		breaks.Store(d.dir, "2 "+boundary)
		id, h := d.run(g, p)
		if h.State != "interrupted" {
			t.Fatalf("cut off when the second step has %s, it is %s: %+v", boundary, h.State, h.Fault)
		}
		if _, err := s.Jobs.ResumeRun(ctx, g, id, contract.ResumeRun{}); err != nil {
			t.Fatal(err)
		}
		if h := on(t, ended(t, s, g, id), "tides"); h.State != "done" || d.cards() != fmt.Sprintf("map[high:%s low:%[1]s]", says) {
			t.Errorf("carried on with it is %s with %s: %+v", h.State, d.cards(), h.Fault)
		}
	}

	// A step fails, and the run is taken back; one that would be refused is not begun.
	g = d.declared(map[string]string{"ebb": "now", "low": "torn"})
	before := d.cards()
	if _, h := d.run(g, d.planned(g, contract.Ask{})); h.State != "back" || d.cards() != before || !strings.Contains(h.Fault.What, "the card tears") {
		t.Errorf("where a step fails it is %s with %s: %+v", h.State, d.cards(), h.Fault)
	}
	g = d.declared(map[string]string{"ebb": "now", "forbidden": "x"})
	if _, h := d.run(g, d.planned(g, contract.Ask{})); h.State != "back" || d.cards() != before || !strings.Contains(h.Fault.What, "no card can be called forbidden") {
		t.Errorf("where a step is refused it is %s with %s: %+v", h.State, d.cards(), h.Fault)
	}

	// What is not declared any more goes when that is asked for, and all of the place when it is retired.
	g = d.declared(map[string]string{"low": "half past 1"})
	if got := d.stands(g); got != "map[tides/card/high:stray tides/card/low:set]" {
		t.Errorf("with a card that nobody declares it stands %s", got)
	}
	if _, h := d.run(g, d.planned(g, contract.Ask{Clear: true})); h.State != "done" || d.cards() != "map[low:half past 1]" {
		t.Errorf("cleared it is %s with %s: %+v", h.State, d.cards(), h.Fault)
	}
	g = d.declared(nil)
	if _, h := d.run(g, d.planned(g, contract.Ask{Retire: "tides"})); h.State != "done" || d.cards() != "map[]" {
		t.Errorf("retired it is %s with %s: %+v", h.State, d.cards(), h.Fault)
	}
	if err := s.Jobs.Forget(ctx, g, []string{"tides"}, false); err != nil {
		t.Errorf("it is not forgotten: %v", err)
	}
}

// Each sort of place says in core/declare how one is declared, and in service/place how it is got to.
func TestEverySortOfPlaceCanBeReached(t *testing.T) {
	if reached := slices.Sorted(maps.Keys(place.NewSorts(place.Hosts{}))); !slices.Equal(reached, declare.Sorts()) {
		t.Errorf("%v can be declared, and %v reached", declare.Sorts(), reached)
	}
}

// What is wrong with the declaration of such a place is told like everything else.
func TestMistakesWithPlacesAreTold(t *testing.T) {
	const head = "[ground]\nname = \"office\"\n[host.tides]\nvia = \"folder\"\n"
	for name, c := range map[string]struct{ text, want string }{
		"a host's name":  {"[drawer.tides]\nfolder = \"x\"\nkey_secret = \"k\"\n", "g.toml:5:9: drawer tides has the name of a host"},
		"an odd name":    {"[drawer.\"Up River\"]\nfolder = \"x\"\nkey_secret = \"k\"\n", "g.toml:5:9: the name \"Up River\" of a drawer has characters it cannot have"},
		"a missing key":  {"[drawer.ebb]\nfolder = \"x\"\n", "g.toml:5:9: [drawer.ebb] has no key_secret"},
		"a key of hosts": {"[drawer.ebb]\nfolder = \"x\"\nkey_secret = \"k\"\nports = [\"80/tcp\"]\n", "g.toml:8:1: there is no key \"ports\" in [drawer.ebb]"},
	} {
		_, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: head + c.text}}, &declare.Manifest{})
		if len(problems) != 1 || problems[0].Error() != c.want {
			t.Errorf("%s: %v", name, problems)
		}
	}
}
