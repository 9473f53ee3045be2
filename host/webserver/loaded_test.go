package webserver

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"northstake/core/wire"
	"northstake/host/system"
	"northstake/host/system/systemtest"
)

// running is a folder on which a web server seems to run, with one worker.
func running(t *testing.T, name string) (*system.Machine, map[string]wire.Layout) {
	m := systemtest.Folder(t)
	for path, text := range map[string]string{
		"/run/webd.pid":             "12\n",
		"/proc/12/task/12/children": "15 ",
		"/proc/15/cmdline":          "worker process",
		"/etc/webd/sites/timetable": "listen 80",
	} {
		systemtest.Put(t, m, path, text)
	}
	return m, map[string]wire.Layout{name: {Service: "webd", Pid: "/run/webd.pid"}}
}

// rewrite writes a file anew, some clock ticks after all that was written before.
func rewrite(t *testing.T, m *system.Machine, path, text string) {
	t.Helper()
	time.Sleep(30 * time.Millisecond)
	if err := os.WriteFile(m.Path(wire.Path(path)), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// A configuration is loaded when the server says so itself: a worker that is younger than
// the change says nothing.
func TestAConfigurationIsLoadedWhenTheServerSaysSo(t *testing.T) {
	m, layouts := running(t, "nginx")
	says := "northstake former"
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Host == "timetable.northstake.invalid" {
			fmt.Fprintln(w, says)
		}
	}))
	defer server.Close()
	_, port, _ := strings.Cut(strings.TrimPrefix(server.URL, "http://"), ":")
	n, err := strconv.Atoi(port)
	if err != nil {
		t.Fatal(err)
	}
	w := wire.SiteWant{Server: "nginx", Listen: wire.Listening{{Port: n}}, Mark: "northstake now", Asked: "timetable.northstake.invalid"}
	loaded := func() string {
		t.Helper()
		is, _, err := Loaded(context.Background(), m, layouts["nginx"], w, nil)
		if err != nil {
			t.Fatal(err)
		}
		if is == nil {
			return "does not run"
		}
		return fmt.Sprint(*is)
	}
	if got := loaded(); got != "false" {
		t.Errorf("with the former configuration: %s", got)
	}
	rewrite(t, m, "/proc/12/task/12/children", "19")
	if got := loaded(); got != "false" {
		t.Errorf("with another worker: %s", got)
	}
	w.Mark = ""
	if got := loaded(); got != "does not run" {
		t.Errorf("without a mark, of an older release, it cannot be told: %s", got)
	}
	w.Mark, says = "northstake now", "northstake now"
	if got := loaded(); got != "true" {
		t.Errorf("with the present one: %s", got)
	}
	server.Close()
	if got := loaded(); got != "false" {
		t.Errorf("of a server that does not answer: %s", got)
	}
	rewrite(t, m, "/run/webd.pid", "13")
	if got := loaded(); got != "does not run" {
		t.Errorf("of a server that does not run: %s", got)
	}
}

func rivals(m *system.Machine, l wire.Layout, w wire.SiteWant) ([]wire.Rival, error) {
	c, err := ClaimedOf(m, w.Server, l)
	return c.Rivals(w), err
}

