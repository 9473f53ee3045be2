package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"northstake/core/stake"
	"northstake/host/platform"
)

// loaded says whether the server took its configuration in after the site's files
// last changed. It is nil when the server does not run.
//
// httpd writes its process id anew whenever it has read its configuration (ap_log_pid,
// at each start and graceful restart), and adds workers at any time. nginx writes
// it once, and starts workers when it has read its configuration: the youngest is
// younger than the change.
func loaded(m *platform.Machine, w stake.SiteWant) (*bool, error) {
	workers, err := workersOf(m, w.Layout)
	if err != nil || len(workers) == 0 {
		return nil, err
	}
	var changed time.Time
	for _, p := range []string{w.File, w.Link} {
		if at, ok := changedAt(m, p); ok && at.After(changed) {
			changed = at
		}
	}
	is := false
	if w.Layout.Rewrites {
		at, ok := changedAt(m, w.Layout.Pid)
		is = ok && !at.Before(changed)
		return &is, nil
	}
	for _, pid := range workers {
		// A start is counted in hundredths of a second.
		if t, err := startOf(m, pid); err == nil && !t.Add(20*time.Millisecond).Before(changed) {
			is = true
		}
	}
	return &is, nil
}

// takeInTime is how long a server may take to read its configuration, and yieldTime
// how long its former workers are waited for to leave new connections to the others.
const (
	takeInTime = 20 * time.Second
	yieldTime  = 5 * time.Second
)

// takesIn is called before a service is told to reload. What it returns waits until
// the service, if it is one of the web servers that the family knows, answers by its
// new configuration: being told is not yet having done it.
func takesIn(m *platform.Machine, service string) func(context.Context) error {
	done := func(context.Context) error { return nil }
	family, err := m.Family()
	if err != nil || family == nil {
		return done
	}
	for _, l := range family.Servers {
		if l.Service != service {
			continue
		}
		before := generation(m, l)
		former, err := workersOf(m, l)
		if err != nil || len(before) == 0 {
			return done // it does not run: the reload is a start
		}
		return func(ctx context.Context) error {
			if !within(ctx, takeInTime, func() bool { return isNew(generation(m, l), before) }) {
				return fmt.Errorf("%s was told to reload and has not taken its configuration in within %s", service, takeInTime)
			}
			within(ctx, yieldTime, func() bool {
				return !slices.ContainsFunc(former, func(pid string) bool { return serves(m, pid) })
			})
			return nil
		}
	}
	return done
}

// within waits until something is so, and says whether it is.
func within(ctx context.Context, limit time.Duration, so func() bool) bool {
	for deadline := time.Now().Add(limit); ; time.Sleep(10 * time.Millisecond) {
		if so() {
			return true
		}
		if ctx.Err() != nil || time.Now().After(deadline) {
			return false
		}
	}
}

func isNew(now, before map[string]bool) bool {
	for id := range now {
		if !before[id] {
			return true
		}
	}
	return false
}

// serves says whether a worker may still take connections: it has neither ended nor
// called itself, as nginx's do, a "worker process is shutting down". One of httpd
// that has been told to end is not known from others until it has.
func serves(m *platform.Machine, pid string) bool {
	line, err := m.Read("/proc/" + pid + "/cmdline")
	return err == nil && len(line) > 0 && !strings.Contains(string(line), "shutting down")
}

// generation is what a server has anew when it has read its configuration: its file
// with the process id, or a worker.
func generation(m *platform.Machine, l stake.Layout) map[string]bool {
	ids := map[string]bool{}
	workers, err := workersOf(m, l)
	if err != nil || len(workers) == 0 {
		return ids
	}
	if l.Rewrites {
		if at, ok := changedAt(m, l.Pid); ok {
			ids[at.String()] = true
		}
		return ids
	}
	for _, pid := range workers {
		ids[pid] = true
	}
	return ids
}

// workersOf lists the processes that the server's first process has started; none
// when it does not run.
func workersOf(m *platform.Machine, l stake.Layout) ([]string, error) {
	pid, err := m.Read(l.Pid)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	first := strings.TrimSpace(string(pid))
	children, err := m.Read("/proc/" + first + "/task/" + first + "/children")
	if err != nil {
		return nil, nil // it has just ended
	}
	return strings.Fields(string(children)), nil
}

// changedAt is when an entry last changed in any way, and whether it is there.
func changedAt(m *platform.Machine, path string) (time.Time, bool) {
	var s unix.Stat_t
	if path == "" || unix.Lstat(m.Path(path), &s) != nil {
		return time.Time{}, false
	}
	return time.Unix(s.Ctim.Unix()), true
}

// startOf is when a process started: field 22 of its stat, in ticks of 10 ms
// since the machine started (proc(5)).
func startOf(m *platform.Machine, pid string) (time.Time, error) {
	b, err := m.Read("/proc/" + pid + "/stat")
	if err != nil {
		return time.Time{}, err
	}
	_, rest, ok := strings.Cut(string(b), ") ")
	f := strings.Fields(rest)
	if !ok || len(f) < 20 {
		return time.Time{}, fmt.Errorf("process %s has an unreadable stat", pid)
	}
	ticks, err := strconv.ParseInt(f[19], 10, 64)
	if err != nil {
		return time.Time{}, err
	}
	began, err := bootedAt()
	return began.Add(time.Duration(ticks) * 10 * time.Millisecond), err
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
