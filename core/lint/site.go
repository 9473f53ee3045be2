package lint

import (
	"fmt"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/net/idna"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/near"
	"northstake/core/render"
)

func (l linter) site(name string, s *declare.Site) {
	here := keys("site", name)
	if !form.PlainName.MatchString(name) {
		l.Say(here, fmt.Sprintf("site name %q has characters it cannot have", name), "use lower-case letters, digits and hyphens")
	}
	if strings.HasPrefix(name, "other-names-") {
		l.Say(here, fmt.Sprintf("site name %q is kept for what answers to names that no site has", name), "choose another")
	}
	l.givens(s.Givens, here)
	if s.Server == "" && l.D.Lacks("site", name, "server") {
		l.Say(here, fmt.Sprintf("[site.%s] has no server", name), "add server = \""+strings.Join(render.Servers(), "\" or \"")+"\", or a kit that says it")
	}
	if len(s.Names) == 0 && l.D.Lacks("site", name, "names") {
		l.Say(here, fmt.Sprintf("[site.%s] has no names", name), "add names = […] (the host names that browsers will ask for), or a kit that says them")
	}
	for i, on := range s.On {
		if hosts, err := l.D.Match(on); err != nil || len(hosts) == 0 {
			l.Say(check.At(here, "on", strconv.Itoa(i)), fmt.Sprintf("no host is called %q", on), near.DidYouMean(on, l.hostWords(on)))
		}
	}
	if l.Written(check.At(here, "on")...) && len(s.On) == 0 {
		l.Say(check.At(here, "on"), "a site on no host is served nowhere", "name at least one host")
	}
	l.names(name, s)
	l.within(name, s)
	l.listen(s, here)
	l.besideSSH(name, s, here)
	if s.Root != "" {
		l.Root(s.Root, check.At(here, "root"))
	}
	l.looks(s, here)
	l.serving(s, &s.Serving, here)
	render.Check(l.Checker, name, s)
	if s.Content != nil {
		l.Content(s.Content, check.At(here, "content"), standing(s.Index, s.Otherwise), check.At(here, "index"))
	}
	for i, p := range s.Probes {
		l.Probe(p, check.At(here, "probe", strconv.Itoa(i)))
	}
	for _, u := range sorted(s.Paths) {
		l.path(name, s, u)
	}
	l.loops(name, s)
}

// crowded are directories that hold so much else that no container is to see all of one.
var crowded = []string{"/", "/bin", "/boot", "/dev", "/etc", "/home", "/lib", "/opt", "/proc", "/root", "/run", "/sbin", "/sys", "/tmp", "/usr", "/var", "/var/lib", "/var/log"}

// within checks what counts for a site whose server runs in a container.
func (l linter) within(name string, s *declare.Site) {
	at := func(more ...string) []string { return keys(append([]string{"site", name}, more...)...) }
	if s.Image == "" {
		if s.ImageSecret != "" {
			l.Say(at("image_secret"), "a secret for an image that is not named", "add image = \"REGISTRY/NAME:TAG\", or take it out")
		}
		return
	}
	l.ImageName(s.Image, at("image"))
	l.Secret(s.ImageSecret, "image_secret", at("image_secret"))
	if s.PHP {
		l.Say(at("php"), "PHP is run by the host, and not in a container", "let a path pass on to what runs it, or take image out")
	}
	around := func(p string, of string, where []string) {
		if dir := path.Dir(p); p != "" && slices.Contains(crowded, dir) {
			l.Say(where, fmt.Sprintf("the container would see all of %s, the directory around this %s", dir, of), fmt.Sprintf("put it one directory deeper, such as %s/%s/%s", strings.TrimSuffix(dir, "/"), name, path.Base(p)))
		}
	}
	around(s.Root, "root", at("root"))
	for _, u := range sorted(s.Paths) {
		around(s.Paths[u].Root, "root", at("path", u, "root"))
	}
	if s.Log.Access != "off" {
		around(s.Log.Access, "log", at("log", "access"))
	}
	around(s.Log.Error, "log", at("log", "error"))
}

