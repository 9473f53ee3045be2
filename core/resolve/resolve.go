// Package resolve works out the stakes of a host from a declaration and the
// host's traits. People declare sites; a site implies a package, a service,
// directories, content, a virtual host, ports and probes.
package resolve

import (
	"fmt"
	"maps"
	"slices"
	"sort"
	"strconv"
	"strings"

	"northstake/core/declare"
	"northstake/core/render"
	"northstake/core/stake"
)

// Probe is one HTTP check of a site on one host.
type Probe struct {
	Site     string `json:"site"`
	Host     string `json:"host"`
	Name     string `json:"name"` // sent as the Host header
	Port     int    `json:"port"`
	Path     string `json:"path"`
	Status   int    `json:"status"`
	Contains string `json:"contains,omitempty"`
}

// Host is what a declaration means for one host. Stakes stand in an order in
// which they can be brought about.
type Host struct {
	Stakes []stake.Stake `json:"stakes"`
	Probes []Probe       `json:"probes"`
}

// OneHost works out the stakes and probes of a host. The error names what the
// host's platform cannot do.
func OneHost(d *declare.Declaration, name string, traits stake.Traits) (Host, error) {
	h := d.Hosts[name]
	if h == nil {
		return Host{}, fmt.Errorf("ground %s has no host %q", d.Ground.Name, name)
	}
	r := &resolver{d: d, host: name, traits: traits, seen: map[string]bool{}, services: map[string]*wantedService{}, ports: map[string]*wantedPort{}, sites: map[string][]string{}}
	for _, kit := range h.Kits {
		if err := r.settings(d.Kits[kit].Settings, "kit", kit); err != nil {
			return Host{}, err
		}
	}
	if err := r.settings(h.Settings, "host", name); err != nil {
		return Host{}, err
	}
	if err := r.things(); err != nil {
		return Host{}, err
	}
	for _, site := range d.SitesOn(name) {
		if err := r.site(site); err != nil {
			return Host{}, err
		}
	}
	if r.filters() {
		r.add(stake.Stake{Type: "package", Name: "nftables", Want: stake.JSON(stake.PackageWant{Name: "nftables"}), From: r.inboundAt})
	}
	r.finish()
	r.out.Probes = ProbesOf(d, name)
	return r.out, nil
}

type wantedService struct {
	want  stake.ServiceWant
	from  declare.Position
	needs []string
	sites []string // that alone call for it
}

// wantedPort is where a port is declared, and the sites that alone call for it.
type wantedPort struct {
	from     declare.Position
	sites    []string
	networks []string // that alone are let in
}

type resolver struct {
	d        *declare.Declaration
	host     string
	traits   stake.Traits
	out      Host
	seen     map[string]bool
	packages []string
	services map[string]*wantedService
	order    []string
	ports    map[string]*wantedPort
	sites    map[string][]string // the sites that alone call for a package, by its name on the host
	sources  []stake.Stake
	later    []stake.Stake

	inbound   string
	inboundAt declare.Position
	restart   bool // the host may be restarted
	restartAt declare.Position
}

func (r *resolver) add(s stake.Stake) {
	if r.seen[s.Local()] {
		return
	}
	r.seen[s.Local()] = true
	s.Host = r.host
	if s.Type != "package" {
		r.later = append(r.later, s)
		return
	}
	r.packages = append(r.packages, s.Local())
	r.out.Stakes = append(r.out.Stakes, s)
}

// pkg adds a package. What is nearer to the host goes over what its kits say, but a
// mention alone leaves the version that was declared before.
func (r *resolver) pkg(w stake.PackageWant, from declare.Position) {
	s := stake.Stake{Type: "package", Name: w.Name, Want: stake.JSON(w), From: from}
	i := slices.IndexFunc(r.out.Stakes, func(before stake.Stake) bool { return before.Local() == s.Local() })
	if i < 0 {
		r.add(s)
		return
	}
	before := &r.out.Stakes[i]
	if !stake.PackageGone(before.Want) && w == (stake.PackageWant{Name: w.Name}) {
		s.Want = before.Want
	}
	before.Want, before.From = s.Want, from
}

