package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"northstake/lab"
)

// demo is what runs for one checkout. Its state lies outside the checkout,
// where an unprivileged PostgreSQL may enter.
type demo struct {
	checkout string
	state    string
	uid, gid int // whom the client's files belong to
	home     string
}

func find() (*demo, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	d := &demo{checkout: filepath.Dir(filepath.Dir(self)), uid: os.Getuid(), gid: os.Getgid(), home: os.Getenv("HOME")}
	sum := sha256.Sum256([]byte(d.checkout))
	d.state = "/var/tmp/northstake-" + hex.EncodeToString(sum[:])[:8]
	if uid, err := strconv.Atoi(os.Getenv("SUDO_UID")); err == nil {
		d.uid = uid
	}
	if gid, err := strconv.Atoi(os.Getenv("SUDO_GID")); err == nil {
		d.gid = gid
	}
	return d, nil
}

func (d *demo) path(parts ...string) string {
	return filepath.Join(append([]string{d.state}, parts...)...)
}

func (d *demo) bin(name string) string { return filepath.Join(d.checkout, "bin", name) }

// hosts are the practice hosts, the first at the lab's first address.
var hosts = []string{"quay1", "quay2", "pier1"}

// families are those of the hosts that are not of the Debian family.
var families = map[string]lab.Family{"pier1": lab.RedHat}

func (d *demo) up(ctx context.Context) error {
	start := time.Now()
	if err := os.MkdirAll(d.state, 0o755); err != nil {
		return err
	}
	end := progress("practice hosts %s", strings.Join(hosts, ", "))
	l, err := lab.Open(ctx, d.path("lab"), os.Stdout)
	if err != nil {
		return err
	}
	defer l.Detach()
	before, err := l.List(ctx)
	if err != nil {
		return err
	}
	var addresses []string
	for i, h := range hosts {
		family, ok := families[h]
		if !ok {
			family = lab.Debian
		}
		if err := l.Ensure(ctx, family, h, i+1); err != nil {
			return err
		}
		addresses = append(addresses, l.Address(i+1))
	}
	end(map[bool]string{true: "kept", false: "started"}[len(before) == len(hosts)] + " at " + strings.Join(addresses, ", "))

	end = progress("PostgreSQL")
	p, err := lab.OpenPostgres(ctx, d.path("postgres"))
	if err != nil {
		return err
	}
	end(fmt.Sprintf("on 127.0.0.1:%d", p.Port))

	address, err := d.service(ctx, p.URL())
	if err != nil {
		return err
	}
	if err := d.client(address); err != nil {
		return err
	}
	if err := d.ground(l); err != nil {
		return err
	}
	drift, err := d.story(ctx, l)
	if err != nil {
		return err
	}
	d.account(address, drift, time.Since(start))
	return nil
}

