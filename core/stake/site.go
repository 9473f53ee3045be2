package stake

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
)

// SiteWant is a virtual host's configuration: the text, where it lies, and for
// each of its lines the place in the declaration that it was rendered from.
type SiteWant struct {
	Server  string      `json:"server"`
	Service string      `json:"service"`
	Package string      `json:"package,omitempty"`
	Program string      `json:"program"` // name of the server's process
	User    string      `json:"user"`    // account that reads sites
	File    string      `json:"file"`
	Link    string      `json:"link,omitempty"`
	Text    string      `json:"text"`
	Lines   Places      `json:"lines"`
	Mark    string      `json:"mark,omitempty"` // what the server answers when it is asked by MarkName
	Asked   string      `json:"asked,omitempty"`
	Visit   *Visit      `json:"visit,omitempty"` // nil where a site does not say its mark to visitors
	Listen  []int       `json:"listen"`
	AskAt   string      `json:"ask_at,omitempty"`  // address at which the server is asked, 127.0.0.1 where it is ""
	Within  string      `json:"within,omitempty"`  // container that its server runs in, "" for the host itself
	Image   string      `json:"image,omitempty"`   // of that container
	Sees    []HeldAt    `json:"sees,omitempty"`    // what the container has to see of the host for the site
	Off     bool        `json:"off,omitempty"`     // it is kept, and not served
	First   bool        `json:"first,omitempty"`   // it answers to names that no site has
	Beside  []SiteFile  `json:"beside,omitempty"`  // what else its configuration reads
	Former  []string    `json:"former,omitempty"`  // files beside it that were, and are no more; when it is asked for
	Own     *ServerWant `json:"own,omitempty"`     // what its server's own configuration is when it is tested
	Yields  []string    `json:"yields,omitempty"`  // programs that let go of its ports with the same plan
	To      []string    `json:"to,omitempty"`      // services that it passes on to: addresses with ports, and paths of sockets
	Vouched []string    `json:"vouched,omitempty"` // places of lines that nobody vouches for
	Names   []string    `json:"names"`
	Roots   []string    `json:"roots,omitempty"`    // what the server reads
	Dirs    []string    `json:"declared,omitempty"` // directories whose owner and mode are declared
}

// Visit is how a site is asked as its visitors ask it: by each of its names, a name below those that are
// wildcards, for a path at which it says its mark; at the host's own addresses, those of version 6 of IP
// where it listens there.
type Visit struct {
	Path  string    `json:"path"`
	Names []string  `json:"names"`
	At    []VisitAt `json:"at"`
	V6    bool      `json:"v6,omitempty"`
}

// VisitAt is where a site listens: on a port of one address, or of all of the host's where it names none.
type VisitAt struct {
	Address string `json:"address,omitempty"`
	Port    int    `json:"port"`
}

// SiteVisit is how it is told whether a site or somebody else answers its visitors: by its mark, or by
// being sent on to one of its own names.
type SiteVisit struct {
	Site string
	Mark string
	Own  []string
	Visit
}

// SiteVisit is how the visitors of a site that has a Visit are told from those of others.
func (w SiteWant) SiteVisit() SiteVisit {
	return SiteVisit{Mark: w.Mark, Own: w.Names, Visit: *w.Visit}
}

// Visits are those of the sites among some stakes that say their marks to visitors.
func Visits(stakes []Stake) (out []SiteVisit) {
	for _, s := range stakes {
		if s.Type != "site" {
			continue
		}
		if w, known := last[SiteWant](s.Want); known && w.Visit != nil && !w.Off {
			v := w.SiteVisit()
			v.Site = s.Name
			out = append(out, v)
		}
	}
	return out
}

// Listens says whether the site listens on a port of an address.
func (v Visit) Listens(address string, port int) bool {
	return slices.Contains(v.At, VisitAt{Port: port}) || slices.Contains(v.At, VisitAt{address, port})
}

// SiteFile is a file that a site's configuration reads, of root and the group of the
// server, which alone may read it.
type SiteFile struct {
	Path    string  `json:"path"`
	Text    string  `json:"text"`
	Group   string  `json:"group"`
	Sealed  *Sealed `json:"sealed,omitempty"`  // the text, where it is made of a secret
	Between string  `json:"between,omitempty"` // stands in it between a name and its hash
}

