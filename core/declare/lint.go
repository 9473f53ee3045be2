package declare

import (
	"fmt"
	"net"
	"net/netip"
	"path"
	"reflect"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// Parse reads the files of a declaration and checks all of it. The declaration
// is only sound when no problems come back.
func Parse(sources []Source, m *Manifest) (*Declaration, Problems) {
	r := &reader{root: newTable(span{}), lines: map[string][]string{}}
	sorted := append([]Source{}, sources...)
	sort.Slice(sorted, func(i, j int) bool { return sorted[i].Name < sorted[j].Name })
	for _, s := range sorted {
		r.file(s)
	}
	d := &Declaration{positions: map[string]span{}, sources: r.lines, manifest: m}
	if len(sorted) == 0 {
		return d, Problems{{Position: Position{File: ".", Line: 1, Column: 1}, What: "there is no *.toml file here", Fix: "northstake new DIR writes a small ground to start from"}}
	}
	r.root.keyAt = span{Position: Position{File: sorted[0].Name, Line: 1, Column: 1}, width: 1}
	if len(r.problems) == 0 || len(r.root.keys) > 0 {
		r.decode(d, r.root, reflect.ValueOf(d).Elem(), nil)
		d.index()
		(&linter{reader: r, d: d}).all()
	}
	r.problems.sort()
	return d, r.problems
}

type linter struct {
	*reader
	d *Declaration
}

var (
	plainName   = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$`)
	hostName    = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]{0,61}[a-z0-9])?$`)
	dnsName     = regexp.MustCompile(`^(\*\.)?([a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?)(\.[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?)*$`)
	packageName = regexp.MustCompile(`^[a-z0-9][a-z0-9+.-]{1,99}$`)
	serviceName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9:_.@-]{0,99}$`)
	account     = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,30}\$?$`)
	octalMode   = regexp.MustCompile(`^0?[0-7]{3}$`)
	publicKey   = regexp.MustCompile(`^(ssh|ecdsa)-[a-z0-9-]+ [A-Za-z0-9+/]+=*( .*)?$`)
	portForm    = regexp.MustCompile(`^([0-9]{1,5})(?:-([0-9]{1,5}))?/(tcp|udp)$`)
)

func (l *linter) say(keys []string, what, fix string) { l.problem(l.d.span(keys...), what, fix) }

func keys(k ...string) []string { return k }

func (l *linter) all() {
	g := l.d.Ground
	if g.Name == "" {
		if l.root.table["ground"] == nil {
			l.problem(l.root.keyAt, "no file says which ground this is", "add a [ground] table with name = \"…\"")
		}
	} else if !plainName.MatchString(g.Name) {
		l.say(keys("ground", "name"), fmt.Sprintf("ground name %q has characters it cannot have", g.Name), "use lower-case letters, digits and hyphens, at most 40")
	}
	l.givens(g.Givens, keys("ground"))
	l.moreHosts(g.More)
	l.inherit()
	l.reach(l.d.Reach, keys("reach"))
	for _, name := range sortedKeys(l.d.Kits) {
		if !plainName.MatchString(name) {
			l.say(keys("kit", name), fmt.Sprintf("kit name %q has characters it cannot have", name), "use lower-case letters, digits and hyphens")
		}
		l.settings(l.d.Kits[name].Settings, keys("kit", name))
	}
	for _, name := range sortedKeys(l.d.Hosts) {
		l.host(name, l.d.Hosts[name])
	}
	for _, name := range sortedKeys(l.d.Sites) {
		l.site(name, l.d.Sites[name])
	}
	l.claims()
	l.addresses()
	if len(l.problems) == 0 {
		l.texts()
	}
}

// names checks the names that a package or service has on other families.
func (l *linter) names(names map[string]string, at []string, form *regexp.Regexp, what string) {
	for _, family := range sortedKeys(names) {
		sub := append(append([]string{}, at...), family)
		if !plainName.MatchString(family) {
			l.say(sub, fmt.Sprintf("%q is not the name of a family of systems", family), "northstake show HOST names the family of a host")
		}
		if n := names[family]; n != "" && !form.MatchString(n) {
			l.say(sub, fmt.Sprintf("%q is not a %s name", n, what), "write the name that the family uses")
		}
	}
}

