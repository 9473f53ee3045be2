package docs

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// Each test that the page of promises names is there.
func TestEveryPromiseHasItsTests(t *testing.T) {
	page, err := os.ReadFile("promises.md")
	if err != nil {
		t.Fatal(err)
	}
	var all strings.Builder
	err = filepath.WalkDir("..", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() && (e.Name() == "node_modules" || e.Name() == ".git") {
			return fs.SkipDir
		}
		if strings.HasSuffix(path, "_test.go") {
			b, err := os.ReadFile(path)
			all.Write(b)
			return err
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile("`(Test[A-Za-z]+)`").FindAllStringSubmatch(string(page), -1)
	if len(named) < 20 {
		t.Errorf("it names %d tests", len(named))
	}
	for _, n := range named {
		if !strings.Contains(all.String(), "func "+n[1]+"(t *testing.T)") {
			t.Errorf("there is no test %s", n[1])
		}
	}
}