func (l linter) names(site string, s *declare.Site) {
	if l.Written(keys("site", site, "names")...) && len(s.Names) == 0 {
		l.Say(keys("site", site, "names"), "a site needs at least one name", "add the host name that browsers will ask for")
	}
	for i, n := range s.Names {
		l.name(n, keys("site", site, "names", strconv.Itoa(i)))
	}
	for i, n := range s.RedirectedNames {
		l.name(n, keys("site", site, "redirected_names", strconv.Itoa(i)))
	}
	if len(s.RedirectedNames) > 0 && len(s.Names) > 0 && strings.HasPrefix(s.Names[0], "*") {
		l.Say(keys("site", site, "names", "0"), fmt.Sprintf("visitors are redirected to %q, which is no single name", s.Names[0]), "put a name without * first")
	}
}

func (l linter) name(n string, at []string) {
	switch {
	case strings.Contains(n, "://"):
		l.Say(at, fmt.Sprintf("%q is a URL, not a host name", n), fmt.Sprintf("write %q", strings.Split(strings.SplitN(n, "://", 2)[1]+"/", "/")[0]))
	case strings.ToLower(n) != n && form.DNSName.MatchString(strings.ToLower(n)):
		l.Say(at, fmt.Sprintf("%q has capital letters", n), fmt.Sprintf("write %q", strings.ToLower(n)))
	case asciiName(n) != "":
		l.Say(at, fmt.Sprintf("%q has letters that names have in another form where they are looked up", n), fmt.Sprintf("write %q", asciiName(n)))
	case !form.DNSName.MatchString(n) || len(n) > 253:
		l.Say(at, fmt.Sprintf("%q is not a host name", n), "use letters, digits, hyphens and dots; *. in front for all below")
	}
}

// loopback says whether a name or address leads to the host that asks.
func loopback(name string) bool {
	at, err := netip.ParseAddr(name)
	return name == "localhost" || err == nil && at.IsLoopback()
}

// asciiName is a name with letters of other scripts as it is looked up (RFC 5891), "" for one that has
// none or cannot be one.
func asciiName(n string) string {
	rest, wild := strings.CutPrefix(n, "*.")
	ascii, err := idna.Lookup.ToASCII(rest)
	if err != nil || ascii == strings.ToLower(rest) || !form.DNSName.MatchString(ascii) {
		return ""
	}
	if wild {
		return "*." + ascii
	}
	return ascii
}

func (l linter) listen(s *declare.Site, here []string) {
	seen := map[string]bool{}
	for i, on := range s.Listen {
		at := check.At(here, "listen", strconv.Itoa(i))
		switch {
		case on.Port == 443:
			l.Say(at, "at 443 browsers speak HTTPS, and sites speak plain HTTP so far", "listen on another port, and put a server with TLS in front of it")
		case on.Port < 1 || on.Port > 65535:
			l.Say(at, fmt.Sprintf("port %d does not exist", on.Port), "use a number from 1 to 65535")
		case seen[on.On()] && on.Address == "":
			l.Say(at, fmt.Sprintf("port %d is listed twice", on.Port), "keep one of the two")
		case seen[on.On()]:
			l.Say(at, fmt.Sprintf("%s is listed twice", on.On()), "keep one of the two")
		}
		seen[on.On()] = true
		if a, err := netip.ParseAddr(on.Address); on.Address != "" && (err != nil || a.Zone() != "" || a.IsUnspecified()) {
			l.Say(check.At(at, "address"), fmt.Sprintf("%q is not an address of a host", on.Address), "write an IP address such as \"10.88.0.11\", or leave it out for all of them")
		}
	}
}

// besideSSH says that a site listens where a host lets the service in.
func (l linter) besideSSH(name string, s *declare.Site, here []string) {
	if s.Image != "" {
		return // in a container, whose own ports these are
	}
	for i, on := range s.Listen {
		for _, host := range l.D.HostsOf(name) {
			if _, to := l.D.Hosts[host].Transport(); to.Login && l.D.ReachOf(host).Port == on.Port {
				l.Say(check.At(here, "listen", strconv.Itoa(i)), fmt.Sprintf("at port %d the service gets in to host %s by SSH", on.Port, host), "listen on another port")
				break
			}
		}
	}
}

