package kinds

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"northstake/core/declare"
	"northstake/core/render"
	"northstake/core/stake"
	"northstake/core/stake/claim"
	"northstake/core/wire"
)

// Visits are those of the sites among some stakes that say their marks to visitors.
func Visits(stakes []stake.Stake) (out []wire.SiteVisit) {
	for _, s := range stakes {
		if s.Type != "site" {
			continue
		}
		if w, known := stake.Decoded[wire.SiteWant](s.Want); known && w.Visit != nil && !w.Off {
			v := w.SiteVisit()
			v.Site = s.Name
			out = append(out, v)
		}
	}
	return out
}

var _ = stake.Register(stake.Kind{
	Type:  "site",
	After: []string{"link", "server"}, Gathers: true,
	Implied: func(w *stake.Wanting) error {
		for _, name := range w.D.SitesOn(w.Place) {
			if err := wantSite(w, name); err != nil {
				return err
			}
		}
		return wantOthers(w)
	},
	Claims: stake.Claiming(func(w wire.SiteWant) []claim.Claim {
		out := []claim.Claim{{Need: claim.Owns, Sort: claim.Path, What: string(w.File)}}
		if w.Within == "" {
			out = append(out, claim.Claim{Need: claim.Requires, Sort: claim.Service, What: w.Service}, claim.Claim{Need: claim.Requires, Sort: claim.Package, What: w.Package})
		}
		if w.Link != "" {
			out = append(out, claim.Claim{Need: claim.Owns, Sort: claim.Path, What: string(w.Link)})
		}
		for _, root := range w.Roots {
			out = append(out, claim.Claim{Need: claim.Requires, Sort: claim.Path, What: string(root)})
		}
		for _, b := range w.Beside {
			out = append(out, claim.Claim{Need: claim.Owns, Sort: claim.Path, What: string(b.Path)})
		}
		if w.Off {
			return out
		}
		for _, p := range w.Listen.Ports() {
			out = append(out, claim.Claim{Need: claim.Owns, Sort: claim.Listen, What: fmt.Sprintf("%d/tcp", p), With: w.ServedBy()})
		}
		for _, n := range w.Names {
			for _, p := range w.Listen.Ports() {
				out = append(out, claim.Claim{Need: claim.Owns, Sort: claim.Name, What: fmt.Sprintf("%s:%d", n, p)})
			}
		}
		return out
	}),
	Former:   siteOfBefore,
	Unsealed: unsealedSites,
})

// unsealedSites puts the accounts that secrets hold into sites, and into the steps of one or
// several.
func unsealedSites(raw json.RawMessage, secrets *stake.Secrets) (json.RawMessage, error) {
	if !bytes.Contains(raw, []byte(`"sealed"`)) {
		return raw, nil
	}
	var works wire.Works[wire.SiteWork]
	if err := json.Unmarshal(raw, &works); err != nil {
		return nil, err
	}
	for _, w := range works {
		for _, b := range w.Beside {
			switch {
			case b.Sealed == nil:
			case b.Is == wire.BesideKey:
				secrets.Put(b.Sealed, keyOf)
			default:
				secrets.Put(b.Sealed, func(secret []byte) (string, error) { return render.SecretAccounts(secret, b.Between) })
			}
		}
	}
	return json.Marshal(works)
}

// wantSite wants all that a site implies: its server's package and service, or the container
// that it runs in, its roots with what is published there, its virtual host, and its ports.
func wantSite(w *stake.Wanting, name string) error {
	g := &siteWanting{Wanting: w, name: name, s: w.D.Sites[name], at: w.D.At("site", name, "server")}
	var ok bool
	if g.layout, ok = layoutOf(w, serverOf(g.s)); !ok {
		return fmt.Errorf("%s:%d: host %s (%s) has no known layout for server %q", g.at.File, g.at.Line, w.Place, w.Traits.System, g.s.Server)
	}
	if g.layout.Package != "" {
		g.pkg = wantPackageFor(w, name, g.layout.Package, g.at)
		g.needs = append(g.needs, g.pkg)
	}
	g.wantRoots()
	want, err := g.virtualHost()
	if err != nil {
		return err
	}
	if local := wire.Local("server", serverOf(g.s)); w.Wants(local) {
		own := ownOf(w, serverOf(g.s), g.layout)
		want.Own, g.needs = &own, append(g.needs, local)
	}
	if g.s.Image != "" {
		g.needs = append(g.needs, wantWithin(w, name, &want, g.layout, g.s.Image, g.s.ImageSecret, w.D.At("site", name, "image"), append(slices.Clone(g.needs), firstsOf(w, g.layout, want)...))...)
	}
	w.Want(stake.Stake{Type: "site", Name: name, Site: name, Want: wire.JSON(want), From: w.D.At("site", name), Needs: g.needs})
	g.wantServed(want)
	return nil
}

