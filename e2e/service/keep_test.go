//go:build keep

package service

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"northstake/e2e/stage"
	"northstake/lab"
)

// TestKeep keeps what a release leaves in its database and on its hosts, for
// TestWhatEarlierReleasesKeptIsRead: the release whose checkout is FORMER, built, in
// testdata/kept/VERSION. It speaks that release's words.
func TestKeep(t *testing.T) {
	former, version := os.Getenv("FORMER"), os.Getenv("VERSION")
	if former == "" || version == "" {
		t.Fatal("FORMER is the checkout of the release, built, and VERSION the name of what it leaves")
	}
	dir := filepath.Join("testdata", "kept", version)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	p, err := lab.OpenPostgres(ctx, stage.Home+"/pg-keep")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Stop(ctx) })
	s := &stage.Service{Programs: filepath.Join(former, "bin"), State: stage.Home + "/service-keep", Database: p.URL(), Log: stage.Home + "/service-keep.log"}
	if err := os.MkdirAll(s.State, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := s.Start(); err != nil {
		t.Fatal(err)
	}
	killed := false
	t.Cleanup(func() {
		if !killed {
			s.End(syscall.SIGKILL)
		}
	})
	text, err := os.ReadFile(filepath.Join("testdata", "kept", "ground.toml"))
	if err != nil {
		t.Fatal(err)
	}
	grounds := map[string]*stage.Ground{}
	for i, host := range keptHosts {
		g := &stage.Ground{T: t, Service: s, Name: keptGrounds[i], Dir: t.TempDir(), Hosts: []string{host}, Number: map[string]int{}}
		grounds[g.Name] = g
		keptHost(g, host)
		g.On(host, "touch /stamp")
		g.Beside("ground.toml", strings.NewReplacer("GROUND", g.Name, "HOST", host, "ADDRESS", g.Address(host)).Replace(string(text)))
		for path, text := range keptContent {
			g.Beside(path, text)
		}
	}
	g := grounds["kept"]
	g.Ns(0, "secret", "put", "keeper", "--file", stage.Lab().KeyFile())
	apply := func(g *stage.Ground) int64 {
		var p struct{ Id int64 }
		stage.Decode(t, g.Ns(1, "plan", g.Name, "--json"), &p)
		g.Ns(0, "apply", fmt.Sprint(p.Id), "--ground", g.Name, "--yes", "--json")
		return p.Id
	}
	for _, g := range grounds {
		g.Trust()
		apply(g)
	}
	// A run of each sort, then something that somebody changed, and a plan that nobody ran.
	host := g.Hosts[0]
	g.Ns(0, "act", "reload", "cron", "--on", host, "--ground", g.Name, "--yes")
	g.Ns(0, "bring", "package", "tree", "--on", host, "--ground", g.Name, "--yes")
	g.Beside("content/timetable/more.html", stage.Page("more"))
	g.Ns(0, "declare", g.Dir)
	apply(g)
	g.On(host, "echo 'by hand' >> /etc/tides.conf; echo tide > /srv/www/timetable/upload.txt")
	g.Ns(1, "drift", g.Name)
	g.Ns(0, "probe", g.Name)
	g.Beside("content/timetable/index.html", stage.Page("two"))
	g.Ns(0, "declare", g.Dir)
	g.Ns(1, "plan", g.Name)

	// A run that is cut off in the middle of a step: service and rod are killed.
	g = grounds["cut"]
	host = g.Hosts[0]
	g.Beside("content/timetable/index.html", stage.Page("two"))
	g.Beside("files/tides.cron", "# two\n")
	g.Ns(0, "declare", g.Dir)
	var plan struct{ Id int64 }
	stage.Decode(t, g.Ns(1, "plan", g.Name, "--json"), &plan)
	g.Hold(host, 2, "worked")
	status, body := g.Post("/grounds/"+g.Name+"/runs", fmt.Sprintf(`{"plan":%d}`, plan.Id))
	if status != 202 {
		t.Fatalf("%d %s", status, body)
	}
	g.Eventually("the step is reached", func() error {
		if out := g.On(host, "cat "+stage.HoldFile+".reached 2>/dev/null || true"); strings.TrimSpace(out) != "2 worked" {
			return fmt.Errorf("reached %q", out)
		}
		return nil
	})
	s.End(syscall.SIGKILL)
	killed = true
	g.On(host, "pkill -KILL -f '[r]od/[0-9a-f]* serve' || true")
	g.Unhold(host)

	dump, err := exec.Command("pg_dump", "--no-owner", "--no-privileges", p.URL()).Output()
	if err != nil {
		t.Fatal(err)
	}
	var said []string // what is replaced in the records
	for i, name := range keptGrounds {
		g, host := grounds[name], keptHosts[i]
		said = append(said, g.Address(host), "ADDRESS-"+host)
		for typ, key := range hostKeys(g, host) {
			said = append(said, key[0], "KEY-"+typ+"-"+host, key[1], "FINGERPRINT-"+typ+"-"+host)
		}
		changed := g.On(host, "rm -rf /var/lib/northstake/rod; find / -xdev \\( -path /proc -o -path /sys -o -path /run -o -path /tmp -o -path /dev -o -path /var/log -o -path /var/cache -o -path /usr -o -path /var/lib/dpkg -o -path /var/lib/apt -o -path /root \\) -prune -o -newer /stamp ! -type d -print | sort")
		t.Logf("%s:\n%s", host, changed)
		writeKept(t, filepath.Join(dir, host+".tar.gz"), unbase64(t, g.On(host, "find / -xdev \\( -path /proc -o -path /sys -o -path /run -o -path /tmp -o -path /dev -o -path /var/log -o -path /var/cache -o -path /usr -o -path /var/lib/dpkg -o -path /var/lib/apt -o -path /root -o -path /home -o -path /etc/ssh -o -path /var/lib/systemd \\) -prune -o -newercm /stamp -print0 -o -path /srv -print0 | tar --null --no-recursion -T - --acls -cz --ignore-failed-read 2>/dev/null | base64 -w0")))
	}
	var out bytes.Buffer
	z, _ := gzip.NewWriterLevel(&out, gzip.BestCompression)
	z.Write([]byte(strings.NewReplacer(said...).Replace(string(dump))))
	z.Close()
	writeKept(t, filepath.Join(dir, "records.sql.gz"), out.Bytes())
	names, err := os.ReadDir(s.State)
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range names {
		b, err := os.ReadFile(filepath.Join(s.State, n.Name()))
		if err != nil {
			t.Fatal(err)
		}
		writeKept(t, filepath.Join(dir, "state", n.Name()), b)
	}
}

func unbase64(t *testing.T, text string) []byte {
	b, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func writeKept(t *testing.T, path string, b []byte) {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, b, 0o600); err != nil {
		t.Fatal(err)
	}
}
