package webserver

import (
	"strings"

	"northstake/core/wire"
	"northstake/host/system"
)

// programDirs are where the programs of web servers lie.
var programDirs = []string{"/usr/sbin", "/usr/bin", "/usr/local/sbin", "/usr/local/bin", "/sbin", "/bin"}

// Stands says whether a web server is installed on a host: its program is there, and its
// configuration. A package that was removed may leave files of the latter.
func Stands(m *system.Machine, l wire.Layout) bool {
	if !m.Exists(l.Config) {
		return false
	}
	for _, word := range l.Test {
		if word == "env" || strings.Contains(word, "=") {
			continue
		}
		for _, dir := range programDirs {
			if m.Exists(wire.Path(dir + "/" + word)) {
				return true
			}
		}
		return false
	}
	return true
}
