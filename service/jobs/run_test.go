package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/host/reach"
	"northstake/service/contract"
)

func steps(addresses ...string) []wire.Step {
	var out []wire.Step
	for i, a := range addresses {
		out = append(out, wire.Step{Number: i + 1, Address: a, Move: wire.Move{Text: "do " + a}})
	}
	return out
}

func numbers(list []wire.Step) string {
	var out []string
	for _, s := range list {
		out = append(out, fmt.Sprintf("%s=%d", s.Address, s.Number))
	}
	return strings.Join(out, " ")
}

// What is left of a run keeps the numbers of the plan; a number that the host's
// journal has as done is never used again.
func TestWhatIsLeftKeepsItsNumbers(t *testing.T) {
	planned := steps("package/a", "content/b", "service/n", "firewall/f")
	for _, c := range []struct {
		left []wire.Step
		done map[int]bool
		want string
	}{
		{steps("content/b", "service/n", "firewall/f"), map[int]bool{1: true}, "content/b=2 service/n=3 firewall/f=4"},
		{steps("package/a", "content/b", "service/n", "firewall/f"), map[int]bool{}, "package/a=1 content/b=2 service/n=3 firewall/f=4"},
		// A reload that has become necessary again after its step was done.
		{steps("service/n"), map[int]bool{1: true, 2: true, 3: true, 4: true}, "service/n=5"},
		{steps("service/n", "service/n"), map[int]bool{3: true, 7: true}, "service/n=8 service/n=9"},
		{steps("service/n", "service/n"), map[int]bool{}, "service/n=3 service/n=5"},
	} {
		if got := numbers(renumber(planned, c.left, c.done)); got != c.want {
			t.Errorf("done %v: %s, want %s", c.done, got, c.want)
		}
	}
}

func TestMarkSaysWhatIsDoneLeftAndNoLongerNeeded(t *testing.T) {
	planned := plan.Place{Name: "quay1", Steps: steps("package/a", "content/b", "service/n")}
	h := &placeRun{doc: freshDoc(planned)}
	left := []wire.Step{{Number: 3, Address: "service/n", Move: wire.Move{Text: "reload n"}}, {Number: 4, Address: "service/n", Move: wire.Move{Text: "extra"}}}
	h.mark(left, map[int]bool{1: true})
	var got []string
	for _, s := range h.doc.Steps {
		got = append(got, fmt.Sprintf("%d %s %s", s.Number, s.State, s.Text))
	}
	if want := "1 done do package/a|2 skipped do content/b|3 waiting reload n|4 waiting extra"; strings.Join(got, "|") != want {
		t.Errorf("%q", got)
	}
}

// Every error that ends a host's part becomes a fault that says what happened,
// and keeps what the host said to do.
func TestFaultsKeepWhatIsKnown(t *testing.T) {
	inner := &wire.Fault{What: "nginx does not accept it", Fix: "correct g.toml:4", Line: 3, From: &declare.Position{File: "g.toml", Line: 4}}
	f := faultOf(errors.Join(inner, errors.New("and taking back failed")))
	if !strings.Contains(f.What, "taking back failed") || f.Fix != inner.Fix || f.From == nil {
		t.Errorf("%+v", f)
	}
	if inner.What != "nginx does not accept it" {
		t.Error("the host's own fault was changed")
	}
	if f := faultOf(&reach.Trouble{What: "refused", Fix: "start it"}); f.What != "refused" || f.Fix != "start it" {
		t.Errorf("%+v", f)
	}
	if f := faultOf(errors.New("cut")); f.What != "cut" || f.Fix == "" {
		t.Errorf("%+v", f)
	}
}

func TestPasswordsAreAskedForWhereTheyAreNeeded(t *testing.T) {
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: "[ground]\nname=\"g\"\n[reach]\nuser=\"k\"\nkey_secret=\"k\"\nsudo_asks = true\n[host.a]\naddress=\"10.0.0.1\"\n[host.b]\naddress=\"10.0.0.2\"\n[host.b.reach]\nsudo_secret=\"kept\"\n"}}, &declare.Manifest{})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	var needed PasswordNeeded
	if err := needPasswords(d, []string{"a", "b"}, nil); !errors.As(err, &needed) || fmt.Sprint(needed.Hosts) != "[a]" {
		t.Errorf("%v", err)
	}
	for _, given := range []contract.SudoPasswords{{"a": "x"}, {"*": "x"}} {
		if err := needPasswords(d, []string{"a", "b"}, given); err != nil {
			t.Errorf("with %v: %v", given, err)
		}
	}
}

