package render

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"northstake/core/declare"
)

var _ = register("nginx", Server{Render: Nginx})

// nginx writes a site in nginx's own words.
type nginx struct{ page }

// Nginx renders a site for nginx (ngx_http_core_module and its fellows,
// https://nginx.org/en/docs/).
func Nginx(d *declare.Declaration, s Site) (Text, error) {
	n := &nginx{begin(d, s)}
	n.shared()
	n.sentOn()
	n.server()
	n.sends()
	n.refuses()
	n.answersMark()
	return n.text()
}

// value is a value in quotes, in which line breaks are written as such. A dollar sign, which
// nginx has no way to write, stands in a variable of the site's own.
func (n *nginx) value(v string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\r", `\r`, "\t", `\t`, "$", "${"+n.named("dollar")+"}").Replace(v) + `"`
}

// with is a value with variables behind it.
func (n *nginx) with(v, variables string) string {
	return strings.TrimSuffix(n.value(v), `"`) + variables + `"`
}

// dollars says whether a value of the site has a dollar sign.
func (n *nginx) dollars() bool {
	return slices.ContainsFunc(n.parts, func(p part) bool {
		for _, h := range p.headers {
			if strings.Contains(h.value, "$") {
				return true
			}
		}
		return p.does == says && strings.Contains(*p.what.Says+p.what.Type, "$") || p.does == moved && strings.Contains(p.what.MovedTo, "$")
	})
}

// longestHashed is the longest name that fits nginx's default
// server_names_hash_bucket_size of 64 bytes (ngx_hash.h: a pointer, the length
// and the name, aligned).
const longestHashed = 44

// names are names so that nginx takes them whatever their length: a long one as an
// expression, which no hash holds.
func (n *nginx) names(list []string) string {
	var out []string
	for _, name := range list {
		rest, wild := strings.CutPrefix(name, "*.")
		switch {
		case len(name) <= longestHashed:
			out = append(out, n.q(name))
		case wild:
			out = append(out, n.quoteExpression("~^.+[.]"+strings.ReplaceAll(rest, ".", "[.]")+"$"))
		default:
			out = append(out, n.quoteExpression("~^"+strings.ReplaceAll(name, ".", "[.]")+"$"))
		}
	}
	return strings.Join(out, " ")
}

// shared is what stands beside the server: variables, groups of services, forms of logs.
func (n *nginx) shared() {
	if n.dollars() {
		n.line(n.at(), "geo $%s {", n.named("dollar"))
		n.line(n.at(), `    default "$";`)
		n.line(n.at(), "}")
	}
	if n.any(passes) {
		n.line(n.at(), "map $http_upgrade $%s {", n.named("connection"))
		n.line(n.at(), `    default "upgrade";`)
		n.line(n.at(), `    "" "";`)
		n.line(n.at(), "}")
	}
	for i, p := range n.parts {
		if len(p.keeps) > 0 {
			n.line(n.of(p, ""), "map $uri $%s {", n.named("keep"+strconv.Itoa(i)))
			for _, k := range p.keeps {
				n.line(n.of(p, "keep "+k.pattern), "    %s %s;", n.quoteExpression("~"+k.expression()), n.q(k.words()))
			}
			n.line(n.of(p, ""), `    default "";`)
			n.line(n.of(p, ""), "}")
		}
		if p.front(n.s) {
			at := n.of(p, "otherwise")
			n.line(at, "map $uri $%s {", n.named("asked"+strconv.Itoa(i)))
			n.line(at, "    %s $1;", n.quoteExpression("~^"+literal(strings.TrimSuffix(p.base, "/"))+"(?:/"+literal(p.otherwise)+"(?=/|$))?(/.*)$"))
			n.line(at, `    default "";`)
			n.line(at, "}")
		}
		if p.does != passes {
			continue
		}
		n.line(n.of(p, "does"), "upstream %s {", n.named("to"+strconv.Itoa(i)))
		for j, to := range p.what.PassedTo {
			spare := ""
			if j > 0 && p.what.Passing == declare.Failover {
				spare = " backup"
			}
			n.line(n.of(p, "does"), "    server %s%s;", n.q(nginxUpstream(to)), spare)
		}
		n.line(n.of(p, "does"), "}")
	}
	if form := n.site.Log.Form; form != "" {
		text := nginxForms[form]
		if form == "json" {
			n.record()
			text = fmt.Sprintf(text, n.named("log"))
		}
		n.line(n.at("log", "form"), "log_format %s %s;", n.named("form"), text)
	}
}

// nginxForms are the forms of a line of the access log (ngx_http_log_module).
var nginxForms = map[string]string{
	"common":   `'$remote_addr - $remote_user [$time_local] "$request" $status $body_bytes_sent'`,
	"combined": `'$remote_addr - $remote_user [$time_local] "$request" $status $body_bytes_sent "$http_referer" "$http_user_agent"'`,
	"json":     `escape=json '{"time":$msec,"account":"$%[1]s_account","status":$status,"bytes":$body_bytes_sent,"seconds":$request_time,"request":{"client":"$remote_addr","method":"$request_method","host":"$%[1]s_host","target":"$%[1]s_target","path":"$%[1]s_path","query":"$%[1]s_query","protocol":"$server_protocol","referrer":"$%[1]s_referrer","user_agent":"$%[1]s_agent"}}'`,
}

// utf8Text is a regular expression of a text that is UTF-8 (RFC 3629, section 4), byte by byte.
const utf8Text = `^(?:[\x00-\x7f]|[\xc2-\xdf][\x80-\xbf]|\xe0[\xa0-\xbf][\x80-\xbf]|[\xe1-\xec\xee\xef][\x80-\xbf]{2}|\xed[\x80-\x9f][\x80-\xbf]|\xf0[\x90-\xbf][\x80-\xbf]{2}|[\xf1-\xf3][\x80-\xbf]{3}|\xf4[\x80-\x8f][\x80-\xbf]{2})*+$`

// record makes the variables of a record in JSON from what visitors send; what is not UTF-8
// stands there as a hyphen.
func (n *nginx) record() {
	at, name := n.at("log", "form"), n.named("log")
	one := func(field, from string, lines ...string) {
		n.line(at, "map $%s $%s_%s {", from, name, field)
		for _, l := range lines {
			n.line(at, "    %s", l)
		}
		n.line(at, "}")
	}
	for _, v := range [][2]string{{"account", "remote_user"}, {"host", "http_host"}, {"target", "request_uri"}, {"referrer", "http_referer"}, {"agent", "http_user_agent"}} {
		one(v[0], v[1], `"" "";`, fmt.Sprintf(`"~%s" $%s;`, utf8Text, v[1]), `default "-";`)
	}
	one("path", name+"_target", fmt.Sprintf(`"~^(?<%[1]s_upto>[^?]*)" $%[1]s_upto;`, name))
	one("query", name+"_target", fmt.Sprintf(`"~\?(?<%[1]s_from>.*)$" $%[1]s_from;`, name), `default "";`)
}

// quoteExpression quotes a regular expression, in which a dollar sign at the end is one.
func (n *nginx) quoteExpression(e string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(e) + `"`
}

