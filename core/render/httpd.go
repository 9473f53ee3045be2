package render

import (
	"encoding/base64"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
)

var _ = register("httpd", Server{Render: Httpd, Check: checkHttpd, Before: beforeHttpd})

// beforeHttpd has wildcards come after exact names, and the shorter of two after the longer: of the
// virtual hosts of an address the first counts that a name fits (vhost.c, update_server_from_aliases).
func beforeHttpd(s *declare.Site) string {
	least := 0 // labels of the shortest wildcard
	for _, n := range slices.Concat(s.Names, s.RedirectedNames) {
		if labels := strings.Count(n, ".") + 1; strings.HasPrefix(n, "*.") && (least == 0 || labels < least) {
			least = labels
		}
	}
	if least == 0 {
		return ""
	}
	return fmt.Sprintf("z%02d-", max(99-least, 0))
}

// serverName is the name of a virtual host for the server's own purposes. A wildcard cannot be that, and
// no name below it is free: another site may have it.
func (h *httpd) serverName(names []string, what string) string {
	if strings.HasPrefix(names[0], "*") {
		return what + "." + MarkName(h.writer.site)
	}
	return names[0]
}

func checkHttpd(c *check.Checker, name string, s *declare.Site) {
	if slices.Contains(s.Index, "disabled") {
		c.Say([]string{"site", name, "index"}, "the index file \"disabled\" has a meaning of its own for this server: it serves none", "give the file another name")
	}
	for _, u := range slices.Sorted(maps.Keys(s.Paths)) {
		if slices.Contains(s.Paths[u].Index, "disabled") {
			c.Say([]string{"site", name, "path", u, "index"}, "the index file \"disabled\" has a meaning of its own for this server: it serves none", "give the file another name")
		}
	}
}

// httpd writes a site in the words of the Apache HTTP server.
type httpd struct{ page }

// Httpd renders a site for the Apache HTTP server, version 2.4
// (https://httpd.apache.org/docs/2.4: core, and the modules that are named).
func Httpd(d *declare.Declaration, s Site) (Text, error) {
	h := &httpd{begin(d, s)}
	h.modules()
	h.line(h.at(), "ServerTokens Prod")
	h.listens()
	if h.site.Log.Form != "" {
		text := httpdForms[h.site.Log.Form]
		if h.site.Log.Form == "json" { // the name of whoever was let in is safe to write, that of others is not
			h.line(h.at("log", "form"), "LogFormat %s %s", strings.Replace(text, "ACCOUNT", "%u", 1), h.named("form_account"))
			text = strings.Replace(text, "ACCOUNT", "", 1)
		}
		h.line(h.at("log", "form"), "LogFormat %s %s", text, h.named("form"))
	}
	h.refuses()
	h.hosts()
	h.sentOn()
	h.sends()
	h.answersMark()
	return h.text()
}

// httpdForms are the forms of a line of the access log (mod_log_config).
var httpdForms = map[string]string{
	"common":   `"%h %l %u %t \"%r\" %>s %b"`,
	"combined": `"%h %l %u %t \"%r\" %>s %b \"%{Referer}i\" \"%{User-Agent}i\""`,
	"json":     `"{\"time\":%{sec}t.%{usec_frac}t,\"account\":\"ACCOUNT\",\"status\":%>s,\"bytes\":%B,\"seconds\":%{us}Te-6,\"request\":{\"client\":\"%a\",\"method\":\"%{northstake_method}e\",\"host\":\"%{northstake_host}e\",\"target\":\"%{northstake_target}e\",\"path\":\"%{northstake_path}e\",\"query\":\"%{northstake_query}e\",\"protocol\":\"%H\",\"referrer\":\"%{northstake_referrer}e\",\"user_agent\":\"%{northstake_agent}e\"}}"`,
}

