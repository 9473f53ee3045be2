package render

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/textproto"
	"slices"
	"strings"

	"northstake/core/declare"
	"northstake/core/form"
)

// part is a path of a site with all that counts there: the longest path that a request lies
// below decides, and what it does not say itself is taken from the next longer one around
// it, and at last from the site.
type part struct {
	url   string // "/" of the site itself
	exact bool
	does  handling
	what  *declare.Path // the path that says what it does; nil for the files of the site
	base  string        // where that path is
	root  string        // of files, the directory that is shown at base

	index     []string
	lists     bool
	otherwise string // the file of the root that answers what is no file, "" for none
	headers   []header
	keeps     []lifetime
	passwords map[string]string
	secret    string // that holds the accounts, where they are not in passwords
	from      []string
	notFrom   []string
	body      int64  // bytes
	raw       string // lines of the server's own configuration, of this very path

	says map[string][]string // where each of these stands, by its key; "" is the path itself
}

// sort is what a part does.
type handling string

// What a part of a site does.
const (
	files  handling = "files"
	moved  handling = "moved"
	says   handling = "says"
	passes handling = "passes"
	closes handling = "closes"
)

// header is one of an answer; an empty value takes it away.
type header struct{ name, value string }

// lifetime is how long what matches is kept, in seconds.
type lifetime struct {
	pattern string
	seconds int64
}

// asks says whether a visitor has to give an account.
func (p part) asks() bool { return len(p.passwords) > 0 || p.secret != "" }

// guarded says whether not everybody may see a part.
func (p part) guarded() bool { return p.asks() || len(p.from)+len(p.notFrom) > 0 }

// below is what lies between where a part's files are shown and the part itself.
func (p part) below() string {
	if p.base == "/" {
		return strings.TrimSuffix(p.url, "/")
	}
	return strings.TrimPrefix(p.url, p.base)
}

// partsOf are the parts of a site, what lies below another first and the site itself last.
func partsOf(d *declare.Declaration, s Site) []part {
	site := d.Sites[s.Name]
	urls := slices.SortedFunc(maps.Keys(site.Paths), func(a, b string) int {
		return cmp.Or(cmp.Compare(len(b), len(a)), cmp.Compare(a, b))
	})
	if site.Paths["/"] == nil {
		urls = append(urls, "/")
	}
	out := make([]part, 0, len(urls))
	for _, u := range urls {
		out = append(out, partOf(site, s, u, urls))
	}
	return out
}

// startsPHP says whether a directory may be answered by what PHP makes of its index file.
func (p part) startsPHP(s Site) bool {
	return s.PHP != "" && !p.exact && slices.ContainsFunc(p.index, func(name string) bool { return strings.HasSuffix(name, ".php") })
}

// Bodies are the largest bodies of requests, in bytes, that a site takes for the files of each of its
// roots, as far as its declaration says so.
func Bodies(d *declare.Declaration, s Site) map[string]int64 {
	out := map[string]int64{}
	for _, p := range partsOf(d, s) {
		if p.does == files && p.says["largest_body"] != nil {
			out[p.root] = max(out[p.root], p.body)
		}
	}
	return out
}

// partOf gathers what counts at a path; urls are all of the site's, the longest first.
func partOf(site *declare.Site, s Site, url string, urls []string) part {
	g := gathering{part: part{url: url, base: "/", does: files, root: s.Root, body: defaultBody, says: map[string][]string{"": {}, "does": {"root"}}},
		headers: map[string]header{}, keeps: map[string]lifetime{}}
	for _, u := range urls {
		around := site.Paths[u]
		if around == nil || u != url && (around.Exact || !Encloses(u, url)) {
			continue
		}
		at := []string{"path", u}
		if u == url {
			g.exact, g.raw, g.says[""] = around.Exact, around.Raw[site.Server], at
			g.says["raw"] = append(slices.Clone(at), "raw", site.Server)
		}
		g.take(&around.Serving, at)
		g.decide(around, u, at)
	}
	g.take(&site.Serving, nil)
	if value := remembered(site); value != "" {
		g.take(&declare.Serving{Headers: map[string]string{"Strict-Transport-Security": value}}, []string{"https"})
	}
	return g.whole()
}

// gathering is a part while it is put together: the nearest that says something of a key is heard first, and
// those around it no more.
type gathering struct {
	part
	headers map[string]header
	keeps   map[string]lifetime
	decided bool // what it does is known
}

// heard says whether what stands below some keys says something of a key, and is the first that does.
func (g *gathering) heard(keys []string, key string, said bool) bool {
	if _, known := g.says[key]; known || !said {
		return false
	}
	g.says[key] = append(slices.Clone(keys), key)
	return true
}

