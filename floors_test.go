package northstake

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// floors are the rooms of the house, by their directories, and which others each may use: on a floor those
// beside each other not one another, and nobody a room above. Of "core" all of it may be used.
var floors = map[string][]string{
	"core":         {},
	"core/near":    {},
	"core/form":    {},
	"core/declare": {"core/form", "core/near"},
	"core/check":   {"core/declare", "core/form", "core/near"},
	"core/render":  {"core/check", "core/declare", "core/form"},
	"core/stake":   {"core/check", "core/declare", "core/form", "core/render"},
	"core/wire":    {"core/declare", "core/stake"},
	"core/resolve": {"core/declare", "core/stake"},
	"core/lint":    {"core/check", "core/declare", "core/form", "core/near", "core/render", "core/stake"},
	"core/plan":    {"core/declare", "core/form", "core/stake", "core/wire"},

	"core/stake/staketest": {"core/check", "core/declare", "core/form", "core/stake"},

	"content/archive": {},
	"content/fetch":   {"content/archive", "core"},

	"host/system":            {"core"},
	"host/system/systemtest": {"core", "host/system"},
	"host/probe":             {"core"},
	"host/rod":               {"core", "host/probe"},
	"host/family":            {"core", "host/system"},
	"host/filter":            {"core", "host/system"},
	"host/webserver":         {"core", "host/system", "host/probe"},
	"host/publish":           {"core", "host/system"},
	"host/journal":           {"core", "host/system"}, // and no kinds
	"host/engine":            {"core", "host/system"},
	"host/work":              {"core", "host/system", "host/probe", "host/family", "host/filter", "host/webserver", "host/publish", "host/journal", "host/engine"},
	"host/reach":             {"core", "host/rod"},

	"service/auth":     {},
	"service/console":  {},
	"service/contract": {"core", "host/probe", "host/reach"},
	"service/store":    {"core", "host/reach", "service/contract"},
	"service/place":    {"core", "host/probe", "host/reach"},
	"service/jobs":     {"core", "content/fetch", "host/family", "host/probe", "host/reach", "service/auth", "service/contract", "service/place", "service/store"},
	"service/api":      {"core", "host/family", "host/reach", "service/auth", "service/contract", "service/jobs", "service/store"},

	"service/servicetest": {"core", "host/journal", "host/reach", "host/rod", "host/system", "host/system/systemtest", "host/work", "lab", "service/api", "service/auth", "service/contract", "service/jobs", "service/store"},

	"cmd/rod":         {"host/family", "host/rod", "host/system", "host/work"},
	"cmd/northstake":  {"core", "content/archive", "docs/said", "host/family", "host/probe", "service/contract"},
	"cmd/northstaked": {"host/reach", "service/api", "service/auth", "service/console", "service/jobs", "service/store"},

	"docs/said":    {},
	"lab":          {},
	"demo":         {"lab", "service/contract"},
	"e2e":          {"core", "lab", "host/family", "host/reach", "service/contract", "e2e/requests"},
	"e2e/requests": {},
	"e2e/pictures": {"e2e"},
}

// A room uses only rooms below it.
func TestWhoMayUseWhom(t *testing.T) {
	seen := map[string]bool{}
	err := filepath.WalkDir(".", func(path string, e fs.DirEntry, err error) error {
		if e != nil && e.IsDir() && (e.Name() == "node_modules" || e.Name() != "." && strings.HasPrefix(e.Name(), ".")) {
			return fs.SkipDir
		}
		room := filepath.ToSlash(filepath.Dir(path))
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		allowed, known := floors[room]
		if !known && !seen[room] {
			t.Errorf("nothing says what %s may use", room)
		}
		seen[room] = true
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range f.Imports {
			name, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			used, ours := strings.CutPrefix(name, "northstake/")
			if ours && !slices.Contains(allowed, used) && !(strings.HasPrefix(used, "core/") && slices.Contains(allowed, "core")) {
				t.Errorf("%s uses %s", path, used)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for room, allowed := range floors {
		if !seen[room] {
			t.Errorf("there is no room %s", room)
		}
		if i := slices.Index(allowed, room); i >= 0 {
			t.Errorf("%s is said to use itself", room)
		}
	}
	noCircles(t)
}

// noCircles says which rooms may use one another in a circle.
func noCircles(t *testing.T) {
	t.Helper()
	done := map[string]bool{}
	var visit func(room string, above []string)
	visit = func(room string, above []string) {
		if slices.Contains(above, room) {
			t.Errorf("rooms may use each other in a circle: %s", strings.Join(append(above, room), " "))
			return
		}
		if done[room] {
			return
		}
		for _, below := range floors[room] {
			visit(below, append(slices.Clone(above), room))
		}
		done[room] = true
	}
	for room := range floors {
		visit(room, nil)
	}
}
