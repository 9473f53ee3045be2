package render

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"northstake/core/declare"
)

func (c *caddy) part(i int, p part) {
	match := ""
	if p.url != "/" || p.exact {
		match = fmt.Sprintf(" @part%d", i)
		end := "(/|$)"
		if p.exact {
			end = "$"
		}
		c.line(c.of(p, ""), "\t\t@part%d path_regexp %s", i, expression("^"+literal(strings.TrimSuffix(p.url, "/"))+end))
	}
	in := func(key, format string, args ...any) { c.line(c.of(p, key), "\t\t\t\t"+format, args...) }
	c.line(c.of(p, ""), "\t\thandle%s {", match)
	c.line(c.of(p, ""), "\t\t\troute {") // in the order in which it stands here
	c.headers(p, in)
	c.guards(i, p, in)
	c.raw(p, "\t\t\t\t")
	switch p.does {
	case files:
		c.files(i, p, in)
	case moved:
		c.moved(i, p, in)
	case says:
		in("does", "header Content-Type %s", c.value(p.textType()))
		c.compress("\t\t\t\t")
		in("does", "respond * %s %d", c.value(*p.what.Says), p.status())
	case passes:
		c.passes(p, in)
	case closes:
		in("does", "abort")
	}
	c.line(c.of(p, ""), "\t\t\t}")
	c.line(c.of(p, ""), "\t\t}")
}

func (c *caddy) headers(p part, in func(key, format string, args ...any)) {
	for _, h := range p.headers {
		if h.value == "" {
			in("header "+h.name, "header -%s", h.name)
			continue
		}
		in("header "+h.name, "header %s %s", h.name, c.value(h.value))
	}
}

func (c *caddy) guards(i int, p part, in func(key, format string, args ...any)) {
	if len(p.notFrom) > 0 {
		in("not_from", "@not%d remote_ip %s", i, strings.Join(p.notFrom, " "))
		in("not_from", "error @not%d 403", i)
	}
	switch {
	case p.from == nil:
	case len(p.from) == 0:
		in("from", "error 403")
	default:
		in("from", "@from%d not remote_ip %s", i, strings.Join(p.from, " "))
		in("from", "error @from%d 403", i)
	}
	if p.asks() {
		in("passwords", "basicauth bcrypt %s {", c.value(c.writer.site))
		in("passwords", "\timport %s # %s", c.accountsOf(p, " "), c.accountsMark(p))
		in("passwords", "}")
	}
	if p.does != passes && (p.does != files || c.s.PHP == "") {
		return // nobody reads a body there
	}
	if p.does == files { // PHP is told no length that is not said
		in("largest_body", "@endless%d {", i)
		in("largest_body", "\tmethod POST PUT PATCH")
		in("largest_body", "\tnot header Content-Length *")
		in("largest_body", "}")
		in("largest_body", "error @endless%d 411", i)
	}
	in("largest_body", "@body%d header_regexp Content-Length %s", i, expression("^("+above(p.body)+")$"))
	in("largest_body", "error @body%d 413", i)
	in("largest_body", "request_body {")
	in("largest_body", "\tmax_size %d", p.body)
	in("largest_body", "}")
}

// above is a regular expression for whole numbers above one, in decimal.
func above(n int64) string {
	digits := strconv.FormatInt(n, 10)
	ways := []string{fmt.Sprintf("[1-9][0-9]{%d,}", len(digits))}
	for i, d := range digits {
		if d < '9' {
			ways = append(ways, fmt.Sprintf("%s[%c-9][0-9]{%d}", digits[:i], d+1, len(digits)-i-1))
		}
	}
	return strings.Join(ways, "|")
}

// shown matches paths of which no part begins with a dot, but for the well-known one
// (RFC 8615).
const shown = `^(/([^./][^/]*|\.well-known)?)*$`

