// Package reach gets to hosts, by the way that is declared for each: over SSH it logs in,
// becomes root, puts the rod there when it is not there yet, and speaks to it; the
// service's own machine needs none of that. Nothing but the key exchange happens with a
// host whose key is not known.
package reach

import (
	"net"
	"strconv"
)

// Target is a host and how to log in to it. The secrets are values, not names.
type Target struct {
	Host         string
	Address      string
	Port         int
	User         string
	Key          []byte // private key in PEM, nil for none
	Password     string
	Sudo         bool
	SudoPassword string
	Via          string // the name of a way

	Engine    string   // of the service's own machine, the socket of its container engine; "" for its usual place
	Container string   // that the host is, by its name on an engine
	Through   *Through // how to get to the host of that engine
}

// Through is a host on the way to another. Key names the connection to it, which others share.
type Through struct {
	Key    string
	Target Target
	Known  KnownKeys
}

func (t Target) addr() string { return net.JoinHostPort(t.Address, strconv.Itoa(t.Port)) }
