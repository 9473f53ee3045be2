package work

import (
	"fmt"
	"os"
	"path"
	"slices"
	"strings"
	"testing"

	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

// The way in is found wherever the SSH server, sudo and PAM are told that it leads, and again once they
// are told otherwise.
func TestWhatTheWayInRestsOn(t *testing.T) {
	h := folder(t)
	h.SSHPort, h.Login = 22, "keeper"
	put := func(file, text string) { systemtest.Put(t, h.Machine, file, text) }
	put("/etc/passwd", "me:x:0:0::/:/bin/sh\nkeeper:x:1000:1000::/srv/people/keeper:/opt/shell/fish\n")
	put("/etc/ssh/sshd_config", `
# AuthorizedKeysFile /etc/never
Include /etc/ssh/sshd_config.d/*.conf
Include more/*.conf
AuthorizedKeysFile	.ssh/authorized_keys keys/%u /srv/keys/%u/%%x
HostKey=/etc/keys/host
AuthorizedKeysCommand "/opt/keys/ask" %u %t
Subsystem sftp /usr/lib/openssh/sftp-server
PidFile /dev/null
`)
	put("/etc/ssh/sshd_config.d/10.conf", "TrustedUserCAKeys /etc/authority/users\nMatch User other\n  ChrootDirectory /srv/sftp/%k/x\n")
	put("/etc/ssh/more/one.conf", "revokedkeys /var/keys/revoked\n")
	put("/etc/sudoers", "Defaults secure_path=\"/usr/local/sbin:/usr/bin\"\n@includedir /opt/sudo\n#include /opt/sudoers-%h\nkeeper ALL=(ALL) /srv/tool\n")
	put("/opt/sudo/x", "@include /opt/deeper\n")
	put("/etc/pam.d/sshd", "@include common-auth\nauth required pam_listfile.so item=user file=/srv/allowed onerr=fail\n#auth required file=/srv/never\n")
	put("/etc/pam.d/common-auth", "account\tsubstack remote\n")
	put("/etc/chosen/remote", "session optional pam_exec.so /srv/hook\n")
	if err := os.Symlink("../chosen/remote", h.Path("/etc/pam.d/remote")); err != nil {
		t.Fatal(err)
	}
	got, err := h.WayIn(nil)
	if err != nil {
		t.Fatal(err)
	}
	for p, wanted := range map[string]bool{
		"/srv/people/keeper/.ssh": true, "/srv/people/keeper/.ssh/authorized_keys": true, "/srv/people/keeper/keys/keeper": true, "/srv/people/keeper/.bashrc": true, "/srv/people/keeper": false,
		"/opt/shell/fish": true, "/etc/ssh/sshd_config": true, "/etc/ssh/sshd_config.d": true, "/etc/ssh/more": true, "/srv/keys/keeper": true, "/etc/keys/host": true,
		"/opt/keys/ask": true, "/etc/authority/users": true, "/srv/sftp": true, "/var/keys/revoked": true, "/opt/sudo": true, "/opt": true, "/opt/deeper": true,
		"/srv/allowed": true, "/srv/hook": true, "/etc/chosen/remote": true, "/srv/never": false, "/etc/never": false, "/srv/tool": false, "/dev/null": false, "/usr/local/sbin": false,
	} {
		if slices.Contains(got, wire.Path(p)) != wanted {
			t.Errorf("%s: %t, wanted %t; of\n%s", p, !wanted, wanted, strings.Join(wire.Texts(got), "\n"))
		}
	}
	put("/etc/ssh/sshd_config.d/20.conf", "AuthorizedKeysFile /srv/new/%h\n")
	if got, err = h.WayIn(nil); err != nil || !slices.Contains(got, "/srv/new/srv/people/keeper") {
		t.Errorf("after a change: %v, %v", got, err)
	}
}

// Files that lead to themselves, and to more than anybody reads, come to an end.
func TestTheWayInComesToAnEnd(t *testing.T) {
	h := folder(t)
	h.SSHPort, h.Login = 22, "me"
	systemtest.Put(t, h.Machine, "/etc/ssh/sshd_config", "Include /etc/ssh/sshd_config\nInclude /etc/ssh/d/*\n")
	for i := range 300 {
		systemtest.Put(t, h.Machine, fmt.Sprintf("/etc/ssh/d/%d", i), fmt.Sprintf("Include /etc/ssh/d/%d\nHostKey /srv/keys/%d\n", i+1, i))
	}
	got, err := h.WayIn(nil)
	if err != nil || len(got) == 0 || len(got) > wayPaths {
		t.Errorf("%d places, %v", len(got), err)
	}
}

// Whatever is written in the files, what comes of it are sound places.
func FuzzTheWayIn(f *testing.F) {
	f.Add("Include x*\nAuthorizedKeysFile %h/%u /a/%%%", "@include b\n#include /c", "auth include common\nx file=/y")
	f.Add("include [\x00", "@includedir", "@include ../../../x")
	f.Fuzz(func(t *testing.T, sshd, sudoers, pam string) {
		h := folder(t)
		h.SSHPort, h.Login = 22, "me"
		systemtest.Put(t, h.Machine, "/etc/ssh/sshd_config", sshd)
		systemtest.Put(t, h.Machine, "/etc/sudoers", sudoers)
		systemtest.Put(t, h.Machine, "/etc/pam.d/sshd", pam)
		got, err := h.WayIn([]wire.Listener{{Protocol: "tcp", Port: 22, Program: "sshd", PID: 1 << 30}})
		if err != nil || len(got) > wayPaths {
			t.Fatalf("%d places, %v", len(got), err)
		}
		for _, p := range got {
			if !path.IsAbs(string(p)) || path.Clean(string(p)) != string(p) || p == "/" {
				t.Errorf("%q", p)
			}
		}
	})
}
