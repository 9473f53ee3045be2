package lint

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/pelletier/go-toml/v2"

	"northstake/core/declare"
	"northstake/docs/said"
)

// tried are the advices that were followed, so that TestMain can say which were not.
var tried = struct {
	sync.Mutex
	fixes []string
}{}

// lint is Parse for tests: each advice that comes of it and says what to write is followed, and
// has to help.
func lint(t testing.TB, sources []declare.Source, m *declare.Manifest) (*declare.Declaration, declare.Problems) {
	t.Helper()
	d, problems := Parse(sources, m)
	if len(problems) > 20 {
		return d, problems // texts that are wrong throughout are for other tests
	}
	for _, p := range problems {
		followed, at := follow(sources, p)
		if followed == nil {
			continue
		}
		tried.Lock()
		tried.fixes = append(tried.fixes, p.Fix)
		tried.Unlock()
		_, then := Parse(followed, m)
		for _, q := range then {
			if !slices.Contains(at, q.Line) {
				continue
			}
			own := noKey.FindStringSubmatch(q.What) // a word that stood there before leads to what is next
			if q.What == p.What || !told(problems, q.What) && !missing.MatchString(q.What) && (own == nil || !strings.Contains(p.Text, own[1])) {
				t.Errorf("%s\nand then, by that advice:\n%s", p.Draw(), q.Draw())
			}
		}
	}
	return d, problems
}

// missing are the mistakes that come of a sample that stands for what people choose.
var (
	missing = regexp.MustCompile(`^there is no (file|directory|program|kit|certificate|authority) |^no host is |written twice|belongs to a |looks like an IP address|is not a SHA-256|says nothing|\] has no `)
	noKey   = regexp.MustCompile(`^there is no key "(.+?)"`)
)

func told(problems declare.Problems, what string) bool {
	return slices.ContainsFunc(problems, func(p declare.Problem) bool { return p.What == what })
}

// What an advice can say, in the order in which it is looked for.
var (
	inPlace = regexp.MustCompile(`^write ([a-z_]+) in place of ([a-z_]+)$`)
	called  = regexp.MustCompile(`^it is called [a-z_]+(?:, in (\[.+?\]),| here,) as in (.+)$`)
	header  = regexp.MustCompile(`^(?:write|add) (?:a header such as |a )?(\[.+?\])(?:, or [a-z_]+ = and a value)?(?: table with (.+?))?(?: on a line of its own, and no closing brace)?$`)
	doubled = regexp.MustCompile(`^write (\[\[.+\]\]) (?:in double brackets|at line (\d+) as well)`)
	braces  = regexp.MustCompile(`^write (.+) in the braces of ([a-z_]+)$`)
	adds    = regexp.MustCompile(`^(?:take it out, give it to [^,]+, and write|add) (.+)$`)
	into    = regexp.MustCompile(` to (\[[a-z0-9._]+\])`)
	lacks   = regexp.MustCompile(`^(\[[^ ]+\]) has no `)
	account = regexp.MustCompile(`://[^/@]+@`) // "take it out"
	writes  = regexp.MustCompile(`^(?:write|declare) (.+)$`)
	word    = regexp.MustCompile(`^(?:write|did you mean)(?: one| a name| a URL| a path| it| its path| its absolute path)?(?: below the declaration's directory)?[^"]*? ?("[^"]*")`)
	bare    = regexp.MustCompile(`^write (\d+), without quotes$`)
)

