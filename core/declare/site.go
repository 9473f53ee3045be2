package declare

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"

	"northstake/core/wire"
)

// Site is one website. What it does not say itself it takes from its kits.
type Site struct {
	On     []string          `toml:"on" json:"on" required:"true" example:"[\"quay1\", \"label:web\"]"`
	Kits   []string          `toml:"kits" json:"kits,omitempty" example:"[\"brochure\"]"`
	Givens map[string]string `toml:"givens" json:"givens,omitempty" example:"{ page = \"Next sailing\" }"`
	SiteSettings
}

var _ = Explain[Site](map[string]string{
	"on":     "Hosts that serve it, by name, by pattern such as \"quay*\", or by label such as \"label:web\".",
	"kits":   "Kits whose settings for sites this one takes; of two the later wins.",
	"givens": "Named values for the text of its kits' settings.",
})

// SiteSettings are what a site and a kit can both say of a site.
type SiteSettings struct {
	Server          string            `toml:"server" json:"server" example:"\"nginx\""`
	Image           string            `toml:"image" json:"image,omitempty" default:"the server runs on the host itself" example:"\"registry.saltmarsh.test/nginx:1.22\""`
	ImageSecret     string            `toml:"image_secret" json:"image_secret,omitempty" default:"nobody is asked for" example:"\"registry-login\""`
	Names           []string          `toml:"names" json:"names" example:"[\"timetable.saltmarsh.test\"]"`
	RedirectedNames []string          `toml:"redirected_names" json:"redirected_names,omitempty" example:"[\"www.timetable.saltmarsh.test\"]"`
	CatchAll        bool              `toml:"catch_all" json:"catch_all,omitempty" default:"false" example:"true"`
	Listen          []Listen          `toml:"listen" json:"listen" default:"[80]; with a certificate [443, 80]" example:"[80, { port = 8080, address = \"10.88.0.11\" }]"`
	Certificate     string            `toml:"certificate" json:"certificate,omitempty" default:"it is served over plain HTTP" example:"\"timetable\""`
	HTTPS           HTTPS             `toml:"https" json:"https,omitzero" default:"as it is by itself" example:"{ remembered = \"365d\" }"`
	Served          *bool             `toml:"served" json:"served,omitempty" default:"true" example:"false"`
	Closed          string            `toml:"closed" json:"closed,omitempty" default:"it is open" example:"\"<h1>Back at five</h1>\""`
	Root            string            `toml:"root" json:"root,omitempty" default:"chosen by the platform" example:"\"/srv/www/timetable\""`
	Content         *Content          `toml:"content" json:"content,omitempty" default:"the root is made, and left empty" example:"{ dir = \"content/timetable\" }"`
	ServeDotFiles   bool              `toml:"serve_dot_files" json:"serve_dot_files,omitempty" default:"false" example:"true"`
	ErrorPages      map[string]string `toml:"error_pages" each:"STATUS" json:"error_pages,omitempty" default:"the server's own pages" example:"{ 404 = \"/lost.html\" }"`
	Compress        *bool             `toml:"compress" json:"compress,omitempty" default:"true" example:"false"`
	Charset         string            `toml:"charset" json:"charset,omitempty" default:"utf-8" example:"\"iso-8859-1\""`
	Log             Log               `toml:"log" json:"log,omitzero" default:"as the server's own configuration has it" example:"{ access = \"/var/log/nginx/timetable.log\", form = \"json\" }"`
	PHP             bool              `toml:"php" json:"php,omitempty" default:"false" example:"true"`
	Refuses         []Listen          `json:"-"` // where handshakes are refused: of what answers to names that no site has alone
	Probes          []Probe           `toml:"probe" json:"probes,omitempty" default:"one of / where the site has content" example:"[{ path = \"/\", contains = \"Next sailing\" }]"`
	Paths           map[string]*Path  `toml:"path" each:"URL" json:"paths,omitempty" example:"{ \"/freight\" = { root = \"/srv/www/freight\" } }"`
	Serving
}

