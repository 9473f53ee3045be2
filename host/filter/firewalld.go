package filter

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	godbus "github.com/godbus/dbus/v5"

	"northstake/core/wire"
	"northstake/host/system"
)

// firewalld is firewalld(1) over the system's message bus
// (firewalld.dbus(5)). Ports are read and opened in every zone that an interface
// of the machine is in.
type firewalld struct {
	m     *system.Machine
	bus   *godbus.Conn
	zones []string // those that decide now: of interfaces, and of sources that have one of their own
	kept  []string // those that decide after a restart
	known *asked   // what it has answered to this look
}

// asked keeps answers for one look, since every port asks for the same.
type asked struct {
	zones    map[string]zoneAnswer
	services map[string]zoneRules
	policies map[string]zoneRules
}

type zoneAnswer struct {
	live, kept zoneRules
	path       godbus.ObjectPath
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
	f := firewalld{m: m, bus: bus, known: &asked{zones: map[string]zoneAnswer{}, services: map[string]zoneRules{}}}
	if err := f.usedZones(ctx); err != nil {
		return nil, err
	}
	return f, nil
}

// ofOwnBridges says whether networks are those of bridges of this host that lead to nothing but to
// containers on it: an engine binds them to a zone of their own, and nobody comes in from outside by
// them.
func ofOwnBridges(sources []string) bool {
	var own []netip.Prefix
	bridges, err := filepath.Glob("/sys/class/net/*/bridge")
	if err != nil {
		return false
	}
	for _, b := range bridges {
		name := filepath.Base(filepath.Dir(b))
		ports, err := filepath.Glob("/sys/class/net/" + name + "/brif/*")
		if err != nil || slices.ContainsFunc(ports, func(p string) bool { // a port with hardware behind it
			_, err := os.Stat("/sys/class/net/" + filepath.Base(p) + "/device")
			return err == nil
		}) {
			continue
		}
		i, err := net.InterfaceByName(name)
		if err != nil {
			continue
		}
		addrs, err := i.Addrs()
		if err != nil {
			continue
		}
		for _, a := range addrs {
			if p, err := netip.ParsePrefix(a.String()); err == nil {
				own = append(own, p.Masked())
			}
		}
	}
	return !slices.ContainsFunc(sources, func(s string) bool {
		p, err := netip.ParsePrefix(s)
		return err != nil || !slices.ContainsFunc(own, func(o netip.Prefix) bool { return o.Bits() <= p.Bits() && o.Contains(p.Addr()) })
	})
}

func (firewalld) Name() string { return "firewalld" }

func (f firewalld) call(ctx context.Context, path godbus.ObjectPath, method string, args ...any) *godbus.Call {
	return f.bus.Object(firewalldName, path).CallWithContext(ctx, firewalldName+method, 0, args...)
}

// usedZones finds the zones that decide about what comes in: those of the interfaces that
// are up, the default one for those that have none, and those bound to sources, now and
// after a restart.
func (f *firewalld) usedZones(ctx context.Context) error {
	failed := func(err error) error { return fmt.Errorf("ask firewalld for its zones: %w", err) }
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
		if len(what["sources"]) > 0 && (len(what["interfaces"]) > 0 || !ofOwnBridges(what["sources"])) {
			f.zones = append(f.zones, zone)
		}
	}
	interfaces, err := net.Interfaces()
	if err != nil {
		return failed(err)
	}
	for _, i := range interfaces {
		if i.Flags&net.FlagLoopback != 0 || i.Flags&net.FlagUp == 0 {
			continue
		}
		f.zones = append(f.zones, cmp.Or(zoneOf[i.Name], fallback))
		var later string // none is an error there
		_ = f.call(ctx, firewalldConfig, ".config.getZoneOfInterface", i.Name).Store(&later)
		f.kept = append(f.kept, cmp.Or(later, fallback))
	}
	for _, list := range []*[]string{&f.zones, &f.kept} {
		if len(*list) == 0 {
			*list = []string{fallback}
		}
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	return nil
}

