package platform

import (
	"context"

	"northstake/core/stake"
)

// PortFilter is a firewall program that is active on a host and keeps rules of
// its own. Ports are opened there, and nowhere beside it.
type PortFilter interface {
	Name() string
	// Read says how ports stand now and after a restart, for one network, or for
	// everybody where that is "".
	Read(ctx context.Context, w stake.PortWant, network string) (PortState, error)
	// Set gives ports a rule of their own in each place, or takes it away.
	Set(ctx context.Context, w stake.PortWant, network string, rules []PortRule) error
}

// PortState is whether ports are open now, and after a restart. Where are the
// words for the places in which the program decides that.
type PortState struct {
	Live, Kept bool
	Where      string
	Rules      []PortRule
}

// PortRule is how ports stand in one place, such as a zone: whether there is a
// rule for these very ports now and after a restart, and whether anything opens
// them.
type PortRule struct {
	Place              string
	Live, Kept         bool
	OpenLive, OpenKept bool
}

// portFilters finds the program that is active, the first that answers.
var portFilters = []func(context.Context, *Machine) (PortFilter, error){activeFirewalld, activeUFW}

// PortFilter is the firewall program that is active on the machine, nil for none.
func (m *Machine) PortFilter(ctx context.Context) (PortFilter, error) {
	for _, find := range portFilters {
		if f, err := find(ctx, m); f != nil || err != nil {
			return f, err
		}
	}
	return nil, nil
}