// take hears what is said below some keys.
func (g *gathering) take(from *declare.Serving, keys []string) {
	if g.heard(keys, "index", from.Index != nil) {
		g.index = from.Index
	}
	if g.heard(keys, "directory_listing", from.DirectoryListing != nil) {
		g.lists = *from.DirectoryListing
	}
	if !g.decided && g.heard(keys, "otherwise", from.Otherwise != "") { // of the same root
		g.otherwise = from.Otherwise
	}
	if g.heard(keys, "passwords", from.Passwords != nil || from.PasswordsSecret != "") {
		if g.passwords, g.secret = from.Passwords, from.PasswordsSecret; g.secret != "" {
			g.says["passwords"] = append(slices.Clone(keys), "passwords_secret")
		}
	}
	if g.heard(keys, "from", from.From != nil) {
		g.from = from.From
	}
	if g.heard(keys, "not_from", from.NotFrom != nil) {
		g.notFrom = from.NotFrom
	}
	if g.heard(keys, "largest_body", from.LargestBody != "") {
		g.body, _ = form.Bytes(from.LargestBody)
	}
	for name, value := range from.Headers {
		name = textproto.CanonicalMIMEHeaderKey(name)
		if _, known := g.headers[name]; !known {
			g.headers[name] = header{name, value}
			g.says["header "+name] = append(slices.Clone(keys), "headers")
		}
	}
	for pattern, span := range from.BrowserCache {
		if _, known := g.keeps[pattern]; !known {
			seconds, _ := form.Seconds(span)
			g.keeps[pattern] = lifetime{pattern, seconds}
			g.says["keep "+pattern] = append(slices.Clone(keys), "browser_cache", pattern)
		}
	}
}

// decide has the part do what is declared at a path, unless that is known already.
func (g *gathering) decide(around *declare.Path, url string, at []string) {
	does := doing(around)
	if does == "" || g.decided {
		return
	}
	g.decided = true
	g.does, g.what, g.base = does, around, url
	g.says["does"] = append(slices.Clone(at), keyOf[does])
	if does == files {
		g.root = around.Root
	}
}

// whole is the part with what nobody said.
func (g *gathering) whole() part {
	p := g.part
	if _, known := g.headers["X-Content-Type-Options"]; !known {
		g.headers["X-Content-Type-Options"] = header{"X-Content-Type-Options", "nosniff"}
	}
	if len(p.index) == 0 {
		p.index = []string{"index.html"}
	}
	if p.does != files || p.exact {
		p.otherwise = ""
	}
	p.headers = slices.SortedFunc(maps.Values(g.headers), func(a, b header) int { return strings.Compare(a.name, b.name) })
	p.keeps = slices.SortedFunc(maps.Values(g.keeps), func(a, b lifetime) int { // the longest counts, and comes first
		return cmp.Or(cmp.Compare(len(b.pattern), len(a.pattern)), cmp.Compare(a.pattern, b.pattern))
	})
	return p
}

// defaultBody is the largest body of a request where nothing is declared, in bytes.
const defaultBody = 1 << 20

// doing is what a path does by itself, "" where it only has settings.
func doing(p *declare.Path) handling {
	switch {
	case p.MovedTo != "":
		return moved
	case p.Says != nil:
		return says
	case len(p.PassedTo) > 0:
		return passes
	case p.Closes:
		return closes
	case p.Root != "":
		return files
	}
	return ""
}

// ShowsFiles says whether a site shows files of a root of its own: not where all of it is
// answered otherwise, and nothing is said of a root.
func ShowsFiles(s *declare.Site) bool {
	all := s.Paths["/"]
	return all == nil || doing(all) == "" || s.Content != nil || s.Root != ""
}

// keyOf is the key by which a path says what it does.
var keyOf = map[handling]string{files: "root", moved: "moved_to", says: "says", passes: "passed_to"}

// IndexAt are the index files that count at a path of a site.
func IndexAt(site *declare.Site, url string) []string {
	urls := slices.SortedFunc(maps.Keys(site.Paths), func(a, b string) int { return cmp.Compare(len(b), len(a)) })
	return partOf(site, Site{}, url, urls).index
}

// Deciding is the path of a site that says what is done with a URL path, "" where the site's
// own files are shown.
func Deciding(site *declare.Site, url string) string {
	best := ""
	for u, p := range site.Paths {
		if doing(p) != "" && len(u) > len(best) && (u == url || !p.Exact && Encloses(u, url)) {
			best = u
		}
	}
	if best == "/" && doing(site.Paths["/"]) == files {
		return ""
	}
	return best
}

// Encloses says whether a URL path is another or lies around it.
func Encloses(around, url string) bool {
	return around == "/" || around == url || strings.HasPrefix(url, around+"/")
}

// page is the URL path of the page that answers what is no file.
func (p part) page() string { return strings.TrimSuffix(p.base, "/") + "/" + p.otherwise }

