package webserver

import (
	"regexp"
	"strconv"
	"time"

	"northstake/core/stake"
	"northstake/host/system"
)

// nginx writes its process id once, and starts workers when it has read its
// configuration: the youngest is younger than the change.
var _ = register("nginx", server{
	generation: func(_ *system.Machine, _ stake.Layout, workers []string) map[string]bool {
		ids := map[string]bool{}
		for _, pid := range workers {
			ids[pid] = true
		}
		return ids
	},
	readAt: func(m *system.Machine, _ stake.Layout, workers []string) (time.Time, bool) {
		return youngEnough(m, workers)
	},
	names: func(text string) []string { return listed(text, nginxNames) },
	firsts: func(text string) []int {
		var out []int
		for _, m := range defaultServer.FindAllStringSubmatch(comments.ReplaceAllString(text, ""), -1) {
			n, err := strconv.Atoi(m[1])
			if err != nil {
				n = 80
			}
			out = append(out, n)
		}
		return out
	},
	alone: func(text string, c candidate) string { return pidLine.ReplaceAllString(text, "${1}pid "+c.pid+";") },
})

var defaultServer = regexp.MustCompile(`(?m)(?:^|[\s;{}])listen\s+(?:[^;\s]*:)?(\d*)[^;\s]*\s[^;]*\bdefault(?:_server)?\b[^;]*;`)

var nginxNames = regexp.MustCompile(`(?m)(?:^|[\s;{}])server_name\s+([^;]+);`)

var pidLine = regexp.MustCompile(`(?m)^(\s*)pid\s+[^;]*;`)
