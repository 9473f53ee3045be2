package kinds

import (
	"encoding/json"

	"northstake/core/wire"
)

// formerContent brings what is kept of content into today's form: its modes stood by themselves, and
// "exact" said that what nobody declared goes.
func formerContent(want map[string]json.RawMessage) {
	modes := map[string]json.RawMessage{}
	for was, now := range map[string]string{"file_mode": "files", "dir_mode": "directories"} {
		if v, there := want[was]; there {
			modes[now] = v
			delete(want, was)
		}
	}
	if len(modes) > 0 {
		want["modes"] = wire.JSON(modes)
	}
	if v, there := want["exact"]; there {
		if delete(want, "exact"); string(v) == "true" {
			want["rest"] = wire.JSON(wire.Removed)
		}
	}
}
