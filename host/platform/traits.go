package platform

import (
	"bytes"
	"context"
	"maps"
	"math"
	"net"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"northstake/core/stake"
)

// Traits reads what the machine is.
func (m *Machine) Traits(ctx context.Context) (stake.Traits, error) {
	release, err := m.osRelease()
	if err != nil {
		return stake.Traits{}, err
	}
	family, err := m.Family()
	if err != nil {
		return stake.Traits{}, err
	}
	t := stake.Traits{System: release["PRETTY_NAME"], Family: release["ID"], Architecture: runtime.GOARCH, CPUs: runtime.NumCPU(), SSHPort: m.SSHPort}
	if family != nil {
		t.Family, t.Servers, t.PackageManager = family.Name, family.Servers, family.Packages
	}
	t.Hostname, _ = os.Hostname()
	var u syscall.Utsname
	if syscall.Uname(&u) == nil {
		t.Kernel = cString(u.Release[:])
	}
	t.Memory = m.memory()
	t.Disks = m.disks()
	t.Addresses = addresses()
	_, err = os.Stat("/proc/net/if_inet6")
	if b, e := os.ReadFile("/proc/net/if_inet6"); err == nil && e == nil {
		t.IPv6 = len(bytes.TrimSpace(b)) > 0
	}
	t.ServiceManager = m.serviceManagerName()
	if t.Listeners, err = m.Listeners(); err != nil {
		return t, err
	}
	t.Firewall = m.firewallName(ctx)
	t.Confinement = m.confinement()
	t.Boot, t.RestartNeeded = m.Boot(), m.RestartNeeded()
	if family != nil {
		t.WebServers = m.webServers(ctx, family)
	}
	return t, nil
}

// webServers lists the servers of the family that are installed.
func (m *Machine) webServers(ctx context.Context, f *Family) []stake.WebServer {
	all, err := packageManagers[f.Packages](m).Installed(ctx)
	if err != nil {
		return nil // the reading of packages says why
	}
	var out []stake.WebServer
	for _, name := range slices.Sorted(maps.Keys(f.Servers)) {
		if p := all[f.Servers[name].Package]; p.State == "installed" {
			out = append(out, stake.WebServer{Name: name, Package: f.Servers[name].Package, Version: p.Version})
		}
	}
	return out
}

// confinement says which of the kernel's modules confines programs, and how:
// selinux(8), apparmor(7).
func (m *Machine) confinement() string {
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

func cString(b []int8) string {
	var out []byte
	for _, c := range b {
		if c == 0 {
			break
		}
		out = append(out, byte(c))
	}
	return string(out)
}

func (m *Machine) osRelease() (map[string]string, error) {
	b, err := m.Read("/etc/os-release")
	if err != nil {
		if b, err = m.Read("/usr/lib/os-release"); err != nil {
			return nil, err
		}
	}
	return ParseOSRelease(b), nil
}

// ParseOSRelease reads os-release(5).
func ParseOSRelease(b []byte) map[string]string {
	out := map[string]string{}
	for _, line := range strings.Split(string(b), "\n") {
		k, v, ok := strings.Cut(strings.TrimSpace(line), "=")
		if ok && !strings.HasPrefix(k, "#") {
			out[k] = strings.Trim(v, `"'`)
		}
	}
	return out
}

func (m *Machine) memory() int64 {
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

func (m *Machine) disks() []stake.Disk {
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

func addresses() []string {
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

// Listeners reads the ports that programs listen on: the sockets from the
// kernel, and whose they are from the programs' open files (proc(5)).
func (m *Machine) Listeners() ([]stake.Listener, error) {
	var all []socket
	for _, family := range []uint8{syscall.AF_INET, syscall.AF_INET6} {
		tcp, err := sockets(family, syscall.IPPROTO_TCP, "tcp", stateListen)
		if err != nil {
			return nil, err
		}
		udp, err := sockets(family, syscall.IPPROTO_UDP, "udp", stateClose)
		if err != nil {
			return nil, err
		}
		all = append(append(all, tcp...), udp...)
	}
	var key strings.Builder
	for _, s := range all {
		key.WriteString(s.inode)
		key.WriteByte(' ')
	}
	return Cached(m, "listeners", key.String(), func() ([]stake.Listener, error) {
		owners := m.socketOwners(all)
		out := []stake.Listener{}
		seen := map[string]bool{}
		for _, s := range all {
			s.Program, s.PID = owners[s.inode].program, owners[s.inode].pid
			k := s.Protocol + s.Address + strconv.Itoa(s.Port)
			if !seen[k] {
				seen[k] = true
				out = append(out, s.Listener)
			}
		}
		return out, nil
	})
}

type owner struct {
	program string
	pid     int
}

// socketOwners finds the program that holds each socket; of several, the one
// with the lowest process id, which is the parent.
func (m *Machine) socketOwners(all []socket) map[string]owner {
	want := map[string]string{}
	for _, s := range all {
		want["socket:["+s.inode+"]"] = s.inode
	}
	out := map[string]owner{}
	procs, err := os.ReadDir(m.Path("/proc"))
	if err != nil {
		return out
	}
	for _, p := range procs {
		pid, err := strconv.Atoi(p.Name())
		if err != nil {
			continue
		}
		dir := m.Path("/proc/" + p.Name() + "/fd")
		fds, err := os.ReadDir(dir)
		if err != nil {
			continue
		}
		for _, fd := range fds {
			target, err := os.Readlink(dir + "/" + fd.Name())
			if err != nil {
				continue
			}
			inode, ok := want[target]
			if !ok {
				continue
			}
			if o, known := out[inode]; known && o.pid < pid && o.pid != 1 {
				continue
			}
			comm, err := os.ReadFile(m.Path("/proc/" + p.Name() + "/comm"))
			if err == nil {
				out[inode] = owner{strings.TrimSpace(string(comm)), pid}
			}
		}
	}
	return out
}
