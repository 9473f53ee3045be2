package platform

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
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

// RestartNeeded says why the machine needs a restart, "" where it does not. That it
// does not is remembered until packages change.
func (m *Machine) RestartNeeded() string {
	asked := m.Exists("/run/reboot-required")
	key := m.FileKey(dpkgStatus) + dnf{m}.recordsKey()
	m.mu.Lock()
	quiet := m.noRestart
	m.mu.Unlock()
	if !asked && key != "" && quiet == key {
		return ""
	}
	why := m.restartNeeded()
	m.mu.Lock()
	defer m.mu.Unlock()
	m.noRestart = ""
	if why == "" {
		m.noRestart = key
	}
	return why
}

func (m *Machine) restartNeeded() string {
	if m.Exists("/run/reboot-required") {
		why := "the system asks for one"
		if b, err := m.Read("/run/reboot-required.pkgs"); err == nil {
			if pkgs := strings.Fields(string(b)); len(pkgs) > 0 {
				slices.Sort(pkgs)
				why += " since " + strings.Join(slices.Compact(pkgs), ", ") + " changed"
			}
		}
		return why
	}
	if old := m.replacedUnder1(); old != "" {
		return fmt.Sprintf("process 1 still runs %s, which an upgrade has replaced", old)
	}
	var u syscall.Utsname
	if syscall.Uname(&u) != nil {
		return ""
	}
	running := cString(u.Release[:])
	kernels, err := os.ReadDir(m.Path("/lib/modules"))
	if err != nil || len(kernels) == 0 {
		return ""
	}
	var names []string
	for _, k := range kernels {
		if k.Name() == running {
			return ""
		}
		names = append(names, k.Name())
	}
	return fmt.Sprintf("kernel %s runs, and %s is installed", running, strings.Join(names, ", "))
}

// replacedUnder1 is a program or library that the first process runs and that is
// no longer there as it was.
func (m *Machine) replacedUnder1() string {
	b, err := m.Read("/proc/1/maps")
	if err != nil {
		return ""
	}
	for _, line := range strings.Split(string(b), "\n") {
		rest, ok := strings.CutSuffix(line, " (deleted)")
		i := strings.IndexByte(rest, '/')
		if ok && i >= 0 && (strings.HasPrefix(rest[i:], "/usr/") || strings.HasPrefix(rest[i:], "/lib")) {
			return filepath.Base(rest[i:])
		}
	}
	return ""
}
