// Package stage is what the end-to-end tests play on: practice hosts, a PostgreSQL cluster, and
// services, which tests drive as their users do. Each package of tests is a process of its own;
// those that run at a time have one lab and one cluster, and each a service and a database of its
// own. What a test does not ask for is not started. Tests have hosts and grounds of their own, so
// they run side by side.
package stage

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"

	"northstake/lab"
)

var (
	Root string // the checkout
	Home string // where the lab and the clusters lie

	booting = make(chan struct{}, 2) // hosts that this process starts at once
	service *Service                 // of this process, nil for as long as nobody has asked for it
)

// Main runs a package's tests, and ends what they have started.
func Main(m *testing.M) {
	code, err := run(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, "e2e:", err)
		code = 1
	}
	os.Exit(code)
}

func run(m *testing.M) (int, error) {
	if err := find(); err != nil {
		return 1, err
	}
	for _, b := range []string{"northstake", "northstaked", "rods/rod-linux-" + runtime.GOARCH, "rehearsal/rod-linux-" + runtime.GOARCH} {
		if _, err := os.Stat(filepath.Join(Root, "bin", b)); err != nil {
			return 1, fmt.Errorf("%w: build first: make rehearsal", err)
		}
	}
	leave, err := enter()
	if err != nil {
		return 1, err
	}
	code := m.Run()
	if service != nil {
		service.End(syscall.SIGTERM)
		if code != 0 {
			if b, err := os.ReadFile(service.Log); err == nil {
				fmt.Fprintf(os.Stderr, "the end of the service's log:\n%s\n", b[max(0, len(b)-6000):])
			}
		}
	}
	return code, leave()
}

// find finds the checkout that the tests are of, above the directory of their package.
func find() error {
	dir, err := os.Getwd()
	if err != nil {
		return err
	}
	for Root = dir; ; Root = filepath.Dir(Root) {
		if _, err := os.Stat(filepath.Join(Root, "go.mod")); err == nil {
			break
		}
		if Root == "/" {
			return fmt.Errorf("no go.mod lies above %s", dir)
		}
	}
	sum := sha256.Sum256([]byte(Root))
	Home = "/var/tmp/northstake-e2e-" + hex.EncodeToString(sum[:])[:8]
	return nil
}

// A stage is entered and left, and what is shared is begun, by one process at a time (the door).
// Whoever is on it holds a lock that others may hold, too; who gets it alone is the first to
// come, or the last to go. Both locks end with the process that holds them.
func lock(name string, how int) (*os.File, error) {
	f, err := os.OpenFile("/run/"+filepath.Base(Home)+name, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), how); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// atTheDoor does what one process does at a time.
func atTheDoor(do func() error) error {
	door, err := lock(".door", syscall.LOCK_EX)
	if err != nil {
		return fmt.Errorf("enter the stage of the tests: %w", err)
	}
	defer door.Close()
	return do()
}

