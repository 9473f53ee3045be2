package reach

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"northstake/host/rod"
)

// Transport is a way to a host. What of it has to be declared, core/declare says under the
// same name.
type Transport struct {
	// Trusts says whether a host shows a key, which has to be trusted before anything is
	// sent there.
	Trusts bool

	// Proves says whether a new connection proves that the host can still be reached over
	// the network.
	Proves bool

	// Start starts the rod on a host. Close ends what carries it. Of a way that leads through
	// another host it is Within, which is given the rod of that.
	Within func(ctx context.Context, engine *rod.Conn, t Target) (conn *rod.Conn, close func(), err error)
	Start  func(ctx context.Context, t Target, known KnownKeys, rods Rods) (conn *rod.Conn, close func(), err error)
}

var transports = map[string]Transport{}

// Register makes a way known; each way's file calls it once. What of it has to be declared,
// declare.RegisterTransport says.
func Register(name string, w Transport) struct{} {
	transports[name] = w
	return struct{}{}
}

// TransportOf is the way with a name.
func TransportOf(name string) (Transport, error) {
	if w, ok := transports[name]; ok {
		return w, nil
	}
	return Transport{}, fmt.Errorf("no way to a host is called %q; there are %s", name, strings.Join(Transports(), ", "))
}

// Transports lists the ways there are, sorted.
func Transports() []string { return slices.Sorted(maps.Keys(transports)) }
