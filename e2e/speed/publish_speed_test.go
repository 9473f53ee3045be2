//go:build bench

package speed

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"northstake/e2e/stage"
	"northstake/service/contract"
)

const (
	publishFiles  = 2000
	publishSize   = 25_000 // bytes of each
	publishRounds = 7
	manyStakes    = 300
)

// TestSpeedOfPublishing times the publication of 2,000 files, 50 MB, to a fresh host
// beside tar through ssh, and a change of one of them beside rsync, in turns in one
// run. Each round has a host of its own, and nothing is deleted: a file system is slow
// to make files where others have just been deleted.
func TestSpeedOfPublishing(t *testing.T) {
	g := stage.NewGround(t, stage.Shared(), publishRounds, stage.BareKit)
	tree := filepath.Join(g.Dir, "content")
	rnd := rand.NewChaCha8([32]byte{7})
	fill := func(n int) {
		b := make([]byte, publishSize)
		rnd.Read(b)
		g.Content(fmt.Sprintf("d%d/f%d.bin", n%40, n), string(b))
	}
	g.DeclareText(stage.BareKit + "[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n")
	g.Trust()
	for _, host := range g.Hosts {
		g.On(host, "apt-get install -y -q rsync nginx >/dev/null 2>&1; mkdir -p /srv/tar /srv/rsync; chown keeper /srv/tar /srv/rsync")
	}
	for n := range publishFiles {
		fill(n)
	}
	time.Sleep(6 * time.Minute) // ext4 remembers for so long which inodes were deleted
	// step is how long the step that publishes took, and the whole of apply.
	step := func(host string) (time.Duration, time.Duration) {
		g.Ns(0, "declare", g.Dir)
		p := g.Plan(1, "--on", host)
		start := time.Now()
		r := g.ApplyPlan(0, p.Id)
		whole := time.Since(start)
		for _, s := range r.Hosts[0].Steps {
			if strings.HasPrefix(s.Text, "publish") {
				return time.Duration(s.TookMs * float64(time.Millisecond)), whole
			}
		}
		t.Fatalf("nothing was published: %+v", r.Hosts[0].Steps)
		return 0, 0
	}
	times := map[string][]time.Duration{}
	note := func(name string, d time.Duration) { times[name] = append(times[name], d) }
	for round, host := range g.Hosts {
		ssh := stage.SshTo(g.Address(host))
		rsync := "rsync -a -e '" + strings.TrimSuffix(ssh, " keeper@"+g.Address(host)) + "' ./ keeper@" + g.Address(host) + ":/srv/rsync/"
		both := []func(){
			func() {
				note("tar c \\| ssh HOST tar x", timed(t, tree, "tar c . | "+ssh+" tar x -C /srv/tar"))
			},
			func() {
				took, whole := step(host)
				note("publish 2,000 new files, 50 MB", took)
				note("northstake apply of that", whole)
			},
		}
		for i := range both {
			g.On(host, "sync")
			both[(round+i)%2]()
		}
		timed(t, tree, rsync)
		for range 3 {
			fill(int(rnd.Uint64() % publishFiles))
			note("rsync -a of one change", timed(t, tree, rsync))
			took, whole := step(host)
			note("publish one change", took)
			note("northstake apply of one change", whole)
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "2,000 files of 25 KB to a fresh lab host, and a change of one of them, beside what one would type, in turns in one run. Medians.\n\nMade on %s, on 2 processors.\n\n| what | runs | median | ratio | wanted |\n|---|---:|---:|---:|---:|\n", time.Now().Format("2006-01-02"))
	for _, row := range []struct{ name, beside, wanted string }{
		{"tar c \\| ssh HOST tar x", "tar c \\| ssh HOST tar x", ""}, {"publish 2,000 new files, 50 MB", "tar c \\| ssh HOST tar x", "1.0"}, {"northstake apply of that", "tar c \\| ssh HOST tar x", ""},
		{"rsync -a of one change", "rsync -a of one change", ""}, {"publish one change", "rsync -a of one change", "0.5"}, {"northstake apply of one change", "rsync -a of one change", ""},
	} {
		m, base := middle(times[row.name]), middle(times[row.beside])
		fmt.Fprintf(&b, "| %s | %d | %.0f ms | %.2f | %s |\n", row.name, len(times[row.name]), float64(m.Microseconds())/1000, float64(m)/float64(base), row.wanted)
	}
	b.WriteString("\n*Publish* is the step of a run: what the host lacks is sent, made ready beside the live tree, flushed to disk, and switched in one instant. *northstake apply* is the whole command: a survey first, probes from inside and outside at the end.\n")
	section(t, "Publishing", b.String())
}

func middle(list []time.Duration) time.Duration {
	list = slices.Clone(list)
	slices.Sort(list)
	return list[len(list)/2]
}

// TestSpeedOfManyStakes times the survey of a host with 300 stakes over a kept
// connection beside ssh HOST true, in turns in one run.
func TestSpeedOfManyStakes(t *testing.T) {
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	host := g.Hosts[0]
	var b strings.Builder
	b.WriteString("[kit.base]\npackages = [\"cron\", \"tree\"]\n")
	for i := range 100 {
		fmt.Fprintf(&b, "[kit.base.directory.\"/srv/d%d\"]\n[kit.base.link.\"/srv/l%d\"]\npoints_to = \"/srv/d%d\"\n", i, i, i)
	}
	for i := range 100 {
		fmt.Fprintf(&b, "[kit.base.file.\"/etc/harbour/f%d\"]\ntext = \"tide %d\\n\"\n", i, i)
	}
	b.WriteString("[site.timetable]\non = [\"h*\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\ncontent = { dir = \"content\" }\n")
	g.DeclareText(b.String())
	g.Trust()
	g.Apply(0)
	rows := g.Survey(host)
	if len(rows) < manyStakes {
		t.Fatalf("the host has %d stakes", len(rows))
	}
	times := map[string][]time.Duration{}
	for range 20 {
		times["ssh"] = append(times["ssh"], timed(t, "", stage.SshTo(g.Address(host))+" true"))
		time.Sleep(150 * time.Millisecond)
		start := time.Now()
		g.Survey(host)
		times["command"] = append(times["command"], time.Since(start))
		var s contract.Survey
		out, _, _ := g.Run("survey", g.Name, "--on", host, "--json")
		stage.Decode(t, out, &s)
		times["survey"] = append(times["survey"], time.Duration(s.Hosts[0].TookMs*float64(time.Millisecond)))
	}
	base := middle(times["ssh"])
	text := fmt.Sprintf("A survey of a lab host with %d stakes of seven types over the kept connection, beside `ssh HOST true`, in turns in one run. Medians.\n\nMade on %s, on 2 processors.\n\n| what | runs | median | ratio | wanted |\n|---|---:|---:|---:|---:|\n| ssh HOST true | 20 | %.1f ms | 1.000 |  |\n",
		len(rows), time.Now().Format("2006-01-02"), float64(base.Microseconds())/1000)
	for _, row := range []struct{ name, key, wanted string }{{"survey, warm, as the service notes it", "survey", "0.1"}, {"northstake survey, warm", "command", ""}} {
		m := middle(times[row.key])
		text += fmt.Sprintf("| %s | 20 | %.1f ms | %.3f | %s |\n", row.name, float64(m.Microseconds())/1000, float64(m)/float64(base), row.wanted)
	}
	section(t, "A survey of many stakes", text)
}

// TestSpeedOfLint times lint of a ground with 2,000 hosts and 500 sites, with the
// memory that it takes.
func TestSpeedOfLint(t *testing.T) {
	dir := t.TempDir()
	var b strings.Builder
	b.WriteString("[ground]\nname = \"coast\"\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\n[kit.base]\npackages = [\"curl\"]\n")
	for i := range 2000 {
		fmt.Fprintf(&b, "[host.h%d]\naddress = \"10.%d.%d.%d\"\nkits = [\"base\"]\nlabels = [\"l%d\"]\n", i, i/62500, i/250%250, i%250+1, i%500)
	}
	for i := range 500 {
		fmt.Fprintf(&b, "[site.s%d]\non = [\"label:l%d\"]\nserver = \"nginx\"\nnames = [\"s%d.coast.test\"]\ncontent = { dir = \"content\" }\n", i, i, i)
	}
	stage.Write(t, filepath.Join(dir, "ground.toml"), b.String())
	if err := os.Mkdir(filepath.Join(dir, "content"), 0o755); err != nil {
		t.Fatal(err)
	}
	stage.Write(t, filepath.Join(dir, "content", "index.html"), "tide")
	var list []time.Duration
	var memory int64
	for range 9 {
		cmd := exec.Command(filepath.Join(stage.Root, "bin", "northstake"), "lint", dir)
		start := time.Now()
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		list = append(list, time.Since(start))
		memory = max(memory, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss) // in KB
	}
	section(t, "Lint", fmt.Sprintf("`northstake lint` of a ground with 2,000 hosts and 500 sites, on %s: %.0f ms (median of %d; wanted under 1 s), at most %d MB of memory (wanted under 200 MB).\n",
		time.Now().Format("2006-01-02"), float64(middle(list).Microseconds())/1000, len(list), memory>>10))
}