// follow does what an advice says, and returns the files as they are then, with the lines that
// were written. It is nil for an advice that says something else than what to write.
func follow(sources []declare.Source, p declare.Problem) ([]declare.Source, []int) {
	n := slices.IndexFunc(sources, func(s declare.Source) bool { return s.Name == p.File })
	if n < 0 || p.Line < 1 {
		return nil, nil
	}
	lines := strings.Split(sources[n].Text, "\n")
	if p.Line > len(lines) {
		return nil, nil
	}
	line := []rune(lines[p.Line-1])
	from := min(p.Column-1, len(line))
	to := min(from+max(p.Width, 1), len(line))
	marked := func(text string) []int {
		lines[p.Line-1] = string(line[:from]) + text + string(line[to:])
		return []int{p.Line}
	}
	whole := func(text string) []int {
		lines[p.Line-1] = text
		return []int{p.Line}
	}
	after := func(at int, texts ...string) (out []int) {
		lines = slices.Insert(lines, at, texts...)
		for i := range texts {
			out = append(out, at+i+1)
		}
		return out
	}
	var at []int
	quoted := from < len(line) && (line[from] == '"' || line[from] == '\'')
	switch fix := p.Fix; {
	case inPlace.MatchString(fix):
		at = marked(inPlace.FindStringSubmatch(fix)[1])
	case called.MatchString(fix):
		m := called.FindStringSubmatch(fix)
		if m[1] == "" {
			at = whole(pairs(m[2], p)[0])
			break
		}
		whole("")
		lines = append(lines, example(m[1]))
		lines = append(lines, pairs(m[2], p)...)
		at = []int{len(lines) - 1, len(lines)}
	case bare.MatchString(fix):
		at = marked(bare.FindStringSubmatch(fix)[1])
	case braces.MatchString(fix):
		m := braces.FindStringSubmatch(fix)
		whole("")
		i := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, m[2]+" = {") })
		lines[i] = strings.Replace(lines[i], "{", "{ "+m[1]+",", 1)
		at = []int{i + 1}
	case doubled.MatchString(fix):
		m := doubled.FindStringSubmatch(fix)
		if m[2] != "" {
			p.Line, _ = strconv.Atoi(m[2])
		}
		at = whole(m[1])
	case header.MatchString(fix):
		m := header.FindStringSubmatch(fix)
		at = whole(example(m[1]))
		if m[2] != "" {
			at = append(at, after(1, pairs(m[2], p)...)...)
		}
	case adds.MatchString(fix) && pairs(adds.FindStringSubmatch(fix)[1], p) != nil:
		texts := pairs(adds.FindStringSubmatch(fix)[1], p)
		m := into.FindStringSubmatch(fix)
		if m == nil {
			m = lacks.FindStringSubmatch(p.What)
		}
		if m != nil && !strings.HasPrefix(string(line), m[1]) {
			if i := slices.Index(lines, m[1]); i >= 0 {
				at = after(i+1, texts...)
				break
			}
			lines = append(lines, append([]string{m[1]}, texts...)...)
			at = []int{len(lines)}
			break
		}
		if strings.Contains(string(line[:from]), "{ ") || strings.Contains(string(line[from:]), "{ ") { // a table in braces
			at = whole(account.ReplaceAllString(strings.TrimSuffix(string(line[:to]), " }")+", "+texts[0]+strings.Repeat(" }", strings.Count(string(line[from:to]), " }"))+string(line[to:]), "://"))
			break
		}
		at = after(p.Line, texts...)
		if !strings.HasPrefix(strings.TrimSpace(string(line)), "[") { // beside the key, in its table
			at = append(at, p.Line)
		}
	case writes.MatchString(fix) && pairs(writes.FindStringSubmatch(fix)[1], p) != nil:
		texts := pairs(writes.FindStringSubmatch(fix)[1], p)
		if key, value, _ := strings.Cut(texts[0], " = "); strings.Contains(string(line[:from]), "{") { // in the braces of another
			if strings.HasPrefix(string(line[from:]), key) || !strings.Contains(string(line[:from]), key) {
				at = marked(key)
			} else {
				at = marked(value)
			}
			break
		}
		at = whole(strings.Join(texts, "\n"))
		at = append(at, p.Line+1)
	case word.MatchString(fix):
		text := word.FindStringSubmatch(fix)[1]
		if plain := strings.Trim(text, `"`); !quoted && p.Text != "" && strings.HasPrefix(string(line[to:]), " =") {
			text = plain
		}
		at = marked(text)
	default:
		return nil, nil
	}
	out := slices.Clone(sources)
	out[n].Text = strings.Join(lines, "\n")
	return out, at
}

