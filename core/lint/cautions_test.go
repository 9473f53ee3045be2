package lint

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"northstake/core/declare"
)

// What nobody should fetch is found among what a site publishes, and what nobody ever could.
func TestCautions(t *testing.T) {
	files := func(list string) *declare.Manifest {
		m := &declare.Manifest{}
		for _, f := range strings.Fields(list) {
			m.Files = append(m.Files, declare.File{Path: "content/" + f, Size: 1, SHA256: strings.Repeat("ab", 32)})
		}
		return m
	}
	content := func(more string) string {
		if strings.Contains(more, "\ncontent = ") {
			return ""
		}
		return "content = { dir = \"content\" }\n"
	}
	for name, c := range map[string]struct{ files, more, want string }{
		"nothing":             {"index.html style.css", "", ""},
		"a dump and a key":    {"index.html a/tides.SQL id_rsa", "", "anybody could fetch a/tides.SQL (a dump), id_rsa (a key)"},
		"a repository":        {"index.html sub/.svn/entries", "serve_dot_files = true\n", "anybody could fetch sub/.svn/entries (a repository's own)"},
		"hidden files":        {"index.html .env sub/.svn/x", "", ""},
		"hidden files, shown": {"index.html .env", "serve_dot_files = true\n", "anybody could fetch .env (passwords)"},
		"well known":          {"index.html .well-known/site.zip", "", "anybody could fetch .well-known/site.zip (an archive)"},
		"many":                {"index.html 1.bak 2.bak 3.bak 4.bak 5.bak 6.bak 7.bak", "", "anybody could fetch 1.bak (a backup), 2.bak (a backup), 3.bak (a backup), 4.bak (a backup), 5.bak (a backup) and 2 more"},
		"PHP":                 {"index.html a/b.PHP", "", "PHP is not declared, and these files would be sent as text: a/b.PHP"},
		"PHP that runs":       {"index.html a/b.php", "php = true\n", ""},
		"behind a redirect":   {"index.html old/a.html older.html", "path = { \"/old\" = { moved_to = \"/\" } }\n", "path /old hides what is published here: old/a.html"},
		"behind a root":       {"index.html old/a.html", "path = { \"/old\" = { root = \"/srv/old\" } }\n", "path /old hides what is published here: old/a.html"},
		"settings alone":      {"index.html old/a.html", "path = { \"/old\" = { directory_listing = true } }\n", ""},
		"pages":               {"index.html lost.html app.html", "error_pages = { 404 = \"/lost.html\" }\notherwise = \"app.html\"\n", ""},
		"an error page":       {"index.html lost.htm", "error_pages = { 404 = \"/lost.html\" }\n", "no file lost.html is published, which is to answer there"},
		"a page left alone":   {"index.html", "error_pages = { 404 = \"/own/lost.html\" }\ncontent = { dir = \"content\", left_alone = [\"own\"] }\n", ""},
		"a page elsewhere":    {"index.html", "error_pages = { 404 = \"/api/lost\" }\npath = { \"/api\" = { passed_to = [\"http://127.0.0.1:1\"] } }\n", ""},
		"a page that answers": {"index.html", "otherwise = \"app.html\"\n", "no file app.html is published, which is to answer there"},
		"one of a path":       {"index.html", "path = { \"/app\" = { root = \"/srv/app\", content = { dir = \"content\" }, otherwise = \"app.html\" } }\n", "no file app.html is published, which is to answer there"},
		"lines of others":     {"index.html", "raw = { caddy = \"x\" }\n", "nginx serves this site, and these lines are for caddy alone"},
		"lines of all":        {"index.html", "raw = { caddy = \"x\", nginx = \"etag off;\" }\n", ""},
		"all passed on":       {"index.html", "path = { \"/\" = { passed_to = [\"http://127.0.0.1:1\"] } }\n", "path / hides what is published here: index.html"},
		"exact":               {"index.html old/a.html", "path = { \"/old\" = { says = \"x\", exact = true } }\n", ""},
	} {
		sources := []declare.Source{{Name: "g.toml", Text: "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.a]\naddress = \"10.0.0.1\"\n[site.s]\non = [\"a\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\n" + content(c.more) + c.more}}
		d, problems := lint(t, sources, files(c.files))
		if len(problems) > 0 {
			t.Errorf("%s: %v", name, problems)
			continue
		}
		var got []string
		for _, one := range Cautions(d) {
			if one.Site != "s" || one.Line != 12 && c.more == "" || one.Fix == "" {
				t.Errorf("%s: %+v", name, one)
			}
			got = append(got, one.What)
			if followed, _ := follow(sources, one.Problem); followed != nil {
				tried.fixes = append(tried.fixes, one.Fix)
				d, problems := Parse(followed, files(c.files))
				if then := Cautions(d); len(problems) > 0 || slices.ContainsFunc(then, func(again Caution) bool { return again.What == one.What }) {
					t.Errorf("%s, by its advice (%s): %v, %v", name, one.Fix, problems, then)
				}
			}
		}
		if fmt.Sprint(got) != fmt.Sprint(strings.Fields(c.want)) && strings.Join(got, "; ") != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// A redirect that comes back to itself, in whatever many steps, is one mistake.
func TestRedirectsThatLoop(t *testing.T) {
	for name, c := range map[string]struct{ paths, says string }{
		"none":              {`"/a" = { moved_to = "/b" }, "/b" = { says = "x" }`, ""},
		"to files":          {`"/a" = { moved_to = "/b" }`, ""},
		"two":               {`"/a" = { moved_to = "/b" }, "/b" = { moved_to = "/a" }`, "round and round: /a to /b to /a"},
		"three, by a name":  {`"/a" = { moved_to = "/b/c" }, "/b" = { moved_to = "http://s.test/c" }, "/c" = { moved_to = "/a?x#y", rest = "dropped", query = "dropped" }`, "round and round: /a to /b to /c to /a"},
		"itself":            {`"/a" = { moved_to = "/a" }`, "leads to itself"},
		"below itself":      {`"/a" = { moved_to = "/a/b" }`, "leads to itself"},
		"out of a loop":     {`"/a" = { moved_to = "/b" }, "/b" = { moved_to = "/a" }, "/b/c" = { says = "x" }, "/d" = { moved_to = "/b/c" }`, "round and round: /a to /b to /a"},
		"to another site":   {`"/a" = { moved_to = "http://other.test/a" }`, ""},
		"below, to another": {`"/a" = { moved_to = "/b" }, "/b" = { moved_to = "/a/c" }, "/a/c" = { says = "x" }`, ""},
	} {
		_, problems := lint(t, []declare.Source{{Name: "g.toml", Text: "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.a]\naddress = \"10.0.0.1\"\n[site.s]\non = [\"a\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\npath = { " + c.paths + " }\n"}}, &declare.Manifest{})
		switch {
		case c.says == "" && len(problems) > 0, c.says != "" && len(problems) != 1:
			t.Errorf("%s: %v", name, problems)
		case c.says != "" && !strings.Contains(problems[0].What, c.says):
			t.Errorf("%s: %s", name, problems[0].What)
		}
	}
}

// What a kit makes unwise of many sites is said once, with their names (W14).
func TestCautionsOfAKitAreSaidOnce(t *testing.T) {
	text := "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.a]\naddress = \"10.0.0.1\"\n[kit.k.site]\nserver = \"nginx\"\nnames = [\"{{ .site.name }}.test\"]\nraw = { caddy = \"x\" }\n"
	for i := range 9 {
		text += fmt.Sprintf("[site.s%d]\non = [\"a\"]\nkits = [\"k\"]\n", i)
	}
	d, problems := Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	all := Cautions(d)
	once := Alike(all)
	if len(all) != 9 || len(once) != 1 || !strings.HasSuffix(once[0].What, "these lines are for caddy alone, of sites s0, s1 and 7 more") {
		t.Errorf("of %d cautions %d are said: %v", len(all), len(once), once)
	}
}