// listen writes where a server listens.
func (n *nginx) listen(i int, l declare.Listen, more string) {
	at := n.at("listen", strconv.Itoa(i))
	more += n.speaks(l)
	if l.Address != "" {
		n.line(at, "    listen %s%s;", l.On(), more)
		return
	}
	n.line(at, "    listen %d%s;", l.Port, more)
	if n.s.IPv6 {
		n.line(at, "    listen [::]:%d%s;", l.Port, more)
	}
}

// sentOn has a server for names whose visitors are sent on, for each port.
func (n *nginx) sentOn() {
	if len(n.site.RedirectedNames) == 0 {
		return
	}
	for i, l := range n.site.ListenOn() {
		n.line(n.at("redirected_names"), "server {")
		n.listen(i, l, "")
		n.line(n.at("redirected_names"), "    server_name %s;", n.names(n.site.RedirectedNames))
		if n.site.Secure(l) {
			n.shows()
		}
		n.line(n.at("redirected_names"), "    server_tokens off;")
		to := firstAt(n.site, l)
		if origin := to.Origin(); n.s.Certificate != nil {
			n.line(n.at("redirected_names"), "    return 301 %s$request_uri;", origin)
		} else { // as releases before wrote it, whose sites are not to be written anew for that
			n.line(n.at("redirected_names"), "    return 301 $scheme://%s$request_uri;", to.Host())
		}
		n.line(n.at("redirected_names"), "}")
	}
}

