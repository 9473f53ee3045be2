package family

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

// The outermost directory that does not let an account through is named, by the
// bits that count for that account.
func TestWhoIsShutOut(t *testing.T) {
	m := machine(t, "ID=debian\n")
	systemtest.Put(t, m, "/etc/passwd", "root:x:0:0::/root:/bin/sh\nwww-data:x:33:33::/var/www:/bin/false\n")
	systemtest.Put(t, m, "/etc/group", "root:x:0:\nwww-data:x:33:\nboats:x:50:www-data,keeper\n")
	systemtest.Put(t, m, "/srv/a/b/index.html", "x")
	set := func(path wire.Path, uid, gid int, mode os.FileMode) {
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
		want     wire.Path
	}{
		{0, 0, 0o755, "www-data", ""}, {0, 0, 0o750, "www-data", "/srv/a"}, {0, 0, 0o701, "www-data", ""}, {33, 0, 0o700, "www-data", ""}, {33, 0, 0o077, "www-data", "/srv/a"},
		{0, 33, 0o750, "www-data", ""}, {0, 50, 0o710, "www-data", ""}, {0, 50, 0o701, "www-data", "/srv/a"}, {0, 0, 0o750, "nobody-yet", "/srv/a"}, {0, 0, 0o711, "nobody-yet", ""},
	} {
		set("/srv/a", c.uid, c.gid, c.mode)
		if got, err := ShutOut(m, c.account, []wire.Path{"/srv/a/b/www", "/srv/c/www"}); err != nil || got[0] != c.want || got[1] != "" {
			t.Errorf("%s past %d:%d %o: %q, %v", c.account, c.uid, c.gid, c.mode, got, err)
		}
	}
	set("/srv/a", 0, 0, 0o755)
	if got, err := ShutOut(m, "www-data", []wire.Path{"/srv/a/none/below/www"}); err != nil || got[0] != "" {
		t.Errorf("what is not there yet: %q, %v", got, err)
	}
}

func TestAccountsAreRead(t *testing.T) {
	m := machine(t, "ID=debian\n")
	systemtest.Put(t, m, "/etc/passwd", "root:x:0:0::/root:/bin/sh\ntides:x:101:33:Tide tables:/srv/tides:/usr/sbin/nologin\nshort:x:1\n")
	systemtest.Put(t, m, "/etc/group", "www-data:x:33:\nadm:x:4:tides,keeper\n\n:x:9:tides\n")
	systemtest.Put(t, m, "/etc/login.defs", "# UID_MIN 5\nUID_MIN   500\n")
	a, ok, err := AccountOf(m, "tides")
	if err != nil || !ok || a != (Account{101, "www-data", "/srv/tides", "/usr/sbin/nologin"}) {
		t.Errorf("%+v, %t, %v", a, ok, err)
	}
	if _, ok, err := AccountOf(m, "short"); ok || err != nil {
		t.Errorf("half a line is an account: %v", err)
	}
	groups, err := Groups(m)
	if got := fmt.Sprint(groups); err != nil || got != "map[adm:[tides keeper] www-data:[]]" {
		t.Errorf("%s, %v", got, err)
	}
	if n := FirstPerson(m); n != 500 {
		t.Errorf("persons begin at %d", n)
	}
	systemtest.Put(t, m, "/etc/passwd", "tides:x:many:33::/:/bin/sh\n")
	if _, _, err := AccountOf(m, "tides"); err == nil || !strings.Contains(err.Error(), `"many"`) {
		t.Errorf("a number that is none: %v", err)
	}
}
