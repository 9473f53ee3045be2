package stake

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/aymanbagabas/go-udiff"

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
// says whether the running server answers by the text that is wanted; it is nil when the
// server does not run. Rivals are other files of its configuration that claim a name of the
// site.
type SiteFound struct {
	File   Entry      `json:"file"`
	Text   string     `json:"text"`
	Link   Entry      `json:"link"`
	Loaded *bool      `json:"loaded,omitempty"`
	Shut   []Shut     `json:"shut,omitempty"`
	Bytes  bool       `json:"bytes,omitempty"`
	Rivals []Rival    `json:"rivals,omitempty"`
	Beside []Beside   `json:"beside,omitempty"`
	Labels []string   `json:"labels,omitempty"` // of the roots, where SELinux is enforcing
	Left   []string   `json:"left,omitempty"`   // of the former files beside it
	Silent []string   `json:"silent,omitempty"` // services that it passes on to and that take no connection from the host
	Taken  []Listener `json:"taken,omitempty"`  // programs outside of its container that have its ports
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
	Judge: Judging(judgeSite), Follows: true, Passing: []string{"silent", "taken"},
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

// unwantedSite says whether a declared site has the name of one that was, with the port, or
// is that one on another server.
func unwantedSite(gone Stake, in Around) (why, forStake string) {
	was, ok := last[SiteWant](gone.Want)
	if !ok {
		return "", ""
	}
	for d, now := range of[SiteWant](in.Declared, "site", in.Memo) {
		if d.Name == gone.Site && now.ServedBy() != was.ServedBy() {
			return fmt.Sprintf("site %s is served by %s now", d.Name, now.By()), d.Local()
		}
		if !slices.ContainsFunc(was.Listen, func(p int) bool { return slices.Contains(now.Listen, p) }) {
			continue
		}
		for _, n := range was.Names {
			if slices.Contains(now.Names, n) {
				return fmt.Sprintf("site %s has its name %s now", d.Name, n), d.Local()
			}
		}
	}
	return "", ""
}

// awaySite takes a virtual host away.
func awaySite(in Input, w SiteWant, f SiteFound) Verdict {
	v := Verdict{Gone: f.File.Kind == "" && f.Link.Kind == ""}
	if v.Gone {
		return v
	}
	if f.File.Kind == "file" && (f.Text != w.Text || f.Bytes) {
		v.Cautions = []Note{{in.Stake.Address(), w.File + " was changed by hand, and goes", "look at what was written there; the run keeps it on the host until it is done"}}
	}
	_, sake := unwantedSite(in.Stake, Around{Declared: in.Declared, Memo: in.Memo})
	for s, now := range of[SiteWant](in.Declared, "site", in.Memo) {
		v.Late = v.Late || s.Local() == sake && now.ServedBy() != w.ServedBy()
	}
	if v.Late && slices.ContainsFunc(in.Declared, func(s Stake) bool { return s.Local() == w.ServedBy() }) { // else the caution is with what stops
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("site %s is not served from the step by which %s lets go of it until the next one, which starts the other server: for as long as these two take, a few seconds at most", in.Stake.Site, w.By()), "apply this when few are about"})
	}
	v.Moves = []Move{{Verb: "take", Text: fmt.Sprintf("take away the virtual host of site %s, %s", in.Stake.Site, w.File), Work: JSON(SiteWork{SiteWant: w, Away: true})}}
	v.Nudges = []Nudge{{Target: w.ServedBy(), How: "reload", Reason: "its former site " + in.Stake.Site + " is gone"}}
	return v
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
	socket, err := w.wantPHP(name, layout, at)
	if err != nil {
		return err
	}
	own := w.ownOf(serverOf(s), layout)
	listens := slices.DeleteFunc(slices.Clone(layout.Listens), func(p int) bool { return slices.Contains(own.Silent, p) })
	text, err := render.VirtualHost(w.D, render.Site{Name: name, Root: root, IPv6: w.Traits.IPv6, Listens: listens, Dir: layout.Dir, Modules: layout.Modules, PHP: socket, Mark: func(secret, between string) string { return w.accounts(secret, between).Mark }})
	if err != nil {
		return fmt.Errorf("%s:%d: site %s on host %s: %w", at.File, at.Line, name, w.Host, err)
	}
	file := layout.SitesDir + "/northstake-" + name + cmp.Or(layout.Ending, ".conf")
	if s.First {
		file = layout.SitesDir + "/000-0-" + path.Base(file) // before all others, and so the first
	}
	want := SiteWant{Server: s.Server, Service: layout.Service, Package: layout.Package, Program: layout.Program, User: layout.User, Text: text.Text, Lines: PlacesOf(text.Lines), Mark: text.Mark, Asked: render.MarkName(name),
		Listen: s.Ports(), AskAt: s.ListenOn()[0].Address, Names: append(slices.Clone(s.Names), s.SentOn...), Roots: roots, Off: !s.IsServed(), First: s.First, Vouched: rawLines(w.D, name), Yields: w.silenced(serverOf(s)), File: file}
	if local := Local("server", serverOf(s)); w.Wants(local) {
		want.Own, needs = &own, append(needs, local)
	}
	for _, u := range sortedKeys(s.Paths) {
		for _, to := range s.Paths[u].To {
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

// accounts are those that a secret holds.
func (w *Wanting) accounts(secret, between string) *Sealed {
	return w.Secrets.seal(secret, func(value []byte) (string, error) { return render.SecretAccounts(value, between) })
}

// wantPHP wants what runs the PHP files of a site, and returns its socket, "" where none are
// run.
func (w *Wanting) wantPHP(name string, layout Layout, at declare.Position) (string, error) {
	if !w.D.Sites[name].PHP {
		return "", nil
	}
	at = w.D.At("site", name, "php")
	if layout.PHP == nil {
		return "", fmt.Errorf("%s:%d: host %s (%s) is of a family of which it is not known how it runs PHP", at.File, at.Line, w.Host, w.Traits.System)
	}
	service, known := layout.PHP.ServiceOn(w.Traits.System)
	if !known {
		return "", fmt.Errorf("%s:%d: host %s (%s) is a system of which it is not known which version of PHP it has", at.File, at.Line, w.Host, w.Traits.System)
	}
	w.ServiceFor(name, service, "", nil, []string{w.PackageFor(name, layout.PHP.Package, at)}, at)
	if layout.User != layout.PHP.Group {
		path := "/etc/systemd/system/" + layout.Service + ".service.d/northstake-php.conf"
		w.Want(Stake{Type: "file", Name: path, Site: name, From: at, Want: JSON(FileWant{Path: path, Owner: "root", Group: "root", Mode: "0644", Restart: []string{layout.Service},
			Text: "# By this " + layout.Service + " can use the socket of " + service + ".\n[Service]\nSupplementaryGroups=" + layout.PHP.Group + "\n"})})
	}
	return layout.PHP.Socket, nil
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

func judgeSite(in Input, w SiteWant, f SiteFound) Verdict {
	var d differences
	d.entry("file", "root", "root", "0644", f.File)
	if f.File.Kind == "file" && (f.Text != w.Text || f.Bytes) {
		d.differ("configuration", "as rendered", "different")
	}
	for i, b := range f.Beside {
		if i >= len(w.Beside) {
			break
		}
		var differs differences
		if differs.entry("file", "root", w.Beside[i].Group, w.FileMode(), b.Entry); b.Entry.Kind == "file" && !b.Same {
			differs.differ("accounts", "as declared", "different")
		}
		for _, one := range differs {
			d.differ(w.Beside[i].Path+", "+one.Attribute, one.Wanted, one.Found)
		}
	}
	if w.Link != "" && w.Off {
		if f.Link.Kind != "" {
			d.add("switched on", "no", "yes")
		}
	} else if w.Link != "" {
		switch {
		case f.Link.Kind == "":
			d.add("switched on", "yes", "no")
		case f.Link.Kind != "link" || leads(w.Link, f.Link.Target) != w.File:
			d.add("switched on", "a link to "+w.File, f.Link.Words())
		}
	}
	v := Verdict{Gone: f.File.Kind == "" && f.Link.Kind == "", Touched: f.File.Touched}
	for _, b := range w.Beside {
		if b.Sealed != nil && b.Sealed.Lacks != "" {
			v.Blockers = append(v.Blockers, Note{in.Stake.Address(), b.Sealed.Lacks, fmt.Sprintf("northstake secret keep %s takes it", b.Sealed.Secret)})
		}
	}
	for _, p := range f.Left {
		d.add(p, "gone", "left from what was declared before")
	}
	onDisk := len(d) > 0
	if !onDisk && f.Loaded != nil && !*f.Loaded {
		d.add("loaded", "yes", "no, "+w.By()+" runs with an older configuration")
	}
	for _, to := range f.Silent {
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("%s, to which the site passes on, takes no connection from %s", to, in.Stake.Host), "start that service, or correct where it is: visitors get an error until then"})
	}
	for i, label := range f.Labels {
		if i < len(w.Roots) && label != "" && !shownLabel.MatchString(label) {
			v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("SELinux is enforcing, and %s has the label %s, which keeps web servers out", w.Roots[i], label), fmt.Sprintf("on %s: semanage fcontext -a -t httpd_sys_content_t '%s(/.*)?' && restorecon -R %s", in.Stake.Host, w.Roots[i], w.Roots[i])})
		}
	}
	own := len(d)
	former := leaving[SiteWant](in.Leaving, "site", in.Memo)
	for _, r := range f.Rivals {
		d.differ(strings.TrimPrefix(r.what(), "the "), "this site's alone", "claimed by "+r.File+" as well")
		if slices.ContainsFunc(former, func(l SiteWant) bool { return l.File == r.File || l.Link == r.File }) {
			continue
		}
		v.Blockers = append(v.Blockers, Note{in.Stake.Address(), fmt.Sprintf("%s claims %s as well", r.File, r.what()), "take it out there, or that file away: of two the server takes one, and which is a matter of their order"})
	}
	for _, shut := range f.Shut {
		if !slices.Contains(w.Dirs, shut.At) {
			d.differ("way to "+shut.Root, "open to "+w.User, fmt.Sprintf("shut at %s (%s, owner %s, group %s)", shut.At, shut.Entry.Mode, shut.Entry.Owner, shut.Entry.Group))
		}
	}
	v.Differences = d
	for _, t := range f.Taken {
		if !slices.Contains(w.Yields, t.Program) && !letsGo(in.Leaving, in.Memo, t) {
			v.Blockers = append(v.Blockers, Note{in.Stake.Address(), fmt.Sprintf("port %d is taken by %s (process %d), outside of %s", t.Port, t.Program, t.PID, w.By()),
				fmt.Sprintf("stop that program on %s (or declare it as not running, and apply that first), or let the site listen elsewhere", in.Stake.Host)})
		}
	}
	for _, port := range w.Listen {
		if l := in.Traits.On(port); w.Within == "" && l != nil && !w.Off && l.Program != w.Program && !slices.Contains(w.Yields, l.Program) && !letsGo(in.Leaving, in.Memo, *l) {
			v.Blockers = append(v.Blockers, Note{in.Stake.Address(),
				fmt.Sprintf("port %d is taken by %s (process %d)", port, l.Program, l.PID),
				fmt.Sprintf("stop that program on %s (or declare it as not running, and apply that first), or let the site listen elsewhere", in.Stake.Host)})
		}
	}
	for _, shut := range f.Shut {
		if slices.Contains(w.Dirs, shut.At) || shut.At == shut.Root {
			continue // a stake of its own sees to that
		}
		v.Blockers = append(v.Blockers, Note{in.Stake.Address(),
			fmt.Sprintf("account %s of %s cannot get to %s: %s (%s, owner %s, group %s) does not let it through", w.User, w.By(), shut.Root, shut.At, shut.Entry.Mode, shut.Entry.Owner, shut.Entry.Group),
			fmt.Sprintf("let others pass through %s (chmod o+x), declare the directory with another mode, or declare another root", shut.At)})
	}
	if own == 0 {
		return v
	}
	reason := "its site " + in.Stake.Site + " changed"
	if !onDisk {
		reason = "its site " + in.Stake.Site + " is written and not loaded"
	}
	v.Nudges = []Nudge{{Target: w.ServedBy(), How: "reload", Reason: reason}}
	if !onDisk {
		return v
	}
	text := fmt.Sprintf("write the virtual host of site %s, %s", in.Stake.Site, w.File)
	if w.Off {
		text += ", and leave it switched off"
	}
	if len(w.Vouched) > 0 {
		v.Cautions = append(v.Cautions, Note{in.Stake.Address(), fmt.Sprintf("%s of raw configuration, at %s: %s tests it, and nobody else vouches for what it does", count(len(w.Vouched), "place", "places"), strings.Join(w.Vouched, ", "), w.By()), "look at what it does on every host that has the site"})
	}
	v.Moves = []Move{{Verb: "write", Text: text, Details: siteDetails(w, f), Work: JSON(SiteWork{SiteWant: w, Drops: f.Left}), Joins: true}}
	return v
}

