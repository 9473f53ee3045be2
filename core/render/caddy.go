package render

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
)

var _ = register("caddy", Server{Render: Caddy, Check: checkCaddy})

func checkCaddy(c *check.Checker, name string, s *declare.Site) {
	if f := s.Log.Form; f == "common" || f == "combined" {
		c.Say([]string{"site", name, "log", "form"}, fmt.Sprintf("caddy cannot write the log in the form %q", f), "write form = \"json\", or choose another server")
	}
	on := map[int]bool{}
	for _, l := range s.ListenOn() {
		on[l.Port] = on[l.Port] || l.Address == ""
	}
	for i, l := range s.ListenOn() {
		if l.Address != "" && on[l.Port] {
			c.Say([]string{"site", name, "listen", strconv.Itoa(i)}, fmt.Sprintf("port %d is listened on at every address already, and caddy cannot do so at one as well", l.Port), "keep one of the two")
		}
	}
}

// caddy writes a site in Caddy's words.
type caddy struct{ page }

// Caddy renders a site for Caddy, version 2, as a part of a Caddyfile
// (https://caddyserver.com/docs/caddyfile).
func Caddy(d *declare.Declaration, s Site) (Text, error) {
	c := &caddy{begin(d, s)}
	c.hosts()
	c.answersMark()
	return c.text()
}

// hosts has the server answer to the site's names where it listens: once for all addresses
// of the host, and once for each that stands by itself.
func (c *caddy) hosts() {
	var all []string
	for _, l := range c.site.ListenOn() {
		if l.Address == "" {
			all = append(all, c.addresses(c.site.Names, l.Port, c.site.CatchAll))
		}
	}
	if len(all) > 0 {
		c.host(c.at("listen"), strings.Join(all, ", "), declare.Listen{})
	}
	for i, l := range c.site.ListenOn() {
		at := c.at("listen", strconv.Itoa(i))
		if l.Address != "" {
			c.host(at, c.addresses(c.site.Names, l.Port, c.site.CatchAll), l)
		}
		if len(c.site.RedirectedNames) > 0 {
			c.line(c.at("redirected_names"), "%s {", c.addresses(c.site.RedirectedNames, l.Port, false))
			c.bind(at, l)
			c.line(c.at("redirected_names"), "\tredir http://%s{uri} 301", withPort(c.site.Names[0], l.Port))
			c.line(c.at("redirected_names"), "}")
		}
	}
}

// host is the whole site at some addresses.
func (c *caddy) host(at declare.Position, addresses string, l declare.Listen) {
	c.line(at, "%s {", addresses)
	c.bind(at, l)
	c.logs()
	c.line(c.at(), "\t@mark path \"%s%s\"", markDir, markHere)
	c.line(c.at(), "\tskip_log @mark")
	c.line(c.at(), "\troute {")
	c.line(c.at(), "\t\trespond @mark \"%s%s\"", marked, markHere)
	c.signs()
	c.line(c.at(), "\t\t@trace method TRACE")
	c.line(c.at(), "\t\terror @trace 405")
	for line := range strings.Lines(c.site.Raw["caddy"]) {
		c.line(c.at("raw", "caddy"), "\t\t%s", strings.TrimRight(line, "\r\n"))
	}
	for i, p := range c.parts {
		c.part(i, p)
	}
	c.line(c.at(), "\t}")
	c.errors()
	c.line(at, "}")
}

func (c *caddy) bind(at declare.Position, l declare.Listen) {
	if l.Address != "" {
		c.line(at, "\tbind %s", l.Address)
	}
}

// wildDepth is how many labels deep a wildcard reaches in Caddy, whose own stands for one.
const wildDepth = 4

// addresses are names with a port as Caddy takes them. First adds every other name.
func (c *caddy) addresses(names []string, port int, first bool) string {
	var out []string
	for _, n := range names {
		deeper := 1
		if strings.HasPrefix(n, "*.") {
			deeper = wildDepth
		}
		for i := range deeper {
			one := strings.Repeat("*.", i) + n
			out = append(out, fmt.Sprintf("http://%s:%d", one, port), fmt.Sprintf("http://%s.:%d", one, port))
		}
	}
	if first {
		out = append(out, fmt.Sprintf("http://:%d", port))
	}
	return strings.Join(out, ", ")
}

