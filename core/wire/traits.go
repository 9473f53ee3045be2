package wire

import (
	"fmt"
	"slices"
	"strings"
)

// Service managers that more than one room knows.
const (
	Systemd    = "systemd"
	NoServices = "none" // nothing starts services
)

// Traits are what a host is, whatever is declared.
type Traits struct {
	Hostname       string      `json:"hostname"`
	System         string      `json:"system"`
	Family         string      `json:"family"`
	Kernel         string      `json:"kernel"`
	Architecture   string      `json:"architecture"`
	CPUs           int         `json:"cpus"`
	Memory         int64       `json:"memory"` // bytes
	Disks          []Disk      `json:"disks"`
	Addresses      []string    `json:"addresses"`
	IPv6           bool        `json:"ipv6"`
	Listeners      []Listener  `json:"listeners"`
	PackageManager string      `json:"package_manager"`
	ServiceManager string      `json:"service_manager"`
	Firewall       string      `json:"firewall"`
	SSHPort        int         `json:"ssh_port"`                 // where the connection arrived on the host
	Confinement    string      `json:"confinement,omitempty"`    // SELinux with its mode, AppArmor, or none
	ClockSkew      string      `json:"clock_skew,omitempty"`     // how far the host's clock is ahead, "" under two seconds
	Boot           string      `json:"boot,omitempty"`           // changes with every restart
	FirstProcess   string      `json:"first_process,omitempty"`  // where it is none that is known to start services
	RestartNeeded  string      `json:"restart_needed,omitempty"` // why the host needs a restart
	WebServers     []WebServer `json:"web_servers,omitempty"`

	// SSHServer is what the SSH server of the host's family is; nil where none is known of.
	SSHServer *SSHServer `json:"ssh_server,omitempty"`

	// WayIn are places that getting in over SSH rests on as the host is set up, wherever its SSH server,
	// sudo, PAM and the login user's account lead.
	WayIn []Path `json:"way_in,omitempty"`

	// Stuck are the steps of runs that could not be taken back on the host.
	Stuck []StuckStep `json:"stuck,omitempty"`

	// Containers are all that the host's engine has, declared or not, where containers are
	// declared on the host: no engine is woken to be asked.
	Containers []ContainerSeen `json:"containers,omitempty"`
}

// StuckStep is a step that could not be taken back, by the whole name of its run and its number there, the
// stakes that it was about, and why.
type StuckStep struct {
	Run    string   `json:"run"`
	Number int      `json:"number"`
	Type   string   `json:"type"`
	Name   string   `json:"name"`
	Stakes []string `json:"stakes"` // their addresses
	Paths  []Path   `json:"paths,omitempty"`
	Text   string   `json:"text"`
	Why    string   `json:"why"`
}

// ContainerSeen is a container that an engine has. By is the ground that declares it, "" for
// one that North Stake did not make.
type ContainerSeen struct {
	Name  string `json:"name"`
	Image string `json:"image"`
	State string `json:"state"`
	By    string `json:"by,omitempty"`
	ID    string `json:"id,omitempty"`
}

// Deciding is all of a host by which stakes are wanted, as Wanting uses it, in one word: what is worked
// out for a host holds for as long as it is the same.
func (t Traits) Deciding() string {
	word := fmt.Sprintf("%s %q %t %d %s", t.Family, t.System, t.IPv6, t.SSHPort, t.Firewall)
	if t.SSHServer != nil {
		word += fmt.Sprintf(" %s %s", t.SSHServer.Service, t.ServiceManager)
	}
	for _, s := range t.WebServers {
		word += fmt.Sprintf(" %s %t %v", s.Name, s.Listens == nil, s.Listens)
	}
	return word
}

// SSHServer is the SSH server of a family of systems: what its service is called, and the paths that it reads
// when it is told to reload, or has to be restarted for. One that ends in / has all below it, one that ends in *
// all that begins like it.
type SSHServer struct {
	Service string   `json:"service" toml:"service"`
	Reload  []string `json:"reload" toml:"reload"`
	Restart []string `json:"restart" toml:"restart"`
}

// SSHTakesIn is the service of the SSH server, to be reloaded or restarted, where it reads what lies at a
// path as it starts. It takes that in with the run that changes it: else the run is confirmed by a server
// that has not seen the change, and nobody gets in after the next restart. A host that is not reached
// over SSH, or has nothing that starts services, is none of those.
func (t Traits) SSHTakesIn(path Path) (reload, restart []string) {
	if t.SSHPort == 0 || t.ServiceManager == NoServices || t.SSHServer == nil {
		return nil, nil
	}
	reads := func(pattern string) bool {
		begins, any := strings.CutSuffix(pattern, "*")
		return string(path) == pattern || (any || strings.HasSuffix(pattern, "/")) && strings.HasPrefix(string(path), begins)
	}
	switch {
	case slices.ContainsFunc(t.SSHServer.Reload, reads):
		return []string{t.SSHServer.Service}, nil
	case slices.ContainsFunc(t.SSHServer.Restart, reads):
		return nil, []string{t.SSHServer.Service}
	}
	return nil, nil
}

