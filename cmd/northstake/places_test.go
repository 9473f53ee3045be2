package main

import (
	"bytes"
	"strings"
	"testing"

	"northstake/core/plan"
	"northstake/core/wire"
	"northstake/service/contract"
)

// Places are counted as hosts where all of them are, and each is called by its sort.
func TestPlacesAreCalledWhatTheyAre(t *testing.T) {
	for want, p := range map[string]places{"0 hosts": nil, "1 host": {""}, "2 hosts": {"", ""}, "1 place": {"zone"}, "3 places": {"", "zone", ""}} {
		if got := p.words(); got != want {
			t.Errorf("%q are %s", p, got)
		}
	}
	rows := []plan.Row{{Address: "tides.test/record/www", Type: "record", Name: "www", Standing: plan.Shifted, Differences: []wire.Difference{{Attribute: "address", Wanted: "192.0.2.1", Found: "192.0.2.2"}}}}
	var text bytes.Buffer
	a := &app{out: &paper{w: &text}}
	a.showDrift("office", contract.Survey{Hosts: []contract.SurveyPlace{
		{Place: "quay1", Rows: []plan.Row{}},
		{Place: "tides.test", Sort: "zone", Rows: rows, Counts: contract.Counts{Shifted: 1}},
		{Place: "ebb.test", Sort: "zone", Unread: "nobody answers"},
	}})
	for _, want := range []string{"zone tides.test", "zone ebb.test", "1 place could not be read", "1 stake has shifted on 1 place"} {
		if !strings.Contains(text.String(), want) {
			t.Errorf("nothing says %q in\n%s", want, text.String())
		}
	}
	text.Reset()
	a.showHost(contract.PlaceView{Name: "tides.test", Sort: "zone", Trusted: true, Traits: wire.Traits{System: "a zone"}, Rows: rows})
	if got := text.String(); !strings.Contains(got, "zone tides.test") || strings.Contains(got, "SSH") || strings.Contains(got, "memory") || !strings.Contains(got, "tides.test/record/www") {
		t.Errorf("a zone is shown as\n%s", got)
	}
}
