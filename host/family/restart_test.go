package family

import (
	"strings"
	"testing"

	"northstake/host/system/systemtest"
)

func TestWhyARestartIsNeeded(t *testing.T) {
	m := machine(t, "ID=debian\n")
	if why := RestartNeeded(m); why != "" {
		t.Errorf("it is needed because %s", why)
	}
	systemtest.Put(t, m, "/lib/modules/0.0.1-harbour/modules.dep", "")
	if why := RestartNeeded(m); !strings.Contains(why, "and 0.0.1-harbour is installed") {
		t.Errorf("another kernel: %q", why)
	}
	systemtest.Put(t, m, "/proc/1/maps", "7f00-7f01 r-xp 0 fe:00 12 /usr/lib/libc.so.6\n7f02-7f03 r-xp 0 fe:00 13 /usr/lib/systemd/libsystemd-shared-252.so (deleted)\n7f04-7f05 rw-s 0 fe:00 14 /dev/zero (deleted)\n")
	if why := RestartNeeded(m); why != "process 1 still runs libsystemd-shared-252.so, which an upgrade has replaced" {
		t.Errorf("a library that was replaced: %q", why)
	}
	systemtest.Put(t, m, "/run/reboot-required", "")
	systemtest.Put(t, m, "/run/reboot-required.pkgs", "linux-image\ndbus\nlinux-image\n")
	if why := RestartNeeded(m); why != "the system asks for one since dbus, linux-image changed" {
		t.Errorf("the system's own word: %q", why)
	}
}
