package filter

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	godbus "github.com/godbus/dbus/v5"

	"northstake/core/wire"
)

// zoneRules are the settings of a zone as far as they open ports.
type zoneRules struct {
	target   string
	services []string
	ports    [][]any // each a port or a range, and a protocol
	rich     []string
	forward  [][]any // each a port or a range, a protocol, and where it goes
	sources  []string
}

func rulesOf(settings map[string]godbus.Variant) (z zoneRules) {
	z.target, _ = settings["target"].Value().(string)
	z.services, _ = settings["services"].Value().([]string)
	z.ports, _ = settings["ports"].Value().([][]any)
	z.rich, _ = settings["rules_str"].Value().([]string)
	if z.rich == nil {
		z.rich, _ = settings["rich_rules"].Value().([]string)
	}
	z.forward, _ = settings["forward_ports"].Value().([][]any)
	z.sources, _ = settings["sources"].Value().([]string)
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
func inPorts(list [][]any, w wire.PortWant) (in, own bool) {
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
func richRule(w wire.PortWant, network string) string {
	family := "ipv4"
	if strings.Contains(network, ":") {
		family = "ipv6"
	}
	return fmt.Sprintf(`rule family="%s" source address="%s" port port="%s" protocol="%s" accept`, family, network, w.Span(), w.Protocol)
}

// open says whether a zone lets ports in for a network, and whether by a rule for
// these very ports.
func (f firewalld) open(ctx context.Context, z zoneRules, w wire.PortWant, network string) (in, own bool, err error) {
	if network != "" && len(z.sources) > 0 && !slices.ContainsFunc(z.sources, func(s string) bool { return overlaps(s, network) }) {
		return true, true, nil // the zone is for others
	}
	if f.denied(ctx, z, w, network) != "" {
		_, own = inPorts(z.ports, w)
		return false, own || network != "" && slices.Contains(z.rich, richRule(w, network)), nil
	}
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
		rules, err := f.service(ctx, name)
		if err != nil {
			return false, false, err
		}
		if in, _ := inPorts(rules.ports, w); in {
			return true, false, nil
		}
	}
	return false, false, nil
}

// zone reads how a zone's rules stand now, and as they are kept.
func (f firewalld) zone(ctx context.Context, zone string) (live, kept zoneRules, path godbus.ObjectPath, err error) {
	if a, ok := f.known.zones[zone]; ok {
		return a.live, a.kept, a.path, nil
	}
	defer func() {
		if err == nil {
			f.known.zones[zone] = zoneAnswer{live, kept, path}
		}
	}()
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

// overlaps says whether a source that firewalld knows, an address, a network or anything
// else, may hold some of a network.
func overlaps(source, network string) bool {
	a, err := netip.ParsePrefix(prefixed(source))
	b, err2 := netip.ParsePrefix(network)
	return err != nil || err2 != nil || a.Overlaps(b)
}

func prefixed(s string) string {
	if addr, err := netip.ParseAddr(s); err == nil {
		return fmt.Sprintf("%s/%d", s, addr.BitLen())
	}
	return s
}

var (
	richSource  = regexp.MustCompile(`source (?:NOT )?(?:address|mac|ipset)="([^"]*)"`)
	richPort    = regexp.MustCompile(` port port="([^"]*)" protocol="([^"]*)"`)
	richService = regexp.MustCompile(` service name="([^"]*)"`)
	richElement = regexp.MustCompile(` (protocol value|icmp-block|icmp-type|masquerade|forward-port|source-port)`)
	richEnds    = regexp.MustCompile(` (reject|drop)\b`)
)

// denied is a rule by which a zone shuts some of the ports for some who are to be let in,
// "" where there is none: a rich rule that rejects or drops, or a port that goes elsewhere.
func (f firewalld) denied(ctx context.Context, z zoneRules, w wire.PortWant, network string) string {
	for _, rule := range z.rich {
		source := richSource.FindStringSubmatch(rule)
		switch {
		case !richEnds.MatchString(rule), network != "" && source != nil && !strings.Contains(rule, " NOT ") && !overlaps(source[1], network):
			continue
		case richElement.MatchString(rule):
			continue // it is about something else than ports
		}
		port, service := richPort.FindStringSubmatch(rule), richService.FindStringSubmatch(rule)
		switch {
		case port != nil:
			if port[2] == w.Protocol && spanMeets(port[1], w) {
				return rule
			}
		case service != nil:
			rules, err := f.service(ctx, service[1])
			if err != nil || slices.ContainsFunc(rules.ports, func(p []any) bool {
				ports, protocol := portAndProtocol(p)
				return protocol == w.Protocol && spanMeets(ports, w)
			}) {
				return rule
			}
		default:
			return rule
		}
	}
	for _, p := range z.forward {
		ports, protocol := portAndProtocol(p[:min(len(p), 2)])
		if protocol == w.Protocol && spanMeets(ports, w) {
			return fmt.Sprintf("forward-port %v", p)
		}
	}
	return ""
}

// spanMeets says whether a port or range has some of the ports.
func spanMeets(ports string, w wire.PortWant) bool {
	for port := w.Port; port <= w.Last(); port++ {
		if InRange(ports, port) {
			return true
		}
	}
	return false
}

// service are the ports that firewalld knows by the name of a service.
func (f firewalld) service(ctx context.Context, name string) (zoneRules, error) {
	if z, ok := f.known.services[name]; ok {
		return z, nil
	}
	settings := map[string]godbus.Variant{}
	if err := f.call(ctx, firewalldPath, ".getServiceSettings2", name).Store(&settings); err != nil {
		return zoneRules{}, fmt.Errorf("ask firewalld for service %s: %w", name, err)
	}
	f.known.services[name] = rulesOf(settings)
	return f.known.services[name], nil
}

// policies are the rules of active policies for what comes to the host, each with its
// name.
func (f firewalld) policies(ctx context.Context) (map[string]zoneRules, error) {
	if f.known.policies != nil {
		return f.known.policies, nil
	}
	active := map[string]map[string][]string{}
	if err := f.call(ctx, firewalldPath, ".policy.getActivePolicies").Store(&active); err != nil {
		var unknown godbus.Error
		if errors.As(err, &unknown) && strings.Contains(unknown.Name, "UnknownMethod") {
			return nil, nil // it has no policies
		}
		return nil, fmt.Errorf("ask firewalld for its policies: %w", err)
	}
	out := map[string]zoneRules{}
	for name, what := range active {
		if !slices.Contains(what["egress_zones"], "HOST") {
			continue
		}
		settings := map[string]godbus.Variant{}
		if err := f.call(ctx, firewalldPath, ".policy.getPolicySettings", name).Store(&settings); err != nil {
			return nil, fmt.Errorf("ask firewalld for policy %s: %w", name, err)
		}
		out[name] = rulesOf(settings)
	}
	f.known.policies = out
	return out, nil
}