var _ = Explain[SiteSettings](map[string]string{
	"server":           "The web server that serves it; names and paths are those of the host's family.",
	"image":            "Image of the container that its server runs in, by its registry, name and tag, or digest. The sites of a server and an image share one container.",
	"image_secret":     "Name of the secret with which the image's registry lets in: USER:PASSWORD.",
	"names":            "Host names it answers to, such as \"*.saltmarsh.test\" for all below; the first is used by probes.",
	"redirected_names": "Further host names whose visitors are redirected to the first of names, to the path that they asked for.",
	"catch_all":        "Whether it also answers to names that no site has, on its ports.",
	"listen":           "TCP ports it listens on: numbers, or tables where there is more to say.",
	"certificate":      "Certificate of this ground that it shows: it is served over HTTPS then, and who asks over plain HTTP is redirected.",
	"https":            "How it is served over HTTPS.",
	"served":           "Whether it is served: a site that is not is kept on its hosts, whole, and its server does not load it.",
	"closed":           "The page that every visitor gets, with status 503, whatever is asked for: while it stands here the site is closed, what it is otherwise stays on its hosts, and its probes ask for this.",
	"root":             "Document root.",
	"content":          "What is published in the document root.",
	"serve_dot_files":  "Whether files are served whose names, or whose directories' names, begin with a dot. What lies below /.well-known/ always is.",
	"error_pages":      "Pages that are shown in place of the server's own, by status: paths of the site.",
	"compress":         "Whether text is compressed for browsers that take gzip.",
	"charset":          "Character set that text is said to be in.",
	"log":              "Where requests and errors are written down.",
	"php":              "Whether PHP files in its root are run: by php-fpm, as the host's family has it.",
	"probe":            "HTTP checks from inside the host and from outside.",
	"path":             "Parts of the site that are served otherwise, by URL path: of those that a request lies below, the longest counts.",
})

// Serving is how files and answers are served: what a site says counts for all of it, what
// a path says for that path and what is below.
type Serving struct {
	Index            []string          `toml:"index" json:"index,omitempty" default:"[\"index.html\"]" example:"[\"index.html\", \"index.htm\"]"`
	DirectoryListing *bool             `toml:"directory_listing" json:"directory_listing,omitempty" default:"false" example:"true"`
	Otherwise        string            `toml:"otherwise" json:"otherwise,omitempty" default:"404 is answered" example:"\"index.html\""`
	Headers          map[string]string `toml:"headers" each:"HEADER" json:"headers,omitempty" default:"X-Content-Type-Options: nosniff" example:"{ X-Frame-Options = \"DENY\" }"`
	BrowserCache     map[string]string `toml:"browser_cache" each:"PATTERN" json:"browser_cache,omitempty" default:"nothing is said of it" example:"{ \"*.css\" = \"7d\", \"/assets/*\" = \"365d\" }"`
	Passwords        map[string]string `toml:"passwords" each:"ACCOUNT" json:"passwords,omitempty" default:"none is asked for" example:"{ purser = \"$2a$10$SkZfAA3l5V2wrfr1CBSjGOPpyhLzQ7hfN1NpXaJlxSpLgUIFAQiXy\" }"`
	PasswordsSecret  string            `toml:"passwords_secret" json:"passwords_secret,omitempty" example:"\"crew-accounts\""`
	From             []string          `toml:"from" json:"from,omitempty" default:"everybody can see it" example:"[\"10.88.0.0/24\"]"`
	NotFrom          []string          `toml:"not_from" json:"not_from,omitempty" example:"[\"10.88.0.66/32\"]"`
	LargestBody      string            `toml:"largest_body" json:"largest_body,omitempty" default:"1MB" example:"\"20MB\""`
	Raw              map[string]string `toml:"raw" each:"SERVER" json:"raw,omitempty" example:"{ nginx = \"etag off;\" }"`
}

var _ = Explain[Serving](map[string]string{
	"index":             "File names served for a directory, the first that exists.",
	"directory_listing": "Whether a directory without an index file is shown as a list of its files.",
	"otherwise":         "Page that answers, with status 200, whatever is no file there: a file of the root, such as the index.html of an application in the browser; or, with php, one such as index.php, which is told the path that was asked for.",
	"headers":           "Headers of every answer; an empty one takes away what else would stand there.",
	"browser_cache":     "How long browsers keep files, by patterns of their names, or of their paths where there is a slash. Where two patterns match, the longer pattern wins. 0s has browsers ask each time.",
	"passwords":         "Accounts, one of which a visitor has to give, with the bcrypt hash of its password; northstake password makes one.",
	"passwords_secret":  "Name of a secret that holds the accounts in place of passwords: a line NAME:HASH for each, as northstake password --account NAME prints it.",
	"from":              "Networks from which alone it can be seen.",
	"not_from":          "Networks from which it cannot be seen, whatever from says.",
	"largest_body":      "Largest body of a request.",
	"raw":               "Lines of the server's own configuration, by server, for what has no key here. The server tests them; what they do nobody vouches for.",
})

