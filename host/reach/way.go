package reach

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"northstake/host/rod"
)

// Way is a way to a host. What of it has to be declared, core/declare says under the
// same name.
type Way struct {
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

var ways = map[string]Way{}

// Register makes a way known; each way's file calls it once. What of it has to be declared,
// declare.RegisterWay says.
func Register(name string, w Way) struct{} {
	ways[name] = w
	return struct{}{}
}

// WayOf is the way with a name.
func WayOf(name string) (Way, error) {
	if w, ok := ways[name]; ok {
		return w, nil
	}
	return Way{}, fmt.Errorf("no way to a host is called %q; there are %s", name, strings.Join(Ways(), ", "))
}

// Ways lists the ways there are, sorted.
func Ways() []string { return slices.Sorted(maps.Keys(ways)) }
