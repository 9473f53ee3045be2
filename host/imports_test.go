package host

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

// rooms are the packages below host, and which of the others each may use: the ground
// floor none, those beside each other not one another, and the journal no kinds.
var rooms = map[string][]string{
	"probe":             {},
	"rod":               {"probe"},
	"system":            {},
	"system/systemtest": {"system"},
	"family":            {"system"},
	"filter":            {"system"},
	"webserver":         {"system", "rod", "probe"},
	"publish":           {"system", "rod"},
	"journal":           {"system", "rod"},
	"engine":            {"system"},
	"work":              {"system", "rod", "probe", "family", "filter", "webserver", "publish", "journal", "engine"},
	"reach":             {"rod"},
}

// A room uses only rooms below it.
func TestWhoMayUseWhom(t *testing.T) {
	seen := map[string]bool{}
	err := filepath.WalkDir(".", func(path string, e fs.DirEntry, err error) error {
		room := filepath.ToSlash(filepath.Dir(path))
		if err != nil || room == "." || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		allowed, known := rooms[room]
		if !known {
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
			rest, here := strings.CutPrefix(name, "northstake/")
			below, inHost := strings.CutPrefix(rest, "host/")
			switch {
			case !here || strings.HasPrefix(rest, "core/"):
			case !inHost || !slices.Contains(allowed, below):
				t.Errorf("%s uses %s", path, rest)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for room := range rooms {
		if !seen[room] {
			t.Errorf("there is no room %s", room)
		}
	}
}