func (c *caddy) files(i int, p part, in func(key, format string, args ...any)) {
	if !c.site.ServeDotFiles {
		c.line(c.at("serve_dot_files"), "\t\t\t\t@hidden%d not path_regexp %s", i, expression(shown))
		c.line(c.at("serve_dot_files"), "\t\t\t\terror @hidden%d 404", i)
	}
	in("", "@long%d path_regexp [^/]{256}", i)
	in("", "error @long%d 404", i)
	in("", "@far%d expression size({path}) > %d", i, longestPath)
	in("", "error @far%d 404", i)
	in("", "@slash%d vars_regexp {http.request.orig_uri} %s", i, expression(`(?i)^[^?]*%(2f|00)`))
	in("", "error @slash%d 404", i)
	in("does", "root * %s", c.value(p.root))
	if p.base != "/" {
		in("does", "uri strip_prefix %s", c.value(p.base))
	}
	c.php(i, p, in)
	in("", "@method%d not method GET HEAD", i)
	in("", "header @method%d Allow \"GET, HEAD\"", i)
	in("", "error @method%d 405", i)
	in("", "@bare%d {", i) // a directory without its slash
	in("", "\tnot path */")
	in("", "\tfile {path}/")
	in("", "\tvars_regexp bare%d {http.request.orig_uri} %s", i, expression(`^[/\\]+([^?]*)(\?.*)?$`))
	in("", "}")
	in("", "redir @bare%d `/{http.regexp.bare%d.1}/{http.regexp.bare%d.2}` 301", i, i, i)
	if p.otherwise != "" && !p.front(c.s) {
		c.otherwise(i, p, in)
	}
	in("", "@odd%d {", i) // a file with one
	in("", "\tpath */")
	in("", "\tnot file {path}/")
	in("", "}")
	in("", "error @odd%d 404", i)
	if p.otherwise == "" && !p.lists {
		c.bare(i, p, in)
		in("index", "error @noindex%d 403", i)
	}
	for j, k := range slices.Backward(p.keeps) { // the last that matches counts
		in("keep "+k.pattern, "@keep%d_%d {", i, j)
		in("keep "+k.pattern, "\tvars_regexp {http.request.orig_uri.path} %s", expression(k.expression()))
		in("keep "+k.pattern, "\tfile {path}")
		in("keep "+k.pattern, "}")
		in("keep "+k.pattern, "header @keep%d_%d Cache-Control %s", i, j, c.value(k.words()))
		c.keepIndex(i, j, p, k, in)
		if p.otherwise != "" && regexp.MustCompile(k.expression()).MatchString(p.page()) {
			in("keep "+k.pattern, "@keep%d_%d_page path %s", i, j, c.value("/"+p.otherwise))
			in("keep "+k.pattern, "header @keep%d_%d_page Cache-Control %s", i, j, c.value(k.words()))
		}
	}
	c.types(i, in)
	c.compress("\t\t\t\t")
	if charset := c.site.Charset; charset != "" {
		c.line(c.at("charset"), "\t\t\t\theader {")
		c.line(c.at("charset"), "\t\t\t\t\tContent-Type charset=utf-8 charset=%s", charset)
		c.line(c.at("charset"), "\t\t\t\t\tdefer")
		c.line(c.at("charset"), "\t\t\t\t}")
	}
	list := ""
	if p.lists {
		list = " browse"
	}
	in("does", "file_server%s {", list)
	in("index", "\tindex %s", strings.Join(p.index, " "))
	in("does", "}")
}

// bare matches directories without an index file.
func (c *caddy) bare(i int, p part, in func(key, format string, args ...any)) {
	var names []string
	for _, f := range p.index {
		names = append(names, "{path}/"+f)
	}
	in("index", "@noindex%d {", i)
	in("index", "\tpath */")
	in("index", "\tfile {path}/")
	in("index", "\tnot file %s", strings.Join(names, " "))
	in("index", "}")
}

// otherwise has a page answer what is no file, and directories that nothing else stands for.
func (c *caddy) otherwise(i int, p part, in func(key, format string, args ...any)) {
	if !p.lists {
		c.bare(i, p, in)
		in("otherwise", "rewrite @noindex%d %s", i, c.value("/"+p.otherwise))
	}
	in("otherwise", "@otherwise%d {", i)
	in("otherwise", "\tnot file {path}")
	in("otherwise", "\tnot file {path}/")
	in("otherwise", "\tpath_regexp asked%d %s", i, expression("^(?:/"+literal(p.otherwise)+")?(/.*)$"))
	in("otherwise", "}")
	if !p.front(c.s) {
		in("otherwise", "rewrite @otherwise%d %s", i, c.value("/"+p.otherwise))
		return
	}
	in("otherwise", "route @otherwise%d {", i)
	in("otherwise", "\trewrite * %s", c.value("/"+p.otherwise))
	c.runs(p, "\t", "", fmt.Sprintf("{http.regexp.asked%d.1}", i), in)
	in("otherwise", "}")
}

// runs has PHP run what was found, told of a path below it where one is given.
func (c *caddy) runs(p part, indent, match, asked string, in func(key, format string, args ...any)) {
	in("php", indent+"reverse_proxy %sunix/%s {", match, c.s.PHP)
	in("php", indent+"\theader_up -Proxy")
	in("php", indent+"\ttransport fastcgi {")
	in("php", indent+"\t\troot %s", c.value(p.root))
	in("php", indent+"\t\tsplit .php")
	if asked != "" {
		in("otherwise", indent+"\t\tenv PATH_INFO %s", asked)
	}
	if p.base != "/" { // which was taken off
		in("php", indent+"\t\tenv SCRIPT_NAME %s{path}", p.base)
	}
	in("php", indent+"\t}")
	in("php", indent+"}")
}

