package lab

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"
	"golang.org/x/sys/unix"
)

// List returns the names of the hosts there are, running or not.
func (l *Lab) List(ctx context.Context) ([]string, error) {
	res, err := l.cli.ContainerList(ctx, client.ContainerListOptions{All: true})
	if err != nil {
		return nil, fmt.Errorf("list lab hosts: %w", err)
	}
	var names []string
	for _, c := range res.Items {
		names = append(names, strings.TrimPrefix(c.Names[0], "/"))
	}
	return names, nil
}

// Ensure makes sure that host name, of the given family, runs at Address(n) and
// that its SSH server answers. A host that is already there is kept as it is. The
// first host of a family makes the family's image where this machine has none yet
// (about a minute and a half).
func (l *Lab) Ensure(ctx context.Context, f Family, name string, n int) error {
	got, err := l.cli.ContainerInspect(ctx, name, client.ContainerInspectOptions{})
	if err != nil {
		if err := l.create(ctx, f, name, n); err != nil {
			return err
		}
	} else if !got.Container.State.Running {
		if err := l.Start(ctx, name); err != nil {
			return err
		}
	}
	return l.waitSSH(ctx, l.Address(n))
}

// command is the first process of a host.
func (f Family) command() []string {
	if !f.plain {
		return []string{"/lib/systemd/systemd"}
	}
	// It looks after processes that lose their parent, as an init does; without
	// policy-rc.d's leave nothing is started by a package.
	return []string{"/bin/sh", "-c", "host-keys; mkdir -p /run/sshd; /usr/sbin/sshd; trap 'exit 0' TERM; while :; do sleep 1 & wait; done"}
}

func (f Family) stopSignal() string {
	if f.plain {
		return "SIGTERM"
	}
	return "SIGRTMIN+3"
}

func (l *Lab) create(ctx context.Context, f Family, name string, n int) error {
	if err := l.load(ctx, f); err != nil {
		return err
	}
	addr, err := netip.ParseAddr(l.Address(n))
	if err != nil {
		return fmt.Errorf("make lab host %s: %w", name, err)
	}
	octets := addr.As4()
	files, processes := limits()
	may := []string{"NET_ADMIN", "NET_RAW"}
	if f.able {
		may = append(may, "SYS_ADMIN")
	}
	_, err = l.cli.ContainerCreate(ctx, client.ContainerCreateOptions{
		Name: name,
		Config: &container.Config{
			Image: f.image(), Hostname: name,
			Cmd: f.command(), StopSignal: f.stopSignal(),
		},
		HostConfig: &container.HostConfig{
			CapAdd:      may,
			NetworkMode: networkName,
			// A host that restarts itself ends, and is started again as a machine would be.
			RestartPolicy: container.RestartPolicy{Name: container.RestartPolicyAlways},
			Resources: container.Resources{Ulimits: []*container.Ulimit{
				{Name: "nofile", Soft: files, Hard: files}, {Name: "nproc", Soft: processes, Hard: processes},
			}},
		},
		NetworkingConfig: &network.NetworkingConfig{EndpointsConfig: map[string]*network.EndpointSettings{
			networkName: {
				IPAMConfig: &network.EndpointIPAMConfig{IPv4Address: addr},
				// A fixed MAC keeps neighbours' entries right over restarts.
				MacAddress: network.HardwareAddr{0x0a, 0x58, octets[0], octets[1], octets[2], octets[3]},
			},
		}},
	})
	if err != nil {
		return fmt.Errorf("make lab host %s: %w", name, err)
	}
	key, err := l.publicKey()
	if err != nil {
		return fmt.Errorf("make lab host %s: %w", name, err)
	}
	if err := l.Start(ctx, name); err != nil {
		return err
	}
	script := "install -d -m700 -o keeper -g keeper /home/keeper/.ssh && cat > /home/keeper/.ssh/authorized_keys && chown keeper:keeper /home/keeper/.ssh/authorized_keys && chmod 600 /home/keeper/.ssh/authorized_keys"
	if out, err := l.ExecInput(ctx, name, bytes.NewReader(key), "sh", "-c", script); err != nil {
		return fmt.Errorf("make lab host %s: %w: %s", name, err, out)
	}
	return nil
}

