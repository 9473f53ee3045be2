package check

import (
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/near"
	"northstake/core/wire"
)

// Probe checks an HTTP check, of a site or of a container.
func (c *Checker) Probe(p declare.Probe, at []string) {
	if p.Path != "" {
		if fix := form.URLPath(p.Path); fix != "" {
			c.Say(At(at, "path"), fmt.Sprintf("%q is not a URL path", p.Path), fix)
		}
	}
	if p.Status != 0 && (p.Status < 100 || p.Status > 599) {
		c.Say(At(at, "status"), fmt.Sprintf("%d is not an HTTP status", p.Status), "use a number from 100 to 599, such as 200")
	}
	if p.Method != "" && !form.Method.MatchString(p.Method) {
		c.Say(At(at, "method"), fmt.Sprintf("%q is not a method", p.Method), "write one such as \"HEAD\"")
	}
	c.probeHeaders(p, at)
	if _, err := regexp.Compile(p.Matches); err != nil {
		c.Say(At(at, "matches"), fmt.Sprintf("%q is not a regular expression", p.Matches), strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	if n, ok := form.Seconds(p.Within); p.Within != "" && (!ok || n < 1 || n > 300) {
		c.Say(At(at, "within"), fmt.Sprintf("%q is not a length of time to wait", p.Within), "write one such as \"10s\", of at most 300s")
	}
	c.probeFrom(p, at)
	if p.EndsAt != "" && !strings.HasPrefix(p.EndsAt, "/") && !strings.Contains(p.EndsAt, "://") {
		c.Say(At(at, "ends_at"), fmt.Sprintf("%q is no end of a redirect", p.EndsAt), "write a path such as \"/sailings\", or a URL")
	}
}

// probeHeaders checks the headers that a check sends, and those that it wants.
func (c *Checker) probeHeaders(p declare.Probe, at []string) {
	for key, headers := range map[string]map[string]string{"headers": p.Headers, "shows": p.Shows} {
		for _, name := range slices.Sorted(maps.Keys(headers)) {
			if !form.Header.MatchString(name) || form.Control(headers[name]) {
				c.Say(At(at, key, name), fmt.Sprintf("%q is not a header with a value in one line", name), "use letters, digits and hyphens")
			}
		}
	}
}

// probeFrom checks from where a check asks, and who tells it the address of a name.
func (c *Checker) probeFrom(p declare.Probe, at []string) {
	if _, err := netip.ParseAddr(p.Resolver); p.Resolver != "" && p.Resolver != wire.ResolverNone && p.Resolver != wire.ResolverSystem && err != nil {
		c.Say(At(at, "resolver"), fmt.Sprintf("%q is no resolver", p.Resolver), "write \"none\", \"system\", or the IP address of a DNS server")
	}
	for i, from := range p.From {
		if from != wire.ProbeInside && from != wire.ProbeOutside && c.D.Hosts[from] == nil {
			c.Say(At(at, "from", strconv.Itoa(i)), fmt.Sprintf("no host is called %q", from), near.DidYouMean(from, append(slices.Sorted(maps.Keys(c.D.Hosts)), wire.ProbeInside, wire.ProbeOutside)))
		}
		if slices.Contains(p.From[:i], from) {
			c.Say(At(at, "from", strconv.Itoa(i)), fmt.Sprintf("%q is named twice", from), "keep one of the two")
		}
	}
}
