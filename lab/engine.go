package lab

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// engine is one container engine service with storage, networks and a socket
// of its own below the lab's home.
type engine struct {
	home   string
	socket string
}

func newEngine(home string) *engine {
	return &engine{home: home, socket: filepath.Join(bootDir(home), "engine.sock")}
}

// bootDir holds what must not outlive a restart of the machine; its name has
// the kernel's boot id because /run may survive one. The engine takes paths of
// at most 50 characters there.
func bootDir(home string) string {
	id, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil || len(id) < 8 {
		id = []byte("no-boot-id")
	}
	sum := sha256.Sum256([]byte(home))
	return "/run/northstake-" + hex.EncodeToString(sum[:])[:8] + "-" + string(id[:8])
}

func (e *engine) answers() bool {
	c, err := net.DialTimeout("unix", e.socket, time.Second)
	if err != nil {
		return false
	}
	c.Close()
	return true
}

func findEngine(home string) (*engine, error) {
	e := newEngine(home)
	if !e.answers() {
		return nil, fmt.Errorf("no engine answers at %s", e.socket)
	}
	return e, nil
}

func startEngine(ctx context.Context, home string, log io.Writer) (*engine, error) {
	e := newEngine(home)
	if e.answers() {
		return e, nil
	}
	if _, err := exec.LookPath("podman"); err != nil {
		return nil, fmt.Errorf("start lab: no container engine on this machine: install Debian's podman, crun and netavark packages (make demo does)")
	}
	boot := bootDir(home)
	leases := filepath.Join(boot, "leases") // which host has which address
	for _, d := range []string{boot, leases, filepath.Join(boot, "run"), filepath.Join(boot, "tmp"), filepath.Join(home, "networks"), filepath.Join(home, "store")} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			return nil, fmt.Errorf("start lab: %w", err)
		}
	}
	files, processes := limits()
	conf := fmt.Sprintf(`[containers]
default_ulimits = ["nofile=%d:%d", "nproc=%d:%d"]
log_driver = "k8s-file"
[engine]
cgroup_manager = "cgroupfs"
events_logger = "file"
exit_command_delay = 1
[network]
network_backend = "netavark"
network_config_dir = %q
`, files, files, processes, processes, filepath.Join(home, "networks"))
	confFile := filepath.Join(home, "containers.conf")
	if err := os.WriteFile(confFile, []byte(conf), 0o644); err != nil {
		return nil, fmt.Errorf("start lab: %w", err)
	}
	os.Remove(e.socket)
	logFile, err := os.OpenFile(filepath.Join(boot, "engine.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return nil, fmt.Errorf("start lab: %w", err)
	}
	defer logFile.Close()
	podman := []string{"podman", "--root", filepath.Join(home, "store"), "--runroot", filepath.Join(boot, "run"),
		"--tmpdir", filepath.Join(boot, "tmp"), "system", "service", "--time", "0", "unix://" + e.socket}
	// The engine keeps the addresses that it has given out in one place of the machine,
	// whoever runs it; a lab that ended badly would leave its own there for ever.
	alone := `mkdir -p /run/containers/networks; mount --bind "$1" /run/containers/networks; shift; `
	if mounted("/sys/fs/cgroup/unified") {
		// A hybrid cgroup mount is refused by the engine; hide the second half from it alone.
		alone += `umount /sys/fs/cgroup/unified; `
	}
	args := []string{"unshare", "-m", "sh", "-c", alone + `exec "$@"`, "engine", leases}
	if pids := monitors(home); len(pids) > 0 {
		// Hosts of an earlier engine still run: only their mount namespace can manage them.
		args = []string{"nsenter", "-t", strconv.Itoa(pids[0]), "-m"}
	}
	args = append(args, podman...)
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Stdout, cmd.Stderr = logFile, logFile
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	// What the engine unpacks on its way stays in the lab, and goes with it.
	scratch := filepath.Join(home, "scratch")
	if err := os.MkdirAll(scratch, 0o755); err != nil {
		return nil, fmt.Errorf("start lab: %w", err)
	}
	cmd.Env = append(os.Environ(), "CONTAINERS_CONF="+confFile, "TMPDIR="+scratch)
	for i, v := range cmd.Env {
		if strings.HasPrefix(v, "CONTAINER_HOST=") {
			cmd.Env[i] = "CONTAINER_HOST_UNUSED="
		}
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start lab: %w", err)
	}
	go cmd.Wait()
	if err := os.WriteFile(filepath.Join(boot, "engine.pid"), []byte(strconv.Itoa(cmd.Process.Pid)), 0o644); err != nil {
		return nil, fmt.Errorf("start lab: %w", err)
	}
	if err := waitFor(ctx, 20*time.Second, "the container engine's socket", e.answers); err != nil {
		tail, _ := os.ReadFile(logFile.Name())
		return nil, fmt.Errorf("start lab: no container engine can run here: %w\n%s", err, tail)
	}
	return e, nil
}

