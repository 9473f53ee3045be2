package render_test

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/render"
)

// hostile is a declaration with values that anybody may have chosen.
func hostile(server string, v [12]string) string {
	return fmt.Sprintf(`[ground]
name = "g"
[reach]
user = "k"
key_secret = "k"
[host.a]
address = "10.0.0.1"
[site.s]
on = ["a"]
server = %q
names = ["s.test", %s]
redirected_names = [%s]
root = %s
index = [%s]
headers = { %s = %s }
browser_cache = { %s = "1d" }
error_pages = { 404 = %s }
log = { access = %s }
charset = %s
passwords = { purser = "$2a$05$wnIedQZoBK./fT8HLKmSs.LW1uMPoinJt0UyarYIBtdkC0Et.e6YS" }
[site.s.path]
%s = { says = %s, status = 410 }
"/moved" = { moved_to = %s }
"/to" = { passed_to = ["http://10.0.0.2:9000", "unix:/run/x.sock"], passed_path = "shortened" }
"/below" = { root = %s }
`, server, toml(v[0]), toml("www."+v[0]), toml(v[1]), toml(v[2]), toml("X-Z"+v[3]), toml(v[4]), toml(v[5]), toml("/"+v[6]), toml(v[1]+".log"), toml(v[7]), toml("/a-path-longer-than-others"+v[8]), toml(v[9]), toml("/"+v[10]), toml(v[1]+"-"+v[11]))
}

// Whatever lint lets through, a declared value stays a value: taken out of its quotes, the
// text of a site has the same shape whichever values are declared.
func FuzzRender(f *testing.F) {
	f.Add(0, "timetable.saltmarsh.test", "/srv/www/x", "index.html", "Frame", "DENY", "*.css", "lost.html", "utf-8", "/freight", "in order", "sailings", "b")
	f.Add(1, "a.test", "/srv/x", "a.htm", "A", `"; } server { #`, "*", "x", "ascii", "", "a\n\"b\" $c ${d} %{e} {f} `g` \\", "x?y=1#z", "")
	f.Add(2, "a.test", "/srv/x", "a.htm", "A", "`{$HOME} {env.HOME} \\`", "/a/*", "x", "ascii", "", "{\"a\": `b`}\n}\nrespond \\{", "x", "c")
	f.Add(1, "*.a.test", "/srv/www/x", "in", "B", "expr=%{HTTP_HOST}", "*.t*", "p", "latin1", "x", "%{unbase64:aGk=}\n</Location>\n", `$1%1\1`, "d")
	f.Fuzz(func(t *testing.T, which int, a, b, c, d, e, g, h, i, j, k, l, m string) {
		servers := render.Servers()
		server := servers[(which%len(servers)+len(servers))%len(servers)]
		shape := func(v [12]string) (string, string, bool) {
			decl, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: hostile(server, v)}}, &declare.Manifest{})
			if len(problems) > 0 {
				return "", "", false
			}
			out, err := render.VirtualHost(decl, render.Site{Name: "s", Root: v[1], Dir: "/etc/webd", Modules: "/usr/lib/webd"})
			if err != nil {
				t.Fatalf("lint lets %q through, and it cannot be rendered: %v", v, err)
			}
			if n := strings.Count(out.Text, "\n"); n != len(out.Lines) {
				t.Fatalf("%d lines and %d places", n, len(out.Lines))
			}
			return skeleton(t, server, out.Text), out.Text, true
		}
		got, text, ok := shape([12]string{a, b, c, d, e, g, h, i, j, k, l, m})
		if !ok {
			return
		}
		plain := [12]string{"plain.test", "/srv/plain", "index.htm", "Plain", "plain", "*.css", "lost.html", "utf-8", "lain", "plain", "plain", "plain"}
		if strings.HasPrefix(a, "*") {
			plain[0] = "*.plain.test"
		}
		if strings.Contains(g, "/") {
			plain[5] = "/a*"
		}
		if g != "index.html" && matches(g, c) { // a rule more, for the index file
			plain[5] = "*.htm"
		}
		if e == "" {
			plain[4] = ""
		}
		for _, sign := range "$\\{}`" { // each has a line of its own, where it is needed
			if of := map[bool]string{true: "nginx", false: "caddy"}[sign == '$']; server == of && strings.ContainsRune(e+k+l, sign) {
				plain[9] += string(sign)
			}
		}
		if want, plainly, ok := shape(plain); !ok || want != got {
			t.Fatalf("%s: the values %q change the shape:\n%s\nwanted the shape of\n%s", server, []string{a, b, c, d, e, g, h, i, j, k, l, m}, text, plainly)
		}
	})
}

// matches says whether a pattern without slashes matches a name.
func matches(pattern, name string) bool {
	ok, err := regexp.MatchString("^"+strings.ReplaceAll(regexp.QuoteMeta(pattern), `\*`, ".*")+"$", name)
	return err == nil && ok && !strings.Contains(pattern, "/")
}

// skeleton is text of a server's configuration with everything in quotes taken out, by the
// server's own rules, and with names and paths that stand without quotes made alike.
func skeleton(t *testing.T, server, text string) string {
	t.Helper()
	var b strings.Builder
	for s := text; s != ""; {
		q := s[0]
		if q != '"' && !(q == '`' && server == "caddy") {
			b.WriteByte(q)
			s = s[1:]
			continue
		}
		end := 1
		for end < len(s) && s[end] != q {
			if s[end] == '\\' && q == '"' && end+1 < len(s) {
				end++
			}
			end++
		}
		if end >= len(s) {
			t.Fatalf("a quote is not closed:\n%s", text)
		}
		b.WriteString("Q")
		s = s[end+1:]
	}
	out := unquoted.ReplaceAllString(b.String(), "${1}N")
	return numbers.ReplaceAllString(out, "N")
}

var (
	// What stands without quotes, and can hold nothing that means anything there: names of
	// hosts, headers and files, and character sets, as lint has them.
	unquoted = regexp.MustCompile(`(?m)((?:ServerName|ServerAlias|AddDefaultCharset|AddCharset|add_header|proxy_hide_header|Header unset|Header always set|Header always unset|RequestHeader set|header_down|header|index|http://)\s*-?)[^\s:;,{}"<>]+`)
	numbers  = regexp.MustCompile(`http://N[.:0-9N]*|(?:index|AddCharset)\s[^;\n]*`)
)
