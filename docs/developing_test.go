package docs

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"northstake/core/render"
	"northstake/core/stake"
	"northstake/core/wire"
)

// additions reads the lists of docs/developing.md: under each heading, its files.
func additions(t *testing.T) map[string][]string {
	t.Helper()
	b, err := os.ReadFile("../docs/developing.md")
	if err != nil {
		t.Fatal(err)
	}
	out := map[string][]string{}
	for _, part := range strings.Split(string(b), "\n## ")[1:] {
		heading, text, _ := strings.Cut(part, "\n")
		for _, m := range regexp.MustCompile("(?m)^- `([^`]+)`: ").FindAllStringSubmatch(text, -1) {
			out[heading] = append(out[heading], m[1])
		}
	}
	return out
}

func holds(t *testing.T, file, pattern string) bool {
	t.Helper()
	b, err := os.ReadFile(filepath.Join("..", file))
	if err != nil {
		t.Fatal(err)
	}
	return regexp.MustCompile(pattern).Match(b)
}

// files of a room that hold a pattern, without tests.
func files(t *testing.T, room, pattern string) []string {
	t.Helper()
	all, err := filepath.Glob(filepath.Join("..", room, "*.go"))
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, f := range all {
		if name := filepath.Base(f); !strings.HasSuffix(name, "_test.go") && holds(t, filepath.Join(room, name), pattern) {
			out = append(out, name)
		}
	}
	return out
}

// What the page for developers says an addition touches is what it touches: everything
// there is of each sort lies in the files of its list, and is registered there alone.
func TestWhatAnAdditionTouches(t *testing.T) {
	t.Parallel()
	lists := additions(t)
	for heading, want := range map[string][]string{
		"Adding a type of stake":     {"core/stake/kinds/NAME.go", "core/stake/judge/NAME.go", "core/wire/NAME.go", "host/work/NAME.go"},
		"Adding a web server":        {"core/render/NAME.go", "host/webserver/NAME.go", "host/family/families/FAMILY/family.toml"},
		"Adding a family of systems": {"host/family/families/FAMILY/family.toml", "host/family/MANAGER.go"},
		"Adding a packet filter":     {"host/filter/FILTER.go", "host/filter/filter.go", "core/wire/port.go"},
		"Adding a way to a host":     {"host/reach/WAY.go", "core/declare/transport.go"},
	} {
		if !slices.Equal(lists[heading], want) {
			t.Errorf("%s lists %v, and this test knows of %v", heading, lists[heading], want)
		}
	}
	for _, typ := range stake.Types() {
		file := typ + ".go"
		if got := files(t, "core/stake/kinds", `Type: +"`+typ+`"[,}]`); !slices.Contains(got, file) {
			t.Errorf("kind %s is registered in core/stake/kinds by %v", typ, got)
		}
		if got := files(t, "core/stake/judge", `stake\.Judged\("`+typ+`"`); !slices.Equal(got, []string{file}) {
			t.Errorf("kind %s is judged in core/stake/judge by %v", typ, got)
		}
		if got := files(t, "core/wire", `(?m)^type \w+Want struct`); !slices.Contains(got, file) {
			t.Errorf("what travels of kind %s is in none of %v", typ, got)
		}
		if got := files(t, "host/work", `register\("`+typ+`"`); !slices.Equal(got, []string{file}) {
			t.Errorf("kind %s is registered in host/work by %v", typ, got)
		}
	}
	families, err := filepath.Glob("../host/family/families/*/family.toml")
	if err != nil || len(families) < 2 {
		t.Fatal(families, err)
	}
	for _, server := range render.Servers() {
		for _, room := range []string{"core/render", "host/webserver"} {
			if got := files(t, room, `register\("`+server+`"`); !slices.Equal(got, []string{server + ".go"}) {
				t.Errorf("server %s is registered in %s by %v", server, room, got)
			}
		}
		for _, f := range families {
			if !holds(t, strings.TrimPrefix(f, "../"), `(?m)^\[server\.`+server+`\]`) {
				t.Errorf("%s says nothing of %s", f, server)
			}
		}
	}
	for _, filter := range wire.FirewallPrograms {
		if got := files(t, "host/filter", `func \(`+filter+`\) Name\(\)`); !slices.Equal(got, []string{filter + ".go"}) {
			t.Errorf("filter %s is in %v", filter, got)
		}
	}
	for way, file := range map[string]string{"ssh": "ssh.go", "service-machine": "own.go"} {
		if got := files(t, "host/reach", `Register\("`+way+`"`); !slices.Equal(got, []string{file}) {
			t.Errorf("way %s is registered by %v", way, got)
		}
	}
}