// Holds is what the file is to hold, on the host.
func (f SiteFile) Holds() (string, error) {
	if f.Sealed == nil {
		return f.Text, nil
	}
	if f.Sealed.Text == "" {
		return "", fmt.Errorf("%s: %w", f.Path, ErrNoText)
	}
	return f.Sealed.Text, nil
}

// Is says whether the file holds what it is to hold.
func (f SiteFile) Is(found string) bool {
	if f.Sealed != nil {
		return f.Sealed.Is(found)
	}
	return found == f.Text
}

const siteFileMode = "0640"

// ServedBy is the stake of what serves the site, by its name on the host.
func (w SiteWant) ServedBy() string {
	if w.Within != "" {
		return Local("container", w.Within)
	}
	return Local("service", w.Service)
}

// By names what serves the site, for people.
func (w SiteWant) By() string {
	if w.Within != "" {
		return "container " + w.Within
	}
	return w.Service
}

// FileMode is the mode of the files beside a site. Where a container sees them, nobody but root
// can get to their directory on the host, and inside there is nobody but the server.
func (w SiteWant) FileMode() string {
	if w.Within != "" {
		return "0644"
	}
	return siteFileMode
}

// SiteFound is what lies there. Bytes says that it holds what is no text in UTF-8. Loaded
// says whether the running server is known to answer by the text that is wanted; it is nil when
// the server does not run. Rivals are other files of its configuration that claim a name of the
// site.
type SiteFound struct {
	File     Entry      `json:"file"`
	Text     string     `json:"text"`
	Link     Entry      `json:"link"`
	Loaded   *bool      `json:"loaded,omitempty"`
	Unlike   string     `json:"unlike,omitempty"` // why it is not known to be loaded, where that is not its age
	Shut     []Shut     `json:"shut,omitempty"`
	Bytes    bool       `json:"bytes,omitempty"`
	Rivals   []Rival    `json:"rivals,omitempty"`
	Takes    []Taking   `json:"takes,omitempty"` // where its virtual host is not written yet
	Beside   []Beside   `json:"beside,omitempty"`
	Labels   []string   `json:"labels,omitempty"`    // of the roots, where SELinux is enforcing
	Left     []string   `json:"left,omitempty"`      // of the former files beside it
	Silent   []string   `json:"silent,omitempty"`    // services that it passes on to and that take no connection from the host
	NotTaken string     `json:"not_taken,omitempty"` // the main configuration of the server, where it does not take the site's file in
	Taken    []Listener `json:"taken,omitempty"`     // programs outside of its container that have its ports
	Others   []Other    `json:"others,omitempty"`    // who answers its visitors in its place
}

// Other answers visitors of names of a site, at an address of the host with its port, in that site's
// place: By says who, such as a virtual host by its file and line, or a program; "" for nobody.
type Other struct {
	Names []string `json:"names"`
	At    string   `json:"at"`
	By    string   `json:"by"`
}

// Beside is a file that a site's configuration reads, and whether it holds what it should.
type Beside struct {
	Entry Entry `json:"entry"`
	Same  bool  `json:"same"`
}

// Rival is a virtual host of another that answers to a name of a site, or would.
type Rival struct {
	Name  string `json:"name,omitempty"`
	First int    `json:"first,omitempty"` // or the port on which it answers to names that no site has
	File  string `json:"file"`
}

// Taking is what a site takes from somebody's file of the same server that nobody has to mend: visitors of
// a name that were answered there as one of By, such as "*.saltmarsh.test", or, on the port First, by names
// that no site has.
type Taking struct {
	Name  string `json:"name,omitempty"`
	By    string `json:"by,omitempty"`
	First int    `json:"first,omitempty"`
	File  string `json:"file"`
}

func (t Taking) words() string {
	if t.First > 0 {
		return fmt.Sprintf("whoever asks port %d for a name that no site has was answered by %s, and is by this site from then on", t.First, t.File)
	}
	return fmt.Sprintf("visitors of %s were answered by %s (%s), and are by this site from then on", t.Name, t.File, t.By)
}

// what is what a rival claims.
func (r Rival) what() string {
	if r.First > 0 {
		return fmt.Sprintf("the first place on port %d", r.First)
	}
	return "the name " + r.Name
}

// Shut is a directory on the way to a document root that does not let the server's
// account through.
type Shut struct {
	Root  string `json:"root"`
	At    string `json:"at"`
	Entry Entry  `json:"entry"`
}

