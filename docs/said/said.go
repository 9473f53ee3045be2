// Package said reads what the program says to people: the texts in its code, for tests that hold
// messages and help texts to what is there.
package said

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
)

// Literals are the texts in the Go files below these directories, by where they stand
// (FILE:LINE:COLUMN). Imports, tags, tests and what is generated are left out.
func Literals(dirs ...string) (map[string]string, error) {
	out := map[string]string{}
	for _, dir := range dirs {
		err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.HasSuffix(path, ".gen.go") {
				return err
			}
			set := token.NewFileSet()
			file, err := parser.ParseFile(set, path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.ImportSpec:
					return false
				case *ast.BasicLit:
					if text, err := strconv.Unquote(n.Value); err == nil && n.Kind == token.STRING && !isTag(n) {
						at := set.Position(n.Pos())
						out[fmt.Sprintf("%s:%d:%d", at.Filename, at.Line, at.Column)] = text
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

func isTag(n *ast.BasicLit) bool {
	return strings.HasPrefix(n.Value, "`") && strings.Contains(n.Value, `:"`)
}