var givenName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}$`)

func (l *linter) givens(givens map[string]string, at []string) {
	for _, name := range sortedKeys(givens) {
		if !givenName.MatchString(name) {
			l.say(append(append([]string{}, at...), "givens", name), fmt.Sprintf("given %q has characters its name cannot have", name), "begin with a lower-case letter, and use lower-case letters, digits and underscores")
		}
	}
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

func (l *linter) reach(r Reach, at []string) {
	if r.User != "" && !account.MatchString(r.User) {
		l.say(append(at, "user"), fmt.Sprintf("user %q is not a login name", r.User), "use lower-case letters, digits, hyphens and underscores")
	}
	if _, written := l.d.positions[strings.Join(append(at, "port"), sep)]; written && (r.Port < 1 || r.Port > 65535) {
		l.say(append(at, "port"), fmt.Sprintf("port %d does not exist", r.Port), "use a number from 1 to 65535")
	}
	for i, f := range r.Authorities {
		sub := append(append([]string{}, at...), "authorities", strconv.Itoa(i))
		l.besides(f, sub)
		if text, err := l.d.TextBeside(f); err == nil {
			for _, k := range authorityKeys(text) {
				if !publicKey.MatchString(k) {
					l.say(sub, fmt.Sprintf("%s holds %q, which is no public SSH key", f, k), "put the authority's public key there, a line that begins with ssh-ed25519 or the like")
				}
			}
		}
	}
	for key, v := range map[string]string{"key": r.Key, "password": r.Password, "sudo_password": r.SudoPassword} {
		if v != "" && !plainName.MatchString(v) {
			l.say(append(append([]string{}, at...), key), fmt.Sprintf("%s names a secret, and this is not a secret's name", key), "write the secret's name here, and give its value to northstake secret keep NAME")
		}
	}
}

func (l *linter) settings(s Settings, at []string) {
	sub := func(k ...string) []string { return append(append([]string{}, at...), k...) }
	for i, p := range s.Packages {
		if !packageName.MatchString(p) {
			l.say(sub("packages", strconv.Itoa(i)), fmt.Sprintf("%q is not a package name", p), "use lower-case letters, digits and + . -")
		}
	}
	for _, name := range sortedKeys(s.Package) {
		if !packageName.MatchString(name) {
			l.say(sub("package", name), fmt.Sprintf("%q is not a package name", name), "use lower-case letters, digits and + . -")
		}
		if i := slices.Index(s.Packages, name); i >= 0 {
			l.say(sub("package", name), fmt.Sprintf("package %s stands in packages as well", name), "keep one of the two")
		}
		l.names(s.Package[name].Names, sub("package", name, "names"), packageName, "package")
		l.versions(s.Package[name], sub("package", name))
	}
	for _, name := range sortedKeys(s.Sources) {
		l.source(name, s.Sources[name], sub("source", name))
	}
	for _, name := range sortedKeys(s.Services) {
		l.names(s.Services[name].Names, sub("services", name, "names"), serviceName, "service")
	}
	for name := range s.Services {
		if !serviceName.MatchString(name) {
			l.say(sub("services", name), fmt.Sprintf("%q is not a service name", name), "use the unit's name without .service")
		} else if strings.HasSuffix(name, ".service") {
			l.say(sub("services", name), fmt.Sprintf("%q has its unit's ending", name), fmt.Sprintf("write %q", strings.TrimSuffix(name, ".service")))
		}
	}
	l.givens(s.Givens, at)
	l.things(s, at)
	for i, p := range s.Ports {
		l.port(p, sub("ports", strconv.Itoa(i)))
		if s.Port[p] != nil {
			l.say(sub("port", p), fmt.Sprintf("port %s stands in ports as well", p), "keep one of the two")
		}
	}
	for _, p := range sortedKeys(s.Port) {
		l.port(p, sub("port", p))
		for i, n := range s.Port[p].From {
			at := sub("port", p, "from", strconv.Itoa(i))
			prefix, err := netip.ParsePrefix(n)
			if addr, bad := netip.ParseAddr(n); bad == nil {
				l.say(at, fmt.Sprintf("%q is an address, not a network", n), fmt.Sprintf("write \"%s/%d\" for it alone", n, addr.BitLen()))
			} else if err != nil {
				l.say(at, fmt.Sprintf("%q is not a network", n), "write an address and the length of its prefix, such as \"10.0.0.0/8\"")
			} else if prefix.Masked() != prefix || prefix.String() != n {
				l.say(at, fmt.Sprintf("%q is not in its shortest form", n), fmt.Sprintf("write %q", prefix.Masked().String()))
			} else if prefix.Bits() == 0 {
				l.say(at, fmt.Sprintf("%q is everybody", n), "write the port into ports, which everybody can reach")
			}
		}
		if _, written := l.d.positions[strings.Join(sub("port", p, "from"), sep)]; written && len(s.Port[p].From) == 0 {
			l.say(sub("port", p, "from"), "a port for no network is open to nobody", "name a network, or write the port into ports")
		}
	}
}

// port checks ports such as "443/tcp" or "8000-8100/udp".
func (l *linter) port(p string, at []string) {
	m := portForm.FindStringSubmatch(p)
	if m == nil {
		l.say(at, fmt.Sprintf("%q is not a port", p), "write a number from 1 to 65535 and a protocol, such as \"443/tcp\", or two numbers for a range, such as \"8000-8100/udp\"")
		return
	}
	first, _ := strconv.Atoi(m[1])
	last, _ := strconv.Atoi(m[2])
	switch {
	case first < 1 || first > 65535 || last > 65535 || strings.HasPrefix(m[1], "0") || strings.HasPrefix(m[2], "0"):
		l.say(at, fmt.Sprintf("%q is not a port", p), "write a number from 1 to 65535 and a protocol, such as \"443/tcp\"")
	case m[2] != "" && last <= first:
		l.say(at, fmt.Sprintf("the range %q does not go up", p), "write the lower number first")
	}
}

func (l *linter) host(name string, h *Host) {
	if !hostName.MatchString(name) {
		l.say(keys("host", name), fmt.Sprintf("host name %q has characters it cannot have", name), "use lower-case letters, digits, dots and hyphens")
	}
	if h.Via == "local" && h.Address == "" {
		h.Address = "127.0.0.1"
	}
	if h.Address == "" && l.unwritten("host", name, "address") {
		l.say(keys("host", name), fmt.Sprintf("[host.%s] has no address", name), "add address = \"…\" (an IP address or a DNS name), or via = \"local\" for the machine that the service runs on")
	}
	if h.Address != "" && net.ParseIP(h.Address) == nil && (!dnsName.MatchString(h.Address) || strings.HasPrefix(h.Address, "*")) {
		fix := "write an IP address or a DNS name"
		if _, _, err := net.SplitHostPort(h.Address); err == nil {
			fix = "the port goes into [host." + name + ".reach] as port = …"
		}
		l.say(keys("host", name, "address"), fmt.Sprintf("%q is not an address", h.Address), fix)
	} else if looksNumeric(h.Address) && net.ParseIP(h.Address) == nil {
		l.say(keys("host", name, "address"), fmt.Sprintf("%q looks like an IP address and is none", h.Address), "an IPv4 address has four numbers from 0 to 255")
	}
	for i, k := range h.Kits {
		if l.d.Kits[k] == nil {
			l.say(keys("host", name, "kits", strconv.Itoa(i)), fmt.Sprintf("there is no kit %q", k), didYouMean(k, sortedKeys(l.d.Kits)))
		}
	}
	l.reach(h.Reach, keys("host", name, "reach"))
	r := l.d.ReachOf(name)
	if h.Via == "local" {
		l.settings(h.Settings, keys("host", name))
		return
	}
	written := func(key string) bool { return !l.unwritten("reach", key) || !l.unwritten("host", name, "reach", key) }
	if r.User == "" && !written("user") {
		l.say(keys("host", name), fmt.Sprintf("host %s has no login user", name), "add user = \"…\" to [reach] or to [host."+name+".reach]")
	}
	if r.Key == "" && r.Password == "" && !written("key") && !written("password") {
		l.say(keys("host", name), fmt.Sprintf("host %s has no key and no password to log in with", name), "add key = \"NAME\" to [reach], and give it to northstake secret keep NAME")
	}
	l.settings(h.Settings, keys("host", name))
}

func (l *linter) unwritten(k ...string) bool {
	key := strings.Join(k, sep)
	_, written := l.d.positions[key]
	return !written && !l.miswritten[key]
}

// hostWords are what a word of a site's "on" could have meant: labels where it is
// one, names elsewhere.
func (l *linter) hostWords(word string) []string {
	if !strings.HasPrefix(word, "label:") {
		return sortedKeys(l.d.Hosts)
	}
	labels := map[string]bool{}
	for _, h := range l.d.Hosts {
		for _, label := range h.Labels {
			labels["label:"+label] = true
		}
	}
	return sortedKeys(labels)
}

func looksNumeric(s string) bool {
	return s != "" && strings.Trim(s, "0123456789.") == ""
}

func (l *linter) site(name string, s *Site) {
	if !plainName.MatchString(name) {
		l.say(keys("site", name), fmt.Sprintf("site name %q has characters it cannot have", name), "use lower-case letters, digits and hyphens")
	}
	l.givens(s.Givens, keys("site", name))
	if s.Server == "" && l.unwritten("site", name, "server") {
		l.say(keys("site", name), fmt.Sprintf("[site.%s] has no server", name), "add server = \"nginx\" or \"httpd\", or a kit that says it")
	}
	if len(s.Names) == 0 && l.unwritten("site", name, "names") {
		l.say(keys("site", name), fmt.Sprintf("[site.%s] has no names", name), "add names = […] (the host names that browsers will ask for), or a kit that says them")
	}
	for i, on := range s.On {
		if hosts, err := l.d.match(on); err != nil || len(hosts) == 0 {
			l.say(keys("site", name, "on", strconv.Itoa(i)), fmt.Sprintf("no host is called %q", on), didYouMean(on, l.hostWords(on)))
		}
	}
	if _, written := l.d.positions[strings.Join(keys("site", name, "on"), sep)]; written && len(s.On) == 0 {
		l.say(keys("site", name, "on"), "a site on no host is served nowhere", "name at least one host")
	}
	if _, written := l.d.positions[strings.Join(keys("site", name, "names"), sep)]; written && len(s.Names) == 0 {
		l.say(keys("site", name, "names"), "a site needs at least one name", "add the host name that browsers will ask for")
	}
	for i, n := range s.Names {
		at := keys("site", name, "names", strconv.Itoa(i))
		switch {
		case strings.Contains(n, "://"):
			l.say(at, fmt.Sprintf("%q is a URL, not a host name", n), fmt.Sprintf("write %q", strings.Split(strings.SplitN(n, "://", 2)[1]+"/", "/")[0]))
		case strings.ToLower(n) != n && dnsName.MatchString(strings.ToLower(n)):
			l.say(at, fmt.Sprintf("%q has capital letters", n), fmt.Sprintf("write %q", strings.ToLower(n)))
		case !dnsName.MatchString(n) || len(n) > 253:
			l.say(at, fmt.Sprintf("%q is not a host name", n), "use letters, digits, hyphens and dots; *. in front for all below")
		}
	}
	seen := map[int]bool{}
	for i, p := range s.Listen {
		at := keys("site", name, "listen", strconv.Itoa(i))
		if p < 1 || p > 65535 {
			l.say(at, fmt.Sprintf("port %d does not exist", p), "use a number from 1 to 65535")
		} else if seen[p] {
			l.say(at, fmt.Sprintf("port %d is listed twice", p), "keep one of the two")
		}
		seen[p] = true
	}
	if s.Root != "" {
		l.absolute(s.Root, keys("site", name, "root"))
	}
	l.index(s.Index, keys("site", name, "index"))
	if s.Server == "httpd" && contains(s.Index, "disabled") {
		l.say(keys("site", name, "index"), "the index file \"disabled\" has a meaning of its own for this server: it serves none", "give the file another name")
	}
	if s.Content != nil {
		l.content(s.Content, keys("site", name, "content"), s.Index, keys("site", name, "index"))
	}
	for i, p := range s.Probes {
		l.probe(p, keys("site", name, "probe", strconv.Itoa(i)))
	}
	for _, u := range sortedKeys(s.Paths) {
		at := keys("site", name, "path", u)
		if fix := urlPath(u); fix != "" || u == "/" {
			if u == "/" {
				fix = "the site's own root serves /"
			}
			l.say(at, fmt.Sprintf("%q cannot be a path of a site", u), fix)
		} else if strings.HasSuffix(u, "/") {
			l.say(at, fmt.Sprintf("path %q ends in a slash", u), fmt.Sprintf("write %q; it serves what is below it as well", strings.TrimRight(u, "/")))
		}
		p := s.Paths[u]
		if p.Root != "" {
			l.absolute(p.Root, append(at, "root"))
		}
		l.index(p.Index, append(append([]string{}, at...), "index"))
		if p.Content != nil {
			l.content(p.Content, append(append([]string{}, at...), "content"), p.Index, append(append([]string{}, at...), "index"))
		}
	}
}

// badPath says what is wrong with text that lands in a server's configuration
// as a path: control characters and the marks that such files give a meaning.
func badText(s string) string {
	for _, r := range s {
		if r < 0x20 || r == 0x7f {
			return "it has a control character"
		}
		if strings.ContainsRune("$\"'`\\;{}*?[]|<>&", r) {
			return fmt.Sprintf("it has %q, which has a meaning of its own in configuration files", string(r))
		}
	}
	return ""
}