func (f firewalld) Read(ctx context.Context, w wire.PortWant, network string) (PortState, error) {
	s := PortState{Live: true, Kept: true, Where: "firewalld, zone " + strings.Join(f.zones, " and ")}
	all := append(slices.Clone(f.zones), f.kept...)
	slices.Sort(all)
	for _, zone := range slices.Compact(all) {
		live, kept, _, err := f.zone(ctx, zone)
		if err != nil {
			return s, err
		}
		r := PortRule{Place: zone, OpenLive: true, OpenKept: true}
		if slices.Contains(f.zones, zone) {
			if r.OpenLive, r.Live, err = f.open(ctx, live, w, network); err != nil {
				return s, err
			}
			s.Denied = cmp.Or(s.Denied, f.denied(ctx, live, w, network))
		}
		if slices.Contains(f.kept, zone) {
			if r.OpenKept, r.Kept, err = f.open(ctx, kept, w, network); err != nil {
				return s, err
			}
			s.Denied = cmp.Or(s.Denied, f.denied(ctx, kept, w, network))
		}
		if network != "" && len(live.sources) == 0 {
			wide, _, err := f.open(ctx, live, wire.PortWant{Port: w.Port, To: w.To, Protocol: w.Protocol}, "")
			if err != nil {
				return s, err
			}
			s.Wider = s.Wider || wide
		}
		s.Live, s.Kept = s.Live && r.OpenLive, s.Kept && r.OpenKept
		s.Rules = append(s.Rules, r)
	}
	policies, err := f.policies(ctx)
	if err != nil {
		return s, err
	}
	for name, p := range policies {
		why := f.denied(ctx, p, w, network)
		if in, _ := inPorts(p.ports, w); why == "" && !in && (p.target == "REJECT" || p.target == "DROP") {
			why = "target " + p.target
		}
		if why != "" {
			s.Live, s.Denied = false, fmt.Sprintf("policy %s, %s", name, why)
		}
	}
	return s, nil
}

// Keeps says that firewalld's tables are those of its name.
func (firewalld) Keeps(_ *Filters, _, table string) bool { return table == "firewalld" }

// LetsIn lists the ports that its zones open, those of services among them. What a host
// needs to get its own address (dhcpv6-client) opens nothing to anybody.
func (f firewalld) LetsIn(ctx context.Context) (in Inbound, err error) {
	in.AtBoot = startsAtBoot(f.m, "firewalld")
	seen := map[string]bool{}
	add := func(list [][]any, network string) {
		for _, p := range list {
			ports, protocol := portAndProtocol(p)
			w, ok := wire.ParsePorts(ports + "/" + protocol)
			if key := ports + "/" + protocol + network; ok && !seen[key] && ports+protocol != "546udp" {
				seen[key] = true
				if network != "" {
					w.From = []string{network}
				}
				in.Ports = append(in.Ports, w)
			}
		}
	}
	for i, zones := range [][]string{f.zones, f.kept} {
		for _, zone := range zones {
			live, kept, _, err := f.zone(ctx, zone)
			if err != nil {
				return in, err
			}
			z := []zoneRules{live, kept}[i]
			in.All = in.All || z.target == "ACCEPT"
			add(z.ports, "")
			for _, name := range z.services {
				rules, err := f.service(ctx, name)
				if err != nil {
					return in, err
				}
				add(rules.ports, "")
			}
			for _, rule := range z.rich {
				port, source := richPort.FindStringSubmatch(rule), richSource.FindStringSubmatch(rule)
				switch {
				case !strings.Contains(rule, " accept"):
				case port != nil && source != nil && !strings.Contains(rule, " NOT "):
					add([][]any{{port[1], port[2]}}, prefixed(source[1]))
				case port != nil:
					add([][]any{{port[1], port[2]}}, "")
				case !seen[rule]:
					seen[rule] = true
					in.Others = append(in.Others, rule)
				}
			}
		}
	}
	return in, nil
}

func (f firewalld) Set(ctx context.Context, w wire.PortWant, network string, rules []PortRule) error {
	what := []any{w.Span(), w.Protocol}
	sort := "Port"
	if network != "" {
		what, sort = []any{richRule(w, network)}, "RichRule"
	}
	verb := map[bool]string{true: "add", false: "remove"}
	for _, r := range rules {
		delete(f.known.zones, r.Place) // as it is now
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