// service starts northstaked, or finds it running.
func (d *demo) service(ctx context.Context, database string) (string, error) {
	end := progress("the service")
	if address, ok := d.serving(); ok {
		end("kept at " + address)
		return address, nil
	}
	port, err := freePort(7311)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(d.path("service"), 0o700); err != nil {
		return "", err
	}
	log, err := os.OpenFile(d.path("service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return "", err
	}
	defer log.Close()
	if err := os.Chown(d.path("service"), d.uid, d.gid); err != nil {
		return "", err
	}
	if err := copyRods(d.bin("rods"), d.path("rods")); err != nil {
		return "", err
	}
	program := d.path("northstaked")
	if err := copyFile(d.bin("northstaked"), program, 0o755); err != nil {
		return "", err
	}
	address := fmt.Sprintf("127.0.0.1:%d", port)
	cmd := exec.Command(program, "--listen", address, "--state", d.path("service"), "--rods", d.path("rods"))
	cmd.Env = []string{"NORTHSTAKE_DATABASE=" + database, "PATH=/usr/bin:/bin", "HOME=/"}
	cmd.Dir = "/"
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if os.Geteuid() == 0 && d.uid != 0 {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(d.uid), Gid: uint32(d.gid)}
	}
	if err := cmd.Start(); err != nil {
		return "", err
	}
	go cmd.Wait()
	if err := os.WriteFile(d.path("service.pid"), []byte(fmt.Sprintf("%d %s", cmd.Process.Pid, address)), 0o644); err != nil {
		return "", err
	}
	for range 300 {
		if ready(address) {
			end("at http://" + address)
			return "http://" + address, nil
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		time.Sleep(100 * time.Millisecond)
	}
	tail, err := os.ReadFile(d.path("service.log"))
	if err != nil {
		return "", err
	}
	return "", fmt.Errorf("the service does not answer at %s; the end of its log:\n%s", address, tail[max(0, len(tail)-2000):])
}

func ready(address string) bool {
	client := http.Client{Timeout: time.Second}
	res, err := client.Get("http://" + address + "/readyz")
	if err != nil {
		return false
	}
	defer res.Body.Close()
	return res.StatusCode == http.StatusOK
}

// running is the process and address of the service, when it runs.
func (d *demo) running() (pid int, address string) {
	b, err := os.ReadFile(d.path("service.pid"))
	if err != nil {
		return 0, ""
	}
	if _, err := fmt.Sscanf(string(b), "%d %s", &pid, &address); err != nil {
		return 0, ""
	}
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || !bytes.Contains(line, []byte(d.path("northstaked"))) {
		return 0, ""
	}
	return pid, address
}

// serving finds a running service, unless it is of another build than bin has.
func (d *demo) serving() (string, bool) {
	pid, address := d.running()
	if pid == 0 || !ready(address) {
		return "", false
	}
	if same, err := sameFile(d.bin("northstaked"), d.path("northstaked")); err != nil || !same {
		d.endService()
		return "", false
	}
	return "http://" + address, true
}

func (d *demo) endService() {
	pid, _ := d.running()
	if pid == 0 {
		return
	}
	syscall.Kill(pid, syscall.SIGTERM)
	for range 150 {
		if now, _ := d.running(); now == 0 {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	syscall.Kill(pid, syscall.SIGKILL)
}

// freePort is the first port from first on that nobody listens on.
func freePort(first int) (int, error) {
	for port := first; port < first+50; port++ {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			l.Close()
			if port != first {
				fmt.Printf("  port %d is taken; using %d\n", first, port)
			}
			return port, nil
		}
	}
	return 0, fmt.Errorf("ports %d to %d of 127.0.0.1 are all taken", first, first+49)
}

const clientMark = "# written by the demo; make clean removes it\n"

func (d *demo) clientPath() string {
	return filepath.Join(d.home, ".config", "northstake", "client.toml")
}

// client lets the command line find the service, unless the user has told it
// where another one is.
func (d *demo) client(address string) error {
	token, err := os.ReadFile(d.path("service", "admin.token"))
	if err != nil {
		return err
	}
	if old, err := os.ReadFile(d.clientPath()); err == nil && !strings.HasPrefix(string(old), clientMark) {
		fmt.Printf("  %s belongs to you and is kept: give --server %s --token-file %s\n", d.clientPath(), address, d.path("service", "admin.token"))
		return nil
	}
	dir := filepath.Dir(d.clientPath())
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	text := fmt.Sprintf("%sserver = %q\ntoken = %q\n", clientMark, address, strings.TrimSpace(string(token)))
	if err := os.WriteFile(d.clientPath(), []byte(text), 0o600); err != nil {
		return err
	}
	for _, p := range []string{filepath.Dir(dir), dir, d.clientPath()} {
		if err := os.Chown(p, d.uid, d.gid); err != nil {
			return err
		}
	}
	return nil
}

// ground copies the demo ground, with the addresses of this lab's hosts.
func (d *demo) ground(l *lab.Lab) error {
	to := d.path("saltmarsh")
	if err := os.RemoveAll(to); err != nil {
		return err
	}
	if err := os.CopyFS(to, os.DirFS(filepath.Join(d.checkout, "demo", "saltmarsh"))); err != nil {
		return err
	}
	file := filepath.Join(to, "hosts.toml")
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	text := string(b)
	for i := range hosts {
		text = strings.ReplaceAll(text, fmt.Sprintf("10.88.0.%d", 11+i), l.Address(i+1))
	}
	return os.WriteFile(file, []byte(text), 0o644)
}

// northstake runs the command line as a user would, and returns what it printed
// and its exit status.
func (d *demo) northstake(ctx context.Context, args ...string) (string, int, error) {
	cmd := exec.CommandContext(ctx, d.bin("northstake"), args...)
	_, address := d.running()
	cmd.Env = append(os.Environ(), "NORTHSTAKE_SERVER=http://"+address, "NORTHSTAKE_TOKEN_FILE="+d.path("service", "admin.token"))
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		if exit.ExitCode() >= 2 {
			return string(out), exit.ExitCode(), fmt.Errorf("northstake %s: %s", strings.Join(args, " "), out)
		}
		return string(out), exit.ExitCode(), nil
	}
	return string(out), 0, err
}

// story declares, trusts, plans and applies the ground, changes one thing by
// hand, and returns what the drift check says.
func (d *demo) story(ctx context.Context, l *lab.Lab) (string, error) {
	end := progress("ground saltmarsh")
	if _, _, err := d.northstake(ctx, "secret", "keep", "keeper", "--file", l.KeyFile()); err != nil {
		return "", err
	}
	out, _, err := d.northstake(ctx, "declare", d.path("saltmarsh"))
	if err != nil {
		return "", err
	}
	end(strings.TrimSpace(out))
	for _, h := range hosts {
		// The fingerprint comes from the host itself, past the network.
		key, err := l.Shell(ctx, h, "ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub | cut -d' ' -f2")
		if err != nil {
			return "", err
		}
		if _, _, err := d.northstake(ctx, "trust", h, "--ground", "saltmarsh", "--yes", "--fingerprint", strings.TrimSpace(key)); err != nil {
			return "", err
		}
	}
	end = progress("drift check of what is there")
	before, status, err := d.northstake(ctx, "drift", "saltmarsh")
	if err != nil {
		return "", err
	}
	if status == 1 {
		end("something has shifted already, and is kept")
		return before, nil
	}
	end("nothing has shifted")
	end = progress("plan and apply")
	out, status, err = d.northstake(ctx, "plan", "saltmarsh")
	if err != nil {
		return "", err
	}
	if status == 1 {
		number := planNumber(out)
		if _, _, err := d.northstake(ctx, "apply", number, "--ground", "saltmarsh", "--yes"); err != nil {
			return "", err
		}
		end("plan " + number + " applied")
	} else {
		end("nothing to do")
	}
	end = progress("a change by hand on quay1")
	if _, err := l.Shell(ctx, "quay1", "sed -i 's/07:40/08:10/' /srv/www/timetable/index.html"); err != nil {
		return "", err
	}
	end("the sailing of 07:40 now says 08:10")
	out, _, err = d.northstake(ctx, "drift", "saltmarsh")
	return out, err
}

// planNumber finds the plan's number in "plan 12: 20 steps …".
func planNumber(out string) string {
	for _, line := range strings.Split(out, "\n") {
		if rest, ok := strings.CutPrefix(line, "plan "); ok {
			number, _, _ := strings.Cut(rest, ":")
			return number
		}
	}
	return ""
}

func (d *demo) account(address, drift string, took time.Duration) {
	fmt.Printf(`
North Stake runs (%.0f s). Two hosts serve the timetable of Saltmarsh Ferries,
and one of another family the notices to its crews; one page was changed by
hand, and the drift check says so:

%s

Console   %s
Sign in   with the token in %s
Ground    %s
Log       %s

Next, from %s:
  bin/northstake drift saltmarsh      what has shifted, and since when
  bin/northstake restore saltmarsh    put it back
  bin/northstake show quay1           what a host is, and how its stakes stand

make stop ends all of it; make clean leaves nothing of it here.
`, took.Seconds(), "    "+strings.ReplaceAll(strings.TrimSpace(drift), "\n", "\n    "), address, d.path("service", "admin.token"), d.path("saltmarsh"), d.path("service.log"), d.checkout)
}

func (d *demo) stop(ctx context.Context) error {
	if _, err := os.Stat(d.state); errors.Is(err, fs.ErrNotExist) {
		fmt.Println("  nothing of the demo runs")
		return nil
	}
	end := progress("stopping the service, PostgreSQL and the practice hosts")
	d.endService()
	if p := lab.FindPostgres(d.path("postgres")); p != nil {
		if err := p.Stop(ctx); err != nil {
			fmt.Println("  ", err)
		}
	}
	if err := lab.Stop(ctx, d.path("lab")); err != nil {
		return err
	}
	end("done; make demo starts them again as they were")
	return nil
}

func (d *demo) clean(ctx context.Context) error {
	d.endService()
	if p := lab.FindPostgres(d.path("postgres")); p != nil {
		if err := p.Stop(ctx); err != nil {
			fmt.Println("  ", err)
		}
	}
	if err := lab.Clean(ctx, d.path("lab"), os.Stdout); err != nil {
		return err
	}
	if err := lab.DropImages(); err != nil {
		return err
	}
	if old, err := os.ReadFile(d.clientPath()); err == nil && strings.HasPrefix(string(old), clientMark) {
		if err := os.Remove(d.clientPath()); err != nil {
			return err
		}
		os.Remove(filepath.Dir(d.clientPath())) // stays when something else is there
	}
	if err := os.RemoveAll(d.state); err != nil {
		return err
	}
	fmt.Println("  nothing of the demo is left on this machine, but for the Debian packages it installed")
	return nil
}

func copyFile(from, to string, mode os.FileMode) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	os.Remove(to) // a program that runs cannot be written over
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if e := out.Close(); err == nil {
		err = e
	}
	return err
}

func copyRods(from, to string) error {
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	list, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	for _, e := range list {
		if err := copyFile(filepath.Join(from, e.Name()), filepath.Join(to, e.Name()), 0o755); err != nil {
			return err
		}
	}
	return nil
}

func sameFile(a, b string) (bool, error) {
	x, err := os.ReadFile(a)
	if err != nil {
		return false, err
	}
	y, err := os.ReadFile(b)
	return bytes.Equal(x, y), err
}