// service wants a service to be as is said; what is nearer to the host comes later.
func (r *resolver) service(name string, running, atBoot *bool, from declare.Position) *wantedService {
	s := r.services[name]
	if s == nil {
		s = &wantedService{want: stake.ServiceWant{Name: name}, from: from}
		r.services[name] = s
		r.order = append(r.order, name)
	}
	if running != nil || atBoot != nil {
		s.from = from
	}
	if running != nil {
		s.want.Running = running
	}
	if atBoot != nil {
		s.want.AtBoot = atBoot
	}
	return s
}

func (r *resolver) settings(s declare.Settings, at ...string) error {
	sub := func(k ...string) declare.Position { return r.d.At(append(append([]string{}, at...), k...)...) }
	if s.Restart != nil {
		r.restart, r.restartAt = *s.Restart, sub("may_restart")
	}
	if s.Inbound != "" {
		r.inbound, r.inboundAt = s.Inbound, sub("inbound")
	}
	for _, n := range slices.Sorted(maps.Keys(s.Sources)) {
		if err := r.source(n, s.Sources[n], sub("source", n)); err != nil {
			return err
		}
	}
	for i, p := range s.Packages {
		r.pkg(stake.PackageWant{Name: p}, sub("packages", strconv.Itoa(i)))
	}
	for _, n := range slices.Sorted(maps.Keys(s.Package)) {
		if name := r.named(n, s.Package[n].Names); name != "" {
			r.pkg(stake.PackageWant{Name: name, Gone: s.Package[n].Is == "gone", Newest: s.Package[n].Is == "newest", Version: s.Package[n].Version, AtLeast: s.Package[n].AtLeast}, sub("package", n))
		}
	}
	for _, n := range slices.Sorted(maps.Keys(s.Services)) {
		if name := r.named(n, s.Services[n].Names); name != "" {
			r.service(name, s.Services[n].Running, s.Services[n].AtBoot, sub("services", n))
		}
	}
	for i, p := range s.Ports {
		r.ports[p] = &wantedPort{from: sub("ports", strconv.Itoa(i))}
	}
	for _, p := range slices.Sorted(maps.Keys(s.Port)) {
		r.ports[p] = &wantedPort{from: sub("port", p), networks: s.Port[p].From}
	}
	return nil
}

// source adds an extra source of packages, unless it is for another family.
func (r *resolver) source(name string, s *declare.PackageSource, from declare.Position) error {
	if s.Family != "" && s.Family != r.traits.Family {
		return nil
	}
	key, err := r.d.TextBeside(s.Key)
	if err != nil {
		return fmt.Errorf("%s:%d: source %s: %w", from.File, from.Line, name, err)
	}
	r.sources = slices.DeleteFunc(r.sources, func(before stake.Stake) bool { return before.Name == name })
	r.sources = append(r.sources, stake.Stake{Host: r.host, Type: "source", Name: name, From: from,
		Want: stake.JSON(stake.SourceWant{Name: name, URL: s.URL, Suites: s.Suites, Parts: s.Parts, Key: []byte(key), SignedLists: s.SignedLists})})
	return nil
}

// named is what something is called on the host's family, "" where it is left out.
func (r *resolver) named(name string, names map[string]string) string {
	if n, ok := names[r.traits.Family]; ok {
		return n
	}
	return name
}

