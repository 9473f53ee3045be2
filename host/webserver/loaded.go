// Package webserver knows running web servers: what configuration one has loaded, and
// whether it would take another, tested by itself on a copy of its tree. What differs
// between servers is in one file each.
package webserver

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"northstake/core/wire"
	"northstake/host/probe"
	"northstake/host/system"
)

// server is what differs between web servers while they run.
type server struct {
	// generation is what the server has anew when it has read its configuration, while
	// it runs with the workers that are given.
	generation func(m *system.Machine, l wire.Layout, workers []string) map[string]bool
	// readAt is when the server has read its configuration, while it runs with the workers that
	// are given; nil where it keeps nothing that tells.
	readAt func(m *system.Machine, l wire.Layout, workers []string) (time.Time, bool)
	// reloadTests says that the server tests its configuration itself as it reloads, and goes
	// on with the former one where that is refused.
	reloadTests bool
	// names finds the names that a file of its configuration claims, without comments.
	names func(text string) []claim
	// firsts are the ports on which a file of its configuration answers to names that no site
	// has. With byName it does so, on whatever port, only where its name stands before others.
	firsts func(text string) []int
	byName bool
	// hosts are the ports of the virtual hosts of a file of its configuration, 0 for any; none where it
	// has no virtual host.
	hosts func(text string) []int
	// listens are the ports on which a file of its configuration has it listen, whatever it serves there;
	// nil where it listens where its virtual hosts are.
	listens func(text string) []int
	// includes finds what a file of its configuration takes in; nil where what takes sites in is declared.
	includes *regexp.Regexp
	// complaint is what it says of a configuration that it refuses, in the output of its own test.
	complaint func(output string) (complaint, bool)
	// alone makes the text of a configuration file, in a copy of the tree, leave what the
	// running server writes alone.
	alone func(text string, c candidate) string
}

var servers = map[string]server{}

// complaintOf reads the output of a web server's test.
func complaintOf(name, output string) (complaint, bool) {
	if s, ok := servers[name]; ok {
		return s.complaint(output)
	}
	return complaint{}, false
}

// register makes a web server known; each server's file calls it once.
func register(name string, s server) struct{} {
	servers[name] = s
	return struct{}{}
}

// Loaded asks a running server which text of a site it serves, by the site's mark: its
// own word, and not the age of what runs. It is nil when the server does not run,
// or where a text has no mark, as those of older releases. A file that was changed after the server
// has read it is not known to be what was read, whatever it holds by now; why says so, and what else
// it is than an older text. An answer that does not come in time is none: that is an error.
func Loaded(ctx context.Context, m *system.Machine, l wire.Layout, w wire.SiteWant, addresses []string) (is *bool, why string, err error) {
	if len(w.Listen) == 0 || w.Mark == "" || w.Off {
		return nil, "", nil
	}
	var workers []string
	if l.Pid != "" {
		if workers, err = workersOf(m, l); err != nil || len(workers) == 0 {
			return nil, "", err
		}
	}
	to := w.Listen[0].By(w.Asked)
	to.Address = cmp.Or(to.Address, "127.0.0.1")
	at := to.Socket()
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, to.AtAddress("/"), nil)
	if err != nil {
		return nil, "", err
	}
	req.Host = to.Name
	req.Header.Set("User-Agent", "northstake")
	is = new(bool)
	answer, err := probe.Asking(to.Name).Do(req)
	if err != nil {
		switch refused := errors.Is(err, syscall.ECONNREFUSED); {
		case l.Pid == "" && refused:
			return nil, "", nil // nothing else says whether it runs
		case refused:
			return is, fmt.Sprintf("%s runs, and nothing listens at %s", w.By(), at), nil
		}
		return nil, "", unanswered(w, at, err)
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, 4096))
	if err != nil {
		return nil, "", unanswered(w, at, err)
	}
	if *is = strings.TrimSpace(string(body)) == w.Mark || answers(ctx, w, addresses); !*is {
		return is, "", nil
	}
	if readAt := servers[w.Server].readAt; readAt != nil && w.Within == "" {
		read, known := readAt(m, l, workers)
		changed, there := m.ChangedAt(w.File)
		if known && there && changed.After(read.Add(readSlack)) && changed.Before(time.Now()) {
			*is = false
			return is, fmt.Sprintf("its file was changed after %s had read it", w.By()), nil
		}
	}
	return is, "", nil
}