// nginxUpstream is a service as an upstream block of nginx names it.
func nginxUpstream(to string) string {
	if service, ok := declare.UpstreamOf(to); ok && service.Unix == "" {
		return service.Authority
	}
	return to
}

func (n *nginx) server() {
	if len(answering(n.site)) == 0 {
		return
	}
	n.line(n.at(), "server {")
	more := ""
	if n.site.CatchAll {
		more = " default_server"
	}
	for _, l := range answering(n.site) {
		n.listen(l.i, l.Listen, more)
	}
	n.line(n.at("names"), "    server_name %s;", n.names(n.site.Names))
	n.shows()
	n.line(n.at(), "    server_tokens off;")
	n.line(n.at(), "    absolute_redirect off;")
	n.line(n.at("root"), "    root %s;", n.value(n.s.Root))
	n.logs()
	charset := n.site.Charset
	if charset == "" {
		charset = "utf-8"
	}
	n.line(n.at("charset"), "    charset %s;", n.q(charset))
	n.line(n.at("charset"), "    charset_types %s;", strings.Join(mediaThat(media.text)[1:], " ")) // the first is always of them
	n.line(n.at(), "    types {")
	for _, m := range mediaTypes {
		n.line(n.at(), "        %s %s;", m.is, strings.Join(m.endings, " "))
	}
	n.line(n.at(), "    }")
	n.line(n.at(), `    default_type "";`)
	if n.site.Compress == nil || *n.site.Compress {
		n.line(n.at("compress"), "    gzip on;")
		n.line(n.at("compress"), "    gzip_vary on;")
		n.line(n.at("compress"), "    gzip_proxied any;")
		n.line(n.at("compress"), "    gzip_min_length %d;", compressFrom)
		n.line(n.at("compress"), "    gzip_types %s;", strings.Join(compressed[1:], " "))
	} else {
		n.line(n.at("compress"), "    gzip off;")
	}
	n.line(n.at(), "    client_max_body_size %d;", defaultBody)
	for _, status := range slices.Sorted(maps.Keys(n.site.ErrorPages)) {
		n.line(n.at("error_pages", status), "    error_page %s %s;", status, n.value(n.site.ErrorPages[status]))
	}
	if n.site.ErrorPages["405"] == "" {
		n.line(n.at(), "    error_page 405 @methods;")
		n.line(n.at(), "    location @methods {")
		n.headers(n.parts[len(n.parts)-1], files)
		n.line(n.at(), `        add_header Allow "GET, HEAD" always;`)
		n.line(n.at(), "        return 405;")
		n.line(n.at(), "    }")
	}
	if n.site.ErrorPages["416"] == "" { // its headers are set already
		n.line(n.at(), "    error_page 416 @ranges;")
		n.line(n.at(), "    location @ranges {")
		n.line(n.at(), "        return 416;")
		n.line(n.at(), "    }")
	}
	n.visited()
	for line := range strings.Lines(n.site.Raw["nginx"]) {
		n.line(n.at("raw", "nginx"), "    %s", strings.TrimRight(line, "\r\n"))
	}
	for i, p := range n.parts {
		n.part(i, p)
	}
	n.pages()
	n.line(n.at(), "}")
}