// A replica that was too slow to say that it works on a run is given the run again by
// the queue: it does not begin it a second time beside the first.
func TestARunIsWorkedOnOnceInAReplica(t *testing.T) {
	j := &Service{working: map[int64]*cancelling{}} // with no store: whoever goes on comes to grief
	if !j.beginHere(7) {
		t.Fatal("it is not begun the first time")
	}
	if err := j.run(context.Background(), 7); err != nil {
		t.Error(err)
	}
	if !j.worksOn(7) {
		t.Error("the second call has ended the first")
	}
	j.endHere(7)
	if !j.beginHere(7) {
		t.Error("it cannot be begun again after its end")
	}
}

// What a run announces of a host grows in line with its steps, and put together it is what the
// record has (S6, I8).
func TestWhatARunAnnouncesIsNews(t *testing.T) {
	doc := contract.RunPlace{Place: "quay1", State: "running", Steps: []contract.RunStep{}}
	for n := range 400 {
		doc.Steps = append(doc.Steps, contract.RunStep{Number: n + 1, Name: fmt.Sprintf("quay1/file/etc/tides/%d.conf", n), Text: fmt.Sprintf("write /etc/tides/%d.conf, 120 bytes, owner root, mode 0644", n), State: "waiting"})
	}
	var told, built contract.RunPlace
	whole, bytes := 0, 0
	put := func() {
		t.Helper()
		said := news(told, doc)
		told = doc
		told.Steps, told.Notes = slices.Clone(doc.Steps), slices.Clone(doc.Notes)
		text := wire.JSON(said)
		if bytes += len(text); whole == 0 {
			whole = len(text)
		}
		var read contract.RunPlace
		if err := json.Unmarshal(text, &read); err != nil {
			t.Fatal(err)
		}
		steps := built.Steps
		for _, s := range read.Steps {
			if s.Number > len(steps) {
				steps = append(steps, s)
			} else {
				steps[s.Number-1] = s
			}
		}
		notes := append(built.Notes[:read.NotesFrom:read.NotesFrom], read.Notes...)
		built = read
		built.Steps, built.Notes, built.NotesFrom = steps, notes, 0
	}
	put()
	for i := range doc.Steps {
		for _, state := range []contract.RunStepState{"doing", "done"} {
			doc.Steps[i].State = state
			put()
		}
		if i%50 == 0 {
			doc.Steps[i].Said = append(doc.Steps[i].Said, "it takes a while")
			doc.Notes = append(doc.Notes, fmt.Sprintf("note %d", i))
			put()
		}
	}
	doc.State = "done"
	put()
	if string(wire.JSON(built)) != string(wire.JSON(doc)) {
		t.Errorf("put together it is\n%s\nand the record has\n%s", wire.JSON(built), wire.JSON(doc))
	}
	if bytes > 400<<10 {
		t.Errorf("400 steps are announced in %d KB; all of them at once are %d", bytes>>10, whole>>10)
	}
}

// A run is measured by what its plan promised: what a restore put back may be declared otherwise by now, or by
// nobody, as the server of sites that another one is to serve; but not shifted again.
func TestWhatARunIsMeasuredBy(t *testing.T) {
	for name, c := range map[string]struct {
		purpose purpose
		now     plan.Standing
		met     bool
	}{
		"put back, and declared otherwise": {restoring{}, plan.Due, true},
		"put back, and declared by nobody": {restoring{}, plan.Stray, true},
		"put back, and shifted":            {restoring{}, plan.Shifted, false},
		"brought about, and by nobody":     {everything{}, plan.Stray, false},
		"brought about, and due":           {everything{}, plan.Due, false},
		"brought about":                    {everything{}, plan.Set, true},
	} {
		h := &placeRun{s: scope{purpose: c.purpose}, planned: plan.Place{Steps: []wire.Step{{Address: "quay1/service/nginx"}}}}
		left := h.unmet(plan.Place{Rows: []plan.Row{{Address: "quay1/service/nginx", Standing: c.now}}})
		if met := len(left) == 0; met != c.met {
			t.Errorf("%s: left are %q", name, left)
		}
	}
}
