package system

import (
	"fmt"
	"strconv"
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

// StartOf is when a process started: field 22 of its stat, in ticks of 10 ms
// since the machine started (proc(5)).
func (m *Machine) StartOf(pid string) (time.Time, error) {
	n, err := strconv.Atoi(pid)
	if err != nil {
		return time.Time{}, fmt.Errorf("%q is no process", pid)
	}
	stat, err := m.stat(n)
	if err != nil {
		return time.Time{}, err
	}
	began, err := bootedAt()
	return began.Add(time.Duration(stat.Starttime) * 10 * time.Millisecond), err
}

// bootedAt is when the machine's clock of ticks began. The two clocks cannot be read
// at one instant, and a busy machine may stop a program between them for long: of
// some readings the one with the shortest time between is taken.
func bootedAt() (time.Time, error) {
	var at time.Time
	shortest := time.Hour
	for range 5 {
		var before, after unix.Timespec
		if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &before); err != nil {
			return at, err
		}
		now := time.Now()
		if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &after); err != nil {
			return at, err
		}
		if gap := time.Duration(after.Nano() - before.Nano()); gap < shortest {
			shortest, at = gap, now.Add(-time.Duration(before.Nano()))
		}
	}
	return at, nil
}