var systemDirs = []string{"/", "/bin", "/boot", "/dev", "/etc", "/home", "/lib", "/lib64", "/opt", "/proc", "/root", "/run", "/sbin", "/srv", "/sys", "/tmp", "/usr", "/var", "/var/lib", "/var/www", "/usr/share"}

func (l *linter) absolute(p string, at []string) {
	switch {
	case !strings.HasPrefix(p, "/"):
		l.say(at, fmt.Sprintf("%q is not an absolute path", p), "begin it with /")
	case path.Clean(p) != p:
		l.say(at, fmt.Sprintf("%q is not in its shortest form", p), fmt.Sprintf("write %q", path.Clean(p)))
	case badText(p) != "":
		l.say(at, fmt.Sprintf("%q cannot be a directory here: %s", p, badText(p)), "use a plainer name")
	case contains(systemDirs, p):
		l.say(at, fmt.Sprintf("%s belongs to the system and cannot be a document root", p), "use a directory of the site's own below it")
	case len(p) > 1000:
		l.say(at, "this path is longer than 1000 characters", "use a shorter one")
	case longestPart(p) > 200:
		l.say(at, "a part of this path is longer than 200 characters", "use a shorter one")
	}
}

func longestPart(p string) int {
	n := 0
	for _, part := range strings.Split(p, "/") {
		n = max(n, len(part))
	}
	return n
}

