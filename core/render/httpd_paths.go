package render

import (
	"encoding/base64"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"northstake/core/declare"
)

// longestPath is how many characters a path may have that leads to a file: the kernel takes 4,095
// bytes, and a document root stands in front.
const longestPath = 3800

func (h *httpd) part(i int, p part) {
	in := func(key, format string, args ...any) { h.line(h.of(p, key), "        "+format, args...) }
	if p.exact {
		h.line(h.of(p, ""), "    <LocationMatch %s>", h.value("^"+literal(p.url)+"$"))
	} else {
		h.line(h.of(p, ""), "    <Location %s>", h.value(p.url))
	}
	in("", "RewriteEngine On")
	h.guards(p, in)
	in("", "Options FollowSymLinks%s", map[bool]string{true: " Indexes"}[p.does == files && p.lists])
	h.headers(p, in)
	switch p.does {
	case files:
		h.files(p, in)
	case moved:
		h.moved(p, in)
	case says:
		in("does", `RewriteRule ".*" "-" [R=%d,L]`, p.status())
		in("does", `ErrorDocument %d "%s"`, p.status(), said(*p.what.Says))
		in("does", "Header always set Content-Type %s", h.headerValue(p.textType()))
	case passes:
		h.passes(i, p, in)
	}
	if p.does != passes && h.any(passes) {
		in("", `ProxyPass "!"`)
	}
	if p.does != files {
		in("", "AllowMethods reset")
	}
	h.raw(p, "        ")
	if p.exact {
		h.line(h.of(p, ""), "    </LocationMatch>")
	} else {
		h.line(h.of(p, ""), "    </Location>")
	}
}

func (h *httpd) guards(p part, in func(key, format string, args ...any)) {
	in("", "<RequireAll>")
	if len(p.notFrom) > 0 {
		in("not_from", "    Require not ip %s", strings.Join(p.notFrom, " "))
	}
	switch {
	case p.from == nil:
		in("", "    Require all granted")
	case len(p.from) == 0:
		in("from", "    Require all denied")
	default:
		in("from", "    Require ip %s", strings.Join(p.from, " "))
	}
	if p.asks() {
		in("passwords", "    Require valid-user")
	}
	in("", "</RequireAll>")
	if p.asks() {
		in("passwords", "AuthType Basic")
		in("passwords", "AuthBasicProvider file")
		in("passwords", "AuthName %s", h.value(h.writer.site))
		in("passwords", "AuthUserFile %s", h.value(h.accountsOf(p, ":")))
	}
	in("largest_body", "LimitRequestBody %d", p.body)
	if p.does == passes || p.does == files && h.s.PHP != "" { // where this server holds to no limit by itself
		in("largest_body", `RewriteCond %%{HTTP:Transfer-Encoding} "."`)
		in("largest_body", `RewriteRule ".*" "-" [R=411,L]`)
		in("largest_body", `RewriteCond expr "%%{HTTP:Content-Length} -gt %d"`, p.body)
		in("largest_body", `RewriteRule ".*" "-" [R=413,L]`)
	}
}

func (h *httpd) headerValue(v string) string {
	if plainly(v) {
		return `"` + v + `"`
	}
	return `"expr=` + said(v) + `"`
}

// headers are set on every answer, whoever made it; those of another service go first.
func (h *httpd) headers(p part, in func(key, format string, args ...any)) {
	for _, x := range p.headers {
		in("header "+x.name, "Header unset %s", x.name)
		if x.value == "" {
			in("header "+x.name, "Header always unset %s", x.name)
			continue
		}
		in("header "+x.name, "Header always set %s %s", x.name, h.headerValue(x.value))
	}
}

