// Package core_test holds the core to computing only.
package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestCoreIsPure fails when a package under core imports something that
// touches the world, or anything of ours outside core.
func TestCoreIsPure(t *testing.T) {
	banned := map[string]bool{"net": true, "os": true, "syscall": true, "log": true, "io/ioutil": true,
		"database/sql": true, "embed": true, "plugin": true}
	files := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		for _, imp := range f.Imports {
			p, _ := strconv.Unquote(imp.Path.Value)
			root, _, _ := strings.Cut(p, "/")
			if p == "net/netip" || p == "net/textproto" || p == "net/mail" || p == "net/url" {
				continue
			}
			if banned[p] || banned[root] || strings.HasPrefix(p, "golang.org/x/sys") ||
				strings.HasPrefix(p, "plumlatch/") && !strings.HasPrefix(p, "plumlatch/core/") {
				t.Errorf("%s imports %s: core computes only", path, p)
			}
		}
		// time.Now and friends are a clock of its own; time comes from the caller.
		for _, call := range clockCalls(f) {
			t.Errorf("%s calls %s: time comes from the caller", path, call)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if files < 5 {
		t.Fatalf("looked at %d files only", files)
	}
}
func clockCalls(f *ast.File) []string {
	var found []string
	ast.Inspect(f, func(n ast.Node) bool {
		sel, ok := n.(*ast.SelectorExpr)
		if !ok {
			return true
		}
		if pkg, ok := sel.X.(*ast.Ident); ok && pkg.Name == "time" {
			switch sel.Sel.Name {
			case "Now", "Since", "Until", "Sleep", "After", "Tick", "NewTimer", "NewTicker", "AfterFunc":
				found = append(found, "time."+sel.Sel.Name)
			}
		}
		return true
	})
	return found
}
