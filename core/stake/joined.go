package stake

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Works is the work of one step for several stakes of a kind, or for one: then it is written
// as that one's.
type Works[W any] []W

// joinedWorks is how the work of several is written.
type joinedWorks[W any] struct {
	Works []W `json:"works"`
}

// MarshalJSON writes one work as it is, and several as a list.
func (w Works[W]) MarshalJSON() ([]byte, error) {
	if len(w) == 1 {
		return json.Marshal(w[0])
	}
	return json.Marshal(joinedWorks[W]{w})
}

// UnmarshalJSON reads both.
func (w *Works[W]) UnmarshalJSON(b []byte) error {
	var several joinedWorks[W]
	if err := json.Unmarshal(b, &several); err != nil {
		return err
	}
	if *w = several.Works; len(several.Works) > 0 {
		return nil
	}
	var one W
	if err := json.Unmarshal(b, &one); err != nil {
		return err
	}
	*w = Works[W]{one}
	return nil
}

// joinMoves makes one move of several whose works are joined. What names the things in
// their plural, names are theirs.
func joinMoves(moves []Move, what string, names []string) Move {
	all := joinedWorks[json.RawMessage]{}
	out := Move{Verb: moves[0].Verb, Because: moves[0].Because}
	for _, m := range moves {
		all.Works = append(all.Works, m.Work)
		out.Details = append(out.Details, m.Details...)
		out.Removes = append(out.Removes, m.Removes...)
	}
	const most = 5
	out.Text = fmt.Sprintf("%s %s: %s", out.Verb, what, strings.Join(names[:min(len(names), most)], ", "))
	if more := len(names) - most; more > 0 {
		out.Text += fmt.Sprintf(" and %d more", more)
	}
	out.Work = JSON(all)
	return out
}

// worksWithin says whether each of the works that a step would do now is one of those that
// the planned step showed.
func worksWithin(planned, now json.RawMessage) bool {
	var was, is Works[json.RawMessage]
	if json.Unmarshal(planned, &was) != nil || json.Unmarshal(now, &is) != nil {
		return false
	}
	for _, w := range is {
		if !slices.ContainsFunc(was, func(o json.RawMessage) bool { return bytes.Equal(compacted(o), compacted(w)) }) {
			return false
		}
	}
	return true
}

func compacted(b json.RawMessage) []byte {
	var out bytes.Buffer
	if json.Compact(&out, b) != nil {
		return b
	}
	return out.Bytes()
}