func urlPath(p string) string {
	switch {
	case !strings.HasPrefix(p, "/"):
		return "begin it with /"
	case badText(strings.ReplaceAll(strings.ReplaceAll(p, "?", ""), "&", "")) != "":
		return badText(p)
	case strings.Contains(p, "//") || strings.Contains(p+"/", "/../") || strings.Contains(p+"/", "/./"):
		return "write it in its shortest form"
	case len(p) > 1000:
		return "use a shorter one"
	case strings.ContainsAny(p, " \t#%"):
		return "it cannot have spaces, # or %"
	}
	return ""
}

func (l *linter) probe(p Probe, at []string) {
	if p.Path != "" {
		if fix := urlPath(p.Path); fix != "" {
			l.say(append(append([]string{}, at...), "path"), fmt.Sprintf("%q is not a URL path", p.Path), fix)
		}
	}
	if p.Status != 0 && (p.Status < 100 || p.Status > 599) {
		l.say(append(append([]string{}, at...), "status"), fmt.Sprintf("%d is not an HTTP status", p.Status), "use a number from 100 to 599, such as 200")
	}
}

func (l *linter) index(index []string, at []string) {
	for i, f := range index {
		if f == "" || strings.Contains(f, "/") || badText(f) != "" || f == "." || f == ".." || len(f) > 200 || strings.ContainsAny(f, " #") {
			l.say(append(append([]string{}, at...), strconv.Itoa(i)), fmt.Sprintf("%q is not a plain file name", f), "write a name such as \"index.html\"")
		}
	}
}

