// Package render turns a site into the configuration text of a web server. For
// each line of the text it keeps the place in the declaration that the line
// comes from, so that what the server says of a line can be taken back to what
// a person wrote.
package render

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
)

// Text is rendered configuration. Lines[i] is where line i+1 comes from. Mark is what the
// server answers, on the host, when it is asked by the site's MarkName.
// Accounts are files beside it, of those who may see what is guarded.
type Text struct {
	Text     string
	Lines    []declare.Position
	Mark     string
	Accounts []Accounts
}

// Site is what a renderer needs of a site beside its declaration.
type Site struct {
	Name    string
	Root    string // document root on the host
	IPv6    bool   // whether the host speaks IPv6
	Listens []int  // ports that the server's own configuration listens on
	Dir     string // the server's configuration tree
	Modules string // directory of its modules, where it has some
	PHP     string // socket of what runs PHP files, where it does

	Certificate *CertificateFiles // nil where it has none

	// Mark is the mark of the accounts that a secret holds; nil where they are of no matter.
	Mark func(secret, between string) string
}

// Server is one web server: how it takes a virtual host, and what of a site it alone has
// other words for.
type Server struct {
	Render func(d *declare.Declaration, s Site) (Text, error)
	Check  func(c *check.Checker, name string, s *declare.Site) // what it alone cannot do; may be nil

	// Before is what stands before the name of a site's file, where of several virtual hosts that a
	// name fits the one counts whose file comes first; nil where the best fit does.
	Before func(s *declare.Site) string
}

// File is the name of a site's virtual host, without its ending.
func File(name string, s *declare.Site) string {
	file := "northstake-" + name
	if server := servers[s.Server]; server.Before != nil {
		file = server.Before(s) + file
	}
	return file
}

var servers = map[string]Server{}

// register makes a web server known; each server's file calls it once.
func register(name string, s Server) struct{} {
	declare.Allow("SiteSettings", "server", name)
	servers[name] = s
	return struct{}{}
}

// Servers lists the web servers that there are, sorted.
func Servers() []string { return slices.Sorted(maps.Keys(servers)) }

// Check says what the server of a site cannot do that others can.
func Check(c *check.Checker, name string, s *declare.Site) {
	if server := servers[s.Server]; server.Check != nil {
		server.Check(c, name, s)
	}
}

// VirtualHost renders a site for the server that it declares.
func VirtualHost(d *declare.Declaration, s Site) (Text, error) {
	site := d.Sites[s.Name]
	server, ok := servers[site.Server]
	if !ok {
		return Text{}, fmt.Errorf("there is no form of a virtual host for server %q", site.Server)
	}
	if site.Closed != "" {
		d, s.PHP = d.With(s.Name, site.AsClosed()), ""
	}
	return server.Render(d, s)
}

// writer collects lines with their places, and the first value that could not
// be written.
type writer struct {
	d      *declare.Declaration
	site   string
	b      strings.Builder
	lines  []declare.Position
	marked string
	failed error

	accounts map[string]Accounts
	dir      string
}

// page is the text of a site as it is written for a server: each server adds its own words.
type page struct {
	*writer
	site  *declare.Site
	s     Site
	parts []part
}

// begin begins the text of a site with its first line.
func begin(d *declare.Declaration, s Site) page {
	p := page{&writer{d: d, site: s.Name, dir: s.Dir}, d.Sites[s.Name], s, partsOf(d, s)}
	p.line(p.at(), "# Site %s of ground %s. North Stake writes this file.", s.Name, d.Ground.Name)
	return p
}

// any says whether a part of the site does something.
func (p page) any(does handling) bool {
	return slices.ContainsFunc(p.parts, func(one part) bool { return one.does == does })
}

func (w *writer) line(from declare.Position, format string, args ...any) {
	text := fmt.Sprintf(format+"\n", args...)
	w.b.WriteString(text)
	for range strings.Count(text, "\n") {
		w.lines = append(w.lines, from)
	}
}