// pairs are the keys with their values with which a text begins: "a = 1, and b = 2 beside it".
// A key of which only "…" is said gets the value by which it is explained.
func pairs(text string, p declare.Problem) (out []string) {
	key, rest, ok := strings.Cut(text, " = ")
	if !ok || strings.ContainsAny(key, " []") {
		return nil
	}
	if strings.HasPrefix(rest, "…") || strings.HasPrefix(rest, "[…]") {
		for _, k := range declare.Keys() {
			if k.Word == key && strings.Contains(p.What+p.Text, lastTable(k.Table)) {
				return []string{key + " = " + k.Example}
			}
		}
		return nil
	}
	for end := len(rest); end > 0; end-- {
		var v map[string]any
		if toml.Unmarshal([]byte(key+" = "+rest[:end]), &v) == nil {
			more := strings.TrimPrefix(rest[end:], ", and ")
			return append([]string{key + " = " + sample.Replace(rest[:end])}, pairs(more, p)...)
		}
	}
	return nil
}

// sample fills in what people choose.
var sample = strings.NewReplacer("…", "x", `"NAME"`, `"x"`, "REGISTRY/NAME:TAG", "registry.test/x:1")

func lastTable(table string) string {
	parts := strings.FieldsFunc(table, func(r rune) bool { return r == '.' || r == '[' || r == ']' || r >= 'A' && r <= 'Z' })
	return parts[len(parts)-1]
}

// example is the header of a table with what people choose filled in.
func example(header string) string {
	return strings.NewReplacer("site.NAME.path.URL", `site.s.path."/x"`, "site.NAME", "site.s", "NAME", "x").Replace(header)
}

// TestEveryAdviceIsFollowed makes the mistakes that no other test makes, and whose advice says
// what to write.
func TestEveryAdviceIsFollowed(t *testing.T) {
	const base = "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.a]\naddress = \"10.0.0.1\"\n[host.a.container.c]\nimage = \"r.test/c:1\"\n[[host.a.container.c.reached_at]]\noutside = 8080\n" +
		"[site.s]\non = [\"a\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\n"
	for text, what := range map[string]string{
		`not_from = ["north"]`:                                                    "is not a network",
		`content = { dir = "/srv/x" }`:                                            "does not lie beside",
		`probe = [{ path = "/", method = "no method" }]`:                          "is not a method",
		`probe = [{ path = "/", within = "a while" }]`:                            "is not a length of time",
		`probe = [{ path = "/", resolver = "dns.test" }]`:                         "is no resolver",
		`probe = [{ path = "/", ends_at = "sailings" }]`:                          "is no end of a redirect",
		"[host.c]\naddress = \"10.0.0.3\"\nreach = { taken_back_after = \"5s\" }": "is no length of time from 30s to 24h",
		`compress = "no"`:                                                         "should be true or false",
		"[site.s.probe]\npath = \"/\"":                                            "should be a list",
		`content = "content"`:                                                     "should be a table",
		"[host.b.container]\nimage = \"r.test/x:1\"":                              "should be a table",
		"[site.s.probe]\npath = \"/\"\n[[site.s.probe]]\npath = \"/x\"":           "is a single table above",
		"path:": "a colon does not set a key",
		`probe = [{ path = "/", by = "system" }]`:                                    "is written resolver now",
		`log = { errors = "/var/log/s.log" }`:                                        "is written error now",
		`path = { "/a" = { passed_to = ["unix:run/x.sock"] } }`:                      "is not the path of a socket",
		`path = { "/a" = { passed_to = ["ferries"] } }`:                              "is no service",
		`path = { "/a" = { passed_to = ["http://x.test:1"], answers_in = "soon" } }`: "is not a length of time to wait",
		`path = { "/a" = { says = "x", type = "text" } }`:                            "is not a media type",
		`path = { "/a" = { moved_to = "sailings" } }`:                                "nothing that a visitor can be sent to",
		`path = { "/a" = { moved_to = "/b?c", rest = "dropped" } }`:                  "behind which the query",
		`path = { "/a" = { moved_to = "/b?c", query = "dropped" } }`:                 "behind which the rest",
		"[host.a.port.\"https\"]\nfrom = [\"10.0.0.0/8\"]":                           "is not a port",
		"[host.a.port.\"70000/tcp\"]\nfrom = [\"10.0.0.0/8\"]":                       "is not a port",
		`listen = [{ port = 80, address = "north" }]`:                                "is not an address",
		`redirected_names = ["münchen.test"]`:                                        "has letters that names have in another form",
		`redirected_names = ["*.Übersee.test"]`:                                      "has letters that names have in another form",
		`path = { "/a" = { passed_to = ["http://127.0.0.1"] } }`:                     "is this site itself",
		`path = { "/a" = { passed_to = ["http://[::1]:80"] } }`:                      "is this site itself",
		`listen = ["8443 ssl"]`:                                                      "a value of listen is text, and should be a whole number",
		"[host.a.directory.\"/\"]":                                                   "is the whole host",
		"root = \"/srv/www/s\"\nlog = { access = \"/srv/www/s/requests.log\" }":      "where visitors are shown what is there",
		`closed = "  "`:                           "a closed site has to say something",
		`closed = "\u0007"`:                       "the page has a control character",
		"served = false\nclosed = \"x\"":          "the site is not served, and nobody gets this page",
		`otherwise = "/index.html"`:               "is not a plain file name",
		`otherwise = "index.php"`:                 "PHP is not declared, and index.php",
		`error_pages = { "404" = "lost.html" }`:   "is not the path of a page",
		`charset = "no charset"`:                  "is not the name of a character set",
		`log = { form = "json" }`:                 "says nothing",
		`browser_cache = { "a b" = "10m" }`:       "is not a pattern of files",
		`browser_cache = { "*.css" = "a while" }`: "is not a length of time",
		`largest_body = "huge"`:                   "is not a size",
		"[host.a.container.d]\nimage = \"r.test/c:1\"\nat_boot = true\nrestarts = \"on-failure\"":                  "not started with the host",
		"[host.a.container.d]\nimage = \"r.test/c:1\"\nat_most = { memory = \"1KB\" }":                             "is not an amount of memory",
		"[host.a.content.\"/srv/x\"]\ndir = \"content\"\nmodes = { directories = \"0750\" }\nfile_mode = \"0640\"": "is written modes.files now",
		"[host.a.package.tree]\nversion = \"no version\"":                                                          "is not a version",
	} {
		all := base + text + "\n"
		if _, problems := lint(t, []declare.Source{{Name: "g.toml", Text: all}}, &declare.Manifest{}); !slices.ContainsFunc(problems, func(p declare.Problem) bool { return strings.Contains(p.What, what) }) {
			t.Errorf("%s: nothing says %q: %v", text, what, problems)
		}
	}
	for text, what := range map[string]string{
		"[reach]\nuser = \"k\"\n":                          "which ground this is",
		"[ground]\nname = \"g\"\nunknown_names = \"no\"\n": "nothing that can be answered",
		strings.Replace(base, "nginx", "caddy", 1) + "log = { access = \"/var/log/s.log\", form = \"combined\" }\n": "cannot write the log",
	} {
		if _, problems := lint(t, []declare.Source{{Name: "g.toml", Text: text}}, &declare.Manifest{}); !slices.ContainsFunc(problems, func(p declare.Problem) bool { return strings.Contains(p.What, what) }) {
			t.Errorf("%s: nothing says %q: %v", text, what, problems)
		}
	}
}

