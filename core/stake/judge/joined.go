package judge

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"northstake/core/wire"
)

// joinMoves makes one move of several whose works are joined. What names the things in
// their plural, names are theirs.
func joinMoves(moves []wire.Move, what string, names []string) wire.Move {
	all := wire.JoinedWorks[json.RawMessage]{}
	out := wire.Move{Verb: moves[0].Verb, Because: moves[0].Because}
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
	out.Work = wire.JSON(all)
	return out
}

// worksWithin says whether each of the works that a step would do now is one of those that
// the planned step showed.
func worksWithin(planned, now json.RawMessage) bool {
	var was, is wire.Works[json.RawMessage]
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