// content checks what a site publishes, and that a visitor of its root finds a page.
func (l *linter) content(c *Content, at []string, index []string, indexAt []string) {
	sub := func(k string) []string { return append(append([]string{}, at...), k) }
	files, ok := l.contentFiles(c, at)
	if !ok {
		return
	}
	if len(index) == 0 {
		index = []string{"index.html"}
	}
	var top []string
	for _, f := range files {
		if !strings.Contains(f.Path, "/") {
			top = append(top, f.Path)
			if contains(index, f.Path) {
				return
			}
		}
	}
	place := append(append([]string{}, indexAt...), "0")
	if _, written := l.d.positions[strings.Join(indexAt, sep)]; !written {
		place = sub(c.key())
	}
	l.say(place, fmt.Sprintf("no file in %s is an index file (%s): visitors of / would get 403", c.words(), strings.Join(index, ", ")), indexFix(c, index, top, files))
}

// contentFiles checks what is published somewhere, and finds its files; false says
// that there are none, or none that can be known yet.
func (l *linter) contentFiles(c *Content, at []string) ([]File, bool) {
	sub := func(k string) []string { return append(append([]string{}, at...), k) }
	for k, v := range map[string]string{"owner": c.Owner, "group": c.Group} {
		if v != "" && !account.MatchString(v) {
			l.say(sub(k), fmt.Sprintf("%q is not the name of an account", v), "use lower-case letters, digits, hyphens and underscores")
		}
	}
	for k, v := range map[string]string{"files": c.Modes.Files, "directories": c.Modes.Directories} {
		if v != "" && !octalMode.MatchString(v) {
			l.say(append(sub("modes"), k), fmt.Sprintf("%q is not a mode", v), "write three octal digits, such as \"0644\"")
		}
	}
	for i, p := range c.Keep {
		if _, err := path.Match(p, ""); err != nil || p == "" || path.IsAbs(p) || path.Clean(p) != p || strings.HasPrefix(p, "..") {
			l.say(append(sub("keep"), strconv.Itoa(i)), fmt.Sprintf("%q is not a pattern of paths below the root", p), "write one such as \"uploads\" or \"*.log\"")
		}
	}
	files, ok := l.published(c, at)
	if !ok {
		return nil, false
	}
	for _, f := range files {
		if kept := Kept(c.Keep, f.Path); kept != "" {
			l.say(sub("keep"), fmt.Sprintf("content file %q would be published where %q is to be left alone", f.Path, kept), "take it out of the content, or change the pattern")
			return nil, false
		}
		if strings.ContainsAny(f.Path, "\x00\n") {
			l.say(at, fmt.Sprintf("content file %q has a line break in its name", f.Path), "rename it")
		}
		if f.Size > ContentLimit {
			l.say(at, fmt.Sprintf("content file %q has %d MB, and a published file has %d at most", f.Path, f.Size>>20, ContentLimit>>20), "take it out, put it on the hosts by other means, and name it in keep")
		}
	}
	return files, true
}

