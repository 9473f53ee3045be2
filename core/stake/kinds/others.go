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

// wantOthers wants what answers to names that no site has: a virtual host for each server, on the ports on
// which no site is first. Over plain HTTP it answers as the ground says; handshakes are refused.
func wantOthers(w *stake.Wanting) error {
	all := map[string]*others{}
	for _, name := range w.D.SitesOn(w.Place) {
		s := w.D.Sites[name]
		if !s.IsServed() {
			continue
		}
		o := all[serverOf(s)]
		if o == nil {
			o = &others{}
			all[serverOf(s)] = o
		}
		for _, l := range s.ListenOn() {
			o.add(w, name, s, l)
		}
	}
	for _, server := range stake.SortedKeys(all) {
		if o := all[server]; len(o.free(w))+len(o.refused()) > 0 {
			if err := wantOthersOf(w, server, o); err != nil {
				return err
			}
		}
	}
	return nil
}

// others are the ports of a server's sites, and those at which one of the sites answers to names that none has.
type others struct {
	plain, firsts []int
	secure        []declare.Listen
	taken         []string // of where HTTPS is spoken, by address and port
	shows         string   // a site that shows a certificate
}

func (o *others) add(w *stake.Wanting, name string, s *declare.Site, l declare.Listen) {
	switch {
	case s.Secure(l) && s.CatchAll:
		o.taken = append(o.taken, l.On())
	case s.Secure(l):
		if yes := true; !slices.ContainsFunc(o.secure, func(has declare.Listen) bool { return has.On() == l.On() }) {
			o.secure = append(o.secure, declare.Listen{Port: l.Port, Address: l.Address, HTTPS: &yes})
		}
		o.shows = cmp.Or(o.shows, name)
	case l.Address != "":
	case s.CatchAll:
		o.firsts = append(o.firsts, l.Port)
	case !slices.Contains(o.plain, l.Port):
		o.plain = append(o.plain, l.Port)
	}
}

// free are the ports of plain HTTP at which the ground says what answers.
func (o *others) free(w *stake.Wanting) []int {
	if w.D.Ground.UnknownNames == "" {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(o.plain), func(p int) bool { return slices.Contains(o.firsts, p) })
}

// refused is where handshakes are refused.
func (o *others) refused() []declare.Listen {
	return slices.DeleteFunc(slices.Clone(o.secure), func(l declare.Listen) bool { return slices.Contains(o.taken, l.On()) })
}

func wantOthersOf(w *stake.Wanting, server string, o *others) error {
	base, within := strings.CutSuffix(server, inside)
	refuses := o.refused()
	if base == "caddy" {
		refuses = nil // which refuses them by itself
	}
	ports := o.free(w)
	if len(ports)+len(refuses) == 0 {
		return nil
	}
	name, at := "other-names-"+base, w.D.At("ground", "unknown_names")
	if w.D.Ground.UnknownNames == "" {
		at = w.D.At("site", o.shows, "certificate")
	}
	if within {
		name += "-within"
	}
	layout, _ := layoutOf(w, server) // which its sites have needed before
	site := &declare.Site{}
	site.Server, site.Names, site.CatchAll, site.Refuses = base, []string{"any.northstake.invalid"}, true, refuses
	site.Paths = map[string]*declare.Path{"/": othersPath(w.D.Ground.UnknownNames)}
	for _, p := range ports {
		site.Listen = append(site.Listen, declare.Listen{Port: p})
	}
	d := &declare.Declaration{Ground: w.D.Ground, Sites: map[string]*declare.Site{name: site}}
	own := ownOf(w, server, layout)
	is := render.Site{Name: name, Root: "/nonexistent", IPv6: w.Traits.IPv6, Listens: listens(w, server, layout, own), Dir: string(layout.Dir), Modules: layout.Modules}
	if len(refuses) > 0 {
		site.HTTPS = w.D.Sites[o.shows].HTTPS
		shown, err := (&siteWanting{Wanting: w, name: o.shows, s: w.D.Sites[o.shows], layout: layout}).certificate()
		if err != nil {
			return err
		}
		is.Certificate = shown.at // by which the server is asked for its mark
	}
	text, err := render.VirtualHost(d, is)
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
	if is.Certificate != nil { // whose files the site brings
		needs = append(needs, wire.Local("site", o.shows))
	}
	if within {
		c := (*stake.Gathering[containedServers](w, "contained servers"))["sites-"+base]
		needs = append(needs, wantWithin(w, name, &want, layout, c.image, c.secret, at, nil)...)
		w.Want(stake.Stake{Type: "site", Name: name, Site: name, Want: wire.JSON(want), From: at, Needs: needs})
		return nil
	}
	w.Want(stake.Stake{Type: "site", Name: name, Site: name, Want: wire.JSON(want), From: at, Needs: needs})
	wantServiceFor(w, name, layout.Service, layout.Program, site.Ports(), []string{wire.Local("site", name)}, at)
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