// types says the media types of files, before the server would guess them.
func (c *caddy) types(i int, in func(key, format string, args ...any)) {
	charset := cmp.Or(c.site.Charset, "utf-8")
	for j, m := range mediaTypes {
		is := m.is
		if m.text() {
			is += "; charset=" + charset
		}
		in("", "@type%d_%d {", i, j)
		in("", "\tpath *.%s", strings.Join(m.endings, " *."))
		in("", "\tfile {path}")
		in("", "}")
		in("", "header @type%d_%d Content-Type %s", i, j, c.value(is))
	}
}

// php has the PHP files of a part run, those that are there, and the one that answers for the rest.
func (c *caddy) php(i int, p part, in func(key, format string, args ...any)) {
	if c.s.PHP == "" || p.exact {
		return
	}
	at := func(format string, args ...any) { c.line(c.at("php"), "\t\t\t\t"+format, args...) }
	for j, f := range p.index {
		if strings.HasSuffix(f, ".php") {
			at("@start%d_%d {", i, j)
			at("\tpath */")
			if !p.front(c.s) { // as nginx and httpd come to an index file
				at("\tmethod GET HEAD POST")
			}
			for _, before := range p.index[:j] {
				at("\tnot file {path}/%s", before)
			}
			at("\tfile {path}/%s", f)
			at("}")
			at("rewrite @start%d_%d {path}%s", i, j, f)
		}
	}
	if p.front(c.s) {
		c.otherwise(i, p, in)
	}
	at("@php%d {", i)
	at("\tpath_regexp `\\.php$`")
	at("\tfile {path}")
	at("}")
	c.runs(p, "", fmt.Sprintf("@php%d ", i), "", in)
}

// keepIndex has what counts for an index file count where its directory is asked for.
func (c *caddy) keepIndex(i, j int, p part, k lifetime, in func(key, format string, args ...any)) {
	matches := regexp.MustCompile(k.expression())
	for n, f := range p.index {
		if strings.Contains(k.pattern, "/") || !matches.MatchString("/"+f) {
			continue
		}
		in("keep "+k.pattern, "@keep%d_%d_%d {", i, j, n)
		in("keep "+k.pattern, "\tpath */")
		in("keep "+k.pattern, "\tfile {path}/%s", f)
		in("keep "+k.pattern, "}")
		in("keep "+k.pattern, "header @keep%d_%d_%d Cache-Control %s", i, j, n, c.value(k.words()))
	}
}

// moved sends visitors on. What is kept of the path is taken from the request as it was
// written, without slashes in front, so that it can lead to no other host.
func (c *caddy) moved(i int, p part, in func(key, format string, args ...any)) {
	query := ""
	if p.keepsQuery() {
		query = fmt.Sprintf("{http.regexp.move%d.2}", i)
	}
	to, before := p.target()
	lead := func(v, more string) string { return strings.TrimSuffix(c.value(v), "`") + more + "`" }
	if p.keepsRest() {
		in("does", "@move%d vars_regexp move%d {http.request.orig_uri} %s", i, i, expression("^"+literal(strings.TrimSuffix(p.base, "/"))+`/[/\\]*([^?]*)(\?.*)?$`))
		in("does", "redir @move%d %s %d", i, lead(before, fmt.Sprintf("{http.regexp.move%d.1}", i)+query), p.status())
	}
	in("does", "@all%d vars_regexp move%d {http.request.orig_uri} %s", i, i, expression(`^(/[^?]*)(\?.*)?$`))
	in("does", "redir @all%d %s %d", i, lead(to, query), p.status())
}

func (c *caddy) passes(p part, in func(key, format string, args ...any)) {
	if p.what.PassedPath == declare.Shortened && p.base != "/" {
		in("does", "uri strip_prefix %s", c.value(p.base))
	}
	var to []string
	for _, t := range p.what.PassedTo {
		if service, ok := declare.UpstreamOf(t); ok && service.Unix != "" {
			t = "unix/" + service.Unix
		}
		to = append(to, t)
	}
	connect, answer := p.waits()
	in("does", "reverse_proxy %s {", strings.Join(to, " "))
	if len(to) > 1 {
		policy := "round_robin"
		if p.what.Passing == declare.Failover {
			policy = "first"
		}
		in("does", "\tlb_policy %s", policy)
		in("does", "\tlb_try_duration %ds", connect)
		in("does", "\tfail_duration 10s")
	}
	in("does", "\tflush_interval -1")
	for _, h := range notTold {
		in("does", "\theader_up -%s", h)
	}
	if !p.tells() {
		for _, h := range []string{"For", "Host", "Proto"} {
			in("does", "\theader_up -X-Forwarded-%s", h)
		}
	}
	for _, h := range p.headers {
		in("header "+h.name, "\theader_down -%s", h.name)
	}
	in("does", "\ttransport http {")
	in("does", "\t\tdial_timeout %ds", connect)
	in("does", "\t\tresponse_header_timeout %ds", answer)
	in("does", "\t}")
	in("does", "}")
}