// siteWanting is what is gathered of one site while it is wanted: its package's stake, what its own needs, and
// the directories that it shows.
type siteWanting struct {
	*stake.Wanting
	name   string
	s      *declare.Site
	at     declare.Position // of its server
	layout wire.Layout

	pkg   string
	needs []string
	root  string // its own, whether it shows files or not
	roots []wire.Path
}

// wantRoots wants the directories that the site shows, with what is published there.
func (g *siteWanting) wantRoots() {
	g.root, g.roots = cmp.Or(g.s.Root, string(g.layout.RootBase.Join(g.name))), []wire.Path{}
	if render.ShowsFiles(g.s) {
		g.wantRoot(g.root, g.s.Content, g.D.At("site", g.name, "root"))
	}
	for _, u := range stake.SortedKeys(g.s.Paths) {
		if p := g.s.Paths[u]; p.Root != "" {
			g.wantRoot(p.Root, p.Content, g.D.At("site", g.name, "path", u, "root"))
		}
	}
}

func (g *siteWanting) wantRoot(root string, content *declare.Content, at declare.Position) {
	g.needs = append(g.needs, wantRoot(g.Wanting, g.name, g.pkg, root, content, at))
	if p := wire.Path(root); !slices.Contains(g.roots, p) {
		g.roots = append(g.roots, p)
	}
}

// virtualHost is what is wanted of the site's own configuration.
func (g *siteWanting) virtualHost() (want wire.SiteWant, err error) {
	s, w, layout := g.s, g.Wanting, g.layout
	socket, err := wantPHP(w, g.name, g.root, layout)
	if err != nil {
		return want, err
	}
	shown, err := g.certificate()
	if err != nil {
		return want, err
	}
	text, err := render.VirtualHost(w.D, render.Site{Certificate: shown.at, Name: g.name, Root: g.root, IPv6: w.Traits.IPv6, Listens: listens(w, serverOf(s), layout, ownOf(w, serverOf(s), layout)), Dir: string(layout.Dir), Modules: layout.Modules, PHP: socket,
		Mark: func(secret, between string) string { return accounts(w, secret, between).Mark }})
	if err != nil {
		return want, fmt.Errorf("%s:%d: site %s on host %s: %w", g.at.File, g.at.Line, g.name, w.Place, err)
	}
	want = wire.SiteWant{Server: s.Server, Service: layout.Service, Package: layout.Package, Program: layout.Program, User: layout.User, Text: text.Text, Lines: wire.PlacesOf(text.Lines), Mark: text.Mark, Asked: render.MarkName(g.name),
		Listen: s.Listening(), Names: append(slices.Clone(s.Names), s.RedirectedNames...), Roots: g.roots, Off: !s.IsServed(), First: s.CatchAll, Vouched: rawLines(w.D, g.name), Yields: silenced(w, serverOf(s)), To: servicesOf(s)}
	want.Visit = visitOf(s, want, w.Traits.IPv6)
	want.File, want.Link = siteFiles(layout, g.name, s)
	want.Certificate, want.Beside = shown.is, shown.files
	for _, a := range text.Accounts {
		want.Beside = append(want.Beside, g.accountsFile(a))
	}
	for _, d := range declare.Nearest[Directory](w.D, w.Place, "directory") {
		want.Dirs = append(want.Dirs, wire.Path(d.Name))
	}
	return want, nil
}