// at is the place of a key of the site.
func (w *writer) at(keys ...string) declare.Position {
	if len(keys) > 0 && keys[0] == "path" && w.d.Sites[w.site].Closed != "" { // which has one for all
		keys = []string{"closed"}
	}
	return w.d.At(append([]string{"site", w.site}, keys...)...)
}

// q is a value in quotes.
func (w *writer) q(v string) string {
	out, err := Quote(v)
	if err != nil && w.failed == nil {
		w.failed = err
	}
	return out
}

func (w *writer) text() (Text, error) {
	var accounts []Accounts
	for _, file := range slices.Sorted(maps.Keys(w.accounts)) {
		accounts = append(accounts, w.accounts[file])
	}
	return Text{w.b.String(), w.lines, w.marked, accounts}, w.failed
}

// raw writes lines of the server's own configuration, as they are.
func (w *writer) raw(p part, indent string) {
	for line := range strings.Lines(p.raw) {
		w.line(w.of(p, "raw"), "%s%s", indent, strings.TrimRight(line, "\r\n"))
	}
}

// accountsOf is the file of the accounts that a part asks for, with what stands between a name
// and its hash.
func (w *writer) accountsOf(p part, between string) string {
	at := p.says["passwords"]
	file := w.dir + "/northstake-" + w.site + ".accounts"
	if len(at) > 1 { // of a path
		sum := sha256.Sum256([]byte(at[1]))
		file = w.dir + "/northstake-" + w.site + "-" + hex.EncodeToString(sum[:4]) + ".accounts"
	}
	if w.accounts == nil {
		w.accounts = map[string]Accounts{}
	}
	w.accounts[file] = Accounts{file, accountLines(p.passwords, between), p.secret, between, w.at(at...)}
	return file
}

// words quotes the names of index files.
func (w *writer) words(index []string) string {
	out := make([]string, len(index))
	for i, f := range index {
		out[i] = w.q(f)
	}
	return strings.Join(out, " ")
}

// Quote writes a value as one word of a web server's configuration language, in
// double quotes, with the marks that end a quoted word taken out of play. It is an
// error for a value to hold what cannot be quoted: a control character, or a
// dollar sign, which servers expand even in quotes.
func Quote(v string) (string, error) {
	for _, r := range v {
		if r < 0x20 || r == 0x7f || r == '$' {
			return "", fmt.Errorf("%q cannot stand in a web server's configuration: it has %q", v, r)
		}
	}
	if v == "" {
		return `""`, nil
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(v) + `"`, nil
}

// named is a name of the site's own in a server's configuration.
func (w *writer) named(what string) string {
	return "northstake_" + strings.ReplaceAll(w.site, "-", "_") + "_" + what
}

// markZone is the zone of names that nobody has (RFC 6761): a server is asked by them for
// its own word on which configuration it serves.
const markZone = ".northstake.invalid"

// MarkName is the name by which the server of a site is asked, from the host itself, which
// text it has loaded of that site.
func MarkName(site string) string { return site + markZone }

// mark is what the server answers to that, and at MarkPath under the site's own names: a sum of the text
// so far.
func (w *writer) mark() string {
	text := w.b.String()
	sum := sha256.Sum256([]byte(text))
	w.marked = marked + hex.EncodeToString(sum[:12])
	w.b.Reset()
	w.b.WriteString(strings.ReplaceAll(text, markHere, strings.TrimPrefix(w.marked, marked)))
	return w.marked
}

const (
	marked   = "northstake "
	markHere = "\x00mark\x00" // where the sum stands that the text has without it
	markDir  = "/.well-known/northstake/"
)

// MarkPath is the path at which a site answers by its mark to visitors that know it, by each of its
// names: whoever asks is served by that site, and by that text. Who does not know the mark cannot find
// the path, and learns nothing.
func MarkPath(mark string) string { return markDir + strings.TrimPrefix(mark, marked) }

func itoa(n int64) string { return strconv.FormatInt(n, 10) }
