package hosts

import (
	"bytes"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"northstake/e2e/stage"
	"northstake/service/contract"
)

// Probes are made from where they are declared, another host among it, and say what was
// wrong; one URL can be asked for once; a watch prints what changes.
func TestProbesFromElsewhere(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 2, "")
	here, there := g.Hosts[0], g.Hosts[1]
	g.DeclareText(fmt.Sprintf("[kit.base]\n[site.timetable]\non = [%q]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\npath = { \"/old\" = { moved_to = \"/linked.html\", exact = true } }\n"+
		"[[site.timetable.probe]]\npath = \"/old\"\nfollows = true\nends_at = \"/linked.html\"\ncontains = \"Next sailing\"\nfrom = [\"inside\", \"outside\", %q]\nshows = { X-Content-Type-Options = \"nosniff\" }\n", here, there))
	g.Trust()
	g.Apply(0)
	probed := func(status int, args ...string) []contract.ProbeResult {
		t.Helper()
		var list []contract.ProbeResult
		stage.Decode(t, g.Ns(status, append([]string{"probe", "--json", "--ground", g.Name}, args...)...), &list)
		return list
	}
	from := map[string]contract.ProbeResult{}
	for _, r := range probed(0, "timetable") {
		from[r.From] = r
	}
	for place, at := range map[string]string{"inside": "127.0.0.1:80", "outside": g.Address(here) + ":80", there: g.Address(here) + ":80"} {
		r := from[place]
		if !r.OK || r.Answered != at || len(r.Redirects) != 1 || !strings.HasSuffix(r.Redirects[0], "/linked.html") || r.First == 0 {
			t.Errorf("from %s: %+v", place, r)
		}
	}
	if r := probed(0, "--url", "http://timetable.saltmarsh.test/none", "--at", g.Address(here), "--from", there+",outside", "--status", "404"); len(r) != 2 || r[0].From != there || r[1].From != "outside" {
		t.Errorf("one URL, from two places: %+v", r)
	}
	if r := probed(1, "--url", "http://none.invalid/", "--from", there); r[0].Failed != "name" {
		t.Errorf("a name that nobody has: %+v", r)
	}
	for _, wrong := range [][]string{{"--url", "ftp://x"}, {"--url", "http://x", "--from", "h99"}, {"nosuchsite"}, {"timetable", "--url", "http://x"}} {
		if out, errs, status := g.Run(append([]string{"probe", "--ground", g.Name}, wrong...)...); status != 2 {
			t.Errorf("%v exits with %d: %s%s", wrong, status, out, errs)
		}
	}
	// A watch: at first all, and then what has changed.
	cmd := exec.Command(filepath.Join(stage.Root, "bin", "northstake"), "probe", "timetable", "--ground", g.Name, "--watch", "--every", "200ms")
	cmd.Env = []string{"NORTHSTAKE_SERVER=" + g.Service.Address, "NORTHSTAKE_TOKEN_FILE=" + filepath.Join(g.Service.State, "admin.token"), "PATH=/usr/bin:/bin", "HOME=" + g.Dir}
	out := &lockedBuffer{}
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	says := func(n int, want string) {
		t.Helper()
		for range 300 {
			if strings.Count(out.String(), want) == n {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		t.Errorf("the watch does not say %q %d times:\n%s", want, n, out)
	}
	says(3, "sent on to")
	g.On(here, "systemctl stop nginx")
	says(3, "connection refused")
	g.On(here, "systemctl start nginx")
	says(6, "sent on to")
	if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil && cmd.ProcessState.ExitCode() > 2 {
		t.Errorf("interrupted, it ends with %v", err)
	}
	g.On(here, "systemctl stop nginx")
	for _, r := range probed(1, "timetable") {
		if r.OK || r.Failed != "connection" {
			t.Errorf("of a server that is stopped: %+v", r)
		}
	}
}

// lockedBuffer is written by one and read by another.
type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}
