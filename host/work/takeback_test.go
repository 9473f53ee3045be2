package work

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"northstake/core/wire"
	"northstake/host/filter"
	"northstake/host/system/systemtest"
)

// Whatever kind of step is taken back: what somebody has changed since the step stays, and
// the run says so; the rest is as it was.
func TestTakingBackLeavesWhatCameSince(t *testing.T) {
	link := wire.LinkWant{Path: "/srv/now", PointsTo: "/srv/b"}
	directory := wire.DirectoryWant{Path: "/srv/quay", Owners: wire.Owners{Owner: "me", Group: "me"}, Mode: "0750"}
	site := wire.SiteWant{File: "/etc/tide.conf", Text: "flood\n", Link: "/etc/on.conf"}
	for name, c := range map[string]struct {
		kind          string
		want          any
		before, since string // scripts, with the host's root as working directory
		after         string // what readlink, stat and cat say then
		says          string
	}{
		"a link":                          {"link", link, "ln -s a srv/now", "", "a", ""},
		"a link that was moved since":     {"link", link, "ln -s a srv/now", "ln -sfn c srv/now", "c", "left /srv/now as it is"},
		"a link that is a directory now":  {"link", link, "", "rm srv/now; mkdir srv/now", "directory", "left /srv/now as it is"},
		"a link that was taken away":      {"link", link, "", "rm srv/now", "", ""},
		"a new link":                      {"link", link, "", "", "", ""},
		"a directory":                     {"directory", directory, "mkdir -m 0705 srv/quay", "", "directory 705", ""},
		"a directory of another mode":     {"directory", directory, "mkdir -m 0705 srv/quay", "chmod 0711 srv/quay", "directory 711", "left /srv/quay as it is: it was changed after the step: it is 0711 now, and was 0705 before"},
		"a directory that is a file now":  {"directory", directory, "mkdir -m 0705 srv/quay", "rmdir srv/quay; echo x > srv/quay; chmod 0600 srv/quay", "regular file 600", "left /srv/quay as it is"},
		"a link in a directory's place":   {"directory", directory, "ln -s a srv/quay", "", "a", ""},
		"that directory, with files":      {"directory", directory, "ln -s a srv/quay", "echo x > srv/quay/x", "directory 750", "it was a link to a"},
		"a new directory, with files":     {"directory", directory, "", "echo x > srv/quay/x", "directory 750", ""},
		"a site":                          {"site", site, "echo ebb > etc/tide.conf", "", "ebb", ""},
		"a site that was edited":          {"site", site, "echo ebb > etc/tide.conf", "echo mine >> etc/tide.conf", "flood\nmine", "left /etc/tide.conf as it is: it was changed after the step; what was there before is kept in"},
		"a site whose link was replaced":  {"site", site, "", "ln -sfn other etc/on.conf", "", "left /etc/on.conf as it is"},
		"a site that is no file any more": {"site", site, "echo ebb > etc/tide.conf", "rm etc/tide.conf; mkdir -m 0700 etc/tide.conf", "directory 700", "left /etc/tide.conf as it is"},
	} {
		m := folder(t)
		systemtest.Put(t, m.Machine, "/srv/a/.keep", "")
		systemtest.Put(t, m.Machine, "/etc/init.d/nginx", "")
		run := func(script string) string {
			cmd := exec.Command("sh", "-ec", script)
			cmd.Dir = m.Path("/")
			out, err := cmd.CombinedOutput()
			if err != nil {
				t.Fatalf("%s: %s: %v: %s", name, script, err, out)
			}
			return strings.TrimSpace(string(out))
		}
		run(c.before)
		raw, err := json.Marshal(c.want)
		if err != nil {
			t.Fatal(err)
		}
		w := workers[c.kind]
		job := Job{Run: "7", Number: 1, Work: raw}
		var said []string
		job.Say = func(format string, args ...any) { said = append(said, fmt.Sprintf(format, args...)) }
		before, err := w.Before(context.Background(), m, job)
		if err != nil {
			t.Fatal(err)
		}
		if c.kind == "site" { // without a server that tests it
			systemtest.Put(t, m.Machine, string(site.File), site.Text)
			run(string("ln -s " + site.File + " etc/on.conf"))
		} else if _, err := w.Do(context.Background(), m, job, before); err != nil {
			t.Fatal(name, err)
		}
		run(c.since)
		if err := w.Back(context.Background(), m, job, before); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		path := map[string]string{"link": "srv/now", "directory": "srv/quay", "site": "etc/tide.conf"}[c.kind]
		got := run(fmt.Sprintf("if [ -L %[1]s ]; then readlink %[1]s; elif [ -f %[1]s ] && [ %[2]s = site ]; then cat %[1]s; elif [ -e %[1]s ]; then stat -c '%%F %%a' %[1]s; fi", path, c.kind))
		if c.kind == "link" && strings.HasPrefix(got, "directory") {
			got = "directory"
		}
		if got != c.after {
			t.Errorf("%s: it is %q afterwards, want %q", name, got, c.after)
		}
		if all := strings.Join(said, "\n"); !strings.Contains(all, c.says) || c.says == "" && all != "" {
			t.Errorf("%s: said %q, want %q", name, all, c.says)
		}
	}
}

// Of a firewall program's rules those go that a step made, and what somebody has changed
// since stays; so with the files by which an administrator changes a unit.
func TestWhatAStepAddedGoes(t *testing.T) {
	rule := func(place string, live, kept bool) filter.PortRule {
		return filter.PortRule{Place: place, Live: live, Kept: kept}
	}
	before := []filter.PortRule{rule("public", false, false), rule("home", true, false)}
	now := []filter.PortRule{rule("later", true, true), rule("public", true, false), rule("home", false, true)}
	want := []filter.PortRule{rule("later", true, true), rule("public", false, false), rule("home", false, false)}
	if got := formerRules(now, before, false); !slices.Equal(got, want) {
		t.Errorf("rules are %+v, want %+v", got, want)
	}
	was := map[string]string{"a": "1", "b": "1", "c": "1"}
	left := map[string]string{"a": "2", "b": "1", "d": "1", "e": "1"} // c was taken away
	is := map[string]string{"a": "2", "b": "3", "d": "1", "e": "2", "f": "1"}
	if got, want := former(is, left, was), map[string]string{"a": "1", "b": "3", "c": "1", "e": "2", "f": "1"}; !maps.Equal(got, want) {
		t.Errorf("files are %v, want %v", got, want)
	}
}
