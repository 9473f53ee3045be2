package core

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// core computes: no network, no database, no clock, no interface code, and
// nothing outside the standard library but a TOML decoder and text helpers.
func TestCoreIsPure(t *testing.T) {
	allowed := map[string]bool{"github.com/pelletier/go-toml/v2/unstable": true, "github.com/agext/levenshtein": true, "github.com/aymanbagabas/go-udiff": true, "golang.org/x/net/idna": true}
	forbidden := map[string]bool{"net/http": true, "os": true, "os/exec": true, "database/sql": true, "io/ioutil": true, "syscall": true}
	err := filepath.WalkDir(".", func(path string, e fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range f.Imports {
			name, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			outside := strings.Contains(strings.Split(name, "/")[0], ".")
			if outside && !allowed[name] || forbidden[name] || strings.HasPrefix(name, "northstake/") && !strings.HasPrefix(name, "northstake/core/") {
				t.Errorf("%s imports %s", path, name)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}
