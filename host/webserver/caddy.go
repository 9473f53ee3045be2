package webserver

import (
	"regexp"
	"strconv"
	"strings"
	"time"

	"northstake/core/stake"
	"northstake/host/system"
)

// Caddy has taken a configuration in when its reload returns, and refuses one that is
// wrong.
var _ = register("caddy", server{
	reloadTests: true,
	generation:  func(*system.Machine, stake.Layout, []string) map[string]bool { return nil },
	// It keeps what it has loaded, each time that it loads something ("persist_config").
	readAt: func(m *system.Machine, _ stake.Layout, _ []string) (time.Time, bool) {
		return m.ChangedAt("/var/lib/caddy/.config/caddy/autosave.json")
	},
	names: func(text string) []string {
		var out []string
		for _, a := range addressesOf(text) {
			out = append(out, strings.ToLower(strings.TrimSuffix(a.name, ".")))
		}
		return out
	},
	hosts: func(text string) []int {
		var out []int
		for _, a := range addressesOf(text) {
			n, err := strconv.Atoi(a.port)
			switch {
			case err == nil:
				out = append(out, n)
			case a.scheme == "http":
				out = append(out, 80)
			default: // it answers in plain HTTP there, to send on
				out = append(out, 80, 443)
			}
		}
		return out
	},
	// The test opens the files of logs, which are then its own.
	alone: func(text string, _ candidate) string {
		return caddyLogs.ReplaceAllString(text, "${1}output discard")
	},
})

var (
	caddyAddresses = regexp.MustCompile(`(?m)^([^\s#({@][^{\n]*)\{\s*$`)
	caddyLogs      = regexp.MustCompile(`(?m)^(\s*)output\s+file\s.*$`)
)

// address is one of the addresses of a site block: scheme and port are "" where it says none.
type address struct{ scheme, name, port string }

// addressesOf are those of the site blocks of a text.
func addressesOf(text string) (out []address) {
	for _, m := range caddyAddresses.FindAllStringSubmatch(comments.ReplaceAllString(text, ""), -1) {
		for _, word := range strings.FieldsFunc(m[1], func(r rune) bool { return r == ',' || r == ' ' || r == '\t' }) {
			a := address{name: word}
			if scheme, rest, schemed := strings.Cut(word, "://"); schemed {
				a.scheme, a.name = scheme, rest
			}
			a.name, a.port, _ = strings.Cut(a.name, ":")
			out = append(out, a)
		}
	}
	return out
}