func (c *caddy) logs() {
	if c.site.Log.Access == "" && c.site.Log.Form == "" {
		return
	}
	c.line(c.at("log"), "\tlog {")
	switch a := c.site.Log.Access; a {
	case "":
	case "off":
		c.line(c.at("log", "access"), "\t\toutput discard")
	default:
		c.line(c.at("log", "access"), "\t\toutput file %s", c.value(a))
	}
	at := c.at("log", "form")
	for _, line := range []string{"format filter {", "\twrap json {", "\t\ttime_key time", "\t\tmessage_key \"\"", "\t\tlevel_key \"\"", "\t\tname_key \"\"", "\t}", "\tfields {", "\t\trequest>remote_ip rename client", "\t\trequest>remote_port delete", "\t\trequest>proto rename protocol", "\t\trequest>uri rename target", "\t\tuser_id rename account", "\t\tsize rename bytes", "\t\tduration rename seconds", "\t\tbytes_read delete", "\t\trequest>headers delete", "\t\trequest>tls delete", "\t\tresp_headers delete", "\t}", "}"} {
		c.line(at, "\t\t%s", line)
	}
	c.line(c.at("log"), "\t}")
}

// caddySigns are characters that mean something in a text, and the variables of a site in
// which they stand instead. As the file is taken in by an import, and a value when it is
// used, a brace is escaped twice.
var caddySigns = []struct{ sign, name, value string }{{`\`, "backslash", "`\\`"}, {"{", "open", "`\\\\{`"}, {"`", "tick", "\"`\""}}

// signs sets those variables that the site's values need.
func (c *caddy) signs() {
	var values strings.Builder
	for _, p := range c.parts {
		for _, h := range p.headers {
			values.WriteString(h.value)
		}
		switch p.does {
		case says:
			values.WriteString(*p.what.Says + p.what.Type)
		case moved:
			values.WriteString(p.what.MovedTo)
		}
	}
	if strings.Contains(values.String(), "}") {
		c.line(c.at(), "\t\tvars %s \"\"", c.named("nothing"))
	}
	for _, s := range caddySigns {
		if strings.Contains(values.String(), s.sign) {
			c.line(c.at(), "\t\tvars %s %s", c.named(s.name), s.value)
		}
	}
}

// value is a value of any characters in quotes, in which Caddy finds nothing of its own.
func (c *caddy) value(v string) string {
	var pairs []string
	for _, s := range caddySigns {
		pairs = append(pairs, s.sign, "{http.vars."+c.named(s.name)+"}")
	}
	v = strings.NewReplacer(pairs...).Replace(v)
	if v == "}" { // which ends a block by itself, in quotes or not
		v = "{http.vars." + c.named("nothing") + "}" + v
	}
	return "`" + v + "`"
}

// expression is a regular expression in quotes.
func expression(e string) string { return "`" + strings.ReplaceAll(e, "`", `\x60`) + "`" }

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

func (c *caddy) compress(indent string) {
	if c.site.Compress != nil && !*c.site.Compress {
		return
	}
	c.line(c.at("compress"), "%sencode gzip {", indent)
	c.line(c.at("compress"), "%s\tminimum_length %d", indent, compressFrom)
	c.line(c.at("compress"), "%s}", indent)
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
		if socket, ok := strings.CutPrefix(t, "unix:"); ok {
			t = "unix/" + socket
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

// errors are pages of the site in place of the server's own.
func (c *caddy) errors() {
	if len(c.site.ErrorPages) == 0 {
		return
	}
	c.line(c.at("error_pages"), "\thandle_errors {")
	for _, status := range slices.Sorted(maps.Keys(c.site.ErrorPages)) {
		at := c.at("error_pages", status)
		c.line(at, "\t\t@error%s expression {http.error.status_code} == %s", status, status)
		c.line(at, "\t\thandle @error%s {", status)
		c.line(at, "\t\t\troot * %s", c.value(c.s.Root))
		c.line(at, "\t\t\tmethod GET")
		c.line(at, "\t\t\trewrite * %s", c.value(c.site.ErrorPages[status]))
		c.line(at, "\t\t\tfile_server")
		c.line(at, "\t\t}")
	}
	c.line(c.at("error_pages"), "\t}")
}

// accountsMark is a sum of the accounts of a part, which Caddy reads with the text alone: a
// change of them changes the text, and with it what is loaded.
func (c *caddy) accountsMark(p part) string {
	if p.secret == "" {
		sum := sha256.Sum256([]byte(accountLines(p.passwords, " ")))
		return hex.EncodeToString(sum[:8])
	}
	if c.s.Mark == nil {
		return p.secret
	}
	return cmp.Or(c.s.Mark(p.secret, " "), p.secret)
}

// answersMark has the server say which text it has loaded.
func (c *caddy) answersMark() {
	mark := c.mark()
	c.line(c.at(), "# By this the server says on the host itself which text of the site it has loaded.")
	for i, l := range c.site.ListenOn() {
		at := c.at("listen", strconv.Itoa(i))
		c.line(at, "http://%s:%d {", MarkName(c.writer.site), l.Port)
		c.bind(at, l)
		c.line(at, "\tskip_log")
		c.line(at, "\t@own remote_ip %s", strings.Join(ownAddresses(c.site), " "))
		c.line(at, "\trespond @own %q", mark)
		c.line(at, "\trespond 404")
		c.line(at, "}")
	}
}