// modules has the modules loaded that the site needs, where the server's own configuration
// does not; each after those that it needs itself.
func (h *httpd) modules() {
	needs := []string{"authz_core", "alias", "dir", "mime", "headers", "rewrite", "env", "allowmethods"}
	if h.site.Log.Form == "json" {
		needs = append(needs, "setenvif")
	}
	also := func(so bool, names ...string) {
		if so {
			needs = append(needs, names...)
		}
	}
	has := func(so func(p part) bool) bool { return slices.ContainsFunc(h.parts, so) }
	also(has(func(p part) bool { return p.lists }), "autoindex")
	also(h.compresses(), "filter", "deflate")
	also(true, "authz_host")
	also(has(part.asks), "authn_core", "authn_file", "auth_basic", "authz_user")
	also(has(func(p part) bool { return p.does == passes }), "proxy", "proxy_http")
	also(h.s.PHP != "" && !has(func(p part) bool { return p.does == passes }), "proxy")
	also(h.s.PHP != "", "proxy_fcgi")
	also(h.s.Certificate != nil, "socache_shmcb", "ssl")
	also(h.s.Certificate != nil && h.site.SpeaksHTTP2(), "http2")
	also(has(func(p part) bool { return p.does == passes && len(p.what.PassedTo) > 1 }), "slotmem_shm", "proxy_balancer", "lbmethod_byrequests")
	if h.s.Modules == "" {
		return
	}
	for _, m := range needs {
		h.line(h.at(), "<IfModule !%s_module>", m)
		h.line(h.at(), "    LoadModule %s_module %s", m, h.q(h.s.Modules+"/mod_"+m+".so"))
		h.line(h.at(), "</IfModule>")
	}
}

func (h *httpd) compresses() bool { return h.site.Compress == nil || *h.site.Compress }

// listens has the server listen where its own configuration does not. Two sites may declare one port, on which
// the server listens once.
func (h *httpd) listens() {
	for i, l := range h.site.ListenOn() {
		if slices.Contains(h.s.Listens, l.Port) {
			continue
		}
		p, listen := h.at("listen", strconv.Itoa(i)), strconv.Itoa(l.Port)
		if l.Address != "" {
			listen = l.On()
		}
		defined := "NORTHSTAKE_LISTENS_" + strings.Trim(notWord.ReplaceAllString(listen, "_"), "_")
		h.line(p, "<IfDefine !%s>", defined)
		h.line(p, "    Define %s", defined)
		h.line(p, "    Listen %s", listen)
		h.line(p, "</IfDefine>")
	}
}

var notWord = regexp.MustCompile(`[^0-9A-Za-z]+`)

// value is a value in quotes.
func (h *httpd) value(v string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(v) + `"`
}

// said is text of any characters, of which the server takes none for more than it is.
func said(v string) string {
	return "%{unbase64:" + base64.StdEncoding.EncodeToString([]byte(v)) + "}"
}

// plainly says whether text means nothing but itself in a directive of this server.
func plainly(v string) bool {
	return !strings.ContainsAny(v, "$%\\\"") && !strings.HasPrefix(v, "expr=") && !strings.ContainsFunc(v, func(r rune) bool { return r < 0x20 || r >= 0x7f })
}

// hosts are the whole site, once where HTTPS is spoken, and once where it is not.
func (h *httpd) hosts() {
	for _, on := range h.apart(answering(h.site)) {
		h.host(on)
	}
}

func (h *httpd) host(on []door) {
	h.line(h.at("listen"), "<VirtualHost %s>", addresses(on))
	h.shows(on)
	h.line(h.at("names"), "    ServerName %s", h.serverName(h.site.Names, "names"))
	for i, n := range h.site.Names {
		if i > 0 || strings.HasPrefix(n, "*") {
			h.line(h.at("names", strconv.Itoa(i)), "    ServerAlias %s", n)
		}
	}
	h.line(h.at("root"), "    DocumentRoot %s", h.value(h.s.Root))
	h.line(h.at(), "    ServerSignature Off")
	h.line(h.at(), "    TraceEnable off")
	h.line(h.at(), "    AllowEncodedSlashes NoDecode")
	h.logs()
	charset := h.site.Charset
	if charset == "" {
		charset = "utf-8"
	}
	h.line(h.at("charset"), "    AddDefaultCharset %s", charset)
	var text, endings []string
	for _, m := range mediaTypes {
		h.line(h.at(), "    AddType %s %s", m.is, m.withDots())
		if m.text() {
			text = append(text, m.withDots())
		} else {
			endings = append(endings, m.withDots())
		}
	}
	h.line(h.at("charset"), "    AddCharset %s %s", charset, strings.Join(text, " "))
	h.line(h.at("charset"), "    RemoveCharset %s", strings.Join(endings, " "))
	for _, status := range slices.Sorted(maps.Keys(h.site.ErrorPages)) {
		h.line(h.at("error_pages", status), "    ErrorDocument %s %s", status, h.value(h.site.ErrorPages[status]))
	}
	if h.compresses() {
		h.line(h.at("compress"), "    AddOutputFilterByType DEFLATE %s", strings.Join(compressed, " "))
		h.line(h.at("compress"), "    DeflateAlterETag NoChange")
	} else {
		h.line(h.at("compress"), "    SetEnv no-gzip 1")
	}
	h.line(h.at(), "    RewriteEngine On")
	h.line(h.at(), `    RewriteRule "^%s$" "-" [R=200,L]`, strings.Replace(markDir, ".", "[.]", 1)+markHere)
	for line := range strings.Lines(h.site.Raw["httpd"]) {
		h.line(h.at("raw", "httpd"), "    %s", strings.TrimRight(line, "\r\n"))
	}
	h.directories()
	h.finds()
	h.groups()
	for i, p := range slices.Backward(h.parts) { // what comes later counts: the longest last
		h.part(i, p)
	}
	h.line(h.at(), `    <Location "%s%s">`, markDir, markHere)
	h.line(h.at(), `        ErrorDocument 200 "%s%s"`, marked, markHere)
	h.line(h.at(), "    </Location>")
	h.line(h.at(), "</VirtualHost>")
}