// WebServer is a web server that is installed. Name is the one that declarations
// use.
type WebServer struct {
	Name    string `json:"name"`
	Package string `json:"package"`
	Version string `json:"version"`
	Program string `json:"program,omitempty"`

	VirtualHosts []Served     `json:"virtual_hosts,omitempty"` // but for those that its package brings
	Listens      []ListenLine `json:"listens"`                 // nil where that is no matter of lines of their own, or not known
}

// ListenLine is a line by which a web server listens on a port, whatever it serves there, and the file
// that has it. One that North Stake has switched off counts.
type ListenLine struct {
	Port int  `json:"port"`
	File Path `json:"file"`
}

// Served is a file by which a web server serves something, and on which ports. A port of 0 is any.
type Served struct {
	File  Path  `json:"file"`
	Ports []int `json:"ports,omitempty"`
}

// Disk is one mounted file system that can hold files; sizes in bytes, what is
// free rounded down to a 4096th of the size.
type Disk struct {
	Mount Path  `json:"mount"`
	Size  int64 `json:"size"`
	Free  int64 `json:"free"`
}

// Listener is a program that listens on a port.
type Listener struct {
	Protocol string `json:"protocol"`
	Address  string `json:"address"`
	Port     int    `json:"port"`
	Program  string `json:"program"`
	PID      int    `json:"pid"`
}

// Layout is how one web server lies on a host's system: the names and paths
// that differ between families.
type Layout struct {
	Package   string   `toml:"package" json:"package"`
	Service   string   `toml:"service" json:"service"`
	Program   string   `toml:"program" json:"program"`                 // name of its process
	User      string   `toml:"user" json:"user"`                       // account that reads sites
	KeyGroup  string   `toml:"key_group" json:"key_group,omitempty"`   // group that has to read private keys, "" where root does
	ReadsOnce bool     `toml:"reads_once" json:"reads_once,omitempty"` // what lies at the path of a certificate it reads anew only when it starts
	Dir       Path     `toml:"dir" json:"dir"`                         // configuration tree
	Config    Path     `toml:"config" json:"config"`                   // main configuration file, in it
	SitesDir  Path     `toml:"sites_dir" json:"sites_dir"`             // where a site's configuration lies
	Ending    string   `toml:"ending" json:"ending,omitempty"`         // of the names of those files, ".conf" where it is ""
	LinkDir   Path     `toml:"link_dir" json:"link_dir,omitempty"`     // where a link switches it on, if the family does that
	RootBase  Path     `toml:"root_base" json:"root_base"`             // document roots chosen by the platform lie below it
	Pid       Path     `toml:"pid" json:"pid"`                         // file with the process id of the running server
	Listens   []int    `toml:"listens" json:"listens,omitempty"`       // ports that its own configuration listens on
	Test      []string `toml:"test" json:"test"`                       // command that tests a configuration tree; {dir} stands for the tree
	Modules   string   `toml:"modules" json:"modules,omitempty"`       // directory of its modules, where it has some
	Own       Own      `toml:"own" json:"own,omitzero"`                // what its package brings of its own
	PHP       *PHP     `toml:"-" json:"php,omitempty"`                 // how the family runs PHP, nil where that is not known

	Inside *Layout `toml:"-" json:"inside,omitempty"` // how it lies in a container that serves sites, nil where that is not known
	Contained
}

// Contained is what else there is to know of a server in a container: its main configuration,
// which is North Stake's own, and the commands inside.
type Contained struct {
	Main    string   `toml:"main" json:"main,omitempty"`               // text of Config
	Command []string `toml:"starts_with" json:"starts_with,omitempty"` // in the foreground
	Reload  []string `toml:"reload" json:"reload,omitempty"`           // by which it takes notice of a change
}

// PHP is how a family of systems runs PHP: what brings it, its service, the directory of its settings,
// in whose names {version} stands for its version, and the socket, which the members of Group may use.
type PHP struct {
	Package  string            `toml:"package" json:"package"`
	Service  string            `toml:"service" json:"service"`
	Settings string            `toml:"settings" json:"settings"`
	Socket   string            `toml:"socket" json:"socket"`
	Group    string            `toml:"group" json:"group"`
	Versions map[string]string `toml:"versions" json:"versions,omitempty"` // by how the names of systems begin
}

// On is how a system of that name runs it.
func (p PHP) On(system string) (PHP, bool) {
	if !strings.Contains(p.Service, "{version}") {
		return p, true
	}
	for begins, version := range p.Versions {
		if strings.HasPrefix(system, begins) {
			p.Service, p.Settings = strings.ReplaceAll(p.Service, "{version}", version), strings.ReplaceAll(p.Settings, "{version}", version)
			return p, true
		}
	}
	return p, false
}

// On returns the program that listens on a TCP port, nil when none does.
func (t Traits) On(port int) *Listener {
	for i := range t.Listeners {
		if t.Listeners[i].Port == port && t.Listeners[i].Protocol == "tcp" {
			return &t.Listeners[i]
		}
	}
	return nil
}