// looks checks what a site says of how it is shown, that paths do not say.
func (l linter) looks(s *declare.Site, here []string) {
	l.closed(s, check.At(here, "closed"))
	for _, status := range sorted(s.ErrorPages) {
		at := check.At(here, "error_pages", status)
		if n, err := strconv.Atoi(status); err != nil || n < 400 || n > 599 || len(status) != 3 {
			l.SayKey(at, fmt.Sprintf("%q is not the status of an error", status), "use a number from 400 to 599, such as 404")
		}
		if fix := form.URLPath(s.ErrorPages[status]); fix != "" || strings.Contains(s.ErrorPages[status], "?") {
			l.Say(at, fmt.Sprintf("%q is not the path of a page of the site", s.ErrorPages[status]), "write one such as \"/lost.html\"")
		}
	}
	if s.Charset != "" && !form.Charset.MatchString(s.Charset) {
		l.Say(check.At(here, "charset"), fmt.Sprintf("%q is not the name of a character set", s.Charset), "write one such as \"utf-8\"")
	}
	for key, file := range map[string]string{"access": s.Log.Access, "error": s.Log.Error} {
		if file == "" || file == "off" && key == "access" {
			continue
		}
		roots := []string{s.Root}
		for _, u := range sorted(s.Paths) {
			roots = append(roots, s.Paths[u].Root)
		}
		for _, root := range roots {
			if root != "" && strings.HasPrefix(file, root+"/") {
				l.Say(check.At(here, "log", key), fmt.Sprintf("this log lies in %s, where visitors are shown what is there", root), "write it below /var/log")
			}
		}
		at := check.At(here, "log", key)
		if what, fix := form.Log(file); what != "" {
			l.Say(at, what, fix)
		} else if form.Bad(file) != "" || strings.ContainsAny(file, " #%") {
			l.Say(at, fmt.Sprintf("%q cannot be the file of a log", file), "use a plainer name")
		}
	}
	if s.Log.Form != "" && (s.Log.Access == "" || s.Log.Access == "off") {
		l.Say(check.At(here, "log", "form"), "a form without a file of the requests says nothing", "add access = \"/var/log/…\"")
	}
}

// hostWords are what a word of a site's "on" could have meant: labels where it is
// one, names elsewhere.
func (l linter) hostWords(word string) []string {
	if !strings.HasPrefix(word, "label:") {
		return sorted(l.D.Hosts)
	}
	labels := map[string]bool{}
	for _, h := range l.D.Hosts {
		for _, label := range h.Labels {
			labels["label:"+label] = true
		}
	}
	return sorted(labels)
}

func (l linter) index(index []string, at []string) {
	for i, f := range index {
		if slices.Contains(index[:i], f) {
			l.Say(check.At(at, strconv.Itoa(i)), fmt.Sprintf("%q is named twice", f), "keep one of the two")
		}
		if !form.FileName(f) {
			l.Say(check.At(at, strconv.Itoa(i)), fmt.Sprintf("%q is not a plain file name", f), "write a name such as \"index.html\"")
		}
	}
}

// standing are the files that can stand for a directory: its index files, and the page that answers
// for whatever is no file.
func standing(index []string, otherwise string) []string {
	if otherwise == "" {
		return index
	}
	if len(index) == 0 {
		index = []string{"index.html"}
	}
	return append(slices.Clone(index), otherwise)
}

// serving checks what a site and a path of it, or the site itself, can both say.
func (l linter) serving(site *declare.Site, s *declare.Serving, here []string) {
	l.index(s.Index, check.At(here, "index"))
	l.otherwise(site, s.Otherwise, here)
	for _, name := range sorted(s.Headers) {
		l.header(name, s.Headers[name], check.At(here, "headers", name))
	}
	for _, pattern := range sorted(s.BrowserCache) {
		l.browserCache(pattern, s.BrowserCache[pattern], check.At(here, "browser_cache", pattern))
	}
	l.visitors(s, here)
	if n, ok := form.Bytes(s.LargestBody); s.LargestBody != "" && (!ok || n < 1 || n > maxBody) {
		l.Say(check.At(here, "largest_body"), fmt.Sprintf("%q is not a size that a body can have", s.LargestBody), "write one such as \"500KB\" or \"20MB\", of at most 2GB")
	}
	for _, server := range sorted(s.Raw) {
		if !slices.Contains(render.Servers(), server) {
			l.SayKey(check.At(here, "raw", server), fmt.Sprintf("no web server is called %q here", server), "there are "+strings.Join(render.Servers(), ", "))
		}
		if form.Control(strings.NewReplacer("\n", "", "\t", "").Replace(s.Raw[server])) {
			l.Say(check.At(here, "raw", server), "these lines have a control character", "take it out")
		}
	}
}