// visitors is who asks for something else than the mark.
const visitors = "%{REQUEST_URI} != '" + markDir + markHere + "'"

func (h *httpd) logs() {
	form := h.site.Log.Form
	if form == "" {
		form = "combined"
	} else {
		form = h.named("form")
	}
	if a := h.site.Log.Access; a == "off" {
		h.line(h.at("log", "access"), `    CustomLog /dev/null "%%h"`)
	} else if a != "" {
		if h.site.Log.Form == "json" {
			h.record()
			h.line(h.at("log", "access"), `    CustomLog %s %s "expr=%s && -n %%{REMOTE_USER} && %%{REQUEST_STATUS} != '401'"`, h.value(a), h.named("form_account"), visitors)
			form += ` "expr=` + visitors + ` && (-z %{REMOTE_USER} || %{REQUEST_STATUS} == '401')"`
		} else {
			form += ` "expr=` + visitors + `"`
		}
		h.line(h.at("log", "access"), "    CustomLog %s %s", h.value(a), form)
	}
	if e := h.site.Log.Error; e != "" {
		h.line(h.at("log", "error"), "    ErrorLog %s", h.value(e))
	}
}

// record makes the variables of a record in JSON from what visitors send. This server writes
// bytes that are not ASCII in a way that is no JSON: what has some stands there as a hyphen.
// That a header was looked at is not to be said of the answer (Vary).
func (h *httpd) record() {
	at := h.at("log", "form")
	for _, v := range [][3]string{
		{"host", "req_novary('Host')", `^([\x20-\x7e]*)$`}, {"referrer", "req_novary('Referer')", `^([\x20-\x7e]*)$`}, {"agent", "req_novary('User-Agent')", `^([\x20-\x7e]*)$`},
		{"method", "%{THE_REQUEST}", `^([\x21-\x7e]*) `}, {"target", "%{THE_REQUEST}", `^\S+ ([\x21-\x7e]*)(?: |$)`}, {"path", "%{THE_REQUEST}", `^\S+ ([\x21-\x3e\x40-\x7e]*)(?:\?[\x21-\x7e]*)?(?: |$)`}, {"query", "%{THE_REQUEST}", `^\S+ [\x21-\x3e\x40-\x7e]*(?:\?([\x21-\x7e]*))?(?: |$)`},
	} {
		h.line(at, `    SetEnvIfExpr "%s =~ m#%s#" northstake_%s=$1`, v[1], v[2], v[0])
	}
}

// directories lets visitors into document roots, in no other way than by their files, and
// has those of paths stand where they are shown; the longest path first.
func (h *httpd) directories() {
	seen := map[string]bool{}
	for _, p := range h.parts {
		if p.does != files {
			continue
		}
		if p.base == p.url && p.base != "/" {
			h.line(h.of(p, "does"), "    Alias %s %s", h.value(p.url), h.value(p.root))
		}
		if seen[p.root] {
			continue
		}
		seen[p.root] = true
		at := h.of(p, "does")
		h.line(at, "    <Directory %s>", h.value(p.root))
		h.line(at, "        Options FollowSymLinks")
		h.line(at, "        AllowOverride None")
		h.line(at, "        Require all granted")
		h.line(at, "    </Directory>")
	}
}

