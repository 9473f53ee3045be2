package judge

import (
	"fmt"
	"slices"
	"strings"

	"northstake/core/stake"
	"northstake/core/wire"
)

// servedFor is what a web server of the host, by the name of its program, serves beside the sites that
// are declared or leave with the plan: for somebody else.
func servedFor(in stake.Input, program string) []wire.Served {
	own := map[wire.Path]bool{}
	for _, w := range stake.Of[wire.SiteWant](in.Declared, "site", in.Memo) {
		own[w.File], own[w.Link] = true, true
	}
	for _, w := range leaving[wire.SiteWant](in.Leaving, "site", in.Memo) {
		own[w.File], own[w.Link] = true, true
	}
	return slices.DeleteFunc(virtualHosts(in.Traits, program), func(s wire.Served) bool { return own[s.File] })
}

// virtualHosts are all that a web server of the host serves, but for what its package brings.
func virtualHosts(t wire.Traits, program string) []wire.Served {
	for _, s := range t.WebServers {
		if s.Program == program && program != "" {
			return slices.Clone(s.VirtualHosts)
		}
	}
	return nil
}

// written says whether one of the files by which a web server of the host serves something is that of a site of
// this ground: another ground may have sites there as well.
func written(in stake.Input, program string) bool {
	own := map[wire.Path]bool{}
	for _, w := range stake.Of[wire.SiteWant](in.Brought, "site", nil) {
		own[w.File], own[w.Link] = true, true
	}
	return slices.ContainsFunc(virtualHosts(in.Traits, program), func(s wire.Served) bool { return own[s.File] })
}

// keptFor is the file of somebody else for which a program goes on listening on a port, "" for none.
func keptFor(in stake.Input, program string, port int) wire.Path {
	for _, s := range servedFor(in, program) {
		if slices.Contains(s.Ports, port) || slices.Contains(s.Ports, 0) {
			return s.File
		}
	}
	return ""
}

// staysFor is the file with a line by which a server that goes on for others has a port, whatever leaves
// with its sites; "" where it lets go of that.
func staysFor(in stake.Input, program string, port int) wire.Path {
	if len(servedFor(in, program)) == 0 {
		return "" // it stops
	}
	silenced := map[wire.Path]bool{}
	for _, w := range leaving[wire.ServerWant](in.Leaving, "server", in.Memo) {
		silenced[w.Listen] = true // it switches them off for the sake of this site
	}
	for _, w := range stake.Of[wire.ServerWant](in.Declared, "server", in.Memo) {
		if slices.Contains(w.Silent, port) {
			silenced[w.Listen] = true
		}
	}
	for _, s := range in.Traits.WebServers {
		i := slices.IndexFunc(s.Listens, func(l wire.ListenLine) bool { return l.Port == port && !silenced[l.File] })
		if s.Program == program && i >= 0 {
			return s.Listens[i].File
		}
	}
	return ""
}

// servedWords names files by which something is served.
func servedWords(served []wire.Served) string {
	var out []string
	for _, s := range served[:min(len(served), 3)] {
		out = append(out, string(s.File))
	}
	if more := len(served) - len(out); more > 0 {
		return fmt.Sprintf("%s and %d more files", strings.Join(out, ", "), more)
	}
	return strings.Join(out, " and ")
}
