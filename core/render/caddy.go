package render

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/wire"
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
// of the host where HTTPS is spoken, once where it is not, and once for each that stands by itself.
func (c *caddy) hosts() {
	for _, secure := range []bool{true, false} {
		var all []string
		for _, l := range answering(c.site) {
			if l.Address == "" && c.site.Secure(l.Listen) == secure {
				all = append(all, c.addresses(c.site.Names, l.Listen, c.site.CatchAll))
			}
		}
		if len(all) > 0 {
			c.host(c.at("listen"), strings.Join(all, ", "), declare.Listen{HTTPS: &secure})
		}
	}
	for i, l := range c.site.ListenOn() {
		if l.Address != "" && slices.ContainsFunc(answering(c.site), func(d door) bool { return d.i == i }) {
			c.host(c.at("listen", strconv.Itoa(i)), c.addresses(c.site.Names, l, c.site.CatchAll), l)
		}
		if len(c.site.RedirectedNames) > 0 {
			c.line(c.at("redirected_names"), "%s {", c.addresses(c.site.RedirectedNames, l, false))
			c.bind(c.at("listen", strconv.Itoa(i)), l)
			c.shows(l)
			c.line(c.at("redirected_names"), "\tredir %s{uri} 301", firstAt(c.site, l).Origin())
			c.line(c.at("redirected_names"), "}")
		}
	}
	c.sends()
}

// host is the whole site at some addresses.
func (c *caddy) host(at declare.Position, addresses string, l declare.Listen) {
	c.line(at, "%s {", addresses)
	c.bind(at, l)
	c.shows(l)
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
func (c *caddy) addresses(names []string, l declare.Listen, first bool) string {
	var out []string
	at := c.endpoint(l)
	for _, n := range names {
		deeper := 1
		if strings.HasPrefix(n, "*.") {
			deeper = wildDepth
		}
		for i := range deeper {
			one := strings.Repeat("*.", i) + n
			out = append(out, at.By(one).InFull(""))
			if at.Scheme != wire.HTTPS { // where handshakes leave the dot out
				out = append(out, at.By(one+".").InFull(""))
			}
		}
	}
	if first {
		out = append(out, at.InFull(""))
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

func (c *caddy) compress(indent string) {
	if c.site.Compress != nil && !*c.site.Compress {
		return
	}
	c.line(c.at("compress"), "%sencode gzip {", indent)
	c.line(c.at("compress"), "%s\tminimum_length %d", indent, compressFrom)
	c.line(c.at("compress"), "%s}", indent)
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
		c.line(at, "%s {", c.endpoint(l).By(MarkName(c.writer.site)).InFull(""))
		c.bind(at, l)
		c.shows(l)
		c.line(at, "\tskip_log")
		c.line(at, "\t@own remote_ip %s", strings.Join(ownAddresses(c.site), " "))
		c.line(at, "\trespond @own %q", mark)
		c.line(at, "\trespond 404")
		c.line(at, "}")
	}
}