func (n *nginx) logs() {
	if a := n.site.Log.Access; a == "off" {
		n.line(n.at("log", "access"), "    access_log off;")
	} else if a != "" {
		form := ""
		if n.site.Log.Form != "" {
			form = " " + n.named("form")
		}
		n.line(n.at("log", "access"), "    access_log %s%s;", n.value(a), form)
	}
	if e := n.site.Log.Error; e != "" {
		n.line(n.at("log", "error"), "    error_log %s;", n.value(e))
	}
}

// pages are what answers what is no file: a file as the path that was asked for has it shown, or what
// PHP makes of it.
func (n *nginx) pages() {
	for i, p := range n.parts {
		if p.otherwise == "" {
			continue
		}
		at := n.of(p, "otherwise")
		if !p.front(n.s) {
			n.location(p, fmt.Sprintf("@page%d", i), func() {
				n.headers(p, files)
				n.keeps(i, p)
				n.line(at, "        root %s;", n.value(p.root))
				n.line(at, "        rewrite ^ %s break;", n.value("/"+p.otherwise))
			})
			continue
		}
		n.location(p, fmt.Sprintf("@front%d", i), func() {
			n.headers(p, files)
			if p.body != defaultBody {
				n.line(n.of(p, "largest_body"), "        client_max_body_size %d;", p.body)
			}
			n.line(at, "        include fastcgi_params;")
			n.line(at, "        fastcgi_param SCRIPT_FILENAME %s;", n.value(p.root+"/"+p.otherwise))
			n.line(at, "        fastcgi_param SCRIPT_NAME %s;", n.value(p.page()))
			n.line(at, "        fastcgi_param PATH_INFO $%s;", n.named("asked"+strconv.Itoa(i)))
			n.runs("        ")
		})
	}
}

// runs has PHP run what was found.
func (n *nginx) runs(indent string) {
	at := n.at("php")
	n.line(at, `%sfastcgi_param HTTP_PROXY "";`, indent)
	n.line(at, "%sfastcgi_pass unix:%s;", indent, n.s.PHP)
}

// compressFrom is the size from which text is compressed, in bytes.
const compressFrom = 256

// visited has the site say its mark to who knows it, whatever else it asks or answers.
func (n *nginx) visited() {
	at := `"` + markDir + markHere + `"`
	n.line(n.at(), "    if ($uri = %s) {", at)
	n.line(n.at(), "        break;")
	n.line(n.at(), "    }")
	n.line(n.at(), "    location = %s {", at)
	n.line(n.at(), "        access_log off;")
	n.line(n.at(), `        return 200 "%s";`, marked+markHere)
	n.line(n.at(), "    }")
}

// answersMark has the server say which text it has loaded.
func (n *nginx) answersMark() {
	mark := n.mark()
	n.line(n.at(), "# By this the server says on the host itself which text of the site it has loaded.")
	n.line(n.at(), "server {")
	for i, l := range n.site.ListenOn() {
		at := strconv.Itoa(l.Port)
		if l.Address != "" {
			at = l.On()
		}
		n.line(n.at("listen", strconv.Itoa(i)), "    listen %s%s;", at, n.speaks(l))
	}
	n.line(n.at(), "    server_name %s;", n.names([]string{MarkName(n.writer.site)}))
	n.shows()
	n.line(n.at(), "    access_log off;")
	n.line(n.at(), "    default_type text/plain;")
	n.line(n.at(), "    if ($remote_addr != $server_addr) {")
	n.line(n.at(), "        return 404;")
	n.line(n.at(), "    }")
	n.line(n.at(), "    return 200 %s;", n.q(mark))
	n.line(n.at(), "}")
}