// Another file that claims a name of a site is found, in whatever directory it is loaded
// from, and a comment claims nothing.
func TestRivalsForAName(t *testing.T) {
	for server, c := range map[string]struct{ takes, comment string }{
		"nginx": {"server {\n  server_name a.test\n    \"Tides.test\" b.test;\n}\n", "server {\n  # server_name tides.test;\n  server_name other.test;\n}\n"},
		"httpd": {"<VirtualHost *:80>\n  ServerName a.test\n  serveralias b.test tides.test\n</VirtualHost>\n", "# ServerName tides.test\nServerName other.test:80\n"},
	} {
		m := systemtest.Folder(t)
		l := wire.Layout{Dir: "/etc/webd", Config: "/etc/webd/webd.conf", SitesDir: "/etc/webd/available", LinkDir: "/etc/webd/enabled"}
		for p, text := range map[string]string{"/etc/webd/webd.conf": c.comment, "/etc/webd/available/theirs": c.takes, "/etc/webd/enabled/fine": c.comment, "/etc/webd/enabled/ours": c.takes, "/etc/webd/conf.d/more.conf": c.takes, "/etc/webd/conf.d/more.conf.bak": c.takes} {
			systemtest.Put(t, m, p, text)
		}
		w := wire.SiteWant{Server: server, Names: []string{"tides.test"}, Listen: wire.Listening{{Port: 80}}, File: "/etc/webd/available/ours", Link: "/etc/webd/enabled/ours"}
		got, err := rivals(m, l, w)
		if err != nil || fmt.Sprint(got) != "[{tides.test 0 /etc/webd/conf.d/more.conf}]" {
			t.Errorf("%s: %v, %v", server, got, err)
		}
		if err := os.Symlink(m.Path("/etc/webd/available/theirs"), m.Path("/etc/webd/enabled/theirs")); err != nil {
			t.Fatal(err)
		}
		if got, err = rivals(m, l, w); err != nil || len(got) != 2 {
			t.Errorf("%s, switched on: %v, %v", server, got, err)
		}
	}
}

// Who claims a name of a site on a port where the site does not listen takes nothing from it; where it is not
// known on which port somebody claims it, it counts.
func TestRivalsAreOnAPort(t *testing.T) {
	for server, files := range map[string]map[string]bool{
		"nginx": {
			"server { listen 443 ssl; listen [::]:443 ssl; server_name tides.test; location / { include snippets/x.conf; return 301 http://tides.test$request_uri; } }": false,
			"server { listen 443 ssl; server_name tides.test; }\nserver { listen 127.0.0.1:8080; server_name other.test; }\ninclude more/*.conf;":                       false,
			"server { listen 8099 default_server; location / { return 200 \"}\"; } server_name other.test; }\nserver { listen 8099; server_name *.test; }":              false,
			"server { listen unix:/run/tides.sock; server_name tides.test; }":                                                                                           false,
			"server { server_name tides.test; location = /a { return 200 it's; } }":                                                                                     true,
			"server { listen 443 ssl; listen 80; server_name tides.test; }":                                                                                             true,
			"server { listen 443 ssl; server_name other.test; }\nserver { listen 10.0.0.1; server_name tides.test; }":                                                   true,
			"server { listen 443 ssl; include snippets/where.conf; server_name tides.test; }":                                                                           true,
			"server { location / { return 200 ok; } server_name tides.test; }":                                                                                          true,
			"server { listen 443 ssl; location / { return 200 ok; server_name tides.test;":                                                                              true,
			"server_name tides.test;": true, // of a block that another file opens
		},
		"httpd": {
			"<VirtualHost *:443>\n ServerName tides.test\n</VirtualHost>\n":                                                                  false,
			"<VirtualHost *:443>\n ServerName tides.test\n</VirtualHost>\n<VirtualHost *:80>\n ServerName other.test\n</VirtualHost>\n":      false,
			"<VirtualHost *:80>\n ServerName other.test\n</VirtualHost>\n<VirtualHost *:443>\n ServerName a.test\n ServerAlias tides.test\n": false,
			"<VirtualHost *:443 10.0.0.1:80>\n ServerName tides.test\n</VirtualHost>\n":                                                      true,
			"<VirtualHost 10.0.0.1>\n ServerName tides.test\n</VirtualHost>\n":                                                               true,
			"<VirtualHost *:${PORT}>\n ServerName tides.test\n</VirtualHost>\n":                                                              true,
			"<VirtualHost *:443>\n ServerName other.test\n</VirtualHost>\nServerName tides.test\n":                                           true,
			"<VirtualHost *:443>\n ServerName other.test\n</VirtualHost>\n<virtualhost *:80>\n ServerName tides.test\n</virtualhost>\n":      true,
		},
		"caddy": {
			"https://tides.test:8443 {\n}\n":              false,
			"other.test, tides.test:8080 {\n}\n":          false,
			"http://tides.test {\n}\n":                    true,
			"tides.test {\n}\n":                           true,
			"tides.test:443, http://tides.test:80 {\n}\n": true,
		},
	} {
		for text, want := range files {
			m := systemtest.Folder(t)
			l := wire.Layout{Dir: "/etc/webd", Config: "/etc/webd/webd.conf", SitesDir: "/etc/webd/sites", Ending: ".conf"}
			systemtest.Put(t, m, "/etc/webd/sites/theirs.conf", text)
			w := wire.SiteWant{Server: server, Names: []string{"tides.test"}, Listen: wire.Listening{{Port: 80}}, File: "/etc/webd/sites/ours.conf"}
			if got, err := rivals(m, l, w); err != nil || len(got) > 0 != want {
				t.Errorf("%s: %s\nhas the rivals %v, %v", server, text, got, err)
			}
		}
	}
}

