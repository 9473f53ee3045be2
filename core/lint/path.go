package lint

import (
	"fmt"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/render"
	"northstake/core/wire"
)

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
	l.pathName(u, p, at)
	l.oneThing(u, p, at)
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

// pathName checks what a path is called.
func (l linter) pathName(u string, p *declare.Path, at []string) {
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
}

// oneThing checks that a path does one thing, and has the keys of that alone.
func (l linter) oneThing(u string, p *declare.Path, at []string) {
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
	path, fragment, _ := strings.Cut(targetPath(to), "#")
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

// targetPath is the path to which a redirect leads, with what follows it; "" where its host has no name that
// visitors could find it by.
func targetPath(to string) string {
	for _, scheme := range []string{"http://", "https://"} {
		rest, ok := strings.CutPrefix(to, scheme)
		if !ok {
			continue
		}
		host, below, _ := strings.Cut(rest, "/")
		name, _, _ := strings.Cut(host, ":")
		if !form.DNSName.MatchString(name) || strings.HasPrefix(name, "*") {
			return ""
		}
		return "/" + below
	}
	return to
}

func (l linter) passes(s *declare.Site, p *declare.Path, at []string) {
	for i, to := range p.PassedTo {
		here := check.At(at, "passed_to", strconv.Itoa(i))
		if slices.Contains(p.PassedTo[:i], to) {
			l.Say(here, fmt.Sprintf("%q is named twice", to), "keep one of the two")
		}
		l.upstream(s, to, here)
	}
	for key, span := range map[string]string{"connects_in": p.ConnectsIn, "answers_in": p.AnswersIn} {
		if n, ok := form.Seconds(span); span != "" && (!ok || n < 1 || n > 24*3600) {
			l.Say(check.At(at, key), fmt.Sprintf("%q is not a length of time to wait", span), "write one such as \"5s\" or \"10m\", of at most a day")
		}
	}
}

// upstream checks a service that is passed on to.
func (l linter) upstream(s *declare.Site, to string, here []string) {
	service, ok := declare.UpstreamOf(to)
	if ok && service.Scheme == "" {
		if form.Socket(service.Unix) != "" {
			l.Say(here, fmt.Sprintf("%q is not the path of a socket", service.Unix), form.Socket(service.Unix))
		}
		return
	}
	name := service.Name
	if strings.HasPrefix(service.Authority, "[") {
		if at, err := netip.ParseAddr(name); err == nil && !at.IsLoopback() {
			name = "v6.test"
		} else if err == nil {
			name = "localhost"
		}
	}
	switch {
	case ok && service.Scheme != wire.HTTP:
		l.Say(here, "passing on to an encrypted service is not declared here yet", "pass on to http:, or write raw lines")
	case ok && service.Below != "":
		l.Say(here, fmt.Sprintf("%q has a path", to), "leave it out: the service is asked for the path that the visitor asked for, or, with passed_path = \"shortened\", for what is below")
	case ok && slices.Contains(s.Ports(), service.Port) && (loopback(name) || slices.Contains(s.Names, name)):
		l.Say(here, fmt.Sprintf("%q is this site itself: what is asked for would go round", to), "name the port on which the service listens")
	case !ok || !form.DNSName.MatchString(name) || strings.HasPrefix(name, "*") || service.Port == 0:
		l.Say(here, fmt.Sprintf("%q is no service that can be passed on to", to), "write a URL such as \"http://127.0.0.1:9000\", or \"unix:/run/tides.sock\"")
	}
}