// askedSite asks for the files beside a site that it had when it was last brought about as
// well, and has no more.
func askedSite(want, former json.RawMessage) json.RawMessage {
	if !bytes.Contains(former, []byte(`"beside"`)) {
		return want
	}
	was, ok := last[SiteWant](former)
	now, ok2 := last[SiteWant](want)
	if !ok || !ok2 || was.File != now.File {
		return want // else it is taken away as a whole
	}
	for _, b := range was.Beside {
		if !slices.ContainsFunc(now.Beside, func(n SiteFile) bool { return n.Path == b.Path }) {
			now.Former = append(now.Former, b.Path)
		}
	}
	return JSON(now)
}

// shownLabel are the types of files that web servers may show by the reference policy
// (httpd_selinux(8)).
var shownLabel = regexp.MustCompile(`^(httpd_.*content(_rw)?_t|public_content(_rw)?_t|usr_t|textrel_shlib_t|iso9660_t|nfs_t|cifs_t)$`)

// letsGo says whether a program that listens lets go of its port with what the plan takes away: a
// service, a container that has the port, or the site for which it has it.
func letsGo(gone []Stake, memo *Memo, l Listener) bool {
	if slices.ContainsFunc(leaving[ContainerWant](gone, "container", memo), func(c ContainerWant) bool { return slices.Contains(c.Ports, l.Port) }) {
		return true
	}
	if slices.ContainsFunc(leaving[SiteWant](gone, "site", memo), func(s SiteWant) bool { return s.Program == l.Program && slices.Contains(s.Listen, l.Port) }) {
		return true // its server goes on without it
	}
	return slices.ContainsFunc(leaving[ServiceWant](gone, "service", memo), func(s ServiceWant) bool { return s.Serves == l.Program })
}

// leads is where a link leads, from where it lies.
func leads(link, target string) string {
	if path.IsAbs(target) {
		return path.Clean(target)
	}
	return path.Join(path.Dir(link), target)
}

func siteDetails(w SiteWant, f SiteFound) []Detail {
	if f.File.Kind == "file" && f.Text == w.Text {
		return nil
	}
	old := f.Text
	if f.File.Kind != "file" {
		old = ""
	}
	return []Detail{{Title: w.File, Text: udiff.Unified("found", "wanted", old, w.Text), Diff: true}}
}