func unanswered(w wire.SiteWant, at string, err error) error {
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%s has not said within %s which text of the site it has loaded, at %s: it is slow, has stopped, or a filter drops what the host asks itself", w.By(), askTime, at)
	}
	return fmt.Errorf("ask %s at %s which text of the site it has loaded: %w", w.By(), at, err)
}

// askTime is how long a server may take to say what it serves. readSlack is how finely the kernel
// tells when a process began, and a little more.
const (
	askTime   = 5 * time.Second
	readSlack = 100 * time.Millisecond
)

// youngEnough is when the oldest of the workers that may still take connections began: what has
// changed since then none of them is sure to have read.
func youngEnough(m *system.Machine, workers []string) (oldest time.Time, known bool) {
	for _, pid := range workers {
		if !serves(m, pid) {
			continue
		}
		began, ok := m.BeganAt(pid)
		if !ok {
			return oldest, false
		}
		if !known || began.Before(oldest) {
			oldest, known = began, true
		}
	}
	return oldest, known
}

// takeInTime is how long a server may take to read its configuration, and yieldTime
// how long its former workers are waited for to leave new connections to the others.
const (
	takeInTime = 20 * time.Second
	yieldTime  = 5 * time.Second
)

// TakesIn is called before a service is told to reload. What it returns waits until
// the service, if it is one of the web servers given, answers by its new configuration:
// being told is not yet having done it.
func TakesIn(m *system.Machine, layouts map[string]wire.Layout, service string) func(context.Context) error {
	done := func(context.Context) error { return nil }
	for name, l := range layouts {
		s, ok := servers[name]
		if l.Service != service || !ok {
			continue
		}
		former, err := workersOf(m, l)
		if err != nil || len(former) == 0 {
			return done // it does not run: the reload is a start
		}
		before := s.generation(m, l, former)
		if len(before) == 0 {
			return done
		}
		return func(ctx context.Context) error {
			if !within(ctx, takeInTime, func() bool {
				workers, err := workersOf(m, l)
				return err == nil && len(workers) > 0 && isNew(s.generation(m, l, workers), before)
			}) {
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

// TakesInWithin is TakesIn for a server that is the first process of a container, by its number
// on the host: it takes its configuration in with new workers.
func TakesInWithin(m *system.Machine, server string, first int) func(context.Context) error {
	former, err := childrenOf(m, strconv.Itoa(first))
	if servers[server].reloadTests || err != nil || len(former) == 0 {
		return func(context.Context) error { return nil }
	}
	return func(ctx context.Context) error {
		var workers []string
		if !within(ctx, takeInTime, func() bool {
			workers, err = childrenOf(m, strconv.Itoa(first))
			return err == nil && slices.ContainsFunc(workers, func(pid string) bool { return !slices.Contains(former, pid) })
		}) {
			return fmt.Errorf("%s was told to reload and has not taken its configuration in within %s", server, takeInTime)
		}
		within(ctx, yieldTime, func() bool {
			return !slices.ContainsFunc(former, func(pid string) bool { return serves(m, pid) })
		})
		return nil
	}
}

// within waits until something is so, and says whether it is.
func within(ctx context.Context, limit time.Duration, so func() bool) bool {
	for deadline := time.Now().Add(limit); ; _ = system.Pause(ctx, 10*time.Millisecond) {
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
func serves(m *system.Machine, pid string) bool {
	line, err := m.Read(wire.Path("/proc/" + pid + "/cmdline"))
	return err == nil && len(line) > 0 && !strings.Contains(string(line), "shutting down")
}

// workersOf lists the processes that the server's first process has started; none
// when it does not run.
func workersOf(m *system.Machine, l wire.Layout) ([]string, error) {
	if l.Pid == "" {
		return nil, nil
	}
	pid, err := m.Read(l.Pid)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return childrenOf(m, strings.TrimSpace(string(pid)))
}

// childrenOf lists the processes that one has started.
func childrenOf(m *system.Machine, first string) ([]string, error) {
	children, err := m.Read(wire.Path("/proc/" + first + "/task/" + first + "/children"))
	if err != nil {
		return nil, nil // it has just ended
	}
	return strings.Fields(string(children)), nil
}