// So is one that answers in the place of the site that is to be the first: in nginx by saying
// so for the port, in httpd by its name, which comes before.
func TestRivalsForTheFirstPlace(t *testing.T) {
	for server, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"nginx": {map[string]string{"zz.conf": "server {\n  listen 10.0.0.1:80 default_server;\n}\n", "other.conf": "server { listen [::]:8080 default_server; listen 80; }\n", "comment.conf": "# listen 80 default_server;\n", "plain.conf": "server { listen 80 default_server; }\n"},
			"[{ 80 /etc/webd/conf.d/plain.conf} { 80 /etc/webd/conf.d/zz.conf}]"},
		"httpd": {map[string]string{"zz.conf": "<VirtualHost *:80>\n</VirtualHost>\n", "00-a.conf": "<VirtualHost *:8080 *:80>\n</VirtualHost>\n", "000-0-a.conf": "<VirtualHost *:8080>\n</VirtualHost>\n", "00-none.conf": "# <VirtualHost *:80>\n"},
			"[{ 80 /etc/webd/conf.d/00-a.conf}]"},
	} {
		m := systemtest.Folder(t)
		l := wire.Layout{Dir: "/etc/webd", Config: "/etc/webd/webd.conf", SitesDir: "/etc/webd/conf.d"}
		for name, text := range c.files {
			systemtest.Put(t, m, "/etc/webd/conf.d/"+name, text)
		}
		w := wire.SiteWant{Server: server, Names: []string{"tides.test"}, File: "/etc/webd/conf.d/000-0-northstake-s.conf", Listen: wire.Listening{{Port: 80}}, First: true}
		if got, err := rivals(m, l, w); err != nil || fmt.Sprint(got) != c.want {
			t.Errorf("%s: %v, %v", server, got, err)
		}
		w.First = false
		if got, err := rivals(m, l, w); err != nil || len(got) > 0 {
			t.Errorf("%s, not the first: %v, %v", server, got, err)
		}
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

// A server that does not answer in time says nothing of what it has loaded (V8); one that does not
// listen is told as that; and a file that was changed after the server has read it is not known to be
// what was read, though the server's word and the text are the same (V2).
func TestWhatIsNotKnownToBeLoaded(t *testing.T) {
	m, layouts := running(t, "nginx")
	slow := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-slow:
		case <-r.Context().Done():
		}
		fmt.Fprintln(w, "northstake now")
	}))
	defer server.Close()
	_, port, _ := strings.Cut(strings.TrimPrefix(server.URL, "http://"), ":")
	n, err := strconv.Atoi(port)
	if err != nil {
		t.Fatal(err)
	}
	const file = "/etc/nginx/sites-available/northstake-timetable.conf"
	w := wire.SiteWant{Server: "nginx", Service: "nginx", Listen: wire.Listening{{Port: n}}, Mark: "northstake now", Asked: "timetable.northstake.invalid", File: file}
	if is, _, err := Loaded(context.Background(), m, layouts["nginx"], w, nil); err == nil || is != nil || !strings.Contains(err.Error(), "nginx has not said within 5s") {
		t.Errorf("a slow server: %v, %v", is, err)
	}
	close(slow)
	// Its worker began before the file was written, and then after that.
	var up unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &up); err != nil {
		t.Fatal(err)
	}
	began := func(ago time.Duration) {
		t.Helper()
		ticks := (time.Duration(up.Nano()) - ago).Nanoseconds() / int64(10*time.Millisecond)
		rewrite(t, m, "/proc/12/task/12/children", "13")
		systemtest.Put(t, m, "/proc/13/cmdline", "nginx: worker process")
		systemtest.Put(t, m, "/proc/13/stat", fmt.Sprintf("13 (nginx) S 12 %s %d 0", strings.Repeat("0 ", 17), ticks))
	}
	systemtest.Put(t, m, file, "text")
	began(time.Minute)
	if is, why, err := Loaded(context.Background(), m, layouts["nginx"], w, nil); err != nil || is == nil || *is || why != "its file was changed after nginx had read it" {
		t.Errorf("changed since: %v, %q, %v", is, why, err)
	}
	time.Sleep(2 * readSlack)
	began(-time.Second)
	if is, why, err := Loaded(context.Background(), m, layouts["nginx"], w, nil); err != nil || is == nil || !*is || why != "" {
		t.Errorf("read since: %v, %q, %v", is, why, err)
	}
	server.Close()
	if is, why, err := Loaded(context.Background(), m, layouts["nginx"], w, nil); err != nil || is == nil || *is || !strings.Contains(why, "nginx runs, and nothing listens at 127.0.0.1:") {
		t.Errorf("not listening: %v, %q, %v", is, why, err)
	}
}