func (e *engine) stop() error {
	b, err := os.ReadFile(filepath.Join(bootDir(e.home), "engine.pid"))
	if err != nil {
		return nil
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil {
		return fmt.Errorf("stop engine: %w", err)
	}
	if !strings.Contains(commandLine(pid), e.socket) {
		return nil
	}
	syscall.Kill(pid, syscall.SIGTERM)
	for i := 0; i < 200 && strings.Contains(commandLine(pid), e.socket); i++ {
		time.Sleep(20 * time.Millisecond)
	}
	if strings.Contains(commandLine(pid), e.socket) {
		syscall.Kill(pid, syscall.SIGKILL)
	}
	os.Remove(e.socket)
	return nil
}

// limits are what hosts get of open files and processes. They cannot be more than
// this process has; the kernel counts the processes of root over all hosts and
// the machine together, so that too few would keep a host from starting.
func limits() (files, processes int64) {
	files, processes = 4096, 30_000
	var l unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &l) == nil {
		files = min(files, int64(min(l.Max, 1<<40)))
	}
	if unix.Getrlimit(unix.RLIMIT_NPROC, &l) == nil {
		processes = min(processes, int64(min(l.Max, 1<<40)))
	}
	return files, processes
}

// watchers is how many inotify instances (inotify(7)) are enough for all the hosts that
// a lab can have: each takes about six of those that root may have.
const watchers = 4096

// AllowMany lets the kernel give root inotify instances for many hosts, until the
// machine is restarted. With the usual 128, systemd does not get as far as starting
// sshd on the twenty-first host or so.
func AllowMany() error {
	const file = "/proc/sys/fs/inotify/max_user_instances"
	b, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("allow many hosts: %w", err)
	}
	if n, err := strconv.Atoi(strings.TrimSpace(string(b))); err == nil && n >= watchers {
		return nil
	}
	if err := os.WriteFile(file, []byte(strconv.Itoa(watchers)), 0o644); err != nil {
		return fmt.Errorf("allow many hosts: %w", err)
	}
	return nil
}

func mounted(path string) bool {
	b, _ := os.ReadFile("/proc/self/mountinfo")
	return bytes.Contains(b, []byte(" "+path+" "))
}

func commandLine(pid int) string {
	b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return string(bytes.ReplaceAll(b, []byte{0}, []byte(" ")))
}

// monitors lists the process ids of the container monitors of this lab.
func monitors(home string) []int {
	entries, _ := os.ReadDir("/proc")
	var pids []int
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		if line := commandLine(pid); strings.Contains(line, "conmon") && strings.Contains(line, home+"/") {
			pids = append(pids, pid)
		}
	}
	return pids
}

// killMonitors ends this lab's containers when no engine is there to ask: a
// monitor's child is the container's process 1.
func killMonitors(home string) {
	for _, pid := range monitors(home) {
		children, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
		for _, c := range strings.Fields(string(children)) {
			if child, err := strconv.Atoi(c); err == nil {
				syscall.Kill(child, syscall.SIGKILL)
			}
		}
		syscall.Kill(pid, syscall.SIGTERM)
	}
}

func unmountBelow(dir string) error {
	b, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return err
	}
	var points []string
	for _, line := range strings.Split(string(b), "\n") {
		if f := strings.Fields(line); len(f) > 4 && strings.HasPrefix(f[4], dir+"/") {
			points = append(points, f[4])
		}
	}
	sort.Sort(sort.Reverse(sort.StringSlice(points)))
	for _, p := range points {
		if err := syscall.Unmount(p, syscall.MNT_DETACH); err != nil {
			return fmt.Errorf("unmount %s: %w", p, err)
		}
	}
	return nil
}
