// Package core_test holds the rule that keeps computation apart from
// everything that touches the world.
package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
)

// TestNoClock: core is told the time, it does not ask for it.
func TestNoClock(t *testing.T) {
	err := filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		for _, call := range callsOf(file) {
			switch call {
			case "time.Now", "time.Sleep", "time.Since", "time.Until", "time.After", "time.NewTimer", "time.NewTicker":
				t.Errorf("%s calls %s", path, call)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// callsOf lists the selectors of a file, such as "time.Now".
func callsOf(file *ast.File) (calls []string) {
	ast.Inspect(file, func(n ast.Node) bool {
		if sel, ok := n.(*ast.SelectorExpr); ok {
			if pkg, ok := sel.X.(*ast.Ident); ok {
				calls = append(calls, pkg.Name+"."+sel.Sel.Name)
			}
		}
		return true
	})
	return calls
}
