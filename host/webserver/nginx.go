package webserver

import (
	"regexp"
	"slices"
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
	took: func(m *system.Machine, _ stake.Layout, workers []string, changed time.Time) bool {
		return slices.ContainsFunc(workers, func(pid string) bool {
			// A start is counted in hundredths of a second.
			t, err := m.StartOf(pid)
			return err == nil && !t.Add(20*time.Millisecond).Before(changed)
		})
	},
	alone: func(text string, c candidate) string { return pidLine.ReplaceAllString(text, "${1}pid "+c.pid+";") },
})

var pidLine = regexp.MustCompile(`(?m)^(\s*)pid\s+[^;]*;`)
