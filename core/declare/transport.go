package declare

// Transport is what has to be declared of a host that is reached by it.
type Transport struct {
	Address string // that a host has where none is written; "" where one has to be
	Login   bool   // whether a user, and a key or a password, are needed
	Own     bool   // whether it is the one machine that the service itself runs on
	Within  bool   // whether it leads into a container, on an engine that can be named
}

// Transports are the ways to a host by their names.
var Transports = map[string]Transport{}

// RegisterTransport makes a way known that a host's via can name.
func RegisterTransport(name string, w Transport) struct{} {
	Transports[name] = w
	Allow("Host", "via", name)
	return struct{}{}
}

// defaultTransport is that of a host whose via is left out.
const defaultTransport = "ssh"

var (
	_ = RegisterTransport(defaultTransport, Transport{Login: true})
	_ = RegisterTransport("container", Transport{Within: true})
	_ = RegisterTransport("service-machine", Transport{Address: "127.0.0.1", Own: true})
)

// InContainer is the container that a host is, by its name on its engine, and the host whose
// engine that is, "" for the service's own machine; both are "" for a host that is none.
func (d *Declaration) InContainer(host string) (container, engine string) {
	h := d.Hosts[host]
	if h == nil {
		return "", ""
	}
	if _, way := h.Transport(); !way.Within {
		return "", ""
	}
	if h.Inside != "" {
		return h.Inside, h.Engine
	}
	return host, h.Engine
}

// Transport is the name of the way to a host, and what it needs.
func (h *Host) Transport() (string, Transport) {
	name := h.Via
	if name == "" {
		name = defaultTransport
	}
	return name, Transports[name]
}