// archiveEndings are the names that archives have.
var archiveEndings = []string{".zip", ".tar", ".tar.gz", ".tgz", ".tar.xz", ".txz", ".tar.zst", ".tzst"}

// ContentLimit is the most that one published file has, in bytes.
const ContentLimit = 256 << 20

// published finds the files that content publishes; false says that there are
// none, or none that can be known yet.
func (l *linter) published(c *Content, at []string) ([]File, bool) {
	sub := func(k string) []string { return append(append([]string{}, at...), k) }
	key, given := "dir", c.Dir
	ways := 0
	for _, way := range []string{c.Dir, c.Archive, c.URL, c.Git} {
		if way != "" {
			ways++
		}
	}
	switch {
	case ways != 1:
		l.say(at, "content comes from one place", "give it one of dir = \"DIRECTORY\", archive = \"FILE\", url = \"URL\" and git = \"REPOSITORY\"")
		return nil, false
	case !l.fetching(c, sub):
		return nil, false
	case c.Fetched() != "":
		return l.inFetched(c, sub)
	case c.Archive != "":
		key, given = "archive", c.Archive
	case c.Folder != "":
		l.say(sub("folder"), "a folder is chosen in an archive or a repository", "write the sub-directory into dir")
		return nil, false
	}
	if path.IsAbs(given) || path.Clean(given) != strings.TrimSuffix(given, "/") || strings.HasPrefix(given, "..") || given == "." {
		l.say(sub(key), fmt.Sprintf("%q does not lie beside the declaration", given), "write a path below the declaration's directory, such as \"content/site\"")
		return nil, false
	}
	if c.Archive != "" {
		return l.inArchive(c, sub)
	}
	files, ok := l.d.manifest.Below(c.Dir)
	switch {
	case !ok:
		l.say(sub("dir"), fmt.Sprintf("there is no directory %q beside the declaration", c.Dir), didYouMean(c.Dir, l.allDirs()))
	case len(files) == 0:
		l.say(sub("dir"), fmt.Sprintf("directory %q is empty: visitors would get 403", c.Dir), "put the site's files there")
	}
	return files, len(files) > 0
}

