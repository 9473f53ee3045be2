package system

import (
	"fmt"
	"math"
	"net"
	"os"
	"slices"
	"strings"
	"syscall"

	"github.com/moby/sys/mountinfo"
	"github.com/prometheus/procfs"
	"golang.org/x/sys/unix"

	"northstake/core/wire"
)

// Boot names the time since the machine was last started: it changes with every
// restart. In a container the kernel stays, and its first process does not.
func (m *Machine) Boot() string {
	id, _ := m.Read("/proc/sys/kernel/random/boot_id") // a machine without one is told apart by its first process
	boot := strings.TrimSpace(string(id))
	if stat, err := m.stat(1); err == nil {
		boot += fmt.Sprintf("-%d", stat.Starttime)
	}
	return boot
}

// stat is the state of a process.
func (m *Machine) stat(pid int) (procfs.ProcStat, error) {
	fs, err := m.proc()
	if err != nil {
		return procfs.ProcStat{}, err
	}
	p, err := fs.Proc(pid)
	if err != nil {
		return procfs.ProcStat{}, err
	}
	return p.Stat()
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
	fs, err := m.proc()
	if err != nil {
		return 0
	}
	info, err := fs.Meminfo()
	if err != nil || info.MemTotalBytes == nil {
		return 0
	}
	return int64(*info.MemTotalBytes)
}

// proc is the kernel's account of processes (proc(5)).
func (m *Machine) proc() (procfs.FS, error) { return procfs.NewFS(m.Path("/proc")) }

// diskTypes are the file systems that hold files of their own.
var diskTypes = map[string]bool{"ext4": true, "ext3": true, "xfs": true, "btrfs": true, "overlay": true, "tmpfs": true, "zfs": true, "fuse.fuse-overlayfs": true}

// Disks lists the mounted file systems that can hold files.
func (m *Machine) Disks() []wire.Disk {
	f, err := os.Open(m.Path("/proc/self/mountinfo"))
	if err != nil {
		return nil
	}
	defer f.Close()
	mounts, err := mountinfo.GetMountsFromReader(f, func(i *mountinfo.Info) (skip, stop bool) {
		return !diskTypes[i.FSType] || slices.ContainsFunc(ownMounts, func(dir string) bool { return strings.HasPrefix(i.Mountpoint, dir) }), false
	})
	if err != nil {
		return nil
	}
	var out []wire.Disk
	for _, i := range mounts {
		var s syscall.Statfs_t
		if syscall.Statfs(m.Path(wire.Path(i.Mountpoint)), &s) == nil && s.Blocks > 0 {
			size, free := int64(s.Blocks)*s.Bsize, int64(s.Bavail)*s.Bsize
			unit := max(size/4096, 1) // so that every log line is not news of the host
			out = append(out, wire.Disk{Mount: wire.Path(i.Mountpoint), Size: size, Free: free / unit * unit})
		}
	}
	return out
}

// ownMounts are where the system mounts for itself, and container engines for containers.
var ownMounts = []string{"/run", "/dev", "/sys", "/proc", "/etc/", "/var/lib/containers/storage/", "/var/lib/docker/"}

// Free is how many bytes a user other than root can still write to the file system
// of a path, and the largest number where that cannot be known.
func (m *Machine) Free(path wire.Path) int64 {
	var s syscall.Statfs_t
	if err := syscall.Statfs(m.Path(path), &s); err != nil {
		return math.MaxInt64
	}
	return int64(s.Bavail) * s.Bsize
}

// SameDisk says whether two paths lie on one file system.
func (m *Machine) SameDisk(a, b wire.Path) bool {
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
			return enforcing
		}
		return "SELinux, permissive"
	}
	if b, err := m.Read("/sys/module/apparmor/parameters/enabled"); err == nil && strings.HasPrefix(string(b), "Y") {
		return "AppArmor"
	}
	return "none"
}

// Labels are the types in the SELinux labels of what lies at paths, "" of what has none; nil where
// SELinux is not enforcing (selinux(8)).
func (m *Machine) Labels(paths []wire.Path) []string {
	if m.Confinement() != enforcing {
		return nil
	}
	out := make([]string, len(paths))
	for i, p := range paths {
		out[i] = m.label(p)
	}
	return out
}

func (m *Machine) label(path wire.Path) string {
	buf := make([]byte, 256)
	n, err := unix.Lgetxattr(m.Path(path), "security.selinux", buf)
	if err != nil {
		return ""
	}
	parts := strings.Split(strings.TrimRight(string(buf[:n]), "\x00"), ":") // user:role:type:level
	if len(parts) < 3 {
		return ""
	}
	return parts[2]
}

const enforcing = "SELinux, enforcing"

// HasSystemd says whether systemd runs on the machine (sd_booted(3)).
func (m *Machine) HasSystemd() bool { return m.Exists("/run/systemd/system") }