func (h *httpd) files(p part, in func(key, format string, args ...any)) {
	for _, k := range slices.Backward(p.keeps) { // the last that matches counts
		if p.otherwise != "" && regexp.MustCompile(k.expression()).MatchString(p.page()) {
			in("keep "+k.pattern, `Header set Cache-Control %q "expr=%s"`, k.words(), isFile(p.root+"/"+p.otherwise))
		}
		in("keep "+k.pattern, `Header set Cache-Control %q "expr=%%{REQUEST_URI} =~ m#%s#"`, k.words(), h.expression(k.expression()))
	}
	in("", "AllowMethods GET HEAD")
	in("", `Header always set Allow "GET, HEAD" "expr=%%{REQUEST_STATUS} == 405"`)
	if !h.site.ServeDotFiles {
		in("", `RewriteCond %%{REQUEST_URI} "/\.(?!well-known(/|$))"`)
		in("", `RewriteRule ".*" "-" [R=404,L]`)
	}
	last := ""
	if p.otherwise != "" && !p.lists {
		last = " " + h.value(p.page())
	}
	in("index", "DirectoryIndex %s%s", h.words(p.index), last)
	if h.s.PHP == "" || p.exact {
		return
	}
	in("php", "CGIPassAuth On")
	h.runs(in, "php", `%{REQUEST_URI} =~ m#\.php$# && %{REQUEST_FILENAME} =~ m#\.php$# && -f %{REQUEST_FILENAME}`, nil) // those that are there
	for j, f := range p.index {                                                                                         // where PHP answers for a directory, that takes more than it gives
		if !strings.HasSuffix(f, ".php") || p.front(h.s) {
			continue
		}
		so := "-d %{REQUEST_FILENAME} && -f " + indexFile(f)
		for _, before := range p.index[:j] {
			so += " && !(-f " + indexFile(before) + ")"
		}
		in("index", `<If "%s">`, so)
		in("index", "    AllowMethods GET HEAD POST")
		in("index", "</If>")
	}
	if !p.front(h.s) {
		return
	}
	h.runs(in, "otherwise", isFile(p.root+"/"+p.otherwise), func() {
		for _, v := range [][2]string{{"SCRIPT_FILENAME", p.root + "/" + p.otherwise}, {"SCRIPT_NAME", p.page()}} {
			in("otherwise", `    ProxyFCGISetEnvIf "true" %s "%s"`, v[0], said(v[1]))
		}
		in("otherwise", `    ProxyFCGISetEnvIf "%%{REQUEST_URI} =~ m#^%s(?:/%s(?=/|$))?(.*)$#" PATH_INFO "$1"`, h.expression(literal(strings.TrimSuffix(p.base, "/"))), h.expression(literal(p.otherwise)))
	})
	in("otherwise", `<If "-d %%{REQUEST_FILENAME}">`) // its index file may be one that takes more than it gives
	in("otherwise", "    AllowMethods reset")
	in("otherwise", "</If>")
}

// runs has PHP run files of which something is so, told more.
func (h *httpd) runs(in func(key, format string, args ...any), key, so string, more func()) {
	in(key, `<If "%s">`, so)
	in(key, "    AllowMethods reset")
	in(key, "    RequestHeader unset Proxy")
	in(key, "    SetHandler %q", "proxy:unix:"+h.s.PHP+"|fcgi://localhost")
	if more != nil {
		more()
	}
	in(key, "</If>")
}

// indexFile is, in an expression in quotes, a file of any name in the directory that was found.
func indexFile(name string) string {
	return "%{REQUEST_FILENAME} . unbase64('" + base64.StdEncoding.EncodeToString([]byte("/"+name)) + "')"
}

// isFile says, in an expression in quotes, that a file of any name was found.
func isFile(file string) string {
	return "%{REQUEST_FILENAME} == unbase64('" + base64.StdEncoding.EncodeToString([]byte(file)) + "')"
}

// expression is a regular expression in quotes within a quoted one, between hashes.
func (h *httpd) expression(e string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, "#", `\\x23`).Replace(e)
}

