package plan

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"northstake/core/stake"
)

// Way is how the service gets in to a host over its SSH service: the user that it logs in as, and
// whether that goes on as root by sudo. It is nil where nothing on the host can shut it out.
type Way struct {
	User string
	Sudo bool
	At   []string // places that the host says it rests on, beside those that it does everywhere
}

// onTheWay are the places on a host that its way in rests on: the SSH service, who may log in and be
// root, filters, networks, and what every program needs.
var onTheWay = []string{
	"/etc/ssh", "/etc/sudoers", "/etc/sudoers.d", "/etc/pam.d", "/etc/pam.conf", "/etc/security", "/etc/login.defs", "/etc/nologin", "/run/nologin",
	"/etc/passwd", "/etc/shadow", "/etc/group", "/etc/gshadow", "/etc/shells", "/etc/nsswitch.conf", "/etc/hosts.allow", "/etc/hosts.deny",
	"/etc/default/ssh", "/etc/krb5.conf", "/etc/crypto-policies", "/etc/selinux", "/etc/apparmor.d",
	"/etc/nftables.conf", "/etc/nftables.d", "/etc/sysconfig", "/etc/iptables", "/etc/firewalld", "/etc/ufw", "/etc/default/ufw",
	"/etc/network", "/etc/netplan", "/etc/systemd/network", "/etc/NetworkManager", "/etc/resolv.conf",
	"/etc/ld.so.preload", "/etc/ld.so.conf", "/etc/ld.so.conf.d", "/etc/profile", "/etc/profile.d", "/etc/environment",
	"/usr/bin", "/usr/sbin", "/usr/lib", "/usr/lib64", "/usr/libexec", "/bin", "/sbin", "/lib", "/lib64", "/run/sshd", "/var/run", "/var/lib/northstake",
}

// wayServices and wayPackages are the services and packages that it rests on.
var (
	wayServices = []string{"ssh", "sshd", "ssh.socket", "sshd.socket", "nftables", "iptables", "networking", "network", "NetworkManager", "systemd-networkd", "systemd-logind", "dbus", "nslcd", "sssd"}
	wayPackages = []string{"openssh-server", "openssh", "sudo", "libpam-runtime", "libpam-modules", "pam", "login", "passwd", "shadow-utils", "systemd", "ifupdown", "netplan.io", "NetworkManager", "network-manager"}
)

// touches says whether a step can change the way in: by what it does, whatever kind it is of.
func (w *Way) touches(s Step) bool {
	if w == nil {
		return false
	}
	places := append([]string{"/home/" + w.User}, onTheWay...)
	if w.User == "root" {
		places[0] = "/root"
	}
	places = append(places, w.At...)
	for _, p := range s.Paths() {
		if slices.ContainsFunc(places, func(at string) bool { return p == at || strings.HasPrefix(p, at+"/") || strings.HasPrefix(at, p+"/") }) {
			return true
		}
		if onSSHUnit(p) {
			return true
		}
	}
	service := func(name string) bool {
		return slices.Contains(wayServices, strings.TrimSuffix(name, ".service")) || stake.FiltersItself(name)
	}
	switch s.Type {
	case "service":
		return service(s.Name)
	case "account":
		return s.Name == w.User
	case "package":
		var work stake.PackageWork
		if json.Unmarshal(s.Work, &work) != nil {
			return true
		}
		return slices.ContainsFunc(append(append(work.Names(), work.Remove), work.With...), func(n string) bool { return slices.Contains(wayPackages, n) })
	case "act":
		var work stake.ActWork
		if json.Unmarshal(s.Work, &work) != nil {
			return true
		}
		return service(work.Service) || slices.ContainsFunc(work.Upgrades, func(g stake.PackageGoal) bool { return slices.Contains(wayPackages, g.Name) })
	}
	return false
}

// unitDirs are where units are changed (systemd.unit(5)).
var unitDirs = []string{"/etc/systemd/system.control", "/run/systemd/system.control", "/etc/systemd/system", "/run/systemd/system", "/usr/local/lib/systemd/system"}

// onSSHUnit says whether a path is a unit of the SSH service, what is added to one or to all services,
// or has one start at boot.
func onSSHUnit(p string) bool {
	for _, dir := range unitDirs {
		rest, in := strings.CutPrefix(p, dir+"/")
		if in && slices.ContainsFunc(strings.Split(rest, "/"), func(name string) bool {
			return strings.HasPrefix(name, "ssh") || name == "service.d" || name == "socket.d" || name == "default.target"
		}) {
			return true
		}
	}
	return false
}

// guard has the host hold each step that can change the way in until the service has come in anew, and
// has those be named that take it away for good.
func (w *Way) guard(steps []Step) (cautions []stake.Note) {
	for i := range steps {
		s := &steps[i]
		if off := w.takenOff(*s); len(off) > 0 {
			s.Shuts = true
			for _, name := range off {
				s.Removes = append(slices.Clone(s.Removes), "package "+name+", by which the service gets in to this host")
			}
			cautions = append(cautions, stake.Note{Address: s.Address, What: fmt.Sprintf("to %s takes the way in to this host off for good: it has to be named, and no new connection is asked for at the end", s.Text),
				Fix: "have another way in at hand, or leave it installed"})
			continue
		}
		if !s.Confirm && !s.Returns && w.touches(*s) {
			s.Confirm, s.Whole = true, true
			s.Details = append(slices.Clone(s.Details), stake.Detail{Title: "safety", Text: fmt.Sprintf("this can shut the way in to the host: the host takes the run back by itself after %d s unless a new connection, with login and root's rights, confirms it", stake.RevertAfter)})
		}
	}
	return cautions
}

// takenOff are the packages that a step takes off and the way in rests on.
func (w *Way) takenOff(s Step) []string {
	var work stake.PackageWork
	if w == nil || s.Type != "package" || json.Unmarshal(s.Work, &work) != nil {
		return nil
	}
	return slices.DeleteFunc(append(slices.Clone(work.With), work.Remove), func(name string) bool {
		return name != "openssh-server" && (name != "sudo" || !w.Sudo)
	})
}