// inArchive finds the files of an archive's folder. An archive that nobody has
// opened yet is only looked for.
func (l *linter) inArchive(c *Content, sub func(string) []string) ([]File, bool) {
	if !slices.ContainsFunc(archiveEndings, func(e string) bool { return strings.HasSuffix(strings.ToLower(c.Archive), e) }) {
		l.say(sub("archive"), fmt.Sprintf("%q is no archive of a sort that is known", c.Archive), "it may be "+strings.Join(archiveEndings, ", "))
		return nil, false
	}
	if c.Folder != "" && !insideFolder(c.Folder) {
		l.say(sub("folder"), fmt.Sprintf("%q is no folder in an archive", c.Folder), "write its path as the archive has it")
		return nil, false
	}
	all, opened := l.d.manifest.Below(c.Archive)
	if !opened {
		var names []string
		for _, f := range l.d.manifest.Files {
			if f.Path == c.Archive {
				return nil, false
			}
			names = append(names, f.Path)
		}
		l.say(sub("archive"), fmt.Sprintf("there is no file %q beside the declaration", c.Archive), didYouMean(c.Archive, names))
		return nil, false
	}
	return l.inFolder(c, all, c.Archive, sub)
}

// inFetched finds the files of what the service has fetched. Before it has, nothing
// can be known of them.
func (l *linter) inFetched(c *Content, sub func(string) []string) ([]File, bool) {
	if c.Folder != "" && !insideFolder(c.Folder) {
		l.say(sub("folder"), fmt.Sprintf("%q is no folder in what is fetched", c.Folder), "write its path as the archive or repository has it")
		return nil, false
	}
	all, fetched := l.d.manifest.Below(c.Fetched())
	if !fetched {
		return nil, false
	}
	return l.inFolder(c, all, c.URL+c.Git, sub)
}

// inFolder finds the files of a chosen folder.
func (l *linter) inFolder(c *Content, all []File, from string, sub func(string) []string) ([]File, bool) {
	files, ok := l.d.manifest.Below(c.Place())
	if !ok {
		folders := map[string]bool{}
		for _, f := range all {
			for d := path.Dir(f.Path); d != "."; d = path.Dir(d) {
				folders[d] = true
			}
		}
		l.say(sub("folder"), fmt.Sprintf("there is no folder %q in %s", c.Folder, from), didYouMean(c.Folder, sortedKeys(folders)))
	}
	return files, ok
}

func insideFolder(p string) bool {
	return !path.IsAbs(p) && path.Clean(p) == strings.TrimSuffix(p, "/") && !strings.HasPrefix(p, "..") && p != "."
}

// indexFix looks for the file that was probably meant as the index.
func indexFix(c *Content, index, top []string, files []File) string {
	for _, want := range index {
		for _, have := range top {
			if strings.EqualFold(want, have) {
				return fmt.Sprintf("there is %q, which differs in upper and lower case: rename the file or write %q", have, have)
			}
			if strings.HasPrefix(strings.ToLower(have), strings.ToLower(want)+".") {
				return fmt.Sprintf("there is %q, which has a second ending: rename it to %q", have, want)
			}
		}
		for _, f := range files {
			if path.Base(f.Path) == want {
				if c.Dir == "" {
					return fmt.Sprintf("there is %q: choose it with folder = %q", f.Path, path.Join(c.Folder, path.Dir(f.Path)))
				}
				return fmt.Sprintf("there is %q: publish the sub-folder %q instead", f.Path, path.Dir(f.Path))
			}
		}
		if n := near(want, top); n != "" {
			return fmt.Sprintf("did you mean %q?", n)
		}
	}
	if len(top) > 0 && len(top) <= 8 {
		return "there is: " + strings.Join(top, ", ")
	}
	return ""
}