// moved sends visitors on. What is kept of the path is taken from the request as it was
// written, without slashes in front, so that it can lead to no other host.
func (h *httpd) moved(p part, in func(key, format string, args ...any)) {
	flags := fmt.Sprintf("R=%d,NE,L", p.status())
	if !p.keepsQuery() {
		flags += ",QSD"
	}
	to, before := p.target()
	if p.keepsRest() {
		in("does", `RewriteCond %%{THE_REQUEST} "^\S+ %s/[/\\]*([^? ]*)"`, literal(strings.TrimSuffix(p.base, "/")))
		in("does", `RewriteRule ".*" "%s%%1" [%s]`, substitution(before), flags)
	}
	in("does", `RewriteRule ".*" "%s" [%s]`, substitution(to), flags)
}

// substitution is text in a place where mod_rewrite puts matches in.
func substitution(v string) string {
	return strings.NewReplacer(`\`, `\\`, "$", `\$`, "%", `\%`).Replace(v)
}

func (h *httpd) passes(i int, p part, in func(key, format string, args ...any)) {
	to, options := member(p.what.PassedTo[0]), p.limits()+" nocanon"
	if len(p.what.PassedTo) > 1 {
		to, options = h.group(i), "nocanon"
	}
	uri := strings.TrimSuffix(p.url, "/")
	if p.what.PassedPath == declare.Shortened {
		uri = strings.TrimPrefix(uri, strings.TrimSuffix(p.base, "/"))
	}
	if p.url == "/" {
		uri = "/"
	}
	in("does", "ProxyPass %q %s", to+uri, options)
	in("does", "AddDefaultCharset Off")
	in("does", "SetEnv no-gzip 1")
	in("does", "ProxyPreserveHost On")
	in("does", "ProxyAddHeaders Off")
	// What a visitor names in Connection is taken out on the way (RFC 9110, section 7.6.1), and so
	// would be what is told here: only what is meant for this connection stays named.
	in("does", `RequestHeader unset Connection "expr=!(%%{HTTP:Connection} =~ m#^ *((upgrade|keep-alive|close)[ ,]*)*$#i)"`)
	for _, h := range notTold {
		in("does", "RequestHeader unset %s", h)
	}
	for _, told := range [][2]string{{"X-Forwarded-For", "%{REMOTE_ADDR}"}, {"X-Forwarded-Host", "%{HTTP_HOST}"}, {"X-Forwarded-Proto", "%{REQUEST_SCHEME}"}} {
		if p.tells() {
			in("does", `RequestHeader set %s "expr=%s"`, told[0], told[1])
		} else {
			in("does", "RequestHeader unset %s", told[0])
		}
	}
}

// limits are the limits of a service, in the words of mod_proxy.
func (p part) limits() string {
	connect, answer := p.waits()
	retry := 0
	if len(p.what.PassedTo) > 1 { // so that another is asked in the meantime
		retry = 5
	}
	return fmt.Sprintf("connectiontimeout=%d timeout=%d retry=%d flushpackets=on upgrade=websocket", connect, answer, retry)
}

// group is the name of the services of a part.
func (h *httpd) group(i int) string {
	return "balancer://" + strings.ReplaceAll(h.named("to"+strconv.Itoa(i)), "_", "-")
}

// groups are services that share what is passed on.
func (h *httpd) groups() {
	for i, p := range h.parts {
		if p.does != passes || len(p.what.PassedTo) < 2 {
			continue
		}
		at := h.of(p, "does")
		h.line(at, "    <Proxy %q>", h.group(i))
		for j, m := range p.what.PassedTo {
			spare := ""
			if j > 0 && p.what.Passing == declare.Failover {
				spare = " status=+H"
			}
			h.line(at, "        BalancerMember %q %s%s", member(m), p.limits(), spare)
		}
		h.line(at, "    </Proxy>")
	}
}

// member is a service as mod_proxy names it.
func member(to string) string {
	if service, ok := declare.UpstreamOf(to); ok && service.Unix != "" {
		return to + "|http://localhost"
	}
	return to
}
