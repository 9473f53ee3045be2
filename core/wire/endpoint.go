package wire

import (
	"cmp"
	"encoding/json"
	"net"
	"slices"
	"strconv"
)

// The schemes of URLs; HTTP where no other is said.
const (
	HTTP  = "http"
	HTTPS = "https"
)

// ownPorts are the ports that URLs leave out, by their schemes.
var ownPorts = map[string]int{HTTP: 80, HTTPS: 443}

// OwnPort is the port that URLs of a scheme leave out.
func OwnPort(scheme string) int { return ownPorts[scheme] }

// Endpoint is where something answers visitors: a port of an address, by a name.
type Endpoint struct {
	Scheme  string `json:"scheme,omitempty"` // "" for HTTP
	Name    string `json:"name,omitempty"`   // that visitors ask for
	Port    int    `json:"port"`             // TCP
	Address string `json:"address,omitempty"`
}

// Listening is where a site listens, by whatever name it is asked for: on a port of one address, or of all of
// the host's where it names none.
type Listening []Endpoint

// UnmarshalJSON reads where a site listens, of now, or of a release before, which kept its ports alone.
func (l *Listening) UnmarshalJSON(b []byte) error {
	var ports []int
	if json.Unmarshal(b, &ports) != nil {
		return json.Unmarshal(b, (*[]Endpoint)(l))
	}
	*l = nil
	for _, port := range ports {
		*l = append(*l, Endpoint{Port: port})
	}
	return nil
}

// Ports are those of it, each once, in their order.
func (l Listening) Ports() []int {
	var out []int
	for _, e := range l {
		if !slices.Contains(out, e.Port) {
			out = append(out, e.Port)
		}
	}
	return out
}

// Has says whether something listens on a port, of whatever address.
func (l Listening) Has(port int) bool {
	return slices.ContainsFunc(l, func(e Endpoint) bool { return e.Port == port })
}

// On says whether something listens on a port of an address.
func (l Listening) On(address string, port int) bool {
	return slices.ContainsFunc(l, func(e Endpoint) bool { return e.Port == port && (e.Address == "" || e.Address == address) })
}

// Scheme is what is spoken at a port.
func (l Listening) Scheme(port int) string {
	for _, e := range l {
		if e.Port == port {
			return e.Scheme
		}
	}
	return ""
}

// By is the same place by another name.
func (e Endpoint) By(name string) Endpoint {
	e.Name = name
	return e
}

// scheme is the one of its URLs.
func (e Endpoint) scheme() string { return cmp.Or(e.Scheme, HTTP) }

// Host is the name as the Host header of a request has it, with the port where that is not the scheme's own.
func (e Endpoint) Host() string {
	if e.Port == ownPorts[e.scheme()] {
		return e.Name
	}
	return net.JoinHostPort(e.Name, strconv.Itoa(e.Port))
}

// Origin is the beginning of the URLs that visitors write.
func (e Endpoint) Origin() string { return e.scheme() + "://" + e.Host() }

// URL is what visitors write for a path, the port left out where it is the scheme's own.
func (e Endpoint) URL(path string) string { return e.Origin() + path }

// InFull is the URL of a path with its port, whichever it is.
func (e Endpoint) InFull(path string) string {
	return e.scheme() + "://" + net.JoinHostPort(e.Name, strconv.Itoa(e.Port)) + path
}

// AtAddress is the URL of a path by the address, whatever the name resolves to.
func (e Endpoint) AtAddress(path string) string { return e.scheme() + "://" + e.Socket() + path }

// Socket is the address with the port, as connections are made to it.
func (e Endpoint) Socket() string { return net.JoinHostPort(e.Address, strconv.Itoa(e.Port)) }
