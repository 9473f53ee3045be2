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

// carried is what the rod links of core, and no more: what travels, what names may look like, and which
// names are like one another.
const carried = "core that the rod carries"

var carries = []string{"core/wire", "core/form", "core/near"}

// floors are the rooms of the house, by their directories, and which others each may use: on a floor those
// beside each other not one another, and nobody a room above. Of "core" all of it may be used.
var floors = map[string][]string{
	"core":             {},
	"core/form":        {},
	"core/near":        {},
	"core/certificate": {},
	"core/trade":       {},
	"core/wire":        {"core/form"},
	"core/declare":     {"core/form", "core/near", "core/trade", "core/wire"},
	"core/check":       {"core/declare", "core/form", "core/near", "core/trade", "core/wire"},
	"core/render":      {"core/check", "core/declare", "core/form", "core/wire"},
	"core/resolve":     {"core/declare", "core/stake", "core/stake/claim", "core/stake/kinds", "core/wire"},
	"core/lint":        {"core/certificate", "core/check", "core/declare", "core/form", "core/near", "core/render", "core/stake", "core/stake/kinds", "core/trade", "core/wire"},
	"core/plan":        {"core/declare", "core/form", "core/stake", "core/stake/claim", "core/stake/judge", "core/wire"},

	// What a stake and a kind of them are, which claims exclude each other, what is declared and wanted of each
	// kind, and how what is found compares with that. The last two know nothing of one another.
	"core/stake/claim":     {"core/declare", "core/wire"},
	"core/stake":           {"core/check", "core/declare", "core/form", "core/stake/claim", "core/wire"},
	"core/stake/kinds":     {"core/certificate", "core/check", "core/declare", "core/form", "core/render", "core/stake", "core/stake/claim", "core/wire"},
	"core/stake/judge":     {"core/declare", "core/form", "core/stake", "core/wire"},
	"core/stake/staketest": {"core/check", "core/declare", "core/form", "core/stake", "core/stake/claim", "core/wire"},

	"content/archive": {},
	"content/fetch":   {"content/archive", "core"},

	"host/system":            {carried},
	"host/system/systemtest": {carried, "host/system"},
	"host/probe":             {carried},
	"host/rod":               {carried, "host/probe"},
	"host/family":            {carried, "host/system"},
	"host/family/meaning":    {"core", "host/family"},
	"host/filter":            {carried, "host/system"},
	"host/webserver":         {carried, "host/system", "host/probe"},
	"host/publish":           {carried, "host/system"},
	"host/journal":           {carried, "host/system"}, // and no kinds
	"host/engine":            {carried, "host/system"},
	"host/rehearse":          {"host/system"},
	"host/work":              {carried, "host/system", "host/probe", "host/family", "host/filter", "host/webserver", "host/publish", "host/journal", "host/engine"},
	"host/reach":             {carried, "host/rod"},

	"service/auth":     {},
	"service/console":  {},
	"service/contract": {"core", "host/probe", "host/reach"},
	"service/store":    {"core", "host/reach", "service/contract"},
	"service/place":    {"core", "host/probe", "host/reach"},
	"service/jobs":     {"core", "content/fetch", "host/family", "host/probe", "host/reach", "service/auth", "service/contract", "service/place", "service/store"},
	"service/api":      {"core", "host/family", "host/family/meaning", "host/reach", "service/auth", "service/contract", "service/jobs", "service/store"},

	"service/servicetest": {"core", "host/journal", "host/reach", "host/rehearse", "host/rod", "host/system", "host/system/systemtest", "host/work", "lab", "service/api", "service/auth", "service/contract", "service/jobs", "service/store"},

	"cmd/rod":         {"core/wire", "host/family", "host/rehearse", "host/rod", "host/system", "host/work"},
	"cmd/northstake":  {"core", "content/archive", "docs/said", "host/family", "host/family/meaning", "host/probe", "service/contract"},
	"cmd/northstaked": {"host/reach", "service/api", "service/auth", "service/console", "service/jobs", "service/store"},

	"docs/said":    {},
	"lab":          {},
	"demo":         {"lab", "service/contract"},
	"e2e":          {},
	"e2e/stage":    {"core", "lab", "service/contract"},
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
			switch {
			case ours && slices.Contains(allowed, used):
			case ours && strings.HasPrefix(used, "core/") && slices.Contains(allowed, "core"):
			case ours && slices.Contains(carries, used) && slices.Contains(allowed, carried):
			case !ours && (!strings.HasPrefix(room, "core") || pure(name)):
			default:
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

// beside is all that core uses outside the standard library: a TOML decoder and text helpers.
var beside = []string{"github.com/pelletier/go-toml/v2/unstable", "github.com/agext/levenshtein", "github.com/aymanbagabas/go-udiff", "golang.org/x/net/idna", "software.sslmate.com/src/go-pkcs12"}

// pure says whether core may use a package: it computes, without network, database, clock or interface.
func pure(name string) bool {
	first, _, _ := strings.Cut(name, "/")
	if strings.Contains(first, ".") {
		return slices.Contains(beside, name)
	}
	return !slices.Contains([]string{"net/http", "os", "os/exec", "database/sql", "io/ioutil", "syscall"}, name)
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
