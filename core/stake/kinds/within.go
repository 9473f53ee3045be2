package kinds

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/core/wire"
)

// Sites whose server runs in a container. All sites of a server on a host share one container,
// whose configuration lies on the host and is North Stake's own; the container is on the
// host's own network, so that a site listens, answers and is guarded as it is on a machine.

// inside ends the name of a server that runs in a container.
const inside = " in a container"

// serverOf is the server of a site, with where it runs.
func serverOf(s *declare.Site) string {
	if s.Image != "" {
		return s.Server + inside
	}
	return s.Server
}

// layoutOf is how a server lies on the host, or in a container on it.
func layoutOf(w *stake.Wanting, server string) (wire.Layout, bool) {
	base, within := strings.CutSuffix(server, inside)
	l, ok := w.Layouts[base]
	if !within || !ok {
		return l, ok
	}
	if l.Inside == nil {
		return wire.Layout{}, false
	}
	in := *l.Inside
	in.RootBase = l.RootBase
	return in, true
}

// containedBase is the directory of what servers in containers see of the host. Nobody but root
// can get there on the host.
const containedBase = "/etc/northstake"

// containedServers are the containers that serve sites, by their names.
type containedServers map[string]*containedServer

type containedServer struct {
	want   wire.ContainerWant
	image  string
	secret string // with which the image's registry lets in
	from   declare.Position
	needs  []string
	sites  []string // that are served
}

// wantWithin has a site served in a container, which needs what is given first, and returns what
// the site itself needs of it.
func wantWithin(w *stake.Wanting, name string, want *wire.SiteWant, layout wire.Layout, image, secret string, from declare.Position, first []string) []string {
	g := *stake.Gathering[containedServers](w, "contained servers")
	if g == nil {
		g = containedServers{}
		*stake.Gathering[containedServers](w, "contained servers") = g
	}
	want.Within, want.Image = "sites-"+want.Server, image
	want.Sees = seenBy(w, name, *want, layout)
	w.Want(stake.Stake{Type: "directory", Name: containedBase, From: from, Want: wire.JSON(wire.DirectoryWant{Path: containedBase, Owners: wire.Administrators, Mode: "0700"})})
	w.Want(stake.Stake{Type: "file", Name: string(layout.Config), From: from, Needs: []string{wire.Local("directory", containedBase)},
		Want: wire.JSON(wire.FileWant{Path: layout.Config, Text: layout.Main, Owners: wire.Administrators, Mode: "0644", Tells: []string{want.ServedBy()}})})
	needs := []string{wantImage(w, image, secret, from), wire.Local("file", string(layout.Config))}
	c := g[want.Within]
	if c == nil {
		c = &containedServer{image: image, secret: secret, from: from, want: wire.ContainerWant{Name: want.Within, By: w.D.Ground.Name, Image: image, Running: true, Policy: wire.PolicyAlways, Network: "host",
			Entry: layout.Command[:1], Command: layout.Command[1:], Reload: layout.Reload, Serves: layout.Program}}
		g[want.Within] = c
	}
	if c.image != image {
		w.Contradicts(want.ServedBy(), c.from, from, fmt.Sprintf("%s is to run in a container of two images, %s and %s", want.Server, c.image, image))
	}
	w.Behind(wire.Local("site", name), "image") // which has the server that tests it
	c.needs = append(c.needs, append(append(slices.Clone(first), needs...), wire.Local("site", name))...)
	for _, h := range want.Sees {
		c.see(h)
	}
	if !want.Off {
		c.sites = append(c.sites, name)
		c.want.Ports = append(c.want.Ports, want.Listen.Ports()...)
	}
	return needs
}

// seenBy is what a container has to see of the host for a site. Of a document root it is the
// directory around it, in which a tree is exchanged for another as a whole.
func seenBy(w *stake.Wanting, name string, want wire.SiteWant, layout wire.Layout) []wire.HeldAt {
	out := []wire.HeldAt{sameAt(layout.Dir)}
	for _, root := range want.Roots {
		out = append(out, sameAt(root.Dir()))
	}
	if s := w.D.Sites[name]; s != nil {
		for _, log := range s.Log.Files() {
			held := sameAt(wire.Path(log).Dir())
			held.Writable, held.Made = true, true
			out = append(out, held)
		}
	}
	for _, to := range want.To {
		if !path.IsAbs(to) {
			continue
		}
		at := wire.Path(to)
		if dir := at.Dir(); dir.Dir() != "/" {
			at = dir // in which the socket may come anew
		}
		out = append(out, sameAt(at))
	}
	return out
}

// sameAt is a directory of the host that a container sees at the same path.
func sameAt(p wire.Path) wire.HeldAt { return wire.HeldAt{At: p, From: p} }

// see adds what a container sees, unless that lies in what it sees already.
func (c *containedServer) see(h wire.HeldAt) {
	covers := func(a, b wire.HeldAt) bool {
		return b.At.Within(a.At) && a.Writable == b.Writable
	}
	if slices.ContainsFunc(c.want.Mounts, func(o wire.HeldAt) bool { return covers(o, h) }) {
		return
	}
	c.want.Mounts = append(slices.DeleteFunc(c.want.Mounts, func(o wire.HeldAt) bool { return covers(h, o) }), h)
	slices.SortFunc(c.want.Mounts, func(a, b wire.HeldAt) int { return cmp.Compare(a.At, b.At) })
}

// wantContained wants the containers that serve sites.
func wantContained(w *stake.Wanting) {
	g := *stake.Gathering[containedServers](w, "contained servers")
	for _, name := range stake.SortedKeys(g) {
		c := g[name]
		if len(c.sites) == 0 {
			continue // what is switched off is kept, and nobody serves it
		}
		slices.Sort(c.want.Ports)
		c.want.Ports = slices.Compact(c.want.Ports)
		w.Want(stake.Stake{Type: "container", Name: name, Want: wire.JSON(c.want), From: c.from, For: c.sites, Needs: unique(c.needs)})
	}
}
