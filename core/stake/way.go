package stake

import (
	"encoding/json"

	"northstake/core/wire"
)

// byPaths is what kinds say of the way in whose steps change nothing but what lies at their paths, or are held
// already where they are to be.
func byPaths(*wire.Way, string, json.RawMessage) bool { return false }

// workOnWay adapts what says of decoded work whether it can shut the way in; what cannot be read may.
func workOnWay[W any](on func(way *wire.Way, work W) bool) func(*wire.Way, string, json.RawMessage) bool {
	return func(way *wire.Way, _ string, raw json.RawMessage) bool {
		var work W
		return json.Unmarshal(raw, &work) != nil || on(way, work)
	}
}