var _ = Register(Kind{
	Type: "site", After: []string{"link", "server"},
	WayIn: byPaths,
	Implied: func(w *Wanting) error {
		for _, name := range w.D.SitesOn(w.Host) {
			if err := wantSite(w, name); err != nil {
				return err
			}
		}
		return wantOthers(w)
	},
	Claims: Claiming(func(w SiteWant) []Claim {
		out := []Claim{{Need: Owns, Sort: ClaimPath, What: w.File}}
		if w.Within == "" {
			out = append(out, Claim{Need: Finds, Sort: ClaimService, What: w.Service}, Claim{Need: Finds, Sort: ClaimPackage, What: w.Package})
		}
		if w.Link != "" {
			out = append(out, Claim{Need: Owns, Sort: ClaimPath, What: w.Link})
		}
		for _, root := range w.Roots {
			out = append(out, Claim{Need: Finds, Sort: ClaimPath, What: root})
		}
		for _, b := range w.Beside {
			out = append(out, Claim{Need: Owns, Sort: ClaimPath, What: b.Path})
		}
		if w.Off {
			return out
		}
		for _, p := range w.Listen {
			out = append(out, Claim{Need: Owns, Sort: ClaimListen, What: fmt.Sprintf("%d/tcp", p), With: w.ServedBy()})
		}
		for _, n := range w.Names {
			for _, p := range w.Listen {
				out = append(out, Claim{Need: Owns, Sort: ClaimName, What: fmt.Sprintf("%s:%d", n, p)})
			}
		}
		return out
	}),
	Asked: askedSite, Unsealed: unsealedSites,
	Join: func(moves []Move) Move {
		var names []string
		for _, m := range moves {
			w, _ := last[SiteWant](m.Work)
			names = append(names, path.Base(w.File))
		}
		return joinMoves(moves, "the virtual hosts of "+count(len(moves), "site", "sites"), names)
	},
	Within: worksWithin, Paths: sitePaths,
	Judge: Judging(judgeSite), Follows: true, Passing: []string{"silent", "taken", "others"},
	Elsewhere: func(former, now json.RawMessage) json.RawMessage {
		f, ok := last[SiteWant](former)
		n, ok2 := last[SiteWant](now)
		if !ok || !ok2 || f.File == n.File {
			return nil
		}
		return former
	},
	Unwanted: unwantedSite, Away: Judging(awaySite),
})

// SiteWork writes a virtual host, or, with Away, takes it away.
type SiteWork struct {
	SiteWant
	Away  bool     `json:"away,omitempty"`
	Drops []string `json:"drops,omitempty"` // files beside it that it had, and has no more
}

func sitePaths(work json.RawMessage) []string {
	var works Works[SiteWork]
	if json.Unmarshal(work, &works) != nil {
		return nil
	}
	var out []string
	for _, w := range works {
		out = append(append(out, w.File), w.Drops...)
		if w.Link != "" {
			out = append(out, w.Link)
		}
		for _, b := range w.Beside {
			out = append(out, b.Path)
		}
	}
	return out
}

// unsealedSites puts the accounts that secrets hold into sites, and into the steps of one or
// several.
func unsealedSites(raw json.RawMessage, secrets *Secrets) (json.RawMessage, error) {
	if !bytes.Contains(raw, []byte(`"sealed"`)) {
		return raw, nil
	}
	var works Works[SiteWork]
	if err := json.Unmarshal(raw, &works); err != nil {
		return nil, err
	}
	for _, w := range works {
		for _, b := range w.Beside {
			if b.Sealed != nil {
				secrets.put(b.Sealed, func(secret []byte) (string, error) { return render.SecretAccounts(secret, b.Between) })
			}
		}
	}
	return json.Marshal(works)
}