// siteFiles are the file of a site's virtual host, and the link by which its server takes that in, "" where
// the place of the file alone has it do so.
func siteFiles(layout wire.Layout, name string, s *declare.Site) (file, link wire.Path) {
	base := render.File(name, s) + cmp.Or(layout.Ending, ".conf")
	if s.CatchAll {
		base = "000-0-" + base // before all others, and so the first
	}
	file = layout.SitesDir.Join(base)
	switch {
	case layout.LinkDir != "":
		link = layout.LinkDir.Join(base)
	case !s.IsServed():
		file += ".off" // which no server takes in
	}
	return file, link
}

// servicesOf are the other services to which a site passes requests, each once.
func servicesOf(s *declare.Site) (to []string) {
	for _, u := range stake.SortedKeys(s.Paths) {
		for _, service := range s.Paths[u].PassedTo {
			if u, ok := declare.UpstreamOf(service); ok && !slices.Contains(to, u.At()) {
				to = append(to, u.At())
			}
		}
	}
	return to
}

// accountsFile is the file with the accounts that a part of the site lets in.
func (g *siteWanting) accountsFile(a render.Accounts) wire.SiteFile {
	f := wire.SiteFile{Path: wire.Path(a.File), Text: a.Text, Group: g.layout.User}
	if g.s.Image != "" {
		f.Group = "root"
	}
	if a.Secret != "" {
		f.Sealed, f.Between = accounts(g.Wanting, a.Secret, a.Between), a.Between
	}
	return f
}

// wantServed wants the service of the site's server, and its ports, where it is served.
func (g *siteWanting) wantServed(want wire.SiteWant) {
	ports := want.Listen.Ports()
	if want.Off {
		ports = nil
	}
	if want.Within == "" {
		wantServiceFor(g.Wanting, g.name, g.layout.Service, g.layout.Program, ports, append(firstsOf(g.Wanting, g.layout, want), g.pkg, wire.Local("site", g.name)), g.at)
	}
	if want.Off {
		return
	}
	for i, l := range g.s.ListenOn() {
		wantPortFor(g.Wanting, g.name, l.Port, g.D.At("site", g.name, "listen", strconv.Itoa(i)))
	}
}

// nobodysName is a name that no site has (RFC 6761, section 6.4).
const nobodysName = "nobodys.name.northstake.invalid"

func visitOf(s *declare.Site, w wire.SiteWant, v6 bool) *wire.Visit {
	v := wire.Visit{Path: render.MarkPath(w.Mark), V6: v6}
	for _, n := range w.Names {
		if rest, wild := strings.CutPrefix(n, "*."); wild {
			n = "any-" + path.Base(v.Path)[:8] + "." + rest
		}
		v.Names = append(v.Names, n)
	}
	if s.CatchAll {
		v.Names = append(v.Names, nobodysName)
	}
	return &v
}

// siteOfBefore has where a site listens with its addresses, which were apart from its ports.
func siteOfBefore(want map[string]json.RawMessage) {
	var visit struct {
		At *wire.Listening `json:"at"`
	}
	var address string
	var listen wire.Listening
	if json.Unmarshal(want["listen"], &listen) != nil || len(listen) == 0 {
		return
	}
	_ = json.Unmarshal(want["ask_at"], &address)
	if json.Unmarshal(want["visit"], &visit) == nil && visit.At != nil {
		listen = *visit.At
		keys := map[string]json.RawMessage{}
		_ = json.Unmarshal(want["visit"], &keys) // it has been read
		delete(keys, "at")
		want["visit"] = wire.JSON(keys)
	} else if address != "" {
		listen[0].Address = address
	}
	delete(want, "ask_at")
	want["listen"] = wire.JSON(listen)
}

// accounts are those that a secret holds.
func accounts(w *stake.Wanting, secret, between string) *wire.Sealed {
	return w.Secrets.Seal(secret, func(value []byte) (string, error) { return render.SecretAccounts(value, between) })
}

