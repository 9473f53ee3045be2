package platform

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
)

func put(t *testing.T, m *Machine, path, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(m.Path(path)), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(m.Path(path), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// The outermost directory that does not let an account through is named, by the
// bits that count for that account.
func TestWhoIsShutOut(t *testing.T) {
	m := system(t, "ID=debian\n")
	put(t, m, "/etc/passwd", "root:x:0:0::/root:/bin/sh\nwww-data:x:33:33::/var/www:/bin/false\n")
	put(t, m, "/etc/group", "root:x:0:\nwww-data:x:33:\nboats:x:50:www-data,keeper\n")
	put(t, m, "/srv/a/b/index.html", "x")
	set := func(path string, uid, gid int, mode os.FileMode) {
		t.Helper()
		if err := os.Chown(m.Path(path), uid, gid); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(m.Path(path), mode); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		uid, gid int
		mode     os.FileMode
		account  string
		want     string
	}{
		{0, 0, 0o755, "www-data", ""}, {0, 0, 0o750, "www-data", "/srv/a"}, {0, 0, 0o701, "www-data", ""}, {33, 0, 0o700, "www-data", ""}, {33, 0, 0o077, "www-data", "/srv/a"},
		{0, 33, 0o750, "www-data", ""}, {0, 50, 0o710, "www-data", ""}, {0, 50, 0o701, "www-data", "/srv/a"}, {0, 0, 0o750, "nobody-yet", "/srv/a"}, {0, 0, 0o711, "nobody-yet", ""},
	} {
		set("/srv/a", c.uid, c.gid, c.mode)
		if got, err := m.ShutOut(c.account, []string{"/srv/a/b/www", "/srv/c/www"}); err != nil || got[0] != c.want || got[1] != "" {
			t.Errorf("%s past %d:%d %o: %q, %v", c.account, c.uid, c.gid, c.mode, got, err)
		}
	}
	set("/srv/a", 0, 0, 0o755)
	if got, err := m.ShutOut("www-data", []string{"/srv/a/none/below/www"}); err != nil || got[0] != "" {
		t.Errorf("what is not there yet: %q, %v", got, err)
	}
}

func TestAccountsAreRead(t *testing.T) {
	m := system(t, "ID=debian\n")
	put(t, m, "/etc/passwd", "root:x:0:0::/root:/bin/sh\ntides:x:101:33:Tide tables:/srv/tides:/usr/sbin/nologin\nshort:x:1\n")
	put(t, m, "/etc/group", "www-data:x:33:\nadm:x:4:tides,keeper\n\n:x:9:tides\n")
	put(t, m, "/etc/login.defs", "# UID_MIN 5\nUID_MIN   500\n")
	a, ok, err := m.Account("tides")
	if err != nil || !ok || a != (Account{101, "www-data", "/srv/tides", "/usr/sbin/nologin"}) {
		t.Errorf("%+v, %t, %v", a, ok, err)
	}
	if _, ok, err := m.Account("short"); ok || err != nil {
		t.Errorf("half a line is an account: %v", err)
	}
	groups, err := m.Groups()
	if got := fmt.Sprint(groups); err != nil || got != "map[adm:[tides keeper] www-data:[]]" {
		t.Errorf("%s, %v", got, err)
	}
	if n := m.FirstPerson(); n != 500 {
		t.Errorf("persons begin at %d", n)
	}
	put(t, m, "/etc/passwd", "tides:x:many:33::/:/bin/sh\n")
	if _, _, err := m.Account("tides"); err == nil || !strings.Contains(err.Error(), `"many"`) {
		t.Errorf("a number that is none: %v", err)
	}
}

func TestWhyARestartIsNeeded(t *testing.T) {
	m := system(t, "ID=debian\n")
	if why := m.RestartNeeded(); why != "" {
		t.Errorf("it is needed because %s", why)
	}
	put(t, m, "/lib/modules/0.0.1-harbour/modules.dep", "")
	if why := m.RestartNeeded(); !strings.Contains(why, "and 0.0.1-harbour is installed") {
		t.Errorf("another kernel: %q", why)
	}
	put(t, m, "/proc/1/maps", "7f00-7f01 r-xp 0 fe:00 12 /usr/lib/libc.so.6\n7f02-7f03 r-xp 0 fe:00 13 /usr/lib/systemd/libsystemd-shared-252.so (deleted)\n7f04-7f05 rw-s 0 fe:00 14 /dev/zero (deleted)\n")
	if why := m.RestartNeeded(); why != "process 1 still runs libsystemd-shared-252.so, which an upgrade has replaced" {
		t.Errorf("a library that was replaced: %q", why)
	}
	put(t, m, "/run/reboot-required", "")
	put(t, m, "/run/reboot-required.pkgs", "linux-image\ndbus\nlinux-image\n")
	if why := m.RestartNeeded(); why != "the system asks for one since dbus, linux-image changed" {
		t.Errorf("the system's own word: %q", why)
	}
}

const simulated = `NOTE: This is only a simulation!
Inst nginx-common [1.22.1-9] (1.22.1-9+deb12u1 Debian:12/stable [all]) []
Inst libnew (2.0-1 Debian:12/stable [amd64])
Inst curl [7.88.1-10] (7.88.1-11 localhost [amd64])
Conf nginx-common (1.22.1-9+deb12u1 Debian:12/stable [all])
`

func TestWhatAptWouldUpgrade(t *testing.T) {
	if got, want := fmt.Sprint(ParseUpgrades([]byte(simulated))), "[{curl 7.88.1-10 7.88.1-11} {libnew  2.0-1} {nginx-common 1.22.1-9 1.22.1-9+deb12u1}]"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

func FuzzUpgrades(f *testing.F) {
	f.Add([]byte(simulated))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, u := range ParseUpgrades(b) {
			if u.Name == "" || u.To == "" || strings.ContainsAny(u.Name+u.To, " \n") {
				t.Fatalf("%+v", u)
			}
		}
	})
}

// What the package managers say of the room that an installation takes.
func TestTheRoomOfAnInstallationIsRead(t *testing.T) {
	apt := "Reading package lists...\nThe following NEW packages will be installed:\n  nginx nginx-common\n0 upgraded, 2 newly installed, 0 to remove and 3 not upgraded.\nNeed to get %s of archives.\nAfter this operation, %s of additional disk space will be %s.\nDo you want to continue? [Y/n] N\nAbort.\n"
	for said, want := range map[string]Need{
		fmt.Sprintf(apt, "1,234 kB", "3,456 kB", "used"):         {1_234_000, 3_456_000},
		fmt.Sprintf(apt, "0 B/627 kB", "1.5 MB", "used"):         {0, 1_500_000},
		fmt.Sprintf(apt, "12.3 MB/1,006 MB", "2 GB", "used"):     {12_300_000, 2_000_000_000},
		fmt.Sprintf(apt, "100 B", "31.7 kB", "freed") + "really": {100, 0},
		"E: Unable to locate package tides\n":                    {},
	} {
		if got := ParseAptNeed([]byte(said)); got != want {
			t.Errorf("%q is %+v, want %+v", said, got, want)
		}
	}
	dnf := "Install  2 Packages\n\nTotal download size: %s\nInstalled size: %s\nOperation aborted.\n"
	for said, want := range map[string]Need{
		fmt.Sprintf(dnf, "6.7 k", "12"):            {6860, 12},
		fmt.Sprintf(dnf, "1.5 M", "2 G"):           {1_572_864, 2 << 30},
		"Total size: 8 k\nInstalled size: 1.0 M\n": {0, 1 << 20},
		"Error: Unable to find a match: tides\n":   {},
	} {
		if got := ParseDnfNeed([]byte(said)); got != want {
			t.Errorf("%q is %+v, want %+v", said, got, want)
		}
	}
}

func FuzzNeed(f *testing.F) {
	f.Add([]byte("Need to get 1,234 kB of archives.\nAfter this operation, 9 TB of additional disk space will be used.\n"))
	f.Add([]byte("Total download size: 1.2 M\nInstalled size: 3.4 G\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, n := range []Need{ParseAptNeed(b), ParseDnfNeed(b)} {
			if n.Fetched < 0 || n.Installed < 0 {
				t.Fatalf("%+v", n)
			}
		}
	})
}