// wantSite wants all that a site implies: its server's package and service, or the container
// that it runs in, its roots with what is published there, its virtual host, and its ports.
func wantSite(w *Wanting, name string) error {
	s, at := w.D.Sites[name], w.D.At("site", name, "server")
	layout, ok := w.layout(serverOf(s))
	if !ok {
		return fmt.Errorf("%s:%d: host %s (%s) has no known layout for server %q", at.File, at.Line, w.Host, w.Traits.System, s.Server)
	}
	var needs []string
	pkg := ""
	if layout.Package != "" {
		pkg = w.PackageFor(name, layout.Package, at)
		needs = append(needs, pkg)
	}
	root, roots := cmp.Or(s.Root, layout.RootBase+"/"+name), []string{}
	if render.ShowsFiles(s) {
		needs, roots = append(needs, wantRoot(w, name, pkg, root, s.Content, w.D.At("site", name, "root"))), []string{root}
	}
	for _, u := range sortedKeys(s.Paths) {
		p := s.Paths[u]
		if p.Root == "" {
			continue
		}
		needs = append(needs, wantRoot(w, name, pkg, p.Root, p.Content, w.D.At("site", name, "path", u, "root")))
		if !slices.Contains(roots, p.Root) {
			roots = append(roots, p.Root)
		}
	}
	socket, err := w.wantPHP(name, root, layout)
	if err != nil {
		return err
	}
	own := w.ownOf(serverOf(s), layout)
	text, err := render.VirtualHost(w.D, render.Site{Name: name, Root: root, IPv6: w.Traits.IPv6, Listens: w.listens(serverOf(s), layout, own), Dir: layout.Dir, Modules: layout.Modules, PHP: socket, Mark: func(secret, between string) string { return w.accounts(secret, between).Mark }})
	if err != nil {
		return fmt.Errorf("%s:%d: site %s on host %s: %w", at.File, at.Line, name, w.Host, err)
	}
	file := layout.SitesDir + "/" + render.File(name, s) + cmp.Or(layout.Ending, ".conf")
	if s.CatchAll {
		file = layout.SitesDir + "/000-0-" + path.Base(file) // before all others, and so the first
	}
	want := SiteWant{Server: s.Server, Service: layout.Service, Package: layout.Package, Program: layout.Program, User: layout.User, Text: text.Text, Lines: PlacesOf(text.Lines), Mark: text.Mark, Asked: render.MarkName(name),
		Listen: s.Ports(), AskAt: s.ListenOn()[0].Address, Names: append(slices.Clone(s.Names), s.RedirectedNames...), Roots: roots, Off: !s.IsServed(), First: s.CatchAll, Vouched: rawLines(w.D, name), Yields: w.silenced(serverOf(s)), File: file}
	want.Visit = visitOf(s, want, w.Traits.IPv6)
	if local := Local("server", serverOf(s)); w.Wants(local) {
		want.Own, needs = &own, append(needs, local)
	}
	for _, u := range sortedKeys(s.Paths) {
		for _, to := range s.Paths[u].PassedTo {
			if to = serviceAt(to); !slices.Contains(want.To, to) {
				want.To = append(want.To, to)
			}
		}
	}
	for _, a := range text.Accounts {
		f := SiteFile{Path: a.File, Text: a.Text, Group: layout.User}
		if s.Image != "" {
			f.Group = "root"
		}
		if a.Secret != "" {
			f.Sealed, f.Between = w.accounts(a.Secret, a.Between), a.Between
		}
		want.Beside = append(want.Beside, f)
	}
	for _, d := range declare.Nearest[Directory](w.D, w.Host, "directory") {
		want.Dirs = append(want.Dirs, d.Name)
	}
	switch {
	case layout.LinkDir != "":
		want.Link = layout.LinkDir + "/" + path.Base(file)
	case want.Off:
		want.File += ".off" // which no server takes in
	}
	if s.Image != "" {
		needs = append(needs, w.within(name, &want, layout, s.Image, s.ImageSecret, w.D.At("site", name, "image"), append(slices.Clone(needs), w.firstOf(layout, want)...))...)
	}
	w.Want(Stake{Type: "site", Name: name, Site: name, Want: JSON(want), From: w.D.At("site", name), Needs: needs})
	ports := want.Listen
	if want.Off {
		ports = nil
	}
	if want.Within == "" {
		w.ServiceFor(name, layout.Service, layout.Program, ports, append(w.firstOf(layout, want), pkg, Local("site", name)), at)
	}
	if want.Off {
		return nil
	}
	for i, l := range s.ListenOn() {
		w.PortFor(name, l.Port, w.D.At("site", name, "listen", strconv.Itoa(i)))
	}
	return nil
}

// nobodysName is a name that no site has (RFC 6761, section 6.4).
const nobodysName = "nobodys.name.northstake.invalid"

