package e2e

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
	"sync/atomic"
	"syscall"
	"testing"

	"northstake/lab"
)

// What all tests share: one lab, one PostgreSQL cluster, one service. Tests have
// hosts and grounds of their own, so they run side by side.
var (
	root   string // the checkout
	home   string // where the lab and the cluster live
	labs   *lab.Lab
	shared *service
	nextN  atomic.Int32

	booting = make(chan struct{}, 3) // hosts that start at once
)

func TestMain(m *testing.M) {
	code, err := setUp(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, "e2e:", err)
		code = 1
	}
	os.Exit(code)
}

func setUp(m *testing.M) (int, error) {
	ctx := context.Background()
	dir, err := filepath.Abs("..")
	if err != nil {
		return 1, err
	}
	root = dir
	for _, b := range []string{"northstake", "northstaked", "rods/rod-linux-" + runtime.GOARCH, "rehearsal/rod-linux-" + runtime.GOARCH} {
		if _, err := os.Stat(filepath.Join(root, "bin", b)); err != nil {
			return 1, fmt.Errorf("%w: build first: make rehearsal", err)
		}
	}
	sum := sha256.Sum256([]byte(root))
	home = "/var/tmp/northstake-e2e-" + hex.EncodeToString(sum[:])[:8]
	if err := lab.Clean(ctx, filepath.Join(home, "lab"), io.Discard); err != nil { // what a killed test left
		return 1, err
	}
	if err := endLeftovers(ctx); err != nil {
		return 1, err
	}
	if err := clearHome(); err != nil {
		return 1, err
	}
	if err := os.MkdirAll(home, 0o755); err != nil {
		return 1, err
	}
	if err := inMemory(home); err != nil {
		return 1, err
	}
	if err := lab.AllowMany(); err != nil {
		fmt.Fprintln(os.Stderr, err, "- hosts may not come up")
	}
	if labs, err = lab.Open(ctx, filepath.Join(home, "lab"), os.Stderr); err != nil {
		return 1, err
	}
	p, err := lab.OpenPostgres(ctx, filepath.Join(home, "postgres"))
	if err != nil {
		return 1, err
	}
	if shared, err = startService(filepath.Join(home, "service"), p.URL()); err != nil {
		return 1, err
	}
	code := m.Run()
	shared.end(syscall.SIGTERM)
	if code != 0 {
		if b, err := os.ReadFile(shared.log); err == nil {
			fmt.Fprintf(os.Stderr, "the end of the service's log:\n%s\n", b[max(0, len(b)-6000):])
		}
	}
	if err := p.Stop(ctx); err != nil {
		return 1, err
	}
	if err := labs.Close(ctx); err != nil {
		return 1, err
	}
	if err := lab.Clean(ctx, filepath.Join(home, "lab"), io.Discard); err != nil {
		return 1, err
	}
	return code, clearHome()
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

// clearHome removes what the tests kept.
func clearHome() error {
	if err := syscall.Unmount(home, syscall.MNT_DETACH); err != nil && err != syscall.EINVAL && err != syscall.ENOENT {
		return fmt.Errorf("unmount %s: %w", home, err)
	}
	return os.RemoveAll(home)
}

// endLeftovers ends the services and clusters of a test that was killed.
func endLeftovers(ctx context.Context) error {
	pids, err := filepath.Glob(filepath.Join(home, "*.pid"))
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
		if line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid)); err == nil && bytes.Contains(line, []byte(home)) {
			syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	clusters, err := filepath.Glob(filepath.Join(home, "*", "postmaster.pid"))
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

// started waits until all that a host starts at boot has started; firewalld is active
// for systemd before its rules are up.
const started = "[ -d /run/systemd/system ] || exit 0; systemctl is-system-running --wait >/dev/null; systemctl -q is-active firewalld || exit 0; " +

	"for i in $(seq 50); do firewall-cmd -q --state && break; sleep 0.2; done"
