package filter

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	godbus "github.com/godbus/dbus/v5"

	"northstake/core/stake"
	"northstake/host/system"
)

// firewalld is firewalld(1) over the system's message bus
// (firewalld.dbus(5)). Ports are read and opened in every zone that an interface
// of the machine is in.
type firewalld struct {
	bus   *godbus.Conn
	zones []string
}

const (
	firewalldName   = "org.fedoraproject.FirewallD1"
	firewalldPath   = godbus.ObjectPath("/org/fedoraproject/FirewallD1")
	firewalldConfig = godbus.ObjectPath("/org/fedoraproject/FirewallD1/config")
)

func activeFirewalld(ctx context.Context, m *system.Machine) (Program, error) {
	if !m.Exists("/run/firewalld") || (m.Root != "" && m.Root != "/") {
		return nil, nil
	}
	bus, err := m.Bus()
	if err != nil {
		return nil, err
	}
	var owned bool
	if err := bus.BusObject().CallWithContext(ctx, "org.freedesktop.DBus.NameHasOwner", 0, firewalldName).Store(&owned); err != nil || !owned {
		return nil, err
	}
	f := firewalld{bus: bus}
	if f.zones, err = f.usedZones(ctx); err != nil {
		return nil, err
	}
	return f, nil
}

func (firewalld) Name() string { return "firewalld" }

func (f firewalld) call(ctx context.Context, path godbus.ObjectPath, method string, args ...any) *godbus.Call {
	return f.bus.Object(firewalldName, path).CallWithContext(ctx, firewalldName+method, 0, args...)
}

// usedZones are the zones that the machine's interfaces are in: an interface of
// no zone is in the default one.
func (f firewalld) usedZones(ctx context.Context) ([]string, error) {
	failed := func(err error) ([]string, error) { return nil, fmt.Errorf("ask firewalld for its zones: %w", err) }
	var fallback string
	if err := f.call(ctx, firewalldPath, ".getDefaultZone").Store(&fallback); err != nil {
		return failed(err)
	}
	active := map[string]map[string][]string{}
	if err := f.call(ctx, firewalldPath, ".zone.getActiveZones").Store(&active); err != nil {
		return failed(err)
	}
	zoneOf := map[string]string{}
	for zone, what := range active {
		for _, name := range what["interfaces"] {
			zoneOf[name] = zone
		}
	}
	interfaces, err := net.Interfaces()
	if err != nil {
		return failed(err)
	}
	var out []string
	for _, i := range interfaces {
		if i.Flags&net.FlagLoopback != 0 || i.Flags&net.FlagUp == 0 {
			continue
		}
		zone := zoneOf[i.Name]
		if zone == "" {
			zone = fallback
		}
		if !slices.Contains(out, zone) {
			out = append(out, zone)
		}
	}
	if len(out) == 0 {
		out = []string{fallback}
	}
	slices.Sort(out)
	return out, nil
}

// zoneRules are the settings of a zone as far as they open ports.
type zoneRules struct {
	target   string
	services []string
	ports    [][]any // each a port or a range, and a protocol
	rich     []string
}

func rulesOf(settings map[string]godbus.Variant) (z zoneRules) {
	z.target, _ = settings["target"].Value().(string)
	z.services, _ = settings["services"].Value().([]string)
	z.ports, _ = settings["ports"].Value().([][]any)
	z.rich, _ = settings["rules_str"].Value().([]string)
	return z
}

// InRange says whether a port lies in a port or a range of ports, such as
// "8000-8100".
func InRange(ports string, port int) bool {
	from, to, isRange := strings.Cut(ports, "-")
	if !isRange {
		to = from
	}
	a, err := strconv.Atoi(from)
	b, err2 := strconv.Atoi(to)
	return err == nil && err2 == nil && a <= port && port <= b
}

// inPorts says whether a list has all of some ports, and whether it has them as
// one entry of their own.
func inPorts(list [][]any, w stake.PortWant) (in, own bool) {
	in = true
	for port := w.Port; port <= w.Last() && in; port++ {
		in = slices.ContainsFunc(list, func(p []any) bool {
			ports, protocol := portAndProtocol(p)
			return protocol == w.Protocol && InRange(ports, port)
		})
	}
	own = slices.ContainsFunc(list, func(p []any) bool {
		ports, protocol := portAndProtocol(p)
		return protocol == w.Protocol && ports == w.Span()
	})
	return in, own
}

func portAndProtocol(p []any) (ports, protocol string) {
	if len(p) == 2 {
		ports, _ = p[0].(string)
		protocol, _ = p[1].(string)
	}
	return ports, protocol
}