// finds says, before the server looks for a file, what is none: names that no file can have, and what
// a page answers in place of a file.
func (h *httpd) finds() {
	h.line(h.at(), `    RewriteRule "[^/]{256}" "-" [R=404,L]`)
	h.line(h.at(), `    RewriteRule "^.{%d}" "-" [R=404,L]`, longestPath)
	if !slices.ContainsFunc(h.parts, func(p part) bool { return p.otherwise != "" }) {
		return
	}
	for _, p := range h.parts {
		at := h.of(p, "otherwise")
		if p.otherwise == "" {
			end := "(/|$)"
			if p.exact {
				end = "$"
			}
			h.line(at, "    RewriteRule %s \"-\" [L]", h.value("^"+literal(strings.TrimSuffix(p.url, "/"))+end))
			continue
		}
		before, below := strings.TrimSuffix(p.base, "/"), p.below()
		for _, is := range []string{"-f", "-d"} {
			h.line(at, "    RewriteCond \"%s$1\" !%s", substitution(p.root), is)
		}
		h.line(at, "    RewriteRule %s \"%s\" [L]", h.value("^"+literal(before)+"("+literal(below)+"(?:/.*)?)$"), substitution(p.root+"/"+p.otherwise))
		h.line(at, "    RewriteRule %s \"-\" [L]", h.value("^"+literal(strings.TrimSuffix(p.url, "/"))+"(/|$)"))
	}
}

// sentOn has a host for names whose visitors are sent on, for each port.
func (h *httpd) sentOn() {
	if len(h.site.RedirectedNames) == 0 {
		return
	}
	for i, l := range h.site.ListenOn() {
		h.line(h.at("redirected_names"), "<VirtualHost %s>", l.On())
		h.shows([]door{{l, i}})
		h.line(h.at("redirected_names"), "    ServerName %s", h.serverName(h.site.RedirectedNames, "redirected"))
		for _, n := range h.site.RedirectedNames {
			h.line(h.at("redirected_names"), "    ServerAlias %s", n)
		}
		h.line(h.at("redirected_names"), "    ServerSignature Off")
		h.line(h.at("redirected_names"), "    RewriteEngine On")
		h.line(h.at("redirected_names"), `    RewriteCond %%{THE_REQUEST} "^\S+ (/[^? ]*)"`)
		h.line(h.at("redirected_names"), `    RewriteRule ".*" "%s%%1" [R=301,NE,L]`, firstAt(h.site, l).Origin())
		h.line(h.at("redirected_names"), `    RewriteRule ".*" "%s/" [R=301,NE,L]`, firstAt(h.site, l).Origin())
		h.line(h.at("redirected_names"), "</VirtualHost>")
	}
}

// answersMark has the server say which text it has loaded.
func (h *httpd) answersMark() {
	mark := h.mark()
	h.line(h.at(), "# By this the server says on the host itself which text of the site it has loaded.")
	secure, plain := doors(h.site)
	for _, on := range h.apart(append(secure, plain...)) {
		h.answersMarkAt(on, mark)
	}
}

func (h *httpd) answersMarkAt(on []door, mark string) {
	h.line(h.at("listen"), "<VirtualHost %s>", addresses(on))
	h.shows(on)
	h.line(h.at(), "    ServerName %s", MarkName(h.writer.site))
	h.line(h.at(), "    DocumentRoot /nonexistent")
	h.line(h.at(), "    <Location \"/\">")
	h.line(h.at(), "        Require ip %s", strings.Join(ownAddresses(h.site), " "))
	h.line(h.at(), "    </Location>")
	h.line(h.at(), "    ErrorDocument 404 %s", h.q(mark))
	h.line(h.at(), "    <IfModule mod_log_config.c>")
	h.line(h.at(), "        CustomLog /dev/null \"%%h\"")
	h.line(h.at(), "    </IfModule>")
	h.line(h.at(), "</VirtualHost>")
}

// ownAddresses are those from which the server is asked on the host itself.
func ownAddresses(s *declare.Site) []string {
	out := []string{"127.0.0.1"}
	for _, l := range s.ListenOn() {
		if l.Address != "" && !slices.Contains(out, l.Address) {
			out = append(out, l.Address)
		}
	}
	return out
}
