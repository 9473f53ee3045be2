package lint

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"northstake/core/declare"
	"northstake/core/render"
	"northstake/core/resolve"
)

// A kit with every key that a site can have, paths among it, gives on each server what the same lines
// in the site give. The lines are those of the page that shows all of them.
func TestAKitGivesWhatTheSiteGives(t *testing.T) {
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "declaration.md"))
	if err != nil {
		t.Fatal(err)
	}
	_, text, ok := strings.Cut(string(page), "All of it, once:\n\n```toml\n")
	text, _, ok2 := strings.Cut(text, "```")
	if !ok || !ok2 {
		t.Fatal("the page does not show all keys of a site")
	}
	text = text[:strings.Index(text, "[site.welcome]")] + "[[site.harbour.probe]]\npath = \"/\"\nresolver = \"system\"\ncontains = \"Harbour\"\nfollows = true\n[certificate.harbour]\nself_signed = true\n"
	text = regexp.MustCompile(`(?m)^on .*\n|serve_dot_files += false|directory_listing += false|, "outside", "pier1"|content += \{[^}]*\}`).ReplaceAllStringFunc(text, func(s string) string {
		switch {
		case strings.HasPrefix(s, "serve"), strings.HasPrefix(s, "directory"):
			return strings.Replace(s, "false", "true", 1)
		case strings.HasPrefix(s, "content"):
			return `content = { dir = "content" }`
		}
		return ""
	})
	text = strings.ReplaceAll(text, "php               = false", "php = true")
	raw := "raw = { nginx = \"etag off;\", httpd = \"FileETag None\", caddy = \"header X-Raw yes\" }"
	text = regexp.MustCompile(`raw += \{[^}]*\}`).ReplaceAllString(text, raw)
	manifest := &declare.Manifest{Files: []declare.File{{Path: "content/index.html", Size: 1, SHA256: strings.Repeat("ab", 32)}}}
	for _, server := range render.Servers() {
		lines := strings.Replace(text, `server            = "nginx"`, fmt.Sprintf("server = %q", server), 1)
		if server == "caddy" {
			lines = strings.Replace(lines, `form = "combined"`, `form = "json"`, 1)
		}
		begin := "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.quay1]\naddress = \"10.88.0.11\"\n"
		on := "on = [\"quay1\"]\n"
		ways := map[string]string{
			"the site": strings.Replace(lines, "[site.harbour]\n", "[site.harbour]\n"+on, 1),
			"the kit":  strings.NewReplacer("[site.harbour]", "[kit.whole.site]", "[site.harbour.", "[kit.whole.site.", "[[site.harbour.", "[[kit.whole.site.").Replace(lines) + "\n[site.harbour]\n" + on + "kits = [\"whole\"]\n",
		}
		sites, texts := map[string]declare.Site{}, map[string]string{}
		for by, written := range ways {
			d, problems := Parse([]declare.Source{{Name: "g.toml", Text: begin + written}}, manifest)
			if len(problems) > 0 {
				t.Fatalf("%s, by %s: %v", server, by, problems)
			}
			s := *d.Sites["harbour"]
			rendered, err := render.VirtualHost(d, render.Site{Name: "harbour", Root: "/srv/www/harbour", IPv6: true, PHP: "/run/php.sock", Dir: "/etc/x", Modules: "/usr/lib/x"})
			if err != nil {
				t.Fatalf("%s, by %s: %v", server, by, err)
			}
			s.On, s.Kits = nil, nil
			sites[by], texts[by] = s, rendered.Text
		}
		if a, b := sites["the site"], sites["the kit"]; !reflect.DeepEqual(a, b) {
			t.Errorf("%s: the kit gives\n%+v\nand the site\n%+v", server, b, a)
		}
		if texts["the site"] != texts["the kit"] {
			t.Errorf("%s: the kit gives\n%s\nand the site\n%s", server, texts["the kit"], texts["the site"])
		}
		// A closed one gives its page alone, whatever else is declared, and the lines of that are its own (U8).
		for by, written := range ways {
			written = strings.Replace(written, `closed            = ""`, `closed = "<b>Back at \"five\"</b> $uri {path} %{env}"`, 1)
			d, problems := Parse([]declare.Source{{Name: "g.toml", Text: begin + written}}, manifest)
			if len(problems) > 0 {
				t.Fatalf("%s, closed by %s: %v", server, by, problems)
			}
			rendered, err := render.VirtualHost(d, render.Site{Name: "harbour", Root: "/srv/www/harbour", IPv6: true, PHP: "/run/php.sock", Dir: "/etc/x", Modules: "/usr/lib/x"})
			if err != nil {
				t.Fatalf("%s, closed by %s: %v", server, by, err)
			}
			if texts["closed by "+by] = rendered.Text; len(rendered.Accounts) > 0 || strings.Contains(rendered.Text, "php") || strings.Contains(rendered.Text, "9000") {
				t.Errorf("%s, closed by %s, gives\n%s", server, by, rendered.Text)
			}
			at := -1
			for i, line := range strings.Split(rendered.Text, "\n") {
				if strings.Contains(line, "five") || strings.Contains(line, "ErrorDocument 503") {
					at = i
				}
			}
			source := strings.Split(begin+written, "\n")
			if at < 0 || !strings.HasPrefix(source[rendered.Lines[at].Line-1], "closed") {
				t.Errorf("%s, closed by %s: the page's line comes from %v", server, by, rendered.Lines[max(at, 0)])
			}
			if probes := resolve.ProbesOf(d, "quay1"); len(probes) != 2 || probes[0].Status != 503 || probes[0].Contains != "" {
				t.Errorf("%s, closed by %s, has probes %+v", server, by, probes)
			}
		}
		if texts["closed by the site"] != texts["closed by the kit"] {
			t.Errorf("%s: closed by the kit it gives\n%s\nand by the site\n%s", server, texts["closed by the kit"], texts["closed by the site"])
		}
		said := map[string]bool{}
		says(said, "site", reflect.ValueOf(sites["the kit"].SiteSettings))
		for key, so := range said {
			_, of, _ := strings.Cut(key, ".")
			if so = so || said["site.path."+of]; !so && key != "site.closed" && key != "site.image" && key != "site.image_secret" && key != "site.root" && key != "site.path.content" && !strings.HasPrefix(key, "site.content.") && !strings.HasPrefix(key, "site.path.content.") {
				t.Errorf("%s: the lines do not say %s", server, key)
			}
		}
	}
}

// says notes of each key below a value whether it is said somewhere.
func says(said map[string]bool, at string, v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			says(said, at, v.Elem())
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			says(said, at, v.MapIndex(k))
		}
	case reflect.Slice:
		for i := range v.Len() {
			says(said, at, v.Index(i))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			f := v.Type().Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
			switch {
			case f.Anonymous:
				says(said, at, v.Field(i))
			case name != "" && name != "-":
				said[at+"."+name] = said[at+"."+name] || !v.Field(i).IsZero()
				says(said, at+"."+name, v.Field(i))
			}
		}
	}
}
