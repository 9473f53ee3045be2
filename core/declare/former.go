package declare

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// now is how a key that was once written otherwise is written: its name, and the line
// to write, with the value that stood there for %s.
type now struct{ key, line string }

// former are the keys that were once written otherwise, by the type of their table.
var former = map[string]now{
	"Ground.hosts_from":  {"more_hosts", `more_hosts = { program = %s }; hosts in a file of their own are a .toml file like the others`},
	"Ground.hosts_cache": {"more_hosts", `more_hosts = { program = …, hold = %s }`},
	"Content.exact":      {"rest", `rest = "removed", or leave it out where the rest is kept`},
	"Content.file_mode":  {"modes", `modes = { files = %s }`},
	"Content.dir_mode":   {"modes", `modes = { directories = %s }`},
	"TextFile.block":     {"portion", `portion = %s`},
	"Link.to":            {"points_to", `points_to = %s`},
}

// FormerKeys lists the keys that were once written otherwise, each behind the type of
// its table: "Link.to".
func FormerKeys() []string { return sortedKeys(former) }

// fix says what to write for the value that stands there.
func (n now) fix(v *node) string {
	value := v.text
	if v.kind == unstable.String {
		value = strconv.Quote(value)
	}
	if value == "" {
		value = "…"
	}
	if !strings.Contains(n.line, "%s") {
		return "write " + n.line
	}
	return "write " + fmt.Sprintf(n.line, value)
}