// front says whether that page is a PHP file, which is told what was asked for.
func (p part) front(s Site) bool { return s.PHP != "" && strings.HasSuffix(p.otherwise, ".php") }

// at is the place of what a part says under a key, or of the part.
func (w *writer) of(p part, key string) declare.Position {
	if keys, ok := p.says[key]; ok {
		return w.at(keys...)
	}
	return w.at(p.says[""]...)
}

// keepWords is a lifetime in the words of Cache-Control.
func (l lifetime) words() string {
	if l.seconds == 0 {
		return "no-cache"
	}
	return "max-age=" + itoa(l.seconds)
}

// expression is what a pattern of names means as a regular expression over URL paths, in
// the form that all servers read.
func (l lifetime) expression() string {
	var b strings.Builder
	if strings.Contains(l.pattern, "/") {
		b.WriteString("^")
	} else {
		b.WriteString("/")
	}
	for _, r := range l.pattern {
		switch {
		case r == '*' && strings.Contains(l.pattern, "/"):
			b.WriteString(".*")
		case r == '*':
			b.WriteString("[^/]*")
		default:
			b.WriteString(literal(string(r)))
		}
	}
	b.WriteString("$")
	return b.String()
}

// literal is text as a regular expression that means it.
func literal(s string) string {
	var b strings.Builder
	for _, r := range s {
		if strings.ContainsRune(`\.+*?()|[]{}^$`, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// target is where a redirect leads, without what is kept of the path below it, and what
// stands before that.
func (p part) target() (to, before string) {
	to = p.what.MovedTo
	return to, strings.TrimSuffix(to, "/") + "/"
}

func (p part) keepsRest() bool  { return p.what.Rest != declare.RestDropped && !p.exact }
func (p part) keepsQuery() bool { return p.what.Query != declare.RestDropped }

// status is that of a redirect or a text.
func (p part) status() int {
	switch {
	case p.what.Status != 0:
		return p.what.Status
	case p.does == moved:
		return 301
	}
	return 200
}

// textType is the media type of a fixed answer.
func (p part) textType() string { return cmp.Or(p.what.Type, "text/plain; charset=utf-8") }

// waits are the limits of a service, in seconds.
func (p part) waits() (connect, answer int64) {
	connect, _ = form.Seconds(cmp.Or(p.what.ConnectsIn, "5s"))
	answer, _ = form.Seconds(cmp.Or(p.what.AnswersIn, "60s"))
	return connect, answer
}

func (p part) tells() bool { return p.what.VisitorHeaders == nil || *p.what.VisitorHeaders }

// Accounts is a file of accounts as a server reads it, with what stands between a name and its
// hash. Text is "" where a secret holds them.
type Accounts struct {
	File    string
	Text    string
	Secret  string
	Between string
	From    declare.Position
}

// accountLines are accounts, each with its hash in the one spelling that all servers read.
func accountLines(passwords map[string]string, between string) string {
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(passwords)) {
		hash := passwords[name]
		if len(hash) > 4 {
			hash = "$2y$" + hash[4:]
		}
		b.WriteString(name + between + hash + "\n")
	}
	return b.String()
}

// SecretAccounts makes the text of a file of accounts of a secret that holds a line NAME:HASH
// for each; empty lines, and those that begin with #, are passed over. The error names the line, and never
// what stands there.
func SecretAccounts(secret []byte, between string) (string, error) {
	passwords := map[string]string{}
	n := 0
	for line := range strings.Lines(string(secret)) {
		n++
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' {
			continue
		}
		name, hash, _ := strings.Cut(line, ":")
		switch {
		case !form.Visitor.MatchString(name):
			return "", fmt.Errorf("line %d does not begin with the name of an account; write NAME:HASH, as northstake password --account NAME prints it", n)
		case !form.Bcrypt.MatchString(hash):
			return "", fmt.Errorf("line %d has no bcrypt hash after the name; northstake password --account NAME makes one", n)
		case passwords[name] != "":
			return "", fmt.Errorf("line %d names an account for the second time; keep one of the two", n)
		}
		passwords[name] = hash
	}
	if len(passwords) == 0 {
		return "", errors.New("there is no account in it; write a line NAME:HASH for each, as northstake password --account NAME prints it")
	}
	return accountLines(passwords, between), nil
}

// notTold are headers that say of visitors what only a server in front may say, and that none of
// ours says: services that believe them would believe the visitor. Some read an underscore as a
// hyphen (RFC 3875, section 4.1.18).
var notTold = []string{"Forwarded", "X-Real-IP", "X-Forwarded-Port", "X-Forwarded-Server", "X_Forwarded_For", "X_Forwarded_Host", "X_Forwarded_Proto", "X_Real_IP"}