func (r *resolver) site(name string) error {
	s := r.d.Sites[name]
	layout, ok := r.traits.Servers[s.Server]
	at := r.d.At("site", name, "server")
	if !ok {
		return fmt.Errorf("%s:%d: host %s (%s) has no known layout for server %q", at.File, at.Line, r.host, r.traits.System, s.Server)
	}
	pkg := stake.Local("package", layout.Package)
	if !r.seen[pkg] || len(r.sites[pkg]) > 0 {
		r.sites[pkg] = append(r.sites[pkg], name)
	}
	r.add(stake.Stake{Type: "package", Name: layout.Package, Want: stake.JSON(stake.PackageWant{Name: layout.Package}), From: at})
	root := s.Root
	if root == "" {
		root = layout.RootBase + "/" + name
	}
	needs := []string{pkg, r.directory(name, name, pkg, root, s.Content, r.d.At("site", name, "root"))}
	var urls []string
	for u := range s.Paths {
		urls = append(urls, u)
	}
	sort.Strings(urls)
	for _, u := range urls {
		needs = append(needs, r.directory(name, name+strings.ReplaceAll(u, "/", "-"), pkg, s.Paths[u].Root, s.Paths[u].Content, r.d.At("site", name, "path", u, "root")))
	}
	text, err := render.VirtualHost(r.d, render.Site{Name: name, Root: root, IPv6: r.traits.IPv6, Listens: layout.Listens})
	if err != nil {
		return fmt.Errorf("%s:%d: site %s on host %s: %w", at.File, at.Line, name, r.host, err)
	}
	want := stake.SiteWant{Server: s.Server, Layout: layout, Text: text.Text, Lines: text.Lines, Listen: s.ListenOn(),
		File: layout.SitesDir + "/northstake-" + name + ".conf"}
	want.Roots = []string{root}
	for _, u := range urls {
		if !slices.Contains(want.Roots, s.Paths[u].Root) {
			want.Roots = append(want.Roots, s.Paths[u].Root)
		}
	}
	for _, d := range r.d.DirectoriesFor(r.host) {
		want.Dirs = append(want.Dirs, d.Name)
	}
	if layout.LinkDir != "" {
		want.Link = layout.LinkDir + "/northstake-" + name + ".conf"
	}
	r.add(stake.Stake{Type: "site", Name: name, Site: name, Want: stake.JSON(want), From: r.d.At("site", name), Needs: needs})
	yes := true
	declared := r.services[layout.Service] != nil && len(r.services[layout.Service].sites) == 0
	svc := r.service(layout.Service, &yes, &yes, at)
	if !declared {
		svc.sites = append(svc.sites, name)
	}
	svc.needs = append(svc.needs, pkg, stake.Local("site", name))
	for i, port := range s.ListenOn() {
		key := fmt.Sprintf("%d/tcp", port)
		switch p := r.ports[key]; {
		case p == nil:
			r.ports[key] = &wantedPort{from: r.d.At("site", name, "listen", strconv.Itoa(i)), sites: []string{name}}
		case len(p.sites) > 0:
			p.sites = append(p.sites, name)
		}
	}
	return nil
}

// directory adds the stake of a document root and returns its name: content
// where something is published, a plain directory elsewhere.
func (r *resolver) directory(site, name, pkg, root string, c *declare.Content, from declare.Position) string {
	if c == nil {
		r.add(stake.Stake{Type: "directory", Name: root, Site: site, From: from,
			Want: stake.JSON(stake.DirectoryWant{Path: root, Owner: "root", Group: "root", Mode: "0755"})})
		return stake.Local("directory", root)
	}
	want := r.content(root, c)
	s := stake.Stake{Type: "content", Name: name, Site: site, Want: stake.JSON(want), From: from}
	if want.Owner != "root" || want.Group != "root" {
		s.Needs = []string{pkg} // it may bring the account
	}
	r.add(s)
	return stake.Local("content", name)
}

func (r *resolver) content(root string, c *declare.Content) stake.ContentWant {
	want := stake.ContentWant{Root: root, Files: r.d.FilesOf(c.Place()), Keep: c.Keep, Rest: c.Rest,
		Modes: declare.Modes{Files: mode(c.Modes.Files, "0644"), Directories: mode(c.Modes.Directories, "0755")}}
	want.Owner, want.Group = owners(c.Owner, c.Group)
	return want
}

func mode(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	if len(s) == 3 {
		return "0" + s
	}
	return s
}