// A binary is built anew when anything that goes into it has changed: what the Makefile
// looks at is all that the compiler reads.
func TestWhatABinaryIsMadeFrom(t *testing.T) {
	t.Parallel()
	run := func(name string, args ...string) string {
		cmd := exec.Command(name, args...)
		cmd.Dir = ".."
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%s %v: %v", name, args, err)
		}
		return string(out)
	}
	known := map[string]bool{}
	for _, f := range strings.Fields(run("make", "--no-print-directory", "sources")) {
		known[f] = true
	}
	root, err := filepath.Abs("..")
	if err != nil {
		t.Fatal(err)
	}
	read := run("go", "list", "-deps", "-f", `{{if .Module}}{{if eq .Module.Path "northstake"}}{{$d := .Dir}}{{range .GoFiles}}{{$d}}/{{.}} {{end}}{{range .EmbedFiles}}{{$d}}/{{.}} {{end}}{{end}}{{end}}`, "./cmd/...", "./demo")
	files := strings.Fields(read)
	if len(files) < 100 {
		t.Fatalf("the compiler reads %d files", len(files))
	}
	for _, f := range files {
		rel, err := filepath.Rel(root, f)
		if err != nil {
			t.Fatal(err)
		}
		if !known[rel] && !strings.Contains(rel, "console/dist/") { // which is built from web/, by a rule of its own
			t.Errorf("%s goes into a binary, and the Makefile does not look at it", rel)
		}
	}
}

// Every room of the house stands on its floor in the page's table.
func TestTheFloorsNameEveryRoom(t *testing.T) {
	page, err := os.ReadFile("../docs/developing.md")
	if err != nil {
		t.Fatal(err)
	}
	floors, _, _ := strings.Cut(string(page), "\n## One port")
	for _, floor := range []string{"cmd", "service", "host", "content", "core"} {
		rooms, err := os.ReadDir(filepath.Join("..", floor))
		if err != nil || len(rooms) == 0 {
			t.Fatalf("%s: %v", floor, err)
		}
		for _, room := range rooms {
			if name := floor + "/" + room.Name(); room.IsDir() && room.Name() != "servicetest" && !strings.Contains(floors, "`"+name+"`") {
				t.Errorf("the page says nothing of %s", name)
			}
		}
	}
}

// Each test that does less while races are looked for is one that make test does whole as well.
func TestWhatIsDoneLessOftenIsDoneWhole(t *testing.T) {
	b, err := os.ReadFile("../Makefile")
	if err != nil {
		t.Fatal(err)
	}
	often := regexp.MustCompile(`(?m)^OFTEN := (.*)$`).FindStringSubmatch(string(b))
	whole := regexp.MustCompile(`(?m)GO\) test .*-run '\$\(OFTEN\)' (.*)$`).FindStringSubmatch(string(b))
	if often == nil || whole == nil {
		t.Fatal("the Makefile does nothing whole")
	}
	var found []string
	err = filepath.WalkDir("..", func(path string, e os.DirEntry, err error) error {
		if err == nil && (e.Name() == "node_modules" || e.Name() == ".git") {
			return filepath.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, "_test.go") || strings.HasSuffix(path, "developing_test.go") {
			return err
		}
		b, err := os.ReadFile(path)
		for _, part := range strings.Split(string(b), "\nfunc ")[1:] {
			if name, _, _ := strings.Cut(part, "("); strings.Contains(part, "systemtest.Rounds(") {
				found = append(found, name)
				if dir := "./" + filepath.ToSlash(strings.TrimPrefix(filepath.Dir(path), "../")); !slices.Contains(strings.Fields(whole[1]), dir) {
					t.Errorf("%s is done less often, and %s not whole", name, dir)
				}
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	slices.Sort(found)
	if names := slices.Sorted(slices.Values(strings.Split(often[1], "|"))); !slices.Equal(found, names) {
		t.Errorf("less often are done %v, and whole %v", found, names)
	}
}
