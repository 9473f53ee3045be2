package work

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"northstake/core/stake"
	"northstake/host/platform"
)

// server is a folder on which a web server seems to run, with one worker.
func server(t *testing.T, rewrites bool) (*platform.Machine, stake.SiteWant) {
	m := folder(t)
	m.Families = []platform.Family{{Systems: []string{"made-up"}, Servers: map[string]stake.Layout{
		"httpd": {Service: "webd", Pid: "/run/webd.pid", Rewrites: rewrites},
	}}}
	for path, text := range map[string]string{
		"/etc/os-release":           "ID=made-up\n",
		"/run/webd.pid":             "12\n",
		"/proc/12/task/12/children": "15 ",
		"/proc/15/cmdline":          "worker process",
		"/etc/webd/sites/timetable": "listen 80",
	} {
		p := m.Path(path)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return m, stake.SiteWant{File: "/etc/webd/sites/timetable", Layout: m.Families[0].Servers["httpd"]}
}

// rewrite writes a file anew, some clock ticks after all that was written before.
func rewrite(t *testing.T, m *platform.Machine, path, text string) {
	t.Helper()
	time.Sleep(30 * time.Millisecond)
	if err := os.WriteFile(m.Path(path), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// Of a server that writes its process id at each reload that file says when it has
// read its configuration, whatever workers it adds or ends in between.
func TestAConfigurationIsLoadedWhenTheProcessIDIsWritten(t *testing.T) {
	m, w := server(t, true)
	for _, c := range []struct {
		path, text string
		loaded     bool
	}{
		{"/run/webd.pid", "12", true},
		{w.File, "listen 81", false},
		{"/proc/12/task/12/children", "15 16 17", false},
		{"/proc/12/task/12/children", "17", false},
		{"/run/webd.pid", "12", true},
	} {
		rewrite(t, m, c.path, c.text)
		if is, err := loaded(m, w); err != nil || is == nil || *is != c.loaded {
			t.Errorf("after %s was written: loaded is %v, %v, not %t", c.path, is, err, c.loaded)
		}
	}
	rewrite(t, m, "/run/webd.pid", "13")
	if is, err := loaded(m, w); err != nil || is != nil {
		t.Errorf("of a server that does not run it is said: %v, %v", is, err)
	}
}

// A reload is over when the server has read its configuration, not when it was told to.
func TestAReloadIsWaitedFor(t *testing.T) {
	for _, rewrites := range []bool{true, false} {
		m, _ := server(t, rewrites)
		taken := takesIn(m, "webd")
		read := make(chan error)
		go func() { read <- taken(context.Background()) }()
		if rewrites {
			rewrite(t, m, "/proc/12/task/12/children", "15 16") // a worker more says nothing
		} else {
			rewrite(t, m, "/run/webd.pid", "12")
		}
		notYet := func(why string) {
			t.Helper()
			select {
			case err := <-read:
				t.Fatalf("rewrites %t: %s: %v", rewrites, why, err)
			case <-time.After(100 * time.Millisecond):
			}
		}
		notYet("it has not read anything yet")
		if rewrites {
			rewrite(t, m, "/run/webd.pid", "12")
		} else {
			rewrite(t, m, "/proc/12/task/12/children", "15 16")
		}
		notYet("a former worker still takes connections")
		rewrite(t, m, "/proc/15/cmdline", map[bool]string{true: "", false: "worker process is shutting down"}[rewrites])
		if err := <-read; err != nil {
			t.Errorf("rewrites %t: %v", rewrites, err)
		}
		ended, cancel := context.WithCancel(context.Background())
		cancel()
		if err := takesIn(m, "webd")(ended); err == nil || !strings.Contains(err.Error(), "has not taken its configuration in") {
			t.Errorf("a server that does not read: %v", err)
		}
		if err := takesIn(m, "cron")(ended); err != nil {
			t.Errorf("a service that is no web server: %v", err)
		}
	}
}

// A process is as old as it is, however busy the machine: what was started before a
// moment is never taken for younger than it.
func TestTheStartOfAProcess(t *testing.T) {
	m := &platform.Machine{}
	before := time.Now().Add(-30 * time.Millisecond) // ticks have ten
	cmd := exec.Command("sleep", "30")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { cmd.Process.Kill(); cmd.Wait() }()
	after := time.Now().Add(30 * time.Millisecond)
	for range 200 {
		at, err := startOf(m, strconv.Itoa(cmd.Process.Pid))
		if err != nil || at.Before(before) || at.After(after) {
			t.Fatalf("it began at %v, %v, and was started between %v and %v", at, err, before, after)
		}
	}
}
