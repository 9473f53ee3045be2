package system

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"northstake/core/wire"

	"golang.org/x/sys/unix"
)

// MountsOf names the mounts that a process sees (mount_namespaces(7)), "" where it is gone.
func MountsOf(pid int) string {
	is, err := os.Readlink(fmt.Sprintf("/proc/%d/ns/mnt", pid))
	if err != nil {
		return ""
	}
	return is
}

// CommandLine is how a process was started, or what it has written over that, with a NUL after each
// word (proc_pid_cmdline(5)); "" where it is gone.
func (m *Machine) CommandLine(pid int) string {
	b, err := os.ReadFile(m.Path(wire.Path(fmt.Sprintf("/proc/%d/cmdline", pid))))
	if err != nil {
		return ""
	}
	return string(b)
}

// ChangedAt is when an entry last changed in any way, and whether it is there.
func (m *Machine) ChangedAt(path wire.Path) (time.Time, bool) {
	var s unix.Stat_t
	if path == "" || unix.Lstat(m.Path(path), &s) != nil {
		return time.Time{}, false
	}
	return time.Unix(s.Ctim.Unix()), true
}

// OwnNetwork says whether the network that the machine sees is one of its own, as a container
// has it: each of its interfaces is an end of a line that leads elsewhere (veth(4)).
func (m *Machine) OwnNetwork() bool {
	const dir = "/sys/class/net"
	entries, err := os.ReadDir(m.Path(dir))
	if err != nil {
		return false
	}
	for _, e := range entries {
		number := func(name string) string {
			b, _ := os.ReadFile(m.Path(wire.Path(dir + "/" + e.Name() + "/" + name))) // what is not there is no number
			return strings.TrimSpace(string(b))
		}
		if e.Name() != "lo" && number("ifindex") != "" && number("ifindex") == number("iflink") {
			return false
		}
	}
	return true
}

// BeganAt is when a process began, by this machine's clock as it is now (proc(5), starttime).
func (m *Machine) BeganAt(pid string) (time.Time, bool) {
	b, err := m.Read(wire.Path("/proc/" + pid + "/stat"))
	if err != nil {
		return time.Time{}, false
	}
	fields := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	if len(fields) < 20 {
		return time.Time{}, false
	}
	ticks, err := strconv.ParseInt(fields[19], 10, 64)
	var up unix.Timespec
	if err != nil || unix.ClockGettime(unix.CLOCK_BOOTTIME, &up) != nil {
		return time.Time{}, false
	}
	return time.Now().Add(time.Duration(ticks)*(time.Second/clockTicks) - time.Duration(up.Nano())), true
}

// clockTicks is how many parts of a second the kernel tells a process's beginning by (USER_HZ, the
// same on amd64 and arm64).
const clockTicks = 100
