package kinds

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"northstake/core/declare"
	"northstake/core/render"
	"northstake/core/stake"
	"northstake/core/wire"
)

// OthersNothing is the other_names of a ground that has connections closed.
const OthersNothing = "nothing"

// wantOthers wants what the ground says that answers to names that no site has: a virtual
// host for each server, on the ports on which no site is first.
func wantOthers(w *stake.Wanting) error {
	if w.D.Ground.UnknownNames == "" {
		return nil
	}
	ports := map[string][]int{}
	firsts := map[string][]int{}
	for _, name := range w.D.SitesOn(w.Place) {
		s := w.D.Sites[name]
		for _, l := range s.ListenOn() {
			switch {
			case !s.IsServed() || l.Address != "":
			case s.CatchAll:
				firsts[serverOf(s)] = append(firsts[serverOf(s)], l.Port)
			case !slices.Contains(ports[serverOf(s)], l.Port):
				ports[serverOf(s)] = append(ports[serverOf(s)], l.Port)
			}
		}
	}
	for _, server := range stake.SortedKeys(ports) {
		free := slices.DeleteFunc(ports[server], func(p int) bool { return slices.Contains(firsts[server], p) })
		if len(free) == 0 {
			continue
		}
		if err := wantOthersOf(w, server, free); err != nil {
			return err
		}
	}
	return nil
}

func wantOthersOf(w *stake.Wanting, server string, ports []int) error {
	base, within := strings.CutSuffix(server, inside)
	name, at := "other-names-"+base, w.D.At("ground", "unknown_names")
	if within {
		name += "-within"
	}
	layout, _ := layoutOf(w, server) // which its sites have needed before
	site := &declare.Site{}
	site.Server, site.Names, site.CatchAll, site.Paths = base, []string{"any.northstake.invalid"}, true, map[string]*declare.Path{"/": othersPath(w.D.Ground.UnknownNames)}
	for _, p := range ports {
		site.Listen = append(site.Listen, declare.Listen{Port: p})
	}
	d := &declare.Declaration{Ground: w.D.Ground, Sites: map[string]*declare.Site{name: site}}
	own := ownOf(w, server, layout)
	text, err := render.VirtualHost(d, render.Site{Name: name, Root: "/nonexistent", IPv6: w.Traits.IPv6, Listens: listens(w, server, layout, own), Dir: string(layout.Dir), Modules: layout.Modules})
	if err != nil {
		return err
	}
	for i := range text.Lines {
		text.Lines[i] = at
	}
	want := wire.SiteWant{Server: base, Service: layout.Service, Package: layout.Package, Program: layout.Program, User: layout.User, Text: text.Text, Lines: wire.PlacesOf(text.Lines), Mark: text.Mark, Asked: render.MarkName(name),
		Listen: site.Listening(), Names: site.Names, First: true, Yields: silenced(w, server), File: layout.SitesDir.Join("000-0-northstake-" + name + cmp.Or(layout.Ending, ".conf"))}
	if layout.LinkDir != "" {
		want.Link = layout.LinkDir.Join(want.File.Base())
	}
	var needs []string
	if !within {
		needs = []string{wantPackageFor(w, name, layout.Package, at)}
	}
	if local := wire.Local("server", server); w.Wants(local) {
		want.Own, needs = &own, append(needs, local)
	}
	if within {
		c := (*stake.Gathering[containedServers](w, "contained servers"))["sites-"+base]
		needs = append(needs, wantWithin(w, name, &want, layout, c.image, c.secret, at, nil)...)
		w.Want(stake.Stake{Type: "site", Name: name, Site: name, Want: wire.JSON(want), From: at, Needs: needs})
		return nil
	}
	w.Want(stake.Stake{Type: "site", Name: name, Site: name, Want: wire.JSON(want), From: at, Needs: needs})
	wantServiceFor(w, name, layout.Service, layout.Program, ports, []string{wire.Local("site", name)}, at)
	return nil
}

// othersPath is all of a site that answers as other_names says.
func othersPath(says string) *declare.Path {
	if status, err := strconv.Atoi(says); err == nil {
		text := "There is no site of this name here.\n"
		return &declare.Path{Says: &text, Status: status}
	}
	if strings.Contains(says, "://") {
		return &declare.Path{MovedTo: says, Status: 302, Rest: declare.RestDropped, Query: declare.RestDropped}
	}
	return &declare.Path{Closes: true}
}
