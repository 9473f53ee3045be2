package system

import (
	"time"

	"golang.org/x/sys/unix"
)

// ChangedAt is when an entry last changed in any way, and whether it is there.
func (m *Machine) ChangedAt(path string) (time.Time, bool) {
	var s unix.Stat_t
	if path == "" || unix.Lstat(m.Path(path), &s) != nil {
		return time.Time{}, false
	}
	return time.Unix(s.Ctim.Unix()), true
}
