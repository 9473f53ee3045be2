package webserver

import (
	"context"
	"os"
	"strings"
	"testing"
	"time"

	"northstake/core/stake"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

// running is a folder on which a web server seems to run, with one worker.
func running(t *testing.T, name string) (*system.Machine, map[string]stake.Layout) {
	m := systemtest.Folder(t)
	for path, text := range map[string]string{
		"/run/webd.pid":             "12\n",
		"/proc/12/task/12/children": "15 ",
		"/proc/15/cmdline":          "worker process",
		"/etc/webd/sites/timetable": "listen 80",
	} {
		systemtest.Put(t, m, path, text)
	}
	return m, map[string]stake.Layout{name: {Service: "webd", Pid: "/run/webd.pid"}}
}

// rewrite writes a file anew, some clock ticks after all that was written before.
func rewrite(t *testing.T, m *system.Machine, path, text string) {
	t.Helper()
	time.Sleep(30 * time.Millisecond)
	if err := os.WriteFile(m.Path(path), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// Of a server that writes its process id at each reload that file says when it has
// read its configuration, whatever workers it adds or ends in between.
func TestAConfigurationIsLoadedWhenTheProcessIDIsWritten(t *testing.T) {
	const site = "/etc/webd/sites/timetable"
	m, layouts := running(t, "httpd")
	for _, c := range []struct {
		path, text string
		loaded     bool
	}{
		{"/run/webd.pid", "12", true},
		{site, "listen 81", false},
		{"/proc/12/task/12/children", "15 16 17", false},
		{"/proc/12/task/12/children", "17", false},
		{"/run/webd.pid", "12", true},
	} {
		rewrite(t, m, c.path, c.text)
		if is, err := Loaded(m, "httpd", layouts["httpd"], site); err != nil || is == nil || *is != c.loaded {
			t.Errorf("after %s was written: loaded is %v, %v, not %t", c.path, is, err, c.loaded)
		}
	}
	rewrite(t, m, "/run/webd.pid", "13")
	if is, err := Loaded(m, "httpd", layouts["httpd"], site); err != nil || is != nil {
		t.Errorf("of a server that does not run it is said: %v, %v", is, err)
	}
}

// A reload is over when the server has read its configuration, not when it was told to.
func TestAReloadIsWaitedFor(t *testing.T) {
	for _, name := range []string{"httpd", "nginx"} {
		rewrites := name == "httpd"
		m, layouts := running(t, name)
		taken := TakesIn(m, layouts, "webd")
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
				t.Fatalf("%s: %s: %v", name, why, err)
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
			t.Errorf("%s: %v", name, err)
		}
		ended, cancel := context.WithCancel(context.Background())
		cancel()
		if err := TakesIn(m, layouts, "webd")(ended); err == nil || !strings.Contains(err.Error(), "has not taken its configuration in") {
			t.Errorf("a server that does not read: %v", err)
		}
		if err := TakesIn(m, layouts, "cron")(ended); err != nil {
			t.Errorf("a service that is no web server: %v", err)
		}
	}
}
