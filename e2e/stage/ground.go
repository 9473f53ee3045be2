package stage

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

// Ground is a ground with hosts of its own, in a directory of its own.
type Ground struct {
	T       testing.TB
	Service *Service
	Name    string
	Dir     string
	Hosts   []string
	Number  map[string]int
}

// NewGround makes lab hosts and a ground that serves one site on them. Extra is
// added to the declaration; %HOST is a host's table.
func NewGround(t testing.TB, s *Service, count int, extra string) *Ground {
	t.Helper()
	return NewGroundOf(t, s, slices.Repeat([]lab.Family{lab.Debian}, count), extra)
}

// NewGroundOf is NewGround with a host of each family that is named.
func NewGroundOf(t testing.TB, s *Service, families []lab.Family, extra string) *Ground {
	t.Helper()
	name := plain(t.Name())
	g := &Ground{T: t, Service: s, Name: name, Dir: t.TempDir(), Number: map[string]int{}}
	ctx := context.Background()
	var wg sync.WaitGroup
	errs := make([]error, len(families))
	for i, family := range families {
		n, err := NextNumber()
		if err != nil {
			t.Fatal(err)
		}
		host := fmt.Sprintf("h%d", n)
		g.Hosts = append(g.Hosts, host)
		g.Number[host] = n
		wg.Go(func() {
			booting <- struct{}{}
			defer func() { <-booting }()
			if errs[i] = Lab().Ensure(ctx, family, host, n); errs[i] == nil {
				_, errs[i] = Lab().Shell(ctx, host, Started)
			}
		})
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		for _, h := range g.Hosts {
			if t.Failed() {
				g.complaints(h)
			}
			if err := Lab().Remove(ctx, h); err != nil {
				t.Log(err)
			}
		}
	})
	g.DeclareText(extra)
	g.Content("index.html", Page("one"))
	g.Content("linked.html", Page("one"))
	g.Ns(0, "secret", "keep", "keeper", "--file", Lab().KeyFile())
	return g
}

// Restart stops a host in order, starts it again, and waits until it is up.
func (g *Ground) Restart(host string) {
	g.T.Helper()
	ctx := context.Background()
	if err := Lab().Restart(ctx, host); err != nil {
		g.T.Fatal(err)
	}
	if err := Lab().WaitSSH(ctx, g.Number[host]); err != nil {
		g.T.Fatal(err)
	}
	g.On(host, Started)
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

// Page is a page of the site that every ground has, of a version.
func Page(version string) string {
	return fmt.Sprintf("<!doctype html><title>Next sailing</title><p>version %s</p><a href=\"linked.html\">linked</a>\n", version)
}

// DeclareText writes the declaration.
func (g *Ground) DeclareText(extra string) {
	g.T.Helper()
	var b strings.Builder
	fmt.Fprintf(&b, "[ground]\nname = %q\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\nsudo = true\n", g.Name)
	for _, h := range g.Hosts {
		fmt.Fprintf(&b, "[host.%s]\naddress = %q\nkits = [\"base\"]\n", h, g.Address(h))
	}
	if !strings.Contains(extra, "[kit.base]") {
		b.WriteString("[kit.base]\npackages = [\"cron\"]\ninbound = \"declared\"\nservice = { cron = { running = true, at_boot = true } }\n")
	}
	if !strings.Contains(extra, "[site.timetable]") {
		fmt.Fprintf(&b, "[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n"+
			"[site.timetable.path.\"/quay\"]\nroot = \"/srv/www/quay\"\n[[site.timetable.probe]]\npath = \"/\"\ncontains = \"Next sailing\"\n")
	}
	b.WriteString(extra)
	if err := os.WriteFile(filepath.Join(g.Dir, "ground.toml"), []byte(b.String()), 0o644); err != nil {
		g.T.Fatal(err)
	}
}

// Content writes a file of the content of that site.
func (g *Ground) Content(path, text string) {
	g.T.Helper()
	g.Beside("content/"+path, text)
}

// Beside writes a file beside the declaration.
func (g *Ground) Beside(path, text string) {
	g.T.Helper()
	full := filepath.Join(g.Dir, path)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		g.T.Fatal(err)
	}
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		g.T.Fatal(err)
	}
}

// complaints prints what a host itself has to say after a test that failed.
func (g *Ground) complaints(host string) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	out, err := Lab().Shell(ctx, host, "systemctl --failed --no-legend --plain; journalctl -q --no-pager -p warning -n 25 -o short-precise; cat /proc/loadavg; "+
		"timeout 3 systemctl list-jobs --no-pager --no-legend; timeout 3 loginctl list-sessions --no-pager --no-legend; journalctl -q --no-pager -n 25 -o short-precise -t systemd -t systemd-logind; ps axo pid,stat,etime,wchan:30,args | grep -E '[s]shd|[s]udo|journal[d]|login[d]|dbu[s]|[s]ystemd$|[s]ystemd --user|[s]erve --state'")
	g.T.Logf("what %s says itself (%v):\n%s", host, err, out)
	began := time.Now()
	session, err := exec.CommandContext(ctx, "sh", "-c", SshTo(g.Address(host))+" true").CombinedOutput()
	g.T.Logf("ssh %s true took %s: %v %s", host, time.Since(began).Round(time.Millisecond), err, session)
}