// What a new site takes from somebody's virtual hosts, without claiming what they claim, is found: names
// that a wildcard stands for, and on httpd the names that no site has (W10).
func TestWhatASiteTakesFromOthers(t *testing.T) {
	for server, c := range map[string]struct{ wild, plain, takes string }{
		"nginx": {"server {\n listen 80;\n server_name *.saltmarsh.test .ferries.test;\n}\n", "server {\n listen 80;\n server_name other.test;\n}\n",
			"[{tides.saltmarsh.test *.saltmarsh.test 0 /etc/webd/enabled/theirs} {low.tides.ferries.test .ferries.test 0 /etc/webd/enabled/theirs}]"},
		"httpd": {"<VirtualHost *:80>\n ServerName a.test\n ServerAlias *.saltmarsh.test\n</VirtualHost>\n", "<VirtualHost *:80>\n ServerName other.test\n</VirtualHost>\n",
			"[{tides.saltmarsh.test *.saltmarsh.test 0 /etc/webd/enabled/theirs} {  80 /etc/webd/enabled/plain}]"},
	} {
		m := systemtest.Folder(t)
		l := wire.Layout{Dir: "/etc/webd", Config: "/etc/webd/webd.conf", SitesDir: "/etc/webd/available", LinkDir: "/etc/webd/enabled"}
		for p, text := range map[string]string{"/etc/webd/webd.conf": "", "/etc/webd/enabled/theirs": c.wild, "/etc/webd/enabled/plain": c.plain, "/etc/webd/enabled/znorthstake-wild": c.wild} {
			systemtest.Put(t, m, p, text)
		}
		claimed, err := ClaimedOf(m, server, l)
		if err != nil {
			t.Fatal(err)
		}
		w := wire.SiteWant{Server: server, Names: []string{"tides.saltmarsh.test", "low.tides.ferries.test", "*.low.saltmarsh.test"}, Listen: wire.Listening{{Port: 80}}, File: "/etc/webd/available/northstake-tides", Link: "/etc/webd/enabled/northstake-tides"}
		if got := fmt.Sprint(claimed.Takes(w)); got != c.takes {
			t.Errorf("%s: it takes %s", server, got)
		}
		systemtest.Put(t, m, "/etc/webd/enabled/a-first", c.plain)
		if claimed, err = ClaimedOf(m, server, l); err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprint(claimed.Takes(w)); strings.Contains(got, " 80 ") {
			t.Errorf("%s, with another first: it takes %s", server, got)
		}
	}
}

// Whatever somebody's configuration holds, it is read to its end.
func FuzzNamesThatAreClaimed(f *testing.F) {
	for _, text := range []string{"server { listen 80; server_name a; location / { } }", "<VirtualHost *:80>\nServerName a\n</VirtualHost>", "a:80, http://b {\n}\n", "server { \\", "server { '", "server {{}} }"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for name, s := range servers {
			for _, c := range s.names(text) {
				if c.port < 0 {
					t.Errorf("%s claims %q on port %d", name, c.name, c.port)
				}
			}
		}
	})
}
