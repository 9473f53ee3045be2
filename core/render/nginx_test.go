package render_test

import (
	"fmt"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/render"
)

func parse(t testing.TB, text string) *declare.Declaration {
	t.Helper()
	d, problems := lint.Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	return d
}

const ground = `[ground]
name = "saltmarsh"
[reach]
user = "keeper"
key_secret = "keeper"
[host.quay1]
address = "10.88.0.11"
[site.timetable]
on = ["quay1"]
server = "nginx"
names = ["timetable.saltmarsh.test", "*.ferries.test"]
listen = [80, 8080]
root = "/srv/www/time table"
index = ["index.html", "index.htm"]
[site.timetable.path."/freight"]
root = "/srv/www/freight"
`

func TestEveryRenderedLineKnowsWhereItComesFrom(t *testing.T) {
	out, err := render.Nginx(parse(t, ground), render.Site{Name: "timetable", Root: "/srv/www/time table", IPv6: true})
	if err != nil {
		t.Fatal(err)
	}
	rendered(t, out, map[string]int{
		"    listen 8080;": 12, "    listen [::]:8080;": 12, `    server_name "timetable.saltmarsh.test" "*.ferries.test";`: 11,
		`    root "/srv/www/time table";`: 13, `        index "index.html" "index.htm";`: 14, `        alias "/srv/www/freight/";`: 16,
	})
}

// rendered says whether a text has the lines, each from its line of the
// declaration.
func rendered(t *testing.T, out render.Text, want map[string]int) {
	t.Helper()
	lines := strings.Split(strings.TrimSuffix(out.Text, "\n"), "\n")
	if len(lines) != len(out.Lines) {
		t.Fatalf("%d lines and %d places", len(lines), len(out.Lines))
	}
	for text, line := range want {
		found := false
		for i, l := range lines {
			if l == text {
				found = true
				if out.Lines[i].Line != line || out.Lines[i].File != "g.toml" {
					t.Errorf("%q comes from %v, want line %d", text, out.Lines[i], line)
				}
			}
		}
		if !found {
			t.Errorf("%q is not rendered:\n%s", text, out.Text)
		}
	}
}

// A quoted value is one word, whatever is in it: read by nginx's own rules, it
// gives the value back and ends where the text ends.
func FuzzQuote(f *testing.F) {
	for _, v := range []string{"", "plain", `a"; } server { #`, `back\slash`, `ends\`, "ünïcödé", "sp ace;{}"} {
		f.Add(v)
	}
	f.Fuzz(func(t *testing.T, v string) {
		q, err := render.Quote(v)
		if err != nil {
			return
		}
		got, rest, ok := readWord(q + " ;")
		if !ok || got != v || rest != " ;" {
			t.Fatalf("%q is quoted as %s, which reads as %q and leaves %q", v, q, got, rest)
		}
		if strings.ContainsAny(q, "$\n\r\t") {
			t.Fatalf("%q is quoted as %q", v, q)
		}
	})
}

// readWord reads a word as ngx_conf_read_token does: in double quotes a
// backslash takes the next character as it is when that is a quote or a
// backslash.
func readWord(s string) (word, rest string, ok bool) {
	if s == "" || s[0] != '"' {
		return "", s, false
	}
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] == '\\' && i+1 < len(s) && (s[i+1] == '"' || s[i+1] == '\\'):
			i++
			b.WriteByte(s[i])
		case s[i] == '"':
			return b.String(), s[i+1:], true
		default:
			b.WriteByte(s[i])
		}
	}
	return "", s, false
}

func toml(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < 0x20 || r == 0x7f:
			fmt.Fprintf(&b, "\\u%04x", r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// What lies below another path is reached, whichever was declared first: the longest wins.
func TestPathsBelowPathsComeFirst(t *testing.T) {
	d := parse(t, strings.Replace(ground, `server = "nginx"`, `server = "httpd"`, 1)+"[site.timetable.path.\"/freight/rates\"]\nroot = \"/srv/www/rates\"\n[site.timetable.path.\"/a\"]\nroot = \"/srv/www/a\"\n")
	out, err := render.VirtualHost(d, render.Site{Name: "timetable", Root: "/srv/www/time table"})
	if err != nil {
		t.Fatal(err)
	}
	rates, freight := strings.Index(out.Text, `Alias "/freight/rates"`), strings.Index(out.Text, `Alias "/freight" `)
	if rates < 0 || freight < 0 || rates > freight {
		t.Errorf("the shorter alias comes first:\n%s", out.Text)
	}
}

// The mark is of all of a site's text: it changes with each, and stands in it.
func TestTheMarkOfASite(t *testing.T) {
	for _, server := range render.Servers() {
		var marks []string
		for _, root := range []string{"/srv/a", "/srv/b", "/srv/a"} {
			out, err := render.VirtualHost(parse(t, strings.Replace(ground, `server = "nginx"`, fmt.Sprintf("server = %q", server), 1)), render.Site{Name: "timetable", Root: root})
			if err != nil {
				t.Fatal(err)
			}
			if out.Mark == "" || !strings.Contains(out.Text, out.Mark) || !strings.Contains(out.Text, render.MarkName("timetable")) {
				t.Errorf("%s: mark %q in\n%s", server, out.Mark, out.Text)
			}
			marks = append(marks, out.Mark)
		}
		if marks[0] == marks[1] || marks[0] != marks[2] {
			t.Errorf("%s: marks %q", server, marks)
		}
	}
}
