package system

import (
	"bytes"
	"math"
	"net"
	"northstake/core/stake"
	"strconv"
	"strings"
	"syscall"
)

// Boot names the time since the machine was last started: it changes with every
// restart. In a container the kernel stays, and its first process does not.
func (m *Machine) Boot() string {
	id, _ := m.Read("/proc/sys/kernel/random/boot_id") // a machine without one is told apart by its first process
	stat, _ := m.Read("/proc/1/stat")
	if i := bytes.LastIndexByte(stat, ')'); i >= 0 {
		// After the name come the fields from the third on; the 22nd is the start time (proc(5)).
		if f := bytes.Fields(stat[i+1:]); len(f) > 19 {
			return strings.TrimSpace(string(id)) + "-" + string(f[19])
		}
	}
	return strings.TrimSpace(string(id))
}

// CString is a text that ends with a zero byte.
func CString(b []int8) string {
	var out []byte
	for _, c := range b {
		if c == 0 {
			break
		}
		out = append(out, byte(c))
	}
	return string(out)
}

// Memory is how much of it the machine has, in bytes; 0 where that is not known.
func (m *Machine) Memory() int64 {
	b, err := m.Read("/proc/meminfo")
	if err != nil {
		return 0
	}
	for _, line := range strings.Split(string(b), "\n") {
		if f := strings.Fields(line); len(f) >= 2 && f[0] == "MemTotal:" {
			n, err := strconv.ParseInt(f[1], 10, 64)
			if err == nil {
				return n * 1024
			}
		}
	}
	return 0
}

// diskTypes are the file systems that hold files of their own.
var diskTypes = map[string]bool{"ext4": true, "ext3": true, "xfs": true, "btrfs": true, "overlay": true, "tmpfs": true, "zfs": true, "fuse.fuse-overlayfs": true}

// Disks lists the mounted file systems that can hold files.
func (m *Machine) Disks() []stake.Disk {
	b, err := m.Read("/proc/self/mounts")
	if err != nil {
		return nil
	}
	var out []stake.Disk
	for _, line := range strings.Split(string(b), "\n") {
		f := strings.Fields(line)
		if len(f) < 3 || !diskTypes[f[2]] || strings.HasPrefix(f[1], "/run") || strings.HasPrefix(f[1], "/dev") || strings.HasPrefix(f[1], "/sys") || strings.HasPrefix(f[1], "/proc") || strings.HasPrefix(f[1], "/etc/") {
			continue
		}
		var s syscall.Statfs_t
		if syscall.Statfs(m.Path(f[1]), &s) == nil && s.Blocks > 0 {
			size, free := int64(s.Blocks)*s.Bsize, int64(s.Bavail)*s.Bsize
			unit := max(size/4096, 1) // so that every log line is not news of the host
			out = append(out, stake.Disk{Mount: f[1], Size: size, Free: free / unit * unit})
		}
	}
	return out
}

// Free is how many bytes a user other than root can still write to the file system
// of a path, and the largest number where that cannot be known.
func (m *Machine) Free(path string) int64 {
	var s syscall.Statfs_t
	if err := syscall.Statfs(m.Path(path), &s); err != nil {
		return math.MaxInt64
	}
	return int64(s.Bavail) * s.Bsize
}

// SameDisk says whether two paths lie on one file system.
func (m *Machine) SameDisk(a, b string) bool {
	var x, y syscall.Stat_t
	return syscall.Stat(m.Path(a), &x) == nil && syscall.Stat(m.Path(b), &y) == nil && x.Dev == y.Dev
}

// Addresses lists the addresses of the machine that others can reach.
func Addresses() []string {
	list, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	var out []string
	for _, a := range list {
		if n, ok := a.(*net.IPNet); ok && !n.IP.IsLoopback() && !n.IP.IsLinkLocalUnicast() {
			out = append(out, n.IP.String())
		}
	}
	return out
}

// Confinement says which of the kernel's modules confines programs, and how:
// selinux(8), apparmor(7).
func (m *Machine) Confinement() string {
	if b, err := m.Read("/sys/fs/selinux/enforce"); err == nil {
		if strings.TrimSpace(string(b)) == "1" {
			return "SELinux, enforcing"
		}
		return "SELinux, permissive"
	}
	if b, err := m.Read("/sys/module/apparmor/parameters/enabled"); err == nil && strings.HasPrefix(string(b), "Y") {
		return "AppArmor"
	}
	return "none"
}

// HasSystemd says whether systemd runs on the machine (sd_booted(3)).
func (m *Machine) HasSystemd() bool { return m.Exists("/run/systemd/system") }