// ProbesOf lists the checks of the sites that a host serves: those that are
// declared, and one of / for a site that has content and declares none.
func ProbesOf(d *declare.Declaration, host string) []Probe {
	var out []Probe
	for _, name := range d.SitesOn(host) {
		s := d.Sites[name]
		base := Probe{Site: name, Host: host, Name: strings.Replace(s.Names[0], "*", "www", 1), Port: s.ListenOn()[0], Path: "/", Status: 200}
		for _, p := range s.Probes {
			one := base
			one.Path, one.Contains = p.Path, p.Contains
			if p.Status != 0 {
				one.Status = p.Status
			}
			out = append(out, one)
		}
		if len(s.Probes) == 0 && s.Content != nil {
			out = append(out, base)
		}
	}
	return out
}

// filters says whether North Stake's own table lets in only what is declared. A
// firewall program that is active does that itself: beside it, a second filter
// would close what it opens.
func (r *resolver) filters() bool {
	return r.inbound == "declared" && !stake.FiltersItself(r.traits.Firewall)
}

// finish puts sources before packages, and appends what has to come after, in order: directories and
// content, virtual hosts, services, the firewall, ports.
func (r *resolver) finish() {
	firewall := r.filters()
	var sources []string
	for _, s := range r.sources {
		sources = append(sources, s.Local())
	}
	for i := range r.out.Stakes {
		r.out.Stakes[i].For, r.out.Stakes[i].After = r.sites[r.out.Stakes[i].Local()], sources
	}
	r.out.Stakes = append(r.sources, r.out.Stakes...)
	for i := range r.later {
		if r.later[i].Type == "account" {
			r.later[i].After = r.packages // they bring groups
		}
	}
	if r.restart {
		r.out.Stakes = append(r.out.Stakes, stake.Stake{Host: r.host, Type: "restart", Name: "host", Want: stake.JSON(stake.RestartWant{}), From: r.restartAt})
	}
	r.out.Stakes = append(r.out.Stakes, r.later...)
	for _, n := range r.order {
		s := r.services[n]
		r.out.Stakes = append(r.out.Stakes, stake.Stake{Host: r.host, Type: "service", Name: n, Want: stake.JSON(s.want), From: s.from, For: s.sites, Needs: unique(s.needs), After: r.packages})
	}
	var names, open []string
	for p, w := range r.ports {
		names = append(names, p)
		for _, network := range w.networks {
			open = append(open, p+" from "+network)
		}
		if len(w.networks) == 0 {
			open = append(open, p)
		}
	}
	names, open = stake.SortPorts(names), stake.SortPorts(open)
	var needs, after []string
	if firewall {
		ssh := r.traits.SSHPort
		if ssh == 0 {
			ssh = r.d.ReachOf(r.host).Port
		}
		from := r.inboundAt
		for _, p := range names {
			if at := r.ports[p].from; at.File == declare.OneOff {
				from = at // a port that is brought about once is let in by the same rules
			}
		}
		r.out.Stakes = append(r.out.Stakes, stake.Stake{Host: r.host, Type: "firewall", Name: "inbound",
			Want: stake.JSON(stake.FirewallWant{SSH: ssh, Ports: open}), From: from, Needs: []string{"package/nftables"}})
		needs = []string{"firewall/inbound"}
	}
	for _, p := range stake.FirewallPrograms {
		if local := stake.Local("package", p); r.seen[local] {
			after = append(after, local)
		}
		if r.services[p] != nil {
			after = append(after, stake.Local("service", p))
		}
	}
	for _, p := range names {
		want, _ := stake.ParsePorts(p) // lint has read it
		want.From, want.Firewall = r.ports[p].networks, firewall
		r.out.Stakes = append(r.out.Stakes, stake.Stake{Host: r.host, Type: "port", Name: want.Span() + "-" + want.Protocol,
			Want: stake.JSON(want), From: r.ports[p].from, For: r.ports[p].sites, Needs: needs, After: after})
	}
}

func unique(list []string) []string {
	seen := map[string]bool{}
	out := list[:0]
	for _, s := range list {
		if !seen[s] {
			seen[s] = true
			out = append(out, s)
		}
	}
	return out
}
