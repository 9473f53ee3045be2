package e2e

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"northstake/lab"
	"northstake/service/contract"
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
	for _, b := range []string{"northstake", "northstaked", "rods/rod-linux-amd64"} {
		if _, err := os.Stat(filepath.Join(root, "bin", b)); err != nil {
			return 1, fmt.Errorf("%w: build first: make build", err)
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
	if err := os.RemoveAll(home); err != nil {
		return 1, err
	}
	if err := os.MkdirAll(home, 0o755); err != nil {
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
	return code, os.RemoveAll(home)
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

// service is one northstaked.
type service struct {
	address, state, database, log string
	cmd                           *exec.Cmd
	mu                            sync.Mutex
}

func startService(state, database string) (*service, error) {
	s := &service{state: state, database: database, log: state + ".log"}
	if err := os.MkdirAll(state, 0o700); err != nil {
		return nil, err
	}
	return s, s.start()
}

// start starts the service, on its former address where it had one.
func (s *service) start() error {
	listen := "127.0.0.1:0"
	if s.address != "" {
		listen = strings.TrimPrefix(s.address, "http://")
	}
	log, err := os.OpenFile(s.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	at, err := log.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	cmd := exec.Command(filepath.Join(root, "bin", "northstaked"), "--listen", listen, "--state", s.state, "--rods", filepath.Join(root, "bin", "rods"), "--takeover", "4s")
	cmd.Env = []string{"NORTHSTAKE_DATABASE=" + s.database, "PATH=/usr/bin:/bin"}
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		return err
	}
	go cmd.Wait()
	if err := os.WriteFile(s.state+".pid", []byte(strconv.Itoa(cmd.Process.Pid)), 0o644); err != nil {
		return err
	}
	s.mu.Lock()
	s.cmd = cmd
	s.mu.Unlock()
	for range 600 {
		b, err := os.ReadFile(s.log)
		if err != nil {
			return err
		}
		if _, rest, ok := strings.Cut(string(b[at:]), "address="); ok {
			s.address = strings.Fields(rest)[0]
			if res, err := http.Get(s.address + "/readyz"); err == nil {
				res.Body.Close()
				if res.StatusCode == http.StatusOK {
					return nil
				}
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	b, _ := os.ReadFile(s.log)
	return fmt.Errorf("the service did not start:\n%s", b)
}

func (s *service) end(sig syscall.Signal) {
	s.mu.Lock()
	cmd := s.cmd
	s.mu.Unlock()
	cmd.Process.Signal(sig)
	for range 200 {
		if cmd.Process.Signal(syscall.Signal(0)) != nil {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

func (s *service) token(t testing.TB) string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(s.state, "admin.token"))
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(b))
}

// ground is a ground with hosts of its own, in a directory of its own.
type ground struct {
	t     testing.TB
	s     *service
	name  string
	dir   string
	hosts []string
	n     map[string]int
}

// newGround makes lab hosts and a ground that serves one site on them. Extra is
// added to the declaration; %HOST is a host's table.
func newGround(t testing.TB, s *service, count int, extra string) *ground {
	t.Helper()
	return newGroundOf(t, s, slices.Repeat([]lab.Family{lab.Debian}, count), extra)
}

// newGroundOf is newGround with a host of each family that is named.
func newGroundOf(t testing.TB, s *service, families []lab.Family, extra string) *ground {
	t.Helper()
	name := plain(t.Name())
	g := &ground{t: t, s: s, name: name, dir: t.TempDir(), n: map[string]int{}}
	ctx := context.Background()
	var wg sync.WaitGroup
	errs := make([]error, len(families))
	for i, family := range families {
		n := int(nextN.Add(1))
		host := fmt.Sprintf("h%d", n)
		g.hosts = append(g.hosts, host)
		g.n[host] = n
		wg.Go(func() {
			booting <- struct{}{}
			defer func() { <-booting }()
			if errs[i] = labs.Ensure(ctx, family, host, n); errs[i] == nil {
				_, errs[i] = labs.Shell(ctx, host, started)
			}
		})
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		for _, h := range g.hosts {
			if err := labs.Remove(ctx, h); err != nil {
				t.Log(err)
			}
		}
	})
	g.declareText(extra)
	g.content("index.html", page("one"))
	g.content("linked.html", page("one"))
	g.ns(0, "secret", "keep", "keeper", "--file", labs.KeyFile())
	return g
}

// started waits until all that a host starts at boot has started; firewalld is active
// for systemd before its rules are up.
const started = "[ -d /run/systemd/system ] || exit 0; systemctl is-system-running --wait >/dev/null; systemctl -q is-active firewalld || exit 0; " +
	"for i in $(seq 50); do firewall-cmd -q --state && break; sleep 0.2; done"

// restart stops a host in order, starts it again, and waits until it is up.
func (g *ground) restart(host string) {
	g.t.Helper()
	ctx := context.Background()
	if err := labs.Restart(ctx, host); err != nil {
		g.t.Fatal(err)
	}
	if err := labs.WaitSSH(ctx, g.n[host]); err != nil {
		g.t.Fatal(err)
	}
	g.on(host, started)
}

func plain(s string) string {
	s = strings.NewReplacer("TheServiceKilledAtEveryBoundary", "service-killed").Replace(s)
	s = strings.ToLower(strings.TrimPrefix(s, "Test"))
	s = strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, s)
	return strings.Trim(s[:min(len(s), 36)], "-")
}

func page(version string) string {
	return fmt.Sprintf("<!doctype html><title>Next sailing</title><p>version %s</p><a href=\"linked.html\">linked</a>\n", version)
}

// declareText writes the declaration.
func (g *ground) declareText(extra string) {
	g.t.Helper()
	var b strings.Builder
	fmt.Fprintf(&b, "[ground]\nname = %q\n[reach]\nuser = \"keeper\"\nkey = \"keeper\"\nsudo = true\n", g.name)
	for _, h := range g.hosts {
		fmt.Fprintf(&b, "[host.%s]\naddress = %q\nkits = [\"base\"]\n", h, g.address(h))
	}
	if !strings.Contains(extra, "[kit.base]") {
		b.WriteString("[kit.base]\npackages = [\"cron\"]\ninbound = \"declared\"\nservices = { cron = { running = true, at_boot = true } }\n")
	}
	if !strings.Contains(extra, "[site.timetable]") {
		fmt.Fprintf(&b, "[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n"+
			"[site.timetable.path.\"/quay\"]\nroot = \"/srv/www/quay\"\n[[site.timetable.probe]]\npath = \"/\"\ncontains = \"Next sailing\"\n")
	}
	b.WriteString(extra)
	if err := os.WriteFile(filepath.Join(g.dir, "ground.toml"), []byte(b.String()), 0o644); err != nil {
		g.t.Fatal(err)
	}
}

func (g *ground) content(path, text string) {
	g.t.Helper()
	g.beside("content/"+path, text)
}

// beside writes a file beside the declaration.
func (g *ground) beside(path, text string) {
	g.t.Helper()
	full := filepath.Join(g.dir, path)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		g.t.Fatal(err)
	}
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		g.t.Fatal(err)
	}
}

func (g *ground) address(host string) string { return labs.Address(g.n[host]) }

// run runs the command line and returns what it printed and its exit status.
func (g *ground) run(args ...string) (string, string, int) {
	g.t.Helper()
	cmd := exec.Command(filepath.Join(root, "bin", "northstake"), args...)
	cmd.Env = []string{"NORTHSTAKE_SERVER=" + g.s.address, "NORTHSTAKE_TOKEN_FILE=" + filepath.Join(g.s.state, "admin.token"), "PATH=/usr/bin:/bin", "HOME=" + g.dir}
	cmd.Dir = g.dir
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		g.t.Fatal(err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// ns runs the command line, which has to exit with the given status.
func (g *ground) ns(want int, args ...string) string {
	g.t.Helper()
	out, errs, got := g.run(args...)
	if got != want {
		g.t.Fatalf("northstake %s exited with %d, want %d:\n%s%s", strings.Join(args, " "), got, want, out, errs)
	}
	return out + errs
}

// trust trusts all hosts by the fingerprint that the host itself shows.
func (g *ground) trust() {
	g.t.Helper()
	g.ns(0, "declare", g.dir)
	for _, h := range g.hosts {
		g.ns(0, "trust", h, "--ground", g.name, "--yes", "--fingerprint", g.fingerprint(h))
	}
}

func (g *ground) fingerprint(host string) string {
	return strings.TrimSpace(g.on(host, "ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub | cut -d' ' -f2"))
}

// on runs a shell script on a host, past North Stake.
func (g *ground) on(host, script string) string {
	g.t.Helper()
	out, err := labs.Shell(context.Background(), host, script)
	if err != nil {
		g.t.Fatal(err)
	}
	return out
}

// plan plans and returns the plan.
func (g *ground) plan(status int, flags ...string) contract.Plan {
	g.t.Helper()
	var p contract.Plan
	decode(g.t, g.ns(status, append([]string{"plan", g.name, "--json"}, flags...)...), &p)
	return p
}

// apply plans, applies, and returns the run.
func (g *ground) apply(status int) contract.Run {
	g.t.Helper()
	p := g.plan(1)
	return g.applyPlan(status, p.Id)
}

func (g *ground) applyPlan(status int, id int64) contract.Run {
	g.t.Helper()
	var r contract.Run
	decode(g.t, g.ns(status, "apply", fmt.Sprint(id), "--ground", g.name, "--yes", "--json"), &r)
	return r
}

func decode(t testing.TB, text string, v any) {
	t.Helper()
	if err := json.NewDecoder(strings.NewReader(text)).Decode(v); err != nil {
		t.Fatalf("%v in:\n%s", err, text)
	}
}

// nothingToDo says whether a plan is empty.
func (g *ground) nothingToDo() {
	g.t.Helper()
	if p := g.plan(0); p.Steps != 0 {
		g.t.Errorf("a second plan has steps: %+v", p.Hosts)
	}
}

// fetch gets a page from a host by address, as a browser from outside would.
func (g *ground) fetch(host, path string) (int, string) {
	g.t.Helper()
	status, body, err := get("http://"+g.address(host)+path, "timetable.saltmarsh.test")
	if err != nil {
		g.t.Fatal(err)
	}
	return status, body
}

func get(url, host string) (int, string, error) {
	req, err := http.NewRequest(http.MethodGet, url, nil)
	if err != nil {
		return 0, "", err
	}
	req.Host = host
	client := http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	res, err := client.Do(req)
	if err != nil {
		return 0, "", err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	return res.StatusCode, string(b), err
}

// survey returns the rows of a host as a fresh survey finds them, by stake.
func (g *ground) survey(host string) map[string]contract.Row {
	g.t.Helper()
	out, errs, code := g.run("survey", g.name, "--on", host, "--json")
	if code > 2 || out == "" {
		g.t.Fatalf("survey exited with %d: %s", code, errs)
	}
	var s contract.Survey
	decode(g.t, out, &s)
	rows := map[string]contract.Row{}
	for _, h := range s.Hosts {
		if h.Unread != "" {
			g.t.Fatalf("host %s was not read: %s", h.Host, h.Unread)
		}
		for _, r := range h.Rows {
			rows[strings.TrimPrefix(r.Address, host+"/")] = r
		}
	}
	return rows
}

// eventually repeats a look until it finds no fault, a minute at most.
func (g *ground) eventually(what string, look func() error) {
	g.t.Helper()
	deadline := time.Now().Add(time.Minute)
	for {
		err := look()
		if err == nil {
			return
		}
		if time.Now().After(deadline) {
			g.t.Fatalf("%s: %v", what, err)
		}
		time.Sleep(100 * time.Millisecond)
	}
}