// Path is a part of a site. It is one of four: files below a root of its own, a fixed
// answer, a redirect, or what another service answers; or none of them, where it is served
// as what is around it, and only its settings differ.
type Path struct {
	Exact   bool     `toml:"exact" json:"exact,omitempty" default:"false" example:"true"`
	Root    string   `toml:"root" json:"root,omitempty" example:"\"/srv/www/freight\""`
	Content *Content `toml:"content" json:"content,omitempty" default:"the directory is made, and left empty" example:"{ dir = \"content/freight\" }"`

	Says   *string `toml:"says" json:"says,omitempty" example:"\"in order\""`
	Type   string  `toml:"type" json:"type,omitempty" default:"text/plain; charset=utf-8" example:"\"application/json\""`
	Status int     `toml:"status" json:"status,omitempty" default:"200 of a text, 301 of a redirect" example:"302"`

	MovedTo string `toml:"moved_to" json:"moved_to,omitempty" example:"\"/sailings\""`
	Rest    string `toml:"rest" json:"rest,omitempty" enum:"kept,dropped" default:"kept" example:"\"dropped\""`
	Query   string `toml:"query" json:"query,omitempty" enum:"kept,dropped" default:"kept" example:"\"dropped\""`

	PassedTo       []string `toml:"passed_to" json:"passed_to,omitempty" example:"[\"http://127.0.0.1:9000\", \"http://10.88.0.12:9000\"]"`
	Passing        string   `toml:"passing" json:"passing,omitempty" enum:"round-robin,failover" default:"round-robin" example:"\"failover\""`
	PassedPath     string   `toml:"passed_path" json:"passed_path,omitempty" enum:"unchanged,shortened" default:"unchanged" example:"\"shortened\""`
	ConnectsIn     string   `toml:"connects_in" json:"connects_in,omitempty" default:"5s" example:"\"2s\""`
	AnswersIn      string   `toml:"answers_in" json:"answers_in,omitempty" default:"60s" example:"\"10m\""`
	Closes         bool     `json:"-"` // the connection is closed without an answer: of the ground's unknown_names alone
	VisitorHeaders *bool    `toml:"visitor_headers" json:"visitor_headers,omitempty" default:"true" example:"false"`
	Serving
}

var _ = Explain[Path](map[string]string{
	"exact":           "Whether it is this path alone, and not what is below it.",
	"root":            "Directory whose files are shown below this path.",
	"content":         "What is published in that directory.",
	"says":            "The text that is answered.",
	"type":            "Media type of that text.",
	"status":          "Status of that text, or of the redirect.",
	"moved_to":        "Where visitors are sent: a path of the site, or a URL.",
	"rest":            "What becomes of the path below this one in a redirect.",
	"query":           "What becomes of the query in a redirect.",
	"passed_to":       "Other services to which requests are passed: URLs without a path, or unix: and the path of a socket.",
	"passing":         "Which of several services is asked: round-robin asks each in its turn; failover asks the first, and the others while it does not answer.",
	"passed_path":     "The path that the services are asked for: unchanged, or shortened by this path.",
	"connects_in":     "How long a service may take to take a connection.",
	"answers_in":      "How long it may take to begin its answer.",
	"visitor_headers": "Whether services are told the visitor's address, and the name and scheme that were asked for, in X-Forwarded-For, -Host and -Proto. What a visitor sent under these names is replaced, never added to.",
})

// Log says where a site's requests and errors are written down.
type Log struct {
	Access string `toml:"access" json:"access,omitempty" default:"as the server's own configuration has it" example:"\"/var/log/nginx/timetable.log\""`
	Error  string `toml:"error" json:"error,omitempty" default:"as the server's own configuration has it" example:"\"/var/log/nginx/timetable-errors.log\""`
	Form   string `toml:"form" json:"form,omitempty" enum:"common,combined,json" default:"combined; json with caddy" example:"\"json\""`
}

