package family

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"northstake/host/system"
)

// RestartNeeded says why the machine needs a restart, "" where it does not. That it
// does not is remembered until packages change.
func RestartNeeded(m *system.Machine) string {
	if asked := m.Exists("/run/reboot-required"); asked {
		return restartNeeded(m)
	}
	_, err := system.Cached(m, "restart", m.FileKey(dpkgStatus)+dnf{m}.recordsKey(), func() (bool, error) {
		if why := restartNeeded(m); why != "" {
			return false, needed(why) // and is not remembered
		}
		return true, nil
	})
	if err != nil {
		return err.Error()
	}
	return ""
}

// needed says why a restart is.
type needed string

func (n needed) Error() string { return string(n) }

func restartNeeded(m *system.Machine) string {
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
	if old := replacedUnder1(m); old != "" {
		return fmt.Sprintf("process 1 still runs %s, which an upgrade has replaced", old)
	}
	var u syscall.Utsname
	if syscall.Uname(&u) != nil {
		return ""
	}
	running := system.CString(u.Release[:])
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
func replacedUnder1(m *system.Machine) string {
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