// Without systemd a service stands as its script says, and starts at boot where a
// link starts it.
func TestServicesByTheirScripts(t *testing.T) {
	m := system(t, "ID=debian\n")
	if _, err := m.Services(context.Background()); err == nil || !strings.Contains(err.Error(), "neither systemd nor scripts") {
		t.Errorf("a machine without either: %v", err)
	}
	for _, name := range []string{"cron", "nginx", "README.txt"} {
		put(t, m, "/etc/init.d/"+name, "#!/bin/sh\n")
		if err := os.Chmod(m.Path("/etc/init.d/"+name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	put(t, m, "/etc/init.d/skeleton", "")
	put(t, m, "/etc/rc3.d/S01cron", "")
	put(t, m, "/etc/rc3.d/K01nginx", "")
	put(t, m, "/usr/sbin/update-rc.d", "")
	s := &said{answers: map[string]string{"/etc/init.d/nginx status": "", "update-rc.d": "", "/etc/init.d/cron start": ""}}
	m.Run = s.run
	ctx := context.Background()
	manager, err := m.Services(ctx)
	if err != nil || manager.Name() != "init scripts" || m.serviceManagerName() != "init scripts" {
		t.Fatalf("%v, %v", manager, err)
	}
	states, err := manager.States(ctx, []string{"cron", "nginx", "tide"})
	if want := "map[cron:{true inactive enabled} nginx:{true active disabled} tide:{false  }]"; err != nil || fmt.Sprint(states) != want {
		t.Errorf("%v, %v, want %s", states, err, want)
	}
	if names, err := manager.Names(ctx); err != nil || fmt.Sprint(names) != "[cron nginx]" {
		t.Errorf("%v, %v", names, err)
	}
	s.ran = nil
	for _, do := range []func() error{
		func() error { return manager.Do(ctx, "start", "cron") },
		func() error { return manager.Boot(ctx, "nginx", true) },
		func() error { return manager.Boot(ctx, "cron", false) },
	} {
		if err := do(); err != nil {
			t.Error(err)
		}
	}
	if got, want := strings.Join(s.ran, "; "), "/etc/init.d/cron start; update-rc.d nginx defaults; update-rc.d nginx enable; update-rc.d cron defaults; update-rc.d cron disable"; got != want {
		t.Errorf("it ran %s", got)
	}
	if err := manager.Mask(ctx, "cron", true); err == nil {
		t.Error("a script was masked")
	}
	if err := manager.Do(ctx, "stop", "cron"); err == nil || !strings.Contains(err.Error(), "stop cron") {
		t.Errorf("a script that fails: %v", err)
	}
}

const listed = `  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode
   0: 0100007F:1F90 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 4711 1 0
   1: 00000000:0050 00000000:0000 0A 00000000:00000000 00:00000000 00000000    33        0 4712 1 0
   2: 0100007F:1F90 0100007F:C001 01 00000000:00000000 00:00000000 00000000     0        0 4713 1 0
`

// A kernel that answers no questions about sockets lists them.
func TestListedSockets(t *testing.T) {
	if got, want := fmt.Sprint(parseListed([]byte(listed), "tcp", stateListen)), "[{{tcp 127.0.0.1 8080  0} 4711} {{tcp 0.0.0.0 80  0} 4712}]"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	list, err := listedSockets(syscall.AF_INET, "tcp", stateListen)
	if err != nil || !slices.ContainsFunc(list, func(s socket) bool { return s.Port == l.Addr().(*net.TCPAddr).Port && s.Address == "127.0.0.1" }) {
		t.Errorf("%v is not among %v, %v", l.Addr(), list, err)
	}
}

func FuzzListedSockets(f *testing.F) {
	f.Add([]byte(listed))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, s := range parseListed(b, "tcp", stateListen) {
			if net.ParseIP(s.Address) == nil || s.Port > 65535 {
				t.Fatalf("%+v", s)
			}
		}
	})
}
