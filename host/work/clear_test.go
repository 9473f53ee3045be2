package work

import (
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

// What is taken away goes whole and alone, and comes back as it was, with its mode and
// its time; what came in its place meanwhile stays.
func TestWhatIsTakenAwayComesBack(t *testing.T) {
	file := wire.FileWant{Path: "/etc/tides/table.conf", Text: "flood\n"}
	portion := wire.FileWant{Path: "/etc/tides/table.conf", Text: "flood\n", Portion: "tides", Comment: "#"}
	const look = `find etc srv -type f -printf '%p %m %s %T@\n' -o -printf '%p %m %l\n' | sort; cat etc/tides/table.conf 2>/dev/null || true`
	marked := portion.WithPortion("theirs\n") + "last\n"
	for name, c := range map[string]struct {
		kind   string
		work   any
		before string // scripts, with the host's root as working directory
		gone   string // says nothing once it is gone
		since  string
		stays  string // says nothing if what came since stays
	}{
		"a file":                   {"file", wire.FileWork{FileWant: file, Away: true}, "printf 'flood\\n' > etc/tides/table.conf; chmod 0640 etc/tides/table.conf", "ls etc/tides", "", ""},
		"a file, and another came": {"file", wire.FileWork{FileWant: file, Away: true}, "printf 'flood\\n' > etc/tides/table.conf", "ls etc/tides", "echo theirs > etc/tides/table.conf", "grep -v theirs etc/tides/table.conf || true"},
		"a portion":                {"file", wire.FileWork{FileWant: portion, Away: true}, "printf '" + strings.ReplaceAll(marked, "\n", "\\n") + "' > etc/tides/table.conf", "grep -v -e theirs -e last etc/tides/table.conf || true", "", ""},
		"a link":                   {"link", wire.LinkWork{LinkWant: wire.LinkWant{Path: "/etc/tides/now", PointsTo: "x"}, Away: true}, "ln -s x etc/tides/now", "ls etc/tides", "", ""},
		"a link, and a file came":  {"link", wire.LinkWork{LinkWant: wire.LinkWant{Path: "/etc/tides/now", PointsTo: "x"}, Away: true}, "ln -s x etc/tides/now", "ls etc/tides", "echo theirs > etc/tides/now", "grep -v theirs etc/tides/now || true"},
		"a directory":              {"directory", wire.DirectoryWork{DirectoryWant: wire.DirectoryWant{Path: "/srv/quay"}, Away: true}, "mkdir -m 0705 srv/quay", "ls srv", "", ""},
		"a directory with a file":  {"directory", wire.DirectoryWork{DirectoryWant: wire.DirectoryWant{Path: "/srv/quay"}, Away: true}, "mkdir -m 0705 srv/quay; echo theirs > srv/quay/x", "test -f srv/quay/x || echo theirs are gone", "", ""},
		"a directory, and a link":  {"directory", wire.DirectoryWork{DirectoryWant: wire.DirectoryWant{Path: "/srv/quay"}, Away: true}, "mkdir srv/quay", "ls srv", "ln -s /etc srv/quay", "test -L srv/quay || echo it is no link"},
	} {
		m := folder(t)
		systemtest.Put(t, m.Machine, "/etc/tides/x", "")
		run := func(script string) string {
			cmd := exec.Command("sh", "-ec", script)
			cmd.Dir = m.Path("/")
			out, err := cmd.CombinedOutput()
			if err != nil {
				t.Fatalf("%s: %s: %v: %s", name, script, err, out)
			}
			return strings.TrimSpace(string(out))
		}
		run("rm etc/tides/x; mkdir -p srv; " + c.before)
		before := run(look)
		raw, err := json.Marshal(c.work)
		if err != nil {
			t.Fatal(err)
		}
		w := workers[c.kind]
		job := Job{Run: "7", Number: 1, Work: raw, Say: func(string, ...any) {}}
		was, err := w.Before(context.Background(), m, job)
		if err != nil {
			t.Fatal(err)
		}
		for range 2 { // the second time as after a cut
			if _, err := w.Do(context.Background(), m, job, was); err != nil {
				t.Fatal(name, err)
			}
		}
		if left := run(c.gone); left != "" {
			t.Errorf("%s: left %s", name, left)
		}
		if c.since != "" {
			run(c.since)
		}
		if err := w.Back(context.Background(), m, job, was); err != nil {
			t.Fatal(name, err)
		}
		if c.since == "" {
			if after := run(look); after != before {
				t.Errorf("%s: taken back\n%s\nand before\n%s", name, after, before)
			}
		} else if lost := run(c.stays); lost != "" {
			t.Errorf("%s: what came since is not there any more: %s", name, fmt.Sprint(lost))
		}
	}
}
