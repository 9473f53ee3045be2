// Package kinds holds how each kind of stake is declared and checked, and what it then wants and claims on a
// host, one file each.
package kinds

import (
	"encoding/json"
)

// renamed gives a key of what was kept the name that it has now.
func renamed(want map[string]json.RawMessage, was, now string) {
	if v, there := want[was]; there {
		want[now] = v
		delete(want, was)
	}
}