// Start starts a host that is stopped.
func (l *Lab) Start(ctx context.Context, name string) error {
	if _, err := l.cli.ContainerStart(ctx, name, client.ContainerStartOptions{}); err != nil {
		return fmt.Errorf("start lab host %s: %w", name, err)
	}
	return nil
}

// Restart stops a host in order and starts it again.
func (l *Lab) Restart(ctx context.Context, name string) error {
	limit := 10
	if _, err := l.cli.ContainerStop(ctx, name, client.ContainerStopOptions{Timeout: &limit}); err != nil {
		return fmt.Errorf("restart lab host %s: %w", name, err)
	}
	return l.Start(ctx, name)
}

// Kill ends a host as a power cut does, and returns when it is down: the engine takes
// the start of a host that is not down yet for done already. It is told to stop the host
// without waiting, since it would start one again that only ended.
func (l *Lab) Kill(ctx context.Context, name string) error {
	atOnce := 0
	if _, err := l.cli.ContainerStop(ctx, name, client.ContainerStopOptions{Timeout: &atOnce}); err != nil {
		return fmt.Errorf("kill lab host %s: %w", name, err)
	}
	return waitFor(ctx, time.Minute, "the end of host "+name, func() bool {
		got, err := l.cli.ContainerInspect(ctx, name, client.ContainerInspectOptions{})
		return err == nil && got.Container.State != nil && !got.Container.State.Running
	})
}

// Remove ends a host and its disk.
func (l *Lab) Remove(ctx context.Context, name string) error {
	if _, err := l.cli.ContainerRemove(ctx, name, client.ContainerRemoveOptions{Force: true, RemoveVolumes: true}); err != nil {
		return fmt.Errorf("remove lab host %s: %w", name, err)
	}
	return nil
}

// WaitSSH returns when the host at addr greets as an SSH server does.
func (l *Lab) WaitSSH(ctx context.Context, n int) error { return l.waitSSH(ctx, l.Address(n)) }

func (l *Lab) waitSSH(ctx context.Context, addr string) error {
	return waitFor(ctx, 6*time.Minute, "an SSH server at "+addr, func() bool {
		c, err := net.DialTimeout("tcp", addr+":22", time.Second)
		if err != nil {
			return false
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(2 * time.Second))
		greeting := make([]byte, 4)
		_, err = io.ReadFull(c, greeting)
		return err == nil && string(greeting) == "SSH-"
	})
}

// Exec runs a command on a host as root, beside North Stake's own ways, and
// returns what it printed. A non-zero exit is an error.
func (l *Lab) Exec(ctx context.Context, name string, args ...string) (string, error) {
	return l.ExecInput(ctx, name, nil, args...)
}

// Shell is Exec of a shell script.
func (l *Lab) Shell(ctx context.Context, name, script string) (string, error) {
	return l.Exec(ctx, name, "sh", "-c", script)
}

// ExecInput is Exec with standard input. The command runs in the host's namespaces:
// the engine's own way starts three programs for each.
func (l *Lab) ExecInput(ctx context.Context, name string, in io.Reader, args ...string) (string, error) {
	pid, err := l.process(ctx, name)
	if err != nil {
		return "", err
	}
	cmd := exec.CommandContext(ctx, "nsenter", append([]string{"-t", strconv.Itoa(pid), "-m", "-u", "-i", "-n", "-p", "-C", "-r", "-w", "--"}, args...)...)
	cmd.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root"}
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, &out, &errs
	cmd.WaitDelay = time.Second // what it leaves running may hold on to its output
	if err := cmd.Run(); err != nil && !errors.Is(err, exec.ErrWaitDelay) {
		return out.String(), fmt.Errorf("on lab host %s: %q: %w: %s%s", name, args, err, out.String(), errs.String())
	}
	return out.String(), nil
}

// Dial connects to a TCP address as a program on the host would.
func (l *Lab) Dial(ctx context.Context, name, address string) (net.Conn, error) {
	pid, err := l.process(ctx, name)
	if err != nil {
		return nil, err
	}
	type dialled struct {
		net.Conn
		error
	}
	done := make(chan dialled, 1)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with what it has entered
		ns, err := os.Open(fmt.Sprintf("/proc/%d/ns/net", pid))
		if err == nil {
			defer ns.Close()
			err = unix.Setns(int(ns.Fd()), unix.CLONE_NEWNET)
		}
		if err != nil {
			done <- dialled{nil, fmt.Errorf("enter the network of lab host %s: %w", name, err)}
			return
		}
		c, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", address)
		done <- dialled{c, err}
	}()
	d := <-done
	return d.Conn, d.error
}

