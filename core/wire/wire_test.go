package wire

import (
	"encoding/json"
	"testing"
)

// The name of a run is read as it was written, and nothing else is taken for one: it is a name of files on hosts.
func TestTheNamesOfRuns(t *testing.T) {
	for _, r := range []Run{{1, "0123456789ab", "ba9876543210"}, {1<<63 - 1, "ffffffffffff", "000000000000"}} {
		if got, ok := ParseRun(r.String()); !ok || got != r {
			t.Errorf("%s is read as %+v, %t", r, got, ok)
		}
	}
	for _, name := range []string{"", "1", "0x0123456789abxba9876543210", "0x0123456789abxba98765432100", "01x0123456789abxba9876543210", "1x0123456789abxba987654321", "1x0123456789ABxba9876543210",
		"1x0123456789abxba9876543210\n", "../1x0123456789abxba9876543210", "1x0123456789abxba9876543210/..", "9223372036854775808x0123456789abxba9876543210"} {
		if got, ok := ParseRun(name); ok {
			t.Errorf("%q is taken for run %+v", name, got)
		}
	}
}

func FuzzParseRun(f *testing.F) {
	f.Add("7x0123456789abxba9876543210")
	f.Add("7x0123456789abx")
	f.Fuzz(func(t *testing.T, name string) {
		if r, ok := ParseRun(name); ok && r.String() != name {
			t.Errorf("%q is read as %s", name, r)
		}
	})
}

// Journals of releases before have another word for a step that was dismissed.
func TestStatesOfEarlierJournals(t *testing.T) {
	var states []StepState
	if err := json.Unmarshal([]byte(`["begun", "held", "done", "back", "stuck", "aside", "dismissed"]`), &states); err != nil {
		t.Fatal(err)
	}
	for i, want := range []StepState{Begun, Held, Done, Back, Stuck, Dismissed, Dismissed} {
		if states[i] != want {
			t.Errorf("number %d is read as %s, not as %s", i+1, states[i], want)
		}
	}
}
