package work

import (
	"context"
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/plan"
	"northstake/core/resolve"
	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

const noted = `[ground]
name = "saltmarsh"
[host.quay1]
via = "service-machine"
kits = ["base"]
[kit.base.note.tide]
says = "Low tide at six"
[host.quay1.note.fog]
says = "No fog today"
`

// ground is one host that is a folder, with what is remembered of it.
type ground struct {
	t       *testing.T
	host    *Host
	applied map[string]plan.Applied
	d       *declare.Declaration
}

func declared(t *testing.T, text string) *declare.Declaration {
	t.Helper()
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	return d
}

// plan surveys the host and works out its plan. Worked are the stakes that a run has
// just brought about.
func (g *ground) plan(worked map[string]bool) plan.Place {
	g.t.Helper()
	resolved, err := resolve.OnePlace(g.d, "quay1", wire.Traits{}, nil, nil)
	if err != nil {
		g.t.Fatal(err)
	}
	in := plan.Input{Place: "quay1", Stakes: resolved.Stakes, Applied: g.applied, Readings: map[string]wire.Reading{}}
	var wants []wire.Want
	known := map[string]bool{}
	for _, s := range resolved.Stakes {
		wants, known[s.Local()] = append(wants, wire.Want{Type: s.Type, Name: s.Name, Want: s.Want}), true
	}
	for local, a := range g.applied {
		if !known[local] {
			wants = append(wants, wire.Want{Type: a.Type, Name: a.Name, Want: a.Want})
		}
	}
	for _, r := range Survey(context.Background(), g.host, wants) {
		in.Readings[r.Name] = r
	}
	h, err := plan.Build(in, nil)
	if err != nil {
		g.t.Fatal(err)
	}
	g.applied, _ = plan.Remember(in, &h, worked, 1, time.Now())
	return h
}

// apply does the steps of a plan, and says how everything stands then.
func (g *ground) apply(run string, h plan.Place) string {
	g.t.Helper()
	worked := map[string]bool{}
	for _, s := range h.Steps {
		if _, err := g.host.journal().Do(context.Background(), run, s, func(string, ...any) {}); err != nil {
			g.t.Fatal(err)
		}
		worked[s.Address] = true
	}
	return standings(g.plan(worked))
}

func standings(h plan.Place) string {
	out := map[string]plan.Standing{}
	for _, r := range h.Rows {
		out[r.Address] = r.Standing
	}
	return fmt.Sprint(out)
}

func steps(h plan.Place) string {
	var out []string
	for _, s := range h.Steps {
		out = append(out, s.Text)
	}
	return strings.Join(out, "; ")
}

// A kind of stake that two files add is linted, explained, planned, applied, found
// shifted after a hand edit, put back, taken back with its run, and stray when it is no
// longer declared; nothing else knows it.
func TestAKindOfItsOwnFromTwoFiles(t *testing.T) {
	_, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: strings.Replace(noted, "says = \"No", "sais = \"No", 1)}}, &declare.Manifest{})
	if len(problems) != 1 || problems[0].Error() != `g.toml:9:1: there is no key "sais" in [host.quay1.note.fog]` {
		t.Errorf("a miswritten key: %v", problems)
	}
	if _, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: strings.Replace(noted, "six", "six\\nor so", 1)}}, &declare.Manifest{}); len(problems) != 1 || problems[0].What != "a note has one line" || problems[0].Line != 7 {
		t.Errorf("its own check: %v", problems)
	}
	if keys, _ := declare.FindKeys("host.quay1.note.tide.says"); len(keys) != 1 || keys[0].About != "What the note says, in one line." {
		t.Errorf("its key is explained as %+v", keys)
	}
	g := &ground{t: t, host: folder(t), applied: map[string]plan.Applied{}, d: declared(t, noted)}
	first := g.plan(nil)
	if got := steps(first); got != "pin note fog; pin note tide" {
		t.Fatalf("the plan is to %s", got)
	}
	if got := g.apply("1", first); got != "map[quay1/note/fog:set quay1/note/tide:set]" {
		t.Errorf("applied: %s", got)
	}
	if again := g.plan(nil); len(again.Steps) > 0 {
		t.Errorf("a second plan is to %s", steps(again))
	}
	systemtest.Put(t, g.host.Machine, "/etc/board/tide", "High tide\n")
	shifted := g.plan(nil)
	if got := standings(shifted); got != "map[quay1/note/fog:set quay1/note/tide:shifted]" {
		t.Errorf("after a hand edit: %s", got)
	}
	if got := g.apply("2", shifted); got != "map[quay1/note/fog:set quay1/note/tide:set]" {
		t.Errorf("put back: %s", got)
	}
	if err := g.host.journal().Back(context.Background(), "2", func(string, ...any) {}); err != nil {
		t.Fatal(err)
	}
	if text, err := g.host.ReadText("/etc/board/tide"); err != nil || text != "High tide\n" {
		t.Errorf("the run taken back leaves %q, %v", text, err)
	}
	resolved, err := resolve.OnePlace(g.d, "quay1", wire.Traits{}, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	claims := map[string]string{}
	for _, c := range stake.ClaimsOf(resolved.Stakes) {
		claims[c.By] = c.Need + " " + c.Sort + " " + c.What
	}
	if !maps.Equal(claims, map[string]string{"note/fog": "own name note fog", "note/tide": "own name note tide"}) {
		t.Errorf("it claims %v", claims)
	}
	g.d = declared(t, strings.Split(noted, "[host.quay1.note.fog]")[0])
	if got := standings(g.plan(nil)); !strings.Contains(got, "quay1/note/fog:stray") {
		t.Errorf("no longer declared: %s", got)
	}
}
