//go:build bench

package speed

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/resolve"
	"northstake/core/stake"
	_ "northstake/core/stake/judge"
	_ "northstake/core/stake/kinds"
	"northstake/core/wire"
	"northstake/e2e/stage"
	"northstake/host/reach"
	"northstake/service/contract"
)

const (
	speedFiles  = 2000
	speedStakes = 100
	speedRounds = 40
)

// TestSpeed times a whole drift check of a host with 100 stakes and 2,000 content
// files beside ssh HOST true, in turns, and writes docs/performance.md. Before
// some of the checks a real edit happens on the host and has to be reported.
func TestSpeed(t *testing.T) {
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	var b strings.Builder
	b.WriteString(stage.BareKit + "[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n")
	for i := range speedStakes - 6 {
		fmt.Fprintf(&b, "[site.timetable.path.\"/p%d\"]\nroot = \"/srv/www/p%d\"\n", i, i)
	}
	g.DeclareText(b.String())
	for i := range speedFiles - 2 {
		g.Content(fmt.Sprintf("d%d/f%d.html", i%40, i), stage.Page(fmt.Sprint(i))+strings.Repeat("x", 200+i%3000))
	}
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	rows := g.Survey(host)
	if len(rows) != speedStakes {
		t.Fatalf("the host has %d stakes, not %d", len(rows), speedStakes)
	}
	time.Sleep(3 * time.Second) // changes are old enough for sums to be kept
	g.Survey(host)

	ssh := func() time.Duration { return timed(t, "", stage.SshTo(g.Address(host))+" true") }
	client := &http.Client{}
	token := g.Service.Token(t)
	ask := func(method, url, body, prefer string, v any) {
		t.Helper()
		req, err := http.NewRequest(method, g.Service.Address+"/api/v1"+url, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Prefer", prefer)
		res, err := client.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		if err := json.NewDecoder(res.Body).Decode(v); err != nil {
			t.Fatal(err)
		}
	}
	whole := func(s contract.Survey) []contract.Row {
		t.Helper()
		if s.State != "done" || len(s.Hosts) != 1 || s.Hosts[0].Unread != "" || len(s.Hosts[0].Rows) != speedStakes {
			t.Fatalf("the survey is %s, with %d hosts: %+v", s.State, len(s.Hosts), s.Hosts)
		}
		return s.Hosts[0].Rows
	}
	service := func() (time.Duration, []contract.Row) {
		start := time.Now()
		var s contract.Survey
		ask(http.MethodPost, "/grounds/"+g.Name+"/surveys", "{}", "wait=60", &s)
		took := time.Since(start)
		rows := whole(s)
		if os.Getenv("PARTS") != "" {
			t.Logf("answered after %v; the host %.1f ms", took, s.Hosts[0].TookMs)
		}
		return took, rows
	}
	followed := func() time.Duration {
		start := time.Now()
		var s contract.Survey
		ask(http.MethodPost, "/grounds/"+g.Name+"/surveys", "{}", "", &s)
		path := fmt.Sprintf("/grounds/%s/surveys/%d", g.Name, s.Id)
		err := contract.Follow(context.Background(), client, g.Service.Address+"/api/v1"+path+"/events", 0, func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+token) }, time.Second, func(contract.StreamEvent) error { return nil })
		if err != nil {
			t.Fatal(err)
		}
		ask(http.MethodGet, path, "", "", &s)
		took := time.Since(start)
		whole(s)
		return took
	}
	command := func() time.Duration {
		start := time.Now()
		g.Ns(0, "drift", g.Name)
		return time.Since(start)
	}

	// The rod alone, over a connection of the test's own.
	key, err := os.ReadFile(stage.Lab().KeyFile())
	if err != nil {
		t.Fatal(err)
	}
	target := reach.Target{Host: host, Address: g.Address(host), Port: 22, User: "keeper", Key: key, Sudo: true, Via: "ssh"}
	keys, err := reach.HostKeys(context.Background(), target)
	if err != nil {
		t.Fatal(err)
	}
	pool := reach.NewPool(&reach.RodDir{Dir: filepath.Join(stage.Root, "bin", "rods")})
	defer pool.Close()
	known := reach.KnownKeys{Own: keys, Owner: func(string) string { return "" }}
	wants := wants(g, host)
	alone := func() time.Duration {
		start := time.Now()
		conn, err := pool.Rod(context.Background(), "bench", target, known)
		if err == nil {
			_, err = conn.Survey(context.Background(), "bench", func() ([]wire.Want, error) { return wants, nil })
		}
		if err != nil {
			t.Fatal(err)
		}
		return time.Since(start)
	}

	for _, typ := range stake.Types() {
		var some []wire.Want
		for _, w := range wants {
			if w.Type == typ {
				some = append(some, w)
			}
		}
		if len(some) == 0 {
			continue
		}
		conn, err := pool.Rod(context.Background(), "bench", target, known)
		if err != nil {
			t.Fatal(err)
		}
		var list []time.Duration
		for range 15 {
			start := time.Now()
			a, err := conn.Survey(context.Background(), "bench "+typ, func() ([]wire.Want, error) { return some, nil })
			if err != nil {
				t.Fatal(err)
			}
			list = append(list, time.Since(start))
			_ = a
		}
		slices.Sort(list)
		t.Logf("rod, %d stakes of type %s: %v", len(some), typ, list[len(list)/2])
	}
	times := map[string][]time.Duration{}
	note := func(name string, d time.Duration) { times[name] = append(times[name], d) }
	edits := 0
	rnd := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	alone()
	service()
	for i := range speedRounds {
		note("ssh HOST true", ssh())
		time.Sleep(150 * time.Millisecond) // until the host has done with that session
		if rnd.IntN(3) == 0 {
			edits++
			n := rnd.IntN(speedFiles - 2)
			file := fmt.Sprintf("/srv/www/timetable/d%d/f%d.html", n%40, n)
			g.On(host, "cp -p "+file+" /tmp/kept; sed -i 's/version/vershun/' "+file+"; touch -r /tmp/kept "+file)
			_, rows := service()
			found := false
			for _, r := range rows {
				for _, d := range r.Differences {
					found = found || r.Standing == "shifted" && strings.Contains(d.Attribute, fmt.Sprintf("f%d.html", n))
				}
			}
			if !found {
				t.Fatalf("round %d: an edit of %s was not reported", i, file)
			}
			g.On(host, "cp -p /tmp/kept "+file)
			time.Sleep(2100 * time.Millisecond)
			service()
			alone()
		}
		// In another order each time: what comes first finds colder caches.
		warm := []func(){
			func() { took, _ := service(); note("service, warm", took) },
			func() { note("service, followed, warm", followed()) },
			func() { note("rod alone, warm", alone()) },
			func() { note("northstake drift, warm", command()) },
		}
		rnd.Shuffle(len(warm), func(a, b int) { warm[a], warm[b] = warm[b], warm[a] })
		for _, f := range warm {
			f()
		}
		if i%4 == 0 {
			g.On(host, "pkill -f '[s]shd: keeper'; sleep 0.2")
			time.Sleep(100 * time.Millisecond)
			took, _ := service()
			note("service, cold", took)
			note("rod alone, cold", alone())
		}
	}
	report(t, times, edits)
}