func (l linter) otherwise(site *declare.Site, name string, here []string) {
	at := check.At(here, "otherwise")
	switch {
	case name == "":
	case !form.FileName(name):
		l.Say(at, fmt.Sprintf("%q is not a plain file name", name), "write the name of a file of the root, such as \"index.html\"")
	case slices.Contains(phpFiles, strings.ToLower(path.Ext(name))) && !site.PHP:
		l.Say(at, fmt.Sprintf("PHP is not declared, and %s would be sent as text", name), fmt.Sprintf("add php = true to %s", declare.TableName(here[:2])))
	}
}

func (l linter) header(name, value string, at []string) {
	if !form.Header.MatchString(name) {
		l.SayKey(at, fmt.Sprintf("%q is not the name of a header", name), "use letters, digits and hyphens")
	}
	if slices.Contains(framing, strings.ToLower(name)) {
		l.SayKey(at, fmt.Sprintf("header %s is the server's own", name), "take it out: an answer with another one cannot be read")
	}
	if form.Control(value) || len(value) > 4000 {
		l.Say(at, "the header's value has a control character, or is too long", "write it in one line of at most 4000 characters")
	}
}

func (l linter) browserCache(pattern, span string, at []string) {
	if pattern == "" || form.Bad(strings.ReplaceAll(pattern, "*", "")) != "" || strings.ContainsAny(pattern, " #%") || strings.Contains(pattern, "/") && !strings.HasPrefix(pattern, "/") && !strings.HasPrefix(pattern, "*") {
		l.SayKey(at, fmt.Sprintf("%q is not a pattern of files", pattern), "write one such as \"*.css\", or \"/assets/*\"")
	}
	if _, ok := form.Seconds(span); !ok {
		l.Say(at, fmt.Sprintf("%q is not a length of time", span), "write one such as \"10m\", \"7d\" or \"0s\"")
	}
}

// visitors checks who may see what is served: accounts, and networks.
func (l linter) visitors(s *declare.Serving, here []string) {
	for _, account := range sorted(s.Passwords) {
		at := check.At(here, "passwords", account)
		if !form.Visitor.MatchString(account) {
			l.SayKey(at, fmt.Sprintf("%q cannot be the name of an account of visitors", account), "use letters, digits and . _ @ -")
		}
		if !form.Bcrypt.MatchString(s.Passwords[account]) {
			l.Say(at, "this is not the bcrypt hash of a password", "northstake password makes one; a password itself never stands in a declaration")
		}
	}
	if s.PasswordsSecret != "" {
		at := check.At(here, "passwords_secret")
		l.Secret(s.PasswordsSecret, "passwords_secret", at)
		if s.Passwords != nil {
			l.Say(at, "the accounts stand in passwords, too", "keep one of the two")
		}
	}
	for key, list := range map[string][]string{"from": s.From, "not_from": s.NotFrom} {
		for i, n := range list {
			l.Network(n, check.At(here, key, strconv.Itoa(i)))
		}
		if l.Written(check.At(here, key)...) && len(list) == 0 {
			l.Say(check.At(here, key), fmt.Sprintf("%s with no network says nothing that can be meant", key), "name a network, or take it out")
		}
	}
}

// maxBody is the largest body that all servers can be told of, in bytes.
const maxBody = 2<<30 - 1

// framing are headers that say how an answer is to be read.
var framing = []string{"content-length", "transfer-encoding", "connection", "content-type", "content-encoding", "content-range", "date", "server", "location", "www-authenticate", "allow", "vary", "etag", "last-modified", "trailer", "upgrade"}

// otherwise are the keys of a path, by what it does.
var otherwise = map[string][]string{
	"root":      {"content"},
	"says":      {"type", "status"},
	"moved_to":  {"status", "rest", "query"},
	"passed_to": {"passing", "passed_path", "connects_in", "answers_in", "visitor_headers"},
}