func (l *linter) allDirs() []string {
	seen := map[string]bool{}
	for _, d := range l.d.manifest.Dirs {
		seen[d] = true
	}
	for _, f := range l.d.manifest.Files {
		for d := path.Dir(f.Path); d != "."; d = path.Dir(d) {
			seen[d] = true
		}
	}
	return sortedKeys(seen)
}

// claims finds two sites that answer to one name and port on one host, and two
// sites that publish into one directory.
func (l *linter) claims() {
	type claim struct{ host, what string }
	first := map[claim]string{}
	roots := map[claim]string{}
	for _, name := range l.inOrder() {
		s := l.d.Sites[name]
		for _, host := range l.d.HostsOf(name) {
			for i, n := range s.Names {
				for _, port := range s.ListenOn() {
					c := claim{host, n + ":" + strconv.Itoa(port)}
					if other, ok := first[c]; ok && other != name {
						at := l.d.At("site", other)
						l.say(keys("site", name, "names", strconv.Itoa(i)), fmt.Sprintf("site %s claims %s on port %d of %s, as site %s does", name, n, port, host, other),
							fmt.Sprintf("site %s is at %s:%d; give one of them another name, port or host", other, at.File, at.Line))
					} else if ok {
						l.say(keys("site", name, "names", strconv.Itoa(i)), fmt.Sprintf("name %q is listed twice", n), "keep one of the two")
					}
					first[c] = name
				}
			}
			for root, at := range s.roots(name) {
				c := claim{host, root}
				if other, ok := roots[c]; ok && other != strings.Join(at, sep) {
					o := l.d.At(strings.Split(other, sep)...)
					l.say(at, fmt.Sprintf("%s on %s already gets other content", root, host), fmt.Sprintf("see %s:%d; give one of the two another directory", o.File, o.Line))
				}
				roots[c] = strings.Join(at, sep)
			}
		}
	}
	l.nested(roots2hosts(l.d))
}

// inOrder is the sites as they stand in the files, so that of two that clash
// the later one is named.
func (l *linter) inOrder() []string {
	names := sortedKeys(l.d.Sites)
	sort.SliceStable(names, func(i, j int) bool {
		a, b := l.d.At("site", names[i]), l.d.At("site", names[j])
		return a.File < b.File || a.File == b.File && a.Line < b.Line
	})
	return names
}

// roots are the directories that a site publishes into, with their keys.
func (s *Site) roots(name string) map[string][]string {
	out := map[string][]string{}
	if s.Root != "" && s.Content != nil {
		out[s.Root] = keys("site", name, "root")
	}
	for u, p := range s.Paths {
		if p.Root != "" && p.Content != nil {
			out[p.Root] = keys("site", name, "path", u, "root")
		}
	}
	return out
}

type rootAt struct {
	root string
	at   []string
}

func roots2hosts(d *Declaration) map[string][]rootAt {
	out := map[string][]rootAt{}
	for _, name := range sortedKeys(d.Sites) {
		for _, host := range d.HostsOf(name) {
			for root, at := range d.Sites[name].roots(name) {
				out[host] = append(out[host], rootAt{root, at})
			}
		}
	}
	return out
}

// nested finds a published directory inside another: a swap of the outer one
// would carry the inner one along.
func (l *linter) nested(byHost map[string][]rootAt) {
	said := map[string]bool{}
	for _, host := range sortedKeys(byHost) {
		for _, inner := range byHost[host] {
			for _, outer := range byHost[host] {
				k := strings.Join(inner.at, sep)
				if strings.HasPrefix(inner.root, outer.root+"/") && !said[k] {
					said[k] = true
					l.say(inner.at, fmt.Sprintf("%s lies inside %s, which is published as a whole", inner.root, outer.root), "use a directory beside it")
				}
			}
		}
	}
}

func (l *linter) addresses() {
	first := map[string]string{}
	for _, name := range sortedKeys(l.d.Hosts) {
		h := l.d.Hosts[name]
		key := fmt.Sprintf("%s:%d", h.Address, l.d.ReachOf(name).Port)
		if h.Via == "local" {
			key = "local"
		}
		if other, ok := first[key]; ok && h.Address != "" {
			l.say(keys("host", name, "address"), fmt.Sprintf("host %s has the address of host %s", name, other), "two hosts cannot share an address and port, or both be the service's own machine")
		}
		first[key] = name
	}
}