// timed runs a script on this machine and says how long it took.
func timed(t *testing.T, dir, script string) time.Duration {
	t.Helper()
	start := time.Now()
	cmd := exec.Command("sh", "-ec", script)
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%s: %v: %s", script, err, out)
	}
	return time.Since(start)
}

// wants is what a survey of a host asks for.
func wants(g *stage.Ground, host string) []wire.Want {
	text, err := os.ReadFile(filepath.Join(g.Dir, "ground.toml"))
	if err != nil {
		g.T.Fatal(err)
	}
	var files []declare.File
	collect(g, &files)
	d, problems := lint.Parse([]declare.Source{{Name: "ground.toml", Text: string(text)}}, &declare.Manifest{Files: files})
	if len(problems) > 0 {
		g.T.Fatal(problems)
	}
	h, err := resolve.OnePlace(d, host, wire.Traits{SSHPort: 22, IPv6: true}, map[string]wire.Layout{"nginx": {Package: "nginx", Service: "nginx", Program: "nginx",
		Config: "/etc/nginx/nginx.conf", SitesDir: "/etc/nginx/sites-available", LinkDir: "/etc/nginx/sites-enabled", RootBase: "/var/www"}}, nil)
	if err != nil {
		g.T.Fatal(err)
	}
	var out []wire.Want
	for _, s := range h.Stakes {
		out = append(out, wire.Want{Type: s.Type, Name: s.Name, Want: s.Want})
	}
	return out
}

