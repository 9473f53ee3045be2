package wire

import (
	"cmp"
	"net"
	"strconv"
)

// HTTP is the scheme of URLs of which no other is said.
const HTTP = "http"

// ownPorts are the ports that URLs leave out, by their schemes.
var ownPorts = map[string]int{HTTP: 80}

// Endpoint is where something answers visitors: a port of an address, by a name.
type Endpoint struct {
	Scheme  string `json:"scheme,omitempty"` // "" for HTTP
	Name    string `json:"name"`             // that visitors ask for
	Port    int    `json:"port"`             // TCP
	Address string `json:"address,omitempty"`
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