// SshTo is the OpenSSH client as somebody would use it for a lab host.
func SshTo(address string) string {
	return "ssh -F none -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR -o BatchMode=yes -i " + Lab().KeyFile() + " keeper@" + address
}

// Address is the address of a host.
func (g *Ground) Address(host string) string { return Lab().Address(g.Number[host]) }

// Run runs the command line and returns what it printed and its exit status.
func (g *Ground) Run(args ...string) (string, string, int) {
	g.T.Helper()
	cmd := exec.Command(filepath.Join(g.Service.bin(), "northstake"), args...)
	cmd.Env = []string{"NORTHSTAKE_SERVER=" + g.Service.Address, "NORTHSTAKE_TOKEN_FILE=" + filepath.Join(g.Service.State, "admin.token"), "PATH=/usr/bin:/bin", "HOME=" + g.Dir}
	cmd.Dir = g.Dir
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		g.T.Fatal(err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// Ns runs the command line, which has to exit with the given status.
func (g *Ground) Ns(want int, args ...string) string {
	g.T.Helper()
	out, errs, got := g.Run(args...)
	if got != want {
		g.T.Fatalf("northstake %s exited with %d, want %d:\n%s%s", strings.Join(args, " "), got, want, out, errs)
	}
	return out + errs
}

// Trust trusts all hosts by the fingerprint that the host itself shows.
func (g *Ground) Trust() {
	g.T.Helper()
	g.Ns(0, "declare", g.Dir)
	for _, h := range g.Hosts {
		g.Ns(0, "trust", h, "--ground", g.Name, "--yes", "--fingerprint", g.Fingerprint(h))
	}
}

// Fingerprint is that of a host's key, as the host itself shows it.
func (g *Ground) Fingerprint(host string) string {
	return strings.TrimSpace(g.On(host, "ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub | cut -d' ' -f2"))
}

// On runs a shell script on a host, past North Stake.
func (g *Ground) On(host, script string) string {
	g.T.Helper()
	out, err := Lab().Shell(context.Background(), host, script)
	if err != nil {
		g.T.Fatal(err)
	}
	return out
}

// Plan plans and returns the plan.
func (g *Ground) Plan(status int, flags ...string) contract.Plan {
	g.T.Helper()
	var p contract.Plan
	Decode(g.T, g.Ns(status, append([]string{"plan", g.Name, "--json"}, flags...)...), &p)
	return p
}

// Apply plans, applies, and returns the run.
func (g *Ground) Apply(status int) contract.Run {
	g.T.Helper()
	p := g.Plan(1)
	return g.ApplyPlan(status, p.Id)
}

// ApplyPlan applies a plan, and returns the run.
func (g *Ground) ApplyPlan(status int, id int64) contract.Run {
	g.T.Helper()
	var r contract.Run
	Decode(g.T, g.Ns(status, "apply", fmt.Sprint(id), "--ground", g.Name, "--yes", "--json"), &r)
	return r
}

// Decode reads JSON.
func Decode(t testing.TB, text string, v any) {
	t.Helper()
	if err := json.NewDecoder(strings.NewReader(text)).Decode(v); err != nil {
		t.Fatalf("%v in:\n%s", err, text)
	}
}

// NothingToDo says whether a plan is empty.
func (g *Ground) NothingToDo() {
	g.T.Helper()
	if p := g.Plan(0); p.Steps != 0 {
		g.T.Errorf("a second plan has steps: %+v", p.Hosts)
	}
}

// Fetch gets a page from a host by address, as a browser from outside would.
func (g *Ground) Fetch(host, path string) (int, string) {
	g.T.Helper()
	status, body, err := Get("http://"+g.Address(host)+path, "timetable.saltmarsh.test")
	if err != nil {
		g.T.Fatal(err)
	}
	return status, body
}

// Get gets a URL with another Host header, and returns the status and the body.
func Get(url, host string) (int, string, error) {
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

// Survey returns the rows of a host as a fresh survey finds them, by stake.
func (g *Ground) Survey(host string) map[string]contract.Row {
	g.T.Helper()
	out, errs, code := g.Run("survey", g.Name, "--on", host, "--json")
	if code > 2 || out == "" {
		g.T.Fatalf("survey exited with %d: %s", code, errs)
	}
	var s contract.Survey
	Decode(g.T, out, &s)
	rows := map[string]contract.Row{}
	for _, h := range s.Hosts {
		if h.Unread != "" {
			g.T.Fatalf("host %s was not read: %s", h.Place, h.Unread)
		}
		for _, r := range h.Rows {
			rows[strings.TrimPrefix(r.Address, host+"/")] = r
		}
	}
	return rows
}

// Eventually repeats a look until it finds no fault, a minute at most.
func (g *Ground) Eventually(what string, look func() error) {
	g.T.Helper()
	deadline := time.Now().Add(time.Minute)
	for {
		err := look()
		if err == nil {
			return
		}
		if time.Now().After(deadline) {
			g.T.Fatalf("%s: %v", what, err)
		}
		time.Sleep(100 * time.Millisecond)
	}
}
