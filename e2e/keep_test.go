//go:build keep

package e2e

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
	p, err := lab.OpenPostgres(ctx, home+"/pg-keep")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Stop(ctx) })
	s := &service{programs: filepath.Join(former, "bin"), state: home + "/service-keep", database: p.URL(), log: home + "/service-keep.log"}
	if err := os.MkdirAll(s.state, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := s.start(); err != nil {
		t.Fatal(err)
	}
	killed := false
	t.Cleanup(func() {
		if !killed {
			s.end(syscall.SIGKILL)
		}
	})
	text, err := os.ReadFile(filepath.Join("testdata", "kept", "ground.toml"))
	if err != nil {
		t.Fatal(err)
	}
	grounds := map[string]*ground{}
	for i, host := range keptHosts {
		g := &ground{t: t, s: s, name: keptGrounds[i], dir: t.TempDir(), hosts: []string{host}, n: map[string]int{}}
		grounds[g.name] = g
		g.keptHost(host)
		g.on(host, "touch /stamp")
		g.beside("ground.toml", strings.NewReplacer("GROUND", g.name, "HOST", host, "ADDRESS", g.address(host)).Replace(string(text)))
		for path, text := range keptContent {
			g.beside(path, text)
		}
	}
	g := grounds["kept"]
	g.ns(0, "secret", "put", "keeper", "--file", labs.KeyFile())
	apply := func(g *ground) int64 {
		var p struct{ Id int64 }
		decode(t, g.ns(1, "plan", g.name, "--json"), &p)
		g.ns(0, "apply", fmt.Sprint(p.Id), "--ground", g.name, "--yes", "--json")
		return p.Id
	}
	for _, g := range grounds {
		g.trust()
		apply(g)
	}
	// A run of each sort, then something that somebody changed, and a plan that nobody ran.
	host := g.hosts[0]
	g.ns(0, "act", "reload", "cron", "--on", host, "--ground", g.name, "--yes")
	g.ns(0, "bring", "package", "tree", "--on", host, "--ground", g.name, "--yes")
	g.beside("content/timetable/more.html", page("more"))
	g.ns(0, "declare", g.dir)
	apply(g)
	g.on(host, "echo 'by hand' >> /etc/tides.conf; echo tide > /srv/www/timetable/upload.txt")
	g.ns(1, "drift", g.name)
	g.ns(0, "probe", g.name)
	g.beside("content/timetable/index.html", page("two"))
	g.ns(0, "declare", g.dir)
	g.ns(1, "plan", g.name)

	// A run that is cut off in the middle of a step: service and rod are killed.
	g = grounds["cut"]
	host = g.hosts[0]
	g.beside("content/timetable/index.html", page("two"))
	g.beside("files/tides.cron", "# two\n")
	g.ns(0, "declare", g.dir)
	var plan struct{ Id int64 }
	decode(t, g.ns(1, "plan", g.name, "--json"), &plan)
	g.hold(host, 2, "worked")
	status, body := g.post("/grounds/"+g.name+"/runs", fmt.Sprintf(`{"plan":%d}`, plan.Id))
	if status != 202 {
		t.Fatalf("%d %s", status, body)
	}
	g.eventually("the step is reached", func() error {
		if out := g.on(host, "cat "+holdFile+".reached 2>/dev/null || true"); strings.TrimSpace(out) != "2 worked" {
			return fmt.Errorf("reached %q", out)
		}
		return nil
	})
	s.end(syscall.SIGKILL)
	killed = true
	g.on(host, "pkill -KILL -f '[r]od/[0-9a-f]* serve' || true")
	g.unhold(host)

	dump, err := exec.Command("pg_dump", "--no-owner", "--no-privileges", p.URL()).Output()
	if err != nil {
		t.Fatal(err)
	}
	var said []string // what is replaced in the records
	for i, name := range keptGrounds {
		g, host := grounds[name], keptHosts[i]
		said = append(said, g.address(host), "ADDRESS-"+host)
		for typ, key := range hostKeys(g, host) {
			said = append(said, key[0], "KEY-"+typ+"-"+host, key[1], "FINGERPRINT-"+typ+"-"+host)
		}
		changed := g.on(host, "rm -rf /var/lib/northstake/rod; find / -xdev \\( -path /proc -o -path /sys -o -path /run -o -path /tmp -o -path /dev -o -path /var/log -o -path /var/cache -o -path /usr -o -path /var/lib/dpkg -o -path /var/lib/apt -o -path /root \\) -prune -o -newer /stamp ! -type d -print | sort")
		t.Logf("%s:\n%s", host, changed)
		writeKept(t, filepath.Join(dir, host+".tar.gz"), unbase64(t, g.on(host, "find / -xdev \\( -path /proc -o -path /sys -o -path /run -o -path /tmp -o -path /dev -o -path /var/log -o -path /var/cache -o -path /usr -o -path /var/lib/dpkg -o -path /var/lib/apt -o -path /root -o -path /home -o -path /etc/ssh -o -path /var/lib/systemd \\) -prune -o -newercm /stamp -print0 -o -path /srv -print0 | tar --null --no-recursion -T - --acls -cz --ignore-failed-read 2>/dev/null | base64 -w0")))
	}
	var out bytes.Buffer
	z, _ := gzip.NewWriterLevel(&out, gzip.BestCompression)
	z.Write([]byte(strings.NewReplacer(said...).Replace(string(dump))))
	z.Close()
	writeKept(t, filepath.Join(dir, "records.sql.gz"), out.Bytes())
	names, err := os.ReadDir(s.state)
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range names {
		b, err := os.ReadFile(filepath.Join(s.state, n.Name()))
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
