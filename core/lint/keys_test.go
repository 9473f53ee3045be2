package lint

import (
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"

	"northstake/core/declare"
)

// Every key says what it means, and shows a value that it takes.
func TestEveryKeyIsExplained(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range declare.Keys() {
		if seen[k.Name] {
			t.Errorf("%s is listed twice", k.Name)
		}
		seen[k.Name] = true
		if !strings.HasSuffix(k.About, ".") {
			t.Errorf("%s is explained by %q", k.Name, k.About)
		}
		if k.Table == "" {
			continue
		}
		if k.Example == "" {
			t.Errorf("%s has no example", k.Name)
		}
		// The example stands alone in its table: only what is wrong in its line counts.
		table := strings.Trim(k.Table, "[]")
		if strings.HasSuffix(table, ".probe") {
			table = "[" + table + "]"
		}
		text := "[" + strings.NewReplacer("PATH", `"/srv/x"`, "PORT", `"80/tcp"`, "URL", `"/x"`, "NAME", "a", "FAMILY", "b").Replace(table) + "]\n" + k.Word + " = " + k.Example + "\n"
		_, problems := Parse([]declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{})
		for _, p := range problems {
			if p.Line == 2 && (strings.Contains(p.What, "should be") || strings.Contains(p.What, "no key") || strings.Contains(p.What, "cannot be") || strings.Contains(p.What, "is not a")) {
				t.Errorf("the example of %s is not taken: %s\n%s", k.Name, p.What, text)
			}
		}
	}
	for _, k := range declare.Keys() {
		for _, v := range k.Values {
			if !regexp.MustCompile(`^([a-z0-9]+([-.][a-z0-9]+)*|[^a-z0-9 ]+)$`).MatchString(v) {
				t.Errorf("%s can be %q: values have hyphens and no blanks", k.Name, v)
			}
		}
		if names := strings.Contains(k.About, "ame of the secret") || strings.Contains(k.About, "ame of a secret") || strings.Contains(k.About, "names of the secrets"); names != (strings.HasSuffix(k.Word, "_secret") || strings.HasSuffix(k.Word, "_secrets")) {
			t.Errorf("whether %s names a secret its name does not tell", k.Name)
		}
	}
	if len(seen) < 80 {
		t.Errorf("there are %d keys", len(seen))
	}
}

func TestAKeyIsFoundByWhatPeopleWrite(t *testing.T) {
	for word, want := range map[string]string{
		"site.index": "site.NAME.index", "site.timetable.index": "site.NAME.index", "[reach]": "reach", "site.NAME.path.root": "site.NAME.path.URL.root",
		"sudo_secret": "reach.sudo_secret", "ground.name": "ground.name", "kit.service.at_boot": "kit.NAME.service.NAME.at_boot",
		"source.key": "kit.NAME.source.NAME.key", "content.folder": "kit.NAME.site.content.folder",
	} {
		found, _ := declare.FindKeys(word)
		if len(found) == 0 || found[0].Name != want {
			t.Errorf("%q finds %v, want %s", word, found, want)
		}
	}
	if found, _ := declare.FindKeys("site"); len(found) < 9 || found[0].Name != "site" {
		t.Errorf("a table lists %v", found)
	}
	if found, _ := declare.FindKeys("host.port"); len(found) != 2 || found[0].Name != "host.NAME.port" || found[1].Name != "host.NAME.port.PORT.from" {
		t.Errorf("a table of tables lists %d keys, the first %s", len(found), found[0].Name)
	}
	for _, word := range []string{"host.NAME", "[host.name]", `kit.base.file."/etc/tides.conf"`, "host.file./etc/motd"} {
		if found, _ := declare.FindKeys(word); len(found) < 3 {
			t.Errorf("%q finds %v", word, found)
		}
	}
	for word, want := range map[string]string{"site.indx": "site.index", "adress": "address", "host.contant": "host.content", "host.quay1.contant": "host.quay1.content",
		"host.quay7": "", "site.timetable": "", "host.contant.image": "", "reach.usr": "reach.user", "nothing.like.this": ""} {
		if found, near := declare.FindKeys(word); len(found) > 0 || near != want {
			t.Errorf("%q finds %v, near %q", word, found, near)
		}
	}
}

// The page about declarations shows every key in its examples, which are linted,
// planned and applied elsewhere.
func TestTheDocumentShowsEveryKey(t *testing.T) {
	page, err := os.ReadFile("../../docs/declaration.md")
	if err != nil {
		t.Fatal(err)
	}
	var text strings.Builder
	for _, part := range strings.Split(string(page), "```")[1:] {
		if piece, ok := strings.CutPrefix(part, "toml\n"); ok {
			text.WriteString(piece)
		}
	}
	var shown map[string]any
	if err := toml.Unmarshal([]byte(text.String()), &shown); err != nil {
		t.Fatal(err)
	}
	var names [][]string
	var walk func(v any, at []string)
	walk = func(v any, at []string) {
		names = append(names, at)
		switch v := v.(type) {
		case map[string]any:
			for k, inner := range v {
				walk(inner, append(slices.Clone(at), k))
			}
		case []any:
			for _, inner := range v {
				walk(inner, at)
			}
		}
	}
	walk(shown, nil)
	// Kits and hosts take the same settings, a kit's site the keys of a site, and
	// content and probes are the same wherever they are.
	plain := strings.NewReplacer("kit.NAME.site.", "site.NAME.", "site.NAME.path.URL.content.", "content.", "site.NAME.content.", "content.")
	sort := func(name string) string {
		name = plain.Replace(plain.Replace(name))
		if rest, ok := strings.CutPrefix(name, "kit.NAME."); ok {
			name = "host.NAME." + rest
		}
		return strings.NewReplacer("host.NAME.content.PATH.", "content.", "host.NAME.reach.", "reach.", "host.NAME.container.NAME.probe.", "site.NAME.probe.").Replace(name)
	}
	isShown := map[string]bool{}
	for _, k := range declare.Keys() {
		parts := strings.Split(k.Name, ".")
		if slices.ContainsFunc(names, func(name []string) bool {
			return slices.EqualFunc(name, parts, func(a, b string) bool { return a == b || b == strings.ToUpper(b) })
		}) {
			isShown[sort(k.Name)] = true
		}
	}
	for _, k := range declare.Keys() {
		if !isShown[sort(k.Name)] {
			t.Errorf("no example shows %s", k.Name)
		}
	}
}