// What messages and help texts say to write is there, by today's words, and can have that value.
func TestWhatIsToBeWrittenIsThere(t *testing.T) {
	tables := map[string]string{"[ground]": "name = \"g\"\n", "[reach]": "user = \"k\"\n", "[host.a]": "address = \"10.0.0.1\"\n", "[site.s]": "on = [\"a\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\n"}
	lists, has := map[string]string{"[site.s.probe]": "path = \"/\"\n"}, map[string][]string{}
	for _, k := range declare.Keys() {
		if strings.HasPrefix(k.Table, "[kit") || k.Table == "" {
			continue
		}
		table := example(strings.NewReplacer("[host.NAME", "[host.a", "[site.NAME", "[site.s", "PATH", `"/x"`, "URL", `"/x"`).Replace(k.Table))
		has[k.Word] = append(has[k.Word], table)
	}
	can := func(text string) bool {
		word := strings.FieldsFunc(text, func(r rune) bool { return r == '.' || r == ' ' })[0]
		for _, table := range has[word] {
			more := tables[table]
			if of, is := lists[table]; is {
				table, more = "["+table+"]", of
			}
			all := "[ground]\nname = \"g\"\n[reach]\nuser = \"k\"\nkey_secret = \"k\"\n[host.a]\naddress = \"10.0.0.1\"\n[site.s]\non = [\"a\"]\nserver = \"nginx\"\nnames = [\"s.test\"]\n"
			if strings.Contains(all, table+"\n") {
				all = strings.Replace(all, table+"\n", table+"\n"+text+"\n", 1)
			} else {
				all += table + "\n" + more + text + "\n"
			}
			_, problems := Parse([]declare.Source{{Name: "g.toml", Text: all}}, &declare.Manifest{})
			if !slices.ContainsFunc(problems, func(p declare.Problem) bool { return wrong.MatchString(p.What) }) {
				return true
			}
		}
		return false
	}
	seen := 0
	for where, text := range literals(assigned, "../../core", "../../host", "../../service", "../../cmd", "../../content") {
		if strings.Contains(where, "former") || strings.Contains(where, "staketest") || strings.Contains(where, "northstaked/") || strings.Contains(where, "sendrod") {
			continue
		}
		for _, at := range assigned.FindAllStringIndex(text, -1) {
			if before := text[:at[0]]; strings.HasSuffix(before, "%") || strings.Count(before, "{ ") > strings.Count(before, " }") {
				continue // the key is filled in, or stands in braces
			}
			piece := strings.NewReplacer("%[1]s", "x", "%[1]q", `"x"`, "%s", "x", "%q", `"x"`, "%d", "8080", "…", "x", `"NAME"`, `"x"`, "{url}", "https://x.test").Replace(strings.Split(text[at[0]:], "\n")[0])
			if pairs := pairs(piece, declare.Problem{}); pairs != nil {
				if seen++; !can(pairs[0]) {
					t.Errorf("%s says %q", where, pairs[0])
				}
			}
		}
	}
	if seen < 40 {
		t.Errorf("%d texts say what to write", seen)
	}
	for _, key := range declare.FormerKeys() {
		_, word, _ := strings.Cut(key, ".")
		if !strings.Contains(word, "_") || slices.ContainsFunc(declare.Keys(), func(k declare.Key) bool { return k.Word == word }) {
			continue // words that are used for something else
		}
		for where, text := range literals(regexp.MustCompile(`\b`+word+`\b`), "../../core/lint", "../../core/stake", "../../core/plan", "../../core/check", "../../host", "../../service/api", "../../service/jobs", "../../cmd") {
			if !strings.Contains(where, "/former.go") {
				t.Errorf("%s says %s, which is a former word: %s", where, word, text)
			}
		}
	}
}

