// Package filter knows what filters packets on a host: the rules that the kernel
// holds, the firewall programs that keep rules of their own, one file each, and North
// Stake's own table.
package filter

import (
	"context"

	"northstake/core/wire"
	"northstake/host/system"
)

// Program is a firewall program that is active on a host and keeps rules of
// its own. Ports are opened there, and nowhere beside it.
type Program interface {
	Name() string
	// Read says how ports stand now and after a restart, for one network, or for
	// everybody where that is "".
	Read(ctx context.Context, w wire.PortWant, network string) (PortState, error)
	// LetsIn lists what the program lets in now or after a restart, and whether it is
	// started at boot.
	LetsIn(ctx context.Context) (Inbound, error)
	// Keeps says whether a table of the kernel's is the program's own.
	Keeps(rules *Filters, family, table string) bool
	// Set gives ports a rule of their own in each place, or takes it away.
	Set(ctx context.Context, w wire.PortWant, network string, rules []PortRule) error
}

// PortState is whether ports are open now, and after a restart. Where are the
// words for the places in which the program decides that.
type PortState struct {
	Live, Kept bool
	Where      string
	Rules      []PortRule

	Denied string // a rule of somebody's that shuts the ports, before any that lets them in
	Wider  bool   // others than the network are let in as well
}

// PortRule is how ports stand in one place, such as a zone: whether there is a
// rule for these very ports now and after a restart, and whether anything opens
// them.
type PortRule struct {
	Place              string
	Live, Kept         bool
	OpenLive, OpenKept bool
}

// programs finds the program that is active, the first that answers.
var programs = []func(context.Context, *system.Machine) (Program, error){activeFirewalld, activeUFW}

// Active is the firewall program that is active on the machine, nil for none.
func Active(ctx context.Context, m *system.Machine) (Program, error) {
	for _, find := range programs {
		if f, err := find(ctx, m); f != nil || err != nil {
			return f, err
		}
	}
	return nil, nil
}

// NameOf is what filters on a machine, for people.
func NameOf(ctx context.Context, m *system.Machine) string {
	if f, err := Active(ctx, m); err == nil && f != nil {
		return f.Name()
	}
	r, err := ReadRules(ctx, m)
	if err != nil {
		return "unknown"
	}
	if len(r.Filters.base) > 0 {
		return "nftables"
	}
	return "none"
}

// Inbound is what a firewall program lets in. All says that it lets in whatever no rule is
// about, Others are rules that are no plain ports, in the program's words.
type Inbound struct {
	All    bool
	AtBoot bool
	Ports  []wire.PortWant
	Others []string
}
