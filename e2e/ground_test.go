package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"northstake/lab"
	"northstake/service/contract"
)

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
			if t.Failed() {
				g.complaints(h)
			}
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
	fmt.Fprintf(&b, "[ground]\nname = %q\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\nsudo = true\n", g.name)
	for _, h := range g.hosts {
		fmt.Fprintf(&b, "[host.%s]\naddress = %q\nkits = [\"base\"]\n", h, g.address(h))
	}
	if !strings.Contains(extra, "[kit.base]") {
		b.WriteString("[kit.base]\npackages = [\"cron\"]\ninbound = \"declared\"\nservice = { cron = { running = true, at_boot = true } }\n")
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

// complaints prints what a host itself has to say after a test that failed.
func (g *ground) complaints(host string) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	out, err := labs.Shell(ctx, host, "systemctl --failed --no-legend --plain; journalctl -q --no-pager -p warning -n 25 -o short-precise; cat /proc/loadavg; "+
		"timeout 3 systemctl list-jobs --no-pager --no-legend; timeout 3 loginctl list-sessions --no-pager --no-legend; journalctl -q --no-pager -n 25 -o short-precise -t systemd -t systemd-logind; ps axo pid,stat,etime,wchan:30,args | grep -E '[s]shd|[s]udo|journal[d]|login[d]|dbu[s]|[s]ystemd$|[s]ystemd --user|[s]erve --state'")
	g.t.Logf("what %s says itself (%v):\n%s", host, err, out)
	began := time.Now()
	session, err := exec.CommandContext(ctx, "sh", "-c", sshTo(g.address(host))+" true").CombinedOutput()
	g.t.Logf("ssh %s true took %s: %v %s", host, time.Since(began).Round(time.Millisecond), err, session)
}

// sshTo is the OpenSSH client as somebody would use it for a lab host.
func sshTo(address string) string {
	return "ssh -F none -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR -o BatchMode=yes -i " + labs.KeyFile() + " keeper@" + address
}

func (g *ground) address(host string) string { return labs.Address(g.n[host]) }

// run runs the command line and returns what it printed and its exit status.
func (g *ground) run(args ...string) (string, string, int) {
	g.t.Helper()
	cmd := exec.Command(filepath.Join(g.s.bin(), "northstake"), args...)
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
			g.t.Fatalf("host %s was not read: %s", h.Place, h.Unread)
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