// richRule lets ports in for one network (firewalld.richlanguage(5)), as firewalld
// writes it.
func richRule(w stake.PortWant, network string) string {
	family := "ipv4"
	if strings.Contains(network, ":") {
		family = "ipv6"
	}
	return fmt.Sprintf(`rule family="%s" source address="%s" port port="%s" protocol="%s" accept`, family, network, w.Span(), w.Protocol)
}

// open says whether a zone lets ports in for a network, and whether by a rule for
// these very ports.
func (f firewalld) open(ctx context.Context, z zoneRules, w stake.PortWant, network string) (in, own bool, err error) {
	in, own = inPorts(z.ports, w)
	if network != "" {
		own = slices.Contains(z.rich, richRule(w, network))
	}
	if in || own {
		return true, own, nil
	}
	if z.target == "ACCEPT" {
		return true, false, nil
	}
	for _, name := range z.services {
		settings := map[string]godbus.Variant{}
		if err := f.call(ctx, firewalldPath, ".getServiceSettings2", name).Store(&settings); err != nil {
			return false, false, fmt.Errorf("ask firewalld for service %s: %w", name, err)
		}
		if in, _ := inPorts(rulesOf(settings).ports, w); in {
			return true, false, nil
		}
	}
	return false, false, nil
}

// zone reads how a zone's rules stand now, and as they are kept.
func (f firewalld) zone(ctx context.Context, zone string) (live, kept zoneRules, path godbus.ObjectPath, err error) {
	settings := map[string]godbus.Variant{}
	if err := f.call(ctx, firewalldPath, ".zone.getZoneSettings2", zone).Store(&settings); err != nil {
		return live, kept, "", fmt.Errorf("ask firewalld for zone %s: %w", zone, err)
	}
	live = rulesOf(settings)
	if err := f.call(ctx, firewalldConfig, ".config.getZoneByName", zone).Store(&path); err != nil {
		return live, kept, "", fmt.Errorf("ask firewalld for what it keeps of zone %s: %w", zone, err)
	}
	settings = map[string]godbus.Variant{}
	if err := f.call(ctx, path, ".config.zone.getSettings2").Store(&settings); err != nil {
		return live, kept, "", fmt.Errorf("ask firewalld for what it keeps of zone %s: %w", zone, err)
	}
	return live, rulesOf(settings), path, nil
}

func (f firewalld) Read(ctx context.Context, w stake.PortWant, network string) (PortState, error) {
	s := PortState{Live: true, Kept: true, Where: "firewalld, zone " + strings.Join(f.zones, " and ")}
	for _, zone := range f.zones {
		live, kept, _, err := f.zone(ctx, zone)
		if err != nil {
			return s, err
		}
		r := PortRule{Place: zone}
		if r.OpenLive, r.Live, err = f.open(ctx, live, w, network); err != nil {
			return s, err
		}
		if r.OpenKept, r.Kept, err = f.open(ctx, kept, w, network); err != nil {
			return s, err
		}
		s.Live, s.Kept = s.Live && r.OpenLive, s.Kept && r.OpenKept
		s.Rules = append(s.Rules, r)
	}
	return s, nil
}

func (f firewalld) Set(ctx context.Context, w stake.PortWant, network string, rules []PortRule) error {
	what := []any{w.Span(), w.Protocol}
	sort := "Port"
	if network != "" {
		what, sort = []any{richRule(w, network)}, "RichRule"
	}
	verb := map[bool]string{true: "add", false: "remove"}
	for _, r := range rules {
		live, kept, path, err := f.zone(ctx, r.Place)
		if err != nil {
			return err
		}
		has := func(z zoneRules) bool {
			if network != "" {
				return slices.Contains(z.rich, richRule(w, network))
			}
			_, own := inPorts(z.ports, w)
			return own
		}
		if has(kept) != r.Kept {
			if err := f.call(ctx, path, ".config.zone."+verb[r.Kept]+sort, what...).Err; err != nil {
				return fmt.Errorf("keep port %s/%s in firewalld's zone %s: %w", w.Span(), w.Protocol, r.Place, err)
			}
		}
		if has(live) != r.Live {
			args := append([]any{r.Place}, what...)
			if r.Live {
				args = append(args, int32(0)) // for as long as it runs
			}
			if err := f.call(ctx, firewalldPath, ".zone."+verb[r.Live]+sort, args...).Err; err != nil {
				return fmt.Errorf("set port %s/%s in firewalld's zone %s: %w", w.Span(), w.Protocol, r.Place, err)
			}
		}
	}
	return nil
}
