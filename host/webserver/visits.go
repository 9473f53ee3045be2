package webserver

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sync/errgroup"

	"northstake/core/wire"
	"northstake/host/probe"
	"northstake/host/system"
)

// atOnce is how many visits a site gets at a time.
const atOnce = 8

// Others visits a site that a server is known to have loaded, as its visitors do: by each of its names, at
// every address of the host and port where it listens. It says where somebody else answers, and who.
// What is not answered in time is an error.
func Others(ctx context.Context, m *system.Machine, l wire.Layout, w wire.SiteWant, addresses []string, listeners []wire.Listener) ([]wire.Other, error) {
	if w.Visit == nil || w.Off {
		return nil, nil
	}
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	at := visited(w, addresses)
	found := make([]*wire.Other, len(at)*len(w.Visit.Names)) // by address, then by name
	var visits errgroup.Group
	visits.SetLimit(atOnce)
	for i, to := range at {
		for j, name := range w.Visit.Names {
			visits.Go(func() error {
				to := to.By(name)
				own, _, err := probe.Visit(ctx, to, w.SiteVisit())
				var other *probe.OtherCertificate
				switch {
				case errors.As(err, &other) && own:
					found[i*len(w.Visit.Names)+j] = &wire.Other{Names: []string{name}, At: to.Socket(), By: w.By(), Shown: other.Shown, Behind: other.Behind}
				case errors.Is(err, syscall.ECONNREFUSED):
					found[i*len(w.Visit.Names)+j] = &wire.Other{Names: []string{name}, At: to.Socket()}
				case errors.Is(err, context.DeadlineExceeded):
					return fmt.Errorf("%s has not answered visitors of %s at %s within %s: it is slow, has stopped, or a filter drops what the host asks itself", w.By(), name, to.Socket(), askTime)
				case (err == nil || other != nil) && !own:
					found[i*len(w.Visit.Names)+j] = &wire.Other{Names: []string{name}, At: to.Socket(), By: whose(m, l, w, to.Socket(), name, listeners)}
				}
				return nil // an address that cannot be used yet has no visitors
			})
		}
	}
	err := visits.Wait()
	var out []wire.Other
	for _, o := range found {
		if o == nil {
			continue
		}
		same := slices.IndexFunc(out, func(have wire.Other) bool {
			return have.At == o.At && have.By == o.By && have.Shown == o.Shown && have.Behind == o.Behind
		})
		if same < 0 {
			out = append(out, *o)
		} else {
			out[same].Names = append(out[same].Names, o.Names...)
		}
	}
	return out, err
}

// answers says whether a site answers by its first name at one of its addresses: where somebody else
// listens at that at which a server is asked for what it has loaded.
func answers(ctx context.Context, w wire.SiteWant, addresses []string) bool {
	if w.Visit == nil {
		return false
	}
	return slices.ContainsFunc(visited(w, addresses), func(to wire.Endpoint) bool {
		is, _, err := probe.Visit(ctx, to.By(w.Visit.Names[0]), w.SiteVisit())
		return err == nil && is
	})
}

// visited is where a site has visitors, by whichever name.
func visited(w wire.SiteWant, addresses []string) (out []wire.Endpoint) {
	var all []string
	for _, a := range addresses {
		if ip, err := netip.ParseAddr(a); err == nil && (ip.Is4() || w.Visit.V6) {
			all = append(all, a)
		}
	}
	if len(all) == 0 {
		all = []string{"127.0.0.1"}
	}
	for _, at := range w.Listen {
		where := all
		if at.Address != "" {
			where = []string{at.Address}
		}
		for _, at.Address = range where {
			out = append(out, at)
		}
	}
	return out
}

// everywhere are the addresses of who listens at all of the host's.
var everywhere = []string{"0.0.0.0", "::"}

// whose says, for people, who answers at an address: another program, a virtual host by its file and line,
// or, where no line tells, another virtual host of the server.
func whose(m *system.Machine, l wire.Layout, w wire.SiteWant, to, name string, listeners []wire.Listener) string {
	address, p, _ := net.SplitHostPort(to)
	port, _ := strconv.Atoi(p)
	if w.Within == "" {
		for _, exact := range []bool{true, false} { // who listens at one address has that
			for _, li := range listeners {
				if li.Protocol == "tcp" && li.Port == port && (li.Address == address) == exact && (exact || slices.Contains(everywhere, li.Address)) {
					if li.Program != w.Program {
						return fmt.Sprintf("%s (process %d)", li.Program, li.PID)
					}
				}
			}
		}
		if line := claims(m, l, w, address, port, name); line != "" {
			return "another virtual host, " + line
		}
	}
	return "another virtual host of " + w.By()
}

// claims finds the line of a server's configuration, beside what is the site's, that has a name, or, where
// none has, that listens at an address; "" where none does.
func claims(m *system.Machine, l wire.Layout, w wire.SiteWant, address string, port int, name string) string {
	named, listening := "", ""
	at := regexp.MustCompile(`(?:^|[\s\[])` + regexp.QuoteMeta(address) + `(?:\]?:` + strconv.Itoa(port) + `|\]?)(?:[\s;>]|$)`)
	word := regexp.MustCompile(`(?:^|[\s"'/])` + regexp.QuoteMeta(name) + `(?:[\s"':;,{]|$)`)
	look := func(file wire.Path, text string) {
		if w.LiesAt(file) {
			return
		}
		text = comments.ReplaceAllString(text, "")
		claims := slices.ContainsFunc(servers[w.Server].names(text), func(c claim) bool {
			return c.name == name && (c.port == port || c.port == 0)
		})
		for i, line := range strings.Split(text, "\n") {
			where := fmt.Sprintf("%s:%d", file, i+1)
			if claims && word.MatchString(line) {
				named = cmp.Or(named, where)
			}
			if listensAt.MatchString(line) && at.MatchString(line) {
				listening = cmp.Or(listening, where)
			}
		}
	}
	eachConfig(m, l, configDirs(l), look)
	eachTaken(m, w.Server, l, look)
	return cmp.Or(named, listening)
}

// listensAt is a line by which one of the servers listens somewhere.
var listensAt = regexp.MustCompile(`(?i)(?:^|[\s;{])(?:listen|bind|<VirtualHost)\s`)