func visitOf(s *declare.Site, w SiteWant, v6 bool) *Visit {
	v := Visit{Path: render.MarkPath(w.Mark), V6: v6}
	for _, l := range s.ListenOn() {
		v.At = append(v.At, VisitAt{l.Address, l.Port})
	}
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

// accounts are those that a secret holds.
func (w *Wanting) accounts(secret, between string) *Sealed {
	return w.Secrets.seal(secret, func(value []byte) (string, error) { return render.SecretAccounts(value, between) })
}

// wantPHP wants what runs the PHP files of a site, and returns its socket, "" where none are
// run.
func (w *Wanting) wantPHP(name, root string, layout Layout) (string, error) {
	if !w.D.Sites[name].PHP {
		return "", nil
	}
	at := w.D.At("site", name, "php")
	if layout.PHP == nil {
		return "", fmt.Errorf("%s:%d: host %s (%s) is of a family of which it is not known how it runs PHP", at.File, at.Line, w.Host, w.Traits.System)
	}
	php, known := layout.PHP.On(w.Traits.System)
	if !known {
		return "", fmt.Errorf("%s:%d: host %s (%s) is a system of which it is not known which version of PHP it has", at.File, at.Line, w.Host, w.Traits.System)
	}
	pkg := w.PackageFor(name, php.Package, at)
	w.ServiceFor(name, php.Service, "", nil, []string{pkg}, at)
	if text := phpLimits(name, render.Bodies(w.D, render.Site{Name: name, Root: root})); text != "" {
		path := php.Settings + "/99-northstake-" + name + ".ini"
		w.Want(Stake{Type: "file", Name: path, Site: name, From: at, Needs: []string{pkg}, Want: JSON(FileWant{Path: path, Owner: "root", Group: "root", Mode: "0644", Reload: []string{php.Service}, Text: text})})
	}
	if layout.User != layout.PHP.Group {
		path := "/etc/systemd/system/" + layout.Service + ".service.d/northstake-php.conf"
		w.Want(Stake{Type: "file", Name: path, Site: name, From: at, Want: JSON(FileWant{Path: path, Owner: "root", Group: "root", Mode: "0644", Restart: []string{layout.Service},
			Text: "# By this " + layout.Service + " can use the socket of " + php.Service + ".\n[Service]\nSupplementaryGroups=" + layout.PHP.Group + "\n"})})
	}
	return php.Socket, nil
}

// phpLimits has PHP take as large a body as the site does, for the files of each of its roots: the limits
// that it has by itself are its pool's, and others' as well (php.ini's sections of a PATH count for the
// scripts below that).
func phpLimits(site string, bodies map[string]int64) string {
	text := ""
	for _, root := range sortedKeys(bodies) {
		text += fmt.Sprintf("[PATH=%s]\npost_max_size = %d\nupload_max_filesize = %d\n", root, bodies[root], bodies[root])
	}
	if text == "" {
		return ""
	}
	return "; What site " + site + " takes of a request PHP takes as well. North Stake writes this file.\n" + text
}

// firstOf are the services that have to let go of their ports before a site's server
// starts.
func (w *Wanting) firstOf(mine Layout, want SiteWant) []string {
	var out []string
	for name, layout := range w.Layouts {
		if slices.Contains(want.Yields, layout.Program) && layout.Service != mine.Service && len(w.ownOf(name, layout).Silent) > 0 {
			out = append(out, Local("service", layout.Service))
		}
	}
	slices.Sort(out)
	return out
}

// serviceAt is where a service takes connections: an address with a port, or the path of a
// socket.
func serviceAt(to string) string {
	if socket, ok := strings.CutPrefix(to, "unix:"); ok {
		return socket
	}
	to = strings.TrimPrefix(to, "http://")
	if i := strings.LastIndexByte(to, ':'); i < 0 || strings.HasSuffix(to, "]") {
		to += ":80"
	}
	return to
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
	for _, u := range sortedKeys(s.Paths) {
		say(s.Paths[u].Raw, "path", u)
	}
	return out
}

// wantRoot wants a document root and returns the name of its stake: content where
// something is published, a plain directory elsewhere.
func wantRoot(w *Wanting, site, pkg, root string, c *declare.Content, from declare.Position) string {
	if c == nil {
		w.Want(Stake{Type: "directory", Name: root, Site: site, From: from,
			Want: JSON(DirectoryWant{Path: root, Owner: "root", Group: "root", Mode: "0755"})})
		return Local("directory", root)
	}
	want := wantedContent(w.D, root, c)
	s := Stake{Type: "content", Name: root, Site: site, Want: JSON(want), From: from}
	if pkg != "" && (want.Owner != "root" || want.Group != "root") {
		s.Needs = []string{pkg} // it may bring the account
	}
	w.Want(s)
	return Local("content", root)
}