// Put writes a file on a host as root with mode 0644.
func (l *Lab) Put(ctx context.Context, name, path string, content []byte) error {
	if _, err := l.ExecInput(ctx, name, bytes.NewReader(content), "sh", "-c", `mkdir -p "$(dirname "$1")" && cat >"$1" && chmod 644 "$1"`, "sh", path); err != nil {
		return fmt.Errorf("put %s: %w", path, err)
	}
	return nil
}

// first is the first process of a host, as this machine counts.
type first struct {
	pid   int
	began string // as the kernel has it
}

// process is the process id of a host's process 1, as this machine counts.
func (l *Lab) process(ctx context.Context, name string) (int, error) {
	if known, ok := l.first.Load(name); ok {
		if f := known.(first); f.began != "" && f.began == began(f.pid) {
			return f.pid, nil
		}
	}
	got, err := l.cli.ContainerInspect(ctx, name, client.ContainerInspectOptions{})
	if err != nil {
		return 0, fmt.Errorf("lab host %s: %w", name, err)
	}
	pid := got.Container.State.Pid
	if pid == 0 {
		return 0, fmt.Errorf("lab host %s does not run", name)
	}
	l.first.Store(name, first{pid, began(pid)})
	return pid, nil
}

// began is when a process began, "" for one that has ended (proc(5), stat).
func began(pid int) string {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return ""
	}
	_, rest, _ := strings.Cut(string(b), ") ")
	if fields := strings.Fields(rest); len(fields) > 19 && fields[0] != "Z" {
		return fields[19]
	}
	return ""
}

// MountSmall puts a file system of the given size over a directory of a host,
// which the host itself may not do.
func (l *Lab) MountSmall(ctx context.Context, name, path string, size int64) error {
	return l.mount(ctx, name, `mount -t tmpfs -o "size=$2" tmpfs "$1"`, path, strconv.FormatInt(size, 10))
}

// Shrink puts a directory of a host, with what lies there, on a file system of its
// own that has so many bytes free.
func (l *Lab) Shrink(ctx context.Context, name, path string, free int64) error {
	return l.mount(ctx, name, `set -e; d=$(mktemp -d); mount -t tmpfs tmpfs "$d"; cp -a "$1/." "$d"
mount -o "remount,size=$(($(df -B1 --output=used "$d" | tail -n1) + $2))" "$d"; mount --bind "$d" "$1"; umount "$d"`, path, strconv.FormatInt(free, 10))
}

// Grow gives a directory that Shrink has made small room again.
func (l *Lab) Grow(ctx context.Context, name, path string) error {
	return l.mount(ctx, name, `mount -o remount,size=1G "$1"`, path)
}

// ReadOnly has a directory of a host mounted so that nobody can write to it.
func (l *Lab) ReadOnly(ctx context.Context, name, path string) error {
	return l.mount(ctx, name, `mount --bind "$1" "$1" && mount -o remount,ro,bind "$1"`, path)
}

// PassOn has a host pass packets on to others, which it may not set itself.
func (l *Lab) PassOn(ctx context.Context, name string) error {
	pid, err := l.process(ctx, name)
	if err != nil {
		return err
	}
	out, err := exec.CommandContext(ctx, "nsenter", "-t", strconv.Itoa(pid), "-n", "sysctl", "-q", "-w", "net.ipv4.ip_forward=1").CombinedOutput()
	if err != nil {
		return fmt.Errorf("have lab host %s pass packets on: %w: %s", name, err, out)
	}
	return nil
}

func (l *Lab) mount(ctx context.Context, name, script string, args ...string) error {
	pid, err := l.process(ctx, name)
	if err != nil {
		return err
	}
	out, err := exec.CommandContext(ctx, "nsenter", append([]string{"-t", strconv.Itoa(pid), "-m", "sh", "-c", script, "sh"}, args...)...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("mount a file system on lab host %s: %w: %s", name, err, out)
	}
	return nil
}
