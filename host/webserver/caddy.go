package webserver

import (
	"regexp"
	"strconv"
	"strings"
	"time"

	"northstake/core/wire"
	"northstake/host/system"
)

// Caddy has taken a configuration in when its reload returns, and refuses one that is
// wrong.
var _ = register("caddy", server{
	complaint:   caddyComplaint,
	reloadTests: true,
	generation:  func(*system.Machine, wire.Layout, []string) map[string]bool { return nil },
	// It keeps what it has loaded, each time that it loads something ("persist_config").
	readAt: func(m *system.Machine, _ wire.Layout, _ []string) (time.Time, bool) {
		return m.ChangedAt("/var/lib/caddy/.config/caddy/autosave.json")
	},
	names: func(text string) (out []claim) {
		for _, a := range addressesOf(text) {
			out = append(out, claimed([]string{strings.ToLower(strings.TrimSuffix(a.name, "."))}, a.ports())...)
		}
		return out
	},
	hosts: func(text string) (out []int) {
		for _, a := range addressesOf(text) {
			out = append(out, a.ports()...)
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

// ports are those on which it is answered.
func (a address) ports() []int {
	if n, err := strconv.Atoi(a.port); err == nil {
		return []int{n}
	}
	if a.scheme == "http" {
		return []int{80}
	}
	return []int{80, 443} // in plain HTTP to send on
}

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

// caddyLine is how Caddy names a line of its configuration: "/file:3 - Error during
// parsing: what is wrong", or "/file:3: what is wrong".
var caddyLine = regexp.MustCompile(`(/[^\s:]+):(\d+)(?: - Error during parsing)?: (.*?)\s*$`)

func caddyComplaint(output string) (complaint, bool) {
	for _, line := range strings.Split(output, "\n") {
		if m := caddyLine.FindStringSubmatch(line); m != nil {
			n, _ := strconv.Atoi(m[2])
			return complaint{m[3], wire.Path(m[1]), n}, true
		}
	}
	for _, line := range strings.Split(output, "\n") {
		if what, ok := strings.CutPrefix(strings.TrimSpace(line), "Error: "); ok {
			return complaint{What: what}, true
		}
	}
	return complaint{}, false
}
