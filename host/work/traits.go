package work

import (
	"bytes"
	"context"
	"maps"
	"os"
	"runtime"
	"slices"
	"syscall"

	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/filter"
	"northstake/host/system"
	"northstake/host/webserver"
)

// Traits reads what the machine is, but for its containers, which are told by the readings of them.
func (h *Host) Traits(ctx context.Context) (wire.Traits, error) {
	release, err := family.Release(h.Machine)
	if err != nil {
		return wire.Traits{}, err
	}
	f, err := h.Family()
	if err != nil {
		return wire.Traits{}, err
	}
	t := wire.Traits{System: release["PRETTY_NAME"], Family: release["ID"], Architecture: runtime.GOARCH, CPUs: runtime.NumCPU(), SSHPort: h.SSHPort}
	if f != nil {
		t.Family, t.PackageManager, t.SSHServer = f.Name, f.Packages, f.SSH
	}
	t.Hostname, _ = os.Hostname()
	var u syscall.Utsname
	if syscall.Uname(&u) == nil {
		t.Kernel = system.CString(u.Release[:])
	}
	t.Memory = h.Memory()
	t.Disks = h.Disks()
	t.Addresses = system.Addresses()
	_, err = os.Stat("/proc/net/if_inet6")
	if b, e := os.ReadFile("/proc/net/if_inet6"); err == nil && e == nil {
		t.IPv6 = len(bytes.TrimSpace(b)) > 0
	}
	t.ServiceManager = family.ServiceManagerName(h.Machine)
	t.FirstProcess = family.NoInit(h.Machine)
	if t.Listeners, err = h.Listeners(); err != nil {
		return t, err
	}
	if h.SSHPort > 0 {
		if t.WayIn, err = h.WayIn(t.Listeners); err != nil {
			return t, err
		}
	}
	t.Firewall = filter.NameOf(ctx, h.Machine)
	t.Confinement = h.Confinement()
	t.Boot, t.RestartNeeded = h.Boot(), family.RestartNeeded(h.Machine)
	if f != nil {
		t.WebServers = h.webServers(ctx, f)
	}
	if t.Stuck, err = h.journal().Stuck(); err != nil {
		return t, err
	}
	return t, nil
}

// webServers lists the servers of the family that are installed.
func (h *Host) webServers(ctx context.Context, f *family.Family) []wire.WebServer {
	all, err := f.PackageManager(h.Machine).Installed(ctx)
	if err != nil {
		return nil // the reading of packages says why
	}
	var out []wire.WebServer
	for _, name := range slices.Sorted(maps.Keys(f.Servers)) {
		if p := all[f.Servers[name].Package]; p.State == wire.PackageInstalled {
			served, err := webserver.ServedBy(h.Machine, name, f.Servers[name])
			if err != nil {
				return nil // as would the reading of its sites
			}
			out = append(out, wire.WebServer{Name: name, Package: f.Servers[name].Package, Version: p.Version, Program: f.Servers[name].Program, VirtualHosts: served, Listens: webserver.ListenLines(h.Machine, name, f.Servers[name])})
		}
	}
	return out
}
