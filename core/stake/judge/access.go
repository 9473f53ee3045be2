package judge

import (
	"encoding/json"

	"northstake/core/wire"
)

// cutsOnlyAtPaths is what kinds say of the way in whose steps change nothing but what lies at their paths, or are held
// already where they are to be.
func cutsOnlyAtPaths(*wire.Access, string, json.RawMessage) bool { return false }

// workMayCut adapts what says of decoded work whether it can shut the way in; what cannot be read may.
func workMayCut[W any](on func(access *wire.Access, work W) bool) func(*wire.Access, string, json.RawMessage) bool {
	return func(access *wire.Access, _ string, raw json.RawMessage) bool {
		var work W
		return json.Unmarshal(raw, &work) != nil || on(access, work)
	}
}
