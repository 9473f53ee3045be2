package webserver

import (
	"regexp"

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
	names: func(text string) []string { return listed(text, serverNames) },
	alone: func(text string, _ candidate) string { return text },
})

var serverNames = regexp.MustCompile(`(?mi)^\s*Server(?:Name|Alias)\s+([^\n]+)$`)