// enter takes a place on the stage; the first to come clears away what tests left that were
// killed. What is returned gives the place up, and the last to go clears the stage.
func enter() (leave func() error, err error) {
	var place *os.File
	alone := func() bool { return syscall.Flock(int(place.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil }
	err = atTheDoor(func() error {
		if place, err = lock(".place", syscall.LOCK_SH); err != nil {
			return err
		}
		if alone() {
			if err := clear(); err != nil {
				return err
			}
			if err := os.MkdirAll(Home, 0o755); err != nil {
				return err
			}
			if err := inMemory(Home); err != nil {
				return err
			}
		}
		return syscall.Flock(int(place.Fd()), syscall.LOCK_SH)
	})
	return func() error {
		return atTheDoor(func() error {
			defer place.Close()
			if alone() {
				return clear()
			}
			return nil
		})
	}, err
}

// clear ends all that there is on the stage, and removes it.
func clear() error {
	ctx := context.Background()
	if err := endServices(); err != nil {
		return err
	}
	if err := endClusters(ctx); err != nil {
		return err
	}
	if err := lab.Clean(ctx, filepath.Join(Home, "lab"), io.Discard); err != nil {
		return err
	}
	if err := syscall.Unmount(Home, syscall.MNT_DETACH); err != nil && err != syscall.EINVAL && err != syscall.ENOENT {
		return fmt.Errorf("unmount %s: %w", Home, err)
	}
	return os.RemoveAll(Home)
}

// endServices ends the services of tests that were killed.
func endServices() error {
	pids, err := filepath.Glob(filepath.Join(Home, "*.pid"))
	if err != nil {
		return err
	}
	for _, file := range pids {
		b, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		pid, err := strconv.Atoi(string(b))
		if err != nil {
			continue
		}
		if line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid)); err == nil && bytes.Contains(line, []byte(Home)) {
			syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	return nil
}

func endClusters(ctx context.Context) error {
	clusters, err := filepath.Glob(filepath.Join(Home, "*", "postmaster.pid"))
	if err != nil {
		return err
	}
	for _, file := range clusters {
		if p := lab.FindPostgres(filepath.Dir(file)); p != nil {
			if err := p.Stop(ctx); err != nil {
				fmt.Fprintln(os.Stderr, "e2e:", err) // it had ended already
			}
		}
	}
	return nil
}

// What the tests keep: hosts and images of some 2 GB at a time.
const (
	homeRoom   = 8 << 30
	homeMemory = 14 << 30 // with less the hosts lie on the disk
)

// inMemory has the tests keep their hosts and clusters in memory where there is enough of it. A
// disk that stands still for half a minute, as those of shared machines do, is nothing that a
// test could tell from a host that is gone.
func inMemory(dir string) error {
	b, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(b)) {
		var kb int64
		if _, err := fmt.Sscanf(line, "MemAvailable: %d kB", &kb); err == nil && kb<<10 >= homeMemory {
			return syscall.Mount("northstake-e2e", dir, "tmpfs", 0, fmt.Sprintf("size=%d,mode=755", homeRoom))
		}
	}
	return nil
}

// begun is what is begun when a test first asks for it. Without it no test can go on.
func begun[T any](begin func(ctx context.Context) (T, error)) func() T {
	return sync.OnceValue(func() T {
		got, err := begin(context.Background())
		if err != nil {
			fmt.Fprintln(os.Stderr, "e2e:", err)
			os.Exit(1)
		}
		return got
	})
}

// Lab is the lab of all tests that run at a time.
var Lab = begun(func(ctx context.Context) (l *lab.Lab, err error) {
	if err := lab.AllowMany(); err != nil {
		fmt.Fprintln(os.Stderr, err, "- hosts may not come up")
	}
	err = atTheDoor(func() (err error) {
		l, err = lab.Open(ctx, filepath.Join(Home, "lab"), os.Stderr)
		return err
	})
	return l, err
})

// Shared is the service that the tests of a package have in common, but those that have one of
// their own. Its database is one of a cluster of all packages.
var Shared = begun(func(ctx context.Context) (_ *Service, err error) {
	name := fmt.Sprintf("e2e_%d", os.Getpid())
	var url string
	err = atTheDoor(func() error {
		p, err := lab.OpenPostgres(ctx, filepath.Join(Home, "postgres"))
		if err == nil {
			url, err = p.Database(ctx, name)
		}
		return err
	})
	if err == nil {
		service, err = StartService(filepath.Join(Home, "service-"+name), url)
	}
	return service, err
})

// NextNumber is a number that no other host of the lab has, 1 to lab.Most.
func NextNumber() (n int, err error) {
	err = atTheDoor(func() error {
		file := filepath.Join(Home, "hosts")
		b, err := os.ReadFile(file)
		if err == nil {
			n, err = strconv.Atoi(string(b))
		}
		if err != nil && !os.IsNotExist(err) {
			return err
		}
		n = n%lab.Most + 1 // those of so long ago are gone
		return os.WriteFile(file, []byte(strconv.Itoa(n)), 0o644)
	})
	return n, err
}

// Started waits until all that a host starts at boot has started; firewalld is active
// for systemd before its rules are up.
const Started = "[ -d /run/systemd/system ] || exit 0; systemctl is-system-running --wait >/dev/null; systemctl -q is-active firewalld || exit 0; " +
	"for i in $(seq 50); do firewall-cmd -q --state && break; sleep 0.2; done"