var (
	assigned = regexp.MustCompile(`(?m)[a-z_]+(\.[a-z%s"\[\]1/.-]+)? = ["{\[tf0-9]`)
	wrong    = regexp.MustCompile(`^there is no key|is written .* now|cannot be|should be|expected|is not a `)
)

// Every advice of lint that says what to write has been followed by some test, and helped.
func untried() (out []string) {
	for where, text := range literals(regexp.MustCompile(`^(write|add) .*(= |"|\[)`), "..") {
		if strings.Contains(text, "[host.%s]") {
			continue // said of a host that was looked at: TestWhatIsToBeWrittenIsThere
		}
		pattern := regexp.QuoteMeta(text)
		pattern = regexp.MustCompile(`%(\[\d\])?[sdqv]`).ReplaceAllString(pattern, ".*")
		if re := regexp.MustCompile("^" + pattern); !slices.ContainsFunc(tried.fixes, re.MatchString) {
			out = append(out, where+": "+text)
		}
	}
	slices.Sort(out)
	return out
}

// literals are the texts in the code below these directories that match, by where they stand.
func literals(re *regexp.Regexp, dirs ...string) map[string]string {
	all, err := said.Literals(dirs...)
	if err != nil {
		panic(err)
	}
	maps.DeleteFunc(all, func(_, text string) bool { return !re.MatchString(text) })
	return all
}

func TestMain(m *testing.M) {
	flag.Parse()
	code := m.Run()
	if some := flag.Lookup("test.run").Value.String(); code == 0 && some == "" && flag.Lookup("test.fuzz").Value.String() == "" {
		if left := untried(); len(left) > 0 {
			fmt.Printf("no test follows these advices:\n\t%s\n", strings.Join(left, "\n\t"))
			code = 1
		}
	}
	os.Exit(code)
}