// wantPHP wants what runs the PHP files of a site, and returns its socket, "" where none are
// run.
func wantPHP(w *stake.Wanting, name, root string, layout wire.Layout) (string, error) {
	if !w.D.Sites[name].PHP {
		return "", nil
	}
	at := w.D.At("site", name, "php")
	if layout.PHP == nil {
		return "", fmt.Errorf("%s:%d: host %s (%s) is of a family of which it is not known how it runs PHP", at.File, at.Line, w.Place, w.Traits.System)
	}
	php, known := layout.PHP.On(w.Traits.System)
	if !known {
		return "", fmt.Errorf("%s:%d: host %s (%s) is a system of which it is not known which version of PHP it has", at.File, at.Line, w.Place, w.Traits.System)
	}
	pkg := wantPackageFor(w, name, php.Package, at)
	wantServiceFor(w, name, php.Service, "", nil, []string{pkg}, at)
	if text := phpLimits(name, render.Bodies(w.D, render.Site{Name: name, Root: root})); text != "" {
		path := php.Settings + "/99-northstake-" + name + ".ini"
		w.Want(stake.Stake{Type: "file", Name: path, Site: name, From: at, Needs: []string{pkg}, Want: wire.JSON(wire.FileWant{Path: wire.Path(path), Owners: wire.Administrators, Mode: "0644", Reload: []string{php.Service}, Text: text})})
	}
	if layout.User != layout.PHP.Group {
		path := "/etc/systemd/system/" + layout.Service + ".service.d/northstake-php.conf"
		w.Want(stake.Stake{Type: "file", Name: path, Site: name, From: at, Want: wire.JSON(wire.FileWant{Path: wire.Path(path), Owners: wire.Administrators, Mode: "0644", Restart: []string{layout.Service},
			Text: "# By this " + layout.Service + " can use the socket of " + php.Service + ".\n[Service]\nSupplementaryGroups=" + layout.PHP.Group + "\n"})})
	}
	return php.Socket, nil
}

// phpLimits has PHP take as large a body as the site does, for the files of each of its roots: the limits
// that it has by itself are its pool's, and others' as well (php.ini's sections of a PATH count for the
// scripts below that).
func phpLimits(site string, bodies map[string]int64) string {
	text := ""
	for _, root := range stake.SortedKeys(bodies) {
		text += fmt.Sprintf("[PATH=%s]\npost_max_size = %d\nupload_max_filesize = %d\n", root, bodies[root], bodies[root])
	}
	if text == "" {
		return ""
	}
	return "; What site " + site + " takes of a request PHP takes as well. North Stake writes this file.\n" + text
}

// firstsOf are the services that have to let go of their ports before a site's server
// starts.
func firstsOf(w *stake.Wanting, mine wire.Layout, want wire.SiteWant) []string {
	var out []string
	for name, layout := range w.Layouts {
		if slices.Contains(want.Yields, layout.Program) && layout.Service != mine.Service && len(ownOf(w, name, layout).Silent) > 0 {
			out = append(out, wire.Local("service", layout.Service))
		}
	}
	slices.Sort(out)
	return out
}

// rawLines are the places of the lines of a site that nobody vouches for.
func rawLines(d *declare.Declaration, name string) []string {
	var out []string
	s := d.Sites[name]
	say := func(raw map[string]string, keys ...string) {
		if raw[s.Server] != "" {
			at := d.At(append(append([]string{"site", name}, keys...), "raw", s.Server)...)
			out = append(out, fmt.Sprintf("%s:%d", at.File, at.Line))
		}
	}
	say(s.Raw)
	for _, u := range stake.SortedKeys(s.Paths) {
		say(s.Paths[u].Raw, "path", u)
	}
	return out
}

// wantRoot wants a document root and returns the name of its stake: content where
// something is published, a plain directory elsewhere.
func wantRoot(w *stake.Wanting, site, pkg, root string, c *declare.Content, from declare.Position) string {
	if c == nil {
		w.Want(stake.Stake{Type: "directory", Name: root, Site: site, From: from,
			Want: wire.JSON(wire.DirectoryWant{Path: wire.Path(root), Owners: wire.Administrators, Mode: "0755"})})
		return wire.Local("directory", root)
	}
	want := wantedContent(w.D, root, c)
	s := stake.Stake{Type: "content", Name: root, Site: site, Want: wire.JSON(want), From: from}
	if pkg != "" && (want.Owners != wire.Administrators) {
		s.Needs = []string{pkg} // it may bring the account
	}
	w.Want(s)
	return wire.Local("content", root)
}