func collect(g *stage.Ground, files *[]declare.File) {
	base := filepath.Join(g.Dir, "content")
	err := filepath.WalkDir(base, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(g.Dir, path)
		*files = append(*files, declare.File{Path: filepath.ToSlash(rel), Size: int64(len(b)), SHA256: sum(b)})
		return err
	})
	if err != nil {
		g.T.Fatal(err)
	}
}

func report(t *testing.T, times map[string][]time.Duration, edits int) {
	median := func(name string) time.Duration {
		list := slices.Clone(times[name])
		slices.Sort(list)
		return list[len(list)/2]
	}
	base := median("ssh HOST true")
	var b strings.Builder
	fmt.Fprintf(&b, "A whole drift check of a lab host with %d stakes and %d content files, beside `ssh HOST true` with the OpenSSH client, in turns in one run. "+
		"The figures are medians; the ratio is to `ssh HOST true`. Before %d of the checks one file was really edited, with its old time put back, and each edit was reported.\n\n"+
		"Made on %s, on 2 processors.\n\n| what | runs | median | ratio | wanted |\n|---|---:|---:|---:|---:|\n", speedStakes, speedFiles, edits, time.Now().Format("2006-01-02"))
	for _, row := range []struct{ name, wanted string }{{"ssh HOST true", ""}, {"rod alone, cold", "0.6"}, {"rod alone, warm", "0.05"}, {"service, cold", "0.6"}, {"service, warm", "0.05"}, {"service, followed, warm", ""}, {"northstake drift, warm", ""}} {
		m := median(row.name)
		fmt.Fprintf(&b, "| %s | %d | %.1f ms | %.3f | %s |\n", row.name, len(times[row.name]), float64(m.Microseconds())/1000, float64(m)/float64(base), row.wanted)
	}
	b.WriteString("\n*Cold*: the host's end of the connection was cut before, so that logging in, starting the rod and the first survey are all in the time. " +
		"*Warm*: over the kept connection. *Rod alone*: one request to the rod. *Service*: one request over HTTP that awaits the record. *Followed*: asking the service, following its stream of events to the end, and reading the record. " +
		"*northstake drift*: the command, with the start of its process.\n")
	section(t, "A drift check", b.String())
}

// section writes one part of docs/performance.md and leaves the others as they are.
func section(t *testing.T, title, text string) {
	t.Helper()
	t.Log("\n" + text)
	file := filepath.Join(stage.Root, "docs", "performance.md")
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	head, rest, _ := strings.Cut(string(b), "\n## ")
	parts := map[string]string{title: text}
	order := []string{}
	for _, part := range strings.Split(rest, "\n## ") {
		name, body, ok := strings.Cut(part, "\n")
		if !ok {
			continue
		}
		order = append(order, name)
		if name != title {
			parts[name] = strings.Trim(body, "\n") + "\n"
		}
	}
	if !slices.Contains(order, title) {
		order = append(order, title)
	}
	for _, name := range order {
		head = strings.TrimRight(head, "\n") + "\n\n## " + name + "\n\n" + parts[name]
	}
	if err := os.WriteFile(file, []byte(head), 0o644); err != nil {
		t.Fatal(err)
	}
}

func sum(b []byte) string {
	s := sha256.Sum256(b)
	return hex.EncodeToString(s[:])
}