func (l linter) path(site string, s *declare.Site, u string) {
	p, at := s.Paths[u], keys("site", site, "path", u)
	fix := form.URLPath(u)
	switch q := strings.IndexByte(u, '?'); {
	case fix != "":
		l.Say(at, fmt.Sprintf("%q cannot be a path of a site", u), fix)
	case q >= 0:
		l.Say(at, fmt.Sprintf("%q has a query, by which no path is told", u), fmt.Sprintf("write %q; it serves whatever is asked for there", u[:q]))
	case u != "/" && strings.HasSuffix(u, "/"):
		l.Say(at, fmt.Sprintf("path %q ends in a slash", u), fmt.Sprintf("write %q; it serves what is below it as well", strings.TrimRight(u, "/")))
	case u == "/" && p.Root != "":
		l.Say(check.At(at, "root"), "\"/\" has a root of its own", "the site's own root serves /: write it there")
	}
	does := map[string]bool{"root": p.Root != "", "says": p.Says != nil, "moved_to": p.MovedTo != "", "passed_to": len(p.PassedTo) > 0}
	var said []string
	for _, key := range []string{"root", "says", "moved_to", "passed_to"} {
		if does[key] {
			said = append(said, key)
		}
	}
	for key := range does { // a key that another word was taken for does it, too
		does[key] = does[key] || !l.D.Lacks(check.At(at, key)...)
	}
	if len(said) > 1 {
		l.Say(check.At(at, said[1]), fmt.Sprintf("path %s has both %s and %s", u, said[0], said[1]), "keep one of the two: a path is one thing")
	}
	for _, key := range slices.Sorted(maps.Keys(otherwise)) {
		for _, k := range otherwise[key] {
			if l.Written(check.At(at, k)...) && !does[key] && !(k == "status" && (does["says"] || does["moved_to"])) {
				l.Say(check.At(at, k), fmt.Sprintf("%s belongs to a path with %s", k, map[bool]string{true: "says or moved_to", false: key}[k == "status"]), "take it out")
			}
		}
	}
	l.serving(s, &p.Serving, at)
	if p.Exact && p.Root != "" {
		l.Say(check.At(at, "exact"), "a root shows what is below a path as well", "take exact out")
	}
	if p.Root != "" {
		if u != "/" {
			l.Root(p.Root, check.At(at, "root"))
		}
		if p.Content != nil {
			l.ContentAt(u+"/", p.Content, check.At(at, "content"), standing(render.IndexAt(s, u), p.Otherwise), check.At(at, "index"))
		}
	}
	if p.Says != nil {
		l.says(p, at)
	}
	if p.MovedTo != "" {
		l.moved(u, p, at)
	}
	if len(p.PassedTo) > 0 {
		l.passes(s, p, at)
	}
}

func (l linter) closed(s *declare.Site, at []string) {
	switch page := s.Closed; {
	case page != "" && strings.TrimSpace(page) == "":
		l.Say(at, "a closed site has to say something", "write what visitors are to read, or \"\", and the site is open")
	case form.Control(strings.NewReplacer("\n", "", "\t", "").Replace(page)) || len(page) > 4000:
		l.Say(at, "the page has a control character, or more than 4,000 bytes", "write a shorter one; a picture can be a data: URL of a few bytes, or stand elsewhere")
	case page != "" && !s.IsServed():
		l.Say(at, "the site is not served, and nobody gets this page", "keep one of served and closed")
	}
}

func (l linter) says(p *declare.Path, at []string) {
	if form.Control(strings.NewReplacer("\n", "", "\t", "").Replace(*p.Says)) || len(*p.Says) > 4000 {
		l.Say(check.At(at, "says"), "the text has a control character, or is too long", "publish it as content")
	}
	if p.Type != "" && !form.MediaType.MatchString(p.Type) {
		l.Say(check.At(at, "type"), fmt.Sprintf("%q is not a media type", p.Type), "write one such as \"application/json\"")
	}
	if n := p.Status; l.Written(check.At(at, "status")...) && (n < 200 || n > 599 || n >= 300 && n < 400 || n == 204 || n == 205) {
		l.Say(check.At(at, "status"), fmt.Sprintf("%d is not the status of an answer with a text", n), "use one such as 200, 410 or 503; moved_to sends visitors on")
	}
}

