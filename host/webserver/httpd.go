package webserver

import (
	"time"

	"northstake/core/stake"
	"northstake/host/system"
)

// httpd writes its process id anew whenever it has read its configuration
// (ap_log_pid, at each start and graceful restart), and adds workers at any time.
var _ = register("httpd", server{
	generation: func(m *system.Machine, l stake.Layout, _ []string) map[string]bool {
		if at, ok := m.ChangedAt(l.Pid); ok {
			return map[string]bool{at.String(): true}
		}
		return nil
	},
	took: func(m *system.Machine, l stake.Layout, _ []string, changed time.Time) bool {
		at, ok := m.ChangedAt(l.Pid)
		return ok && !at.Before(changed)
	},
	alone: func(text string, _ candidate) string { return text },
})