var _ = Explain[Log](map[string]string{
	"access": "File of the requests, or \"off\".",
	"error":  "File of the errors.",
	"form":   "Form of a line of the access log: the common log format, that with referrer and browser, or JSON with fields that are the same on every server.",
})

// Files are the files that are written, none where it is all left to the server or off.
func (l Log) Files() []string {
	var out []string
	for _, f := range []string{l.Access, l.Error} {
		if f != "" && f != "off" {
			out = append(out, f)
		}
	}
	return out
}

// Listen is where a site listens. In a declaration a port alone may stand for it.
type Listen struct {
	Port    int    `toml:"port" json:"port" alone:"true" required:"true" example:"8080"`
	Address string `toml:"address" json:"address,omitempty" default:"all of them" example:"\"10.88.0.11\""`
	HTTPS   *bool  `toml:"https" json:"https,omitempty" default:"true at 443, where the site has a certificate" example:"true"`
}

var _ = Explain[Listen](map[string]string{
	"port":    "TCP port.",
	"address": "IP address of the host that it listens on.",
	"https":   "Whether HTTPS is spoken there, and not plain HTTP.",
})

// On is the address and the port in the form of URLs, the address "*" where it is any.
func (l Listen) On() string {
	switch a, err := netip.ParseAddr(l.Address); {
	case l.Address == "":
		return fmt.Sprintf("*:%d", l.Port)
	case err == nil && a.Is6():
		return fmt.Sprintf("[%s]:%d", l.Address, l.Port)
	}
	return l.Address + ":" + strconv.Itoa(l.Port)
}

// ListenOn is where a site listens: where nothing is written, on the ports that its visitors come to by
// themselves.
func (s *Site) ListenOn() []Listen {
	switch {
	case len(s.Refuses) > 0:
		return append(slices.Clone(s.Listen), s.Refuses...)
	case len(s.Listen) > 0:
		return s.Listen
	case s.Certificate == "":
		return []Listen{{Port: 80}}
	case s.PlainHTTP() == PlainRefused:
		return []Listen{{Port: 443}}
	}
	return []Listen{{Port: 443}, {Port: 80}}
}

// Secure says whether a site speaks HTTPS where it listens.
func (s *Site) Secure(l Listen) bool {
	if l.HTTPS != nil {
		return *l.HTTPS
	}
	return s.Certificate != "" && l.Port == 443
}

// Listening is where a site listens, by whichever of its names.
func (s *Site) Listening() (out wire.Listening) {
	for _, l := range s.ListenOn() {
		e := wire.Endpoint{Port: l.Port, Address: l.Address}
		if s.Secure(l) {
			e.Scheme = wire.HTTPS
		}
		out = append(out, e)
	}
	return out
}

// Ports are the ports of a site, each once, in their order.
func (s *Site) Ports() []int { return s.Listening().Ports() }

// IsServed says whether a site is served.
func (s *Site) IsServed() bool { return s.Served == nil || *s.Served }

// AsClosed is a site of which visitors get its page alone, from wherever they may see it; a closed one.
func (s *Site) AsClosed() *Site {
	c := *s
	c.PHP, c.ErrorPages, c.Content = false, nil, nil
	c.Serving = Serving{Headers: s.Headers, From: s.From, NotFrom: s.NotFrom}
	c.Paths = map[string]*Path{"/": {Says: &s.Closed, Type: "text/html; charset=" + cmp.Or(s.Charset, "utf-8"), Status: 503, Serving: Serving{Headers: map[string]string{"Cache-Control": "no-store"}}}}
	c.Probes = []Probe{{Path: "/", Status: 503}}
	return &c
}

// With is the declaration with another site under a name.
func (d *Declaration) With(name string, s *Site) *Declaration {
	c := *d
	c.Sites = maps.Clone(d.Sites)
	c.Sites[name] = s
	return &c
}

// Failover is the Passing of a path that asks the first service, and the others while it does
// not answer.
const Failover = "failover"

// Shortened is the PassedPath of a path that services are asked for without that path.
const Shortened = "shortened"

// Kept and Dropped are what becomes of a part of a request's path.
const (
	RestKept    = "kept"
	RestDropped = "dropped"
)