func (l linter) moved(u string, p *declare.Path, at []string) {
	to, here := p.MovedTo, check.At(at, "moved_to")
	path := to
	for _, scheme := range []string{"http://", "https://"} {
		if rest, ok := strings.CutPrefix(to, scheme); ok {
			host, below, _ := strings.Cut(rest, "/")
			name, _, _ := strings.Cut(host, ":")
			path = "/" + below
			if !form.DNSName.MatchString(name) || strings.HasPrefix(name, "*") {
				path = ""
			}
		}
	}
	path, fragment, _ := strings.Cut(path, "#")
	bare, query, _ := strings.Cut(path, "?")
	if form.URLPath(bare) != "" || form.Control(query+fragment) || strings.ContainsAny(query+fragment, " \"<>\\^`{|}") || len(to) > 2000 {
		l.Say(here, fmt.Sprintf("%q is nothing that a visitor can be sent to", to), "write a path such as \"/sailings\", or a URL such as \"https://ferries.test/sailings\"")
	}
	if strings.Contains(fragment, "?") {
		l.Say(here, fmt.Sprintf("%q has a question mark behind its #", to), "write it as %3F, which means the same there")
	}
	ends := strings.ContainsAny(to, "?#")
	if ends && p.Rest != declare.RestDropped && !p.Exact {
		l.Say(here, fmt.Sprintf("%q has an end of its own, behind which the rest of the path cannot be kept", to), "add rest = \"dropped\"")
	}
	if ends && p.Query != declare.RestDropped {
		l.Say(here, fmt.Sprintf("%q has an end of its own, behind which the query cannot be kept", to), "add query = \"dropped\"")
	}
	if n := p.Status; l.Written(check.At(at, "status")...) && !slices.Contains([]int{301, 302, 303, 307, 308}, n) {
		l.Say(check.At(at, "status"), fmt.Sprintf("%d is not the status of a redirect", n), "use 301, 302, 303, 307 or 308")
	}
	if bare == u && to == path || strings.HasPrefix(to, u+"/") && !p.Exact && u != "/" {
		l.Say(here, fmt.Sprintf("%s leads to itself", u), "lead it elsewhere")
	}
}

func (l linter) passes(s *declare.Site, p *declare.Path, at []string) {
	for i, to := range p.PassedTo {
		here := check.At(at, "passed_to", strconv.Itoa(i))
		if slices.Contains(p.PassedTo[:i], to) {
			l.Say(here, fmt.Sprintf("%q is named twice", to), "keep one of the two")
		}
		if socket, ok := strings.CutPrefix(to, "unix:"); ok {
			if form.Socket(socket) != "" {
				l.Say(here, fmt.Sprintf("%q is not the path of a socket", socket), form.Socket(socket))
			}
			continue
		}
		rest, ok := strings.CutPrefix(to, "http://")
		name, port, ported := strings.Cut(rest, ":")
		if strings.HasPrefix(rest, "[") {
			name, port, ported = strings.Cut(strings.TrimPrefix(rest, "["), "]:")
			if at, err := netip.ParseAddr(name); err == nil && !at.IsLoopback() {
				name = "v6.test"
			} else if err == nil {
				name = "localhost"
			}
		}
		n, err := strconv.Atoi(port)
		if !ported {
			n = 80
		}
		switch {
		case ok && slices.Contains(s.Ports(), n) && (loopback(name) || slices.Contains(s.Names, name)):
			l.Say(here, fmt.Sprintf("%q is this site itself: what is asked for would go round", to), "name the port on which the service listens")
		case strings.HasPrefix(to, "https://"):
			l.Say(here, "passing on to an encrypted service is not declared here yet", "pass on to http:, or write raw lines")
		case ok && strings.Contains(rest, "/"):
			l.Say(here, fmt.Sprintf("%q has a path", to), "leave it out: the service is asked for the path that the visitor asked for, or, with passed_path = \"shortened\", for what is below")
		case !ok || !form.DNSName.MatchString(name) || strings.HasPrefix(name, "*") || ported && (err != nil || n < 1 || n > 65535):
			l.Say(here, fmt.Sprintf("%q is no service that can be passed on to", to), "write a URL such as \"http://127.0.0.1:9000\", or \"unix:/run/tides.sock\"")
		}
	}
	for key, span := range map[string]string{"connects_in": p.ConnectsIn, "answers_in": p.AnswersIn} {
		if n, ok := form.Seconds(span); span != "" && (!ok || n < 1 || n > 24*3600) {
			l.Say(check.At(at, key), fmt.Sprintf("%q is not a length of time to wait", span), "write one such as \"5s\" or \"10m\", of at most a day")
		}
	}
}
