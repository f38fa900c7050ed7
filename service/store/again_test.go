package store

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"strings"
	"testing"
)

// TestTransactionsMayRunAgain: what is given to tx is done again if PostgreSQL ends it for a reason that passes. So it
// sets what it hands out, and adds to nothing that is declared outside of it.
func TestTransactionsMayRunAgain(t *testing.T) {
	t.Parallel()
	files, err := os.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	set, looked := token.NewFileSet(), 0
	for _, f := range files {
		if !strings.HasSuffix(f.Name(), ".go") || strings.HasSuffix(f.Name(), "_test.go") {
			continue
		}
		tree, err := parser.ParseFile(set, f.Name(), nil, parser.SkipObjectResolution)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			s, ok := call.Fun.(*ast.SelectorExpr)
			if !ok || s.Sel.Name != "tx" && s.Sel.Name != "markTx" || len(call.Args) != 2 {
				return true
			}
			looked++
			f, ok := call.Args[1].(*ast.FuncLit)
			if !ok {
				t.Errorf("%s: %s gets a function that this test cannot look into", set.Position(call.Pos()),
					s.Sel.Name)
				return true
			}
			for _, said := range addsOutside(f) {
				t.Errorf("%s: %s is declared outside of the transaction, and it is added to within", set.Position(f.Pos()), said)
			}
			return true
		})
	}
	if looked < 50 {
		t.Errorf("only %d transactions were found", looked)
	}
	const bad = `package p
func f() { var out []int; n := 0; s.tx(ctx, func(tx int) error { out = append(out, 1); n++; n += 2; k.Left[3] = 4; return nil }) }`
	tree, err := parser.ParseFile(set, "bad", bad, parser.SkipObjectResolution)
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	ast.Inspect(tree, func(n ast.Node) bool {
		if f, ok := n.(*ast.FuncLit); ok {
			found = len(addsOutside(f))
		}
		return true
	})
	if found != 4 {
		t.Errorf("%d of the 4 ways to add were found", found)
	}
}

// addsOutside names the variables that a function adds to, and neither declares nor sets anew.
func addsOutside(f *ast.FuncLit) (out []string) {
	own := map[string]bool{}
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.AssignStmt:
			for i, e := range n.Lhs {
				name, ok := e.(*ast.Ident)
				adds := n.Tok == token.ASSIGN && len(n.Rhs) == len(n.Lhs) && appends(n.Rhs[i], e)
				if ok && (n.Tok == token.DEFINE || n.Tok == token.ASSIGN) && !adds {
					own[name.Name] = true
				}
			}
		case *ast.RangeStmt:
			if n.Tok == token.DEFINE {
				own[fmt.Sprint(n.Key)], own[fmt.Sprint(n.Value)] = true, true
			}
		case *ast.ValueSpec:
			for _, name := range n.Names {
				own[name.Name] = true
			}
		case *ast.FuncType:
			for _, p := range n.Params.List {
				for _, name := range p.Names {
					own[name.Name] = true
				}
			}
		}
		return true
	})
	add := func(e ast.Expr) {
		if name := root(e); !own[name] {
			out = append(out, name)
		}
	}
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.IncDecStmt:
			add(n.X)
		case *ast.AssignStmt:
			if n.Tok != token.ASSIGN && n.Tok != token.DEFINE {
				add(n.Lhs[0])
			}
			for i, e := range n.Lhs {
				if x, ok := e.(*ast.IndexExpr); ok {
					add(x.X)
				}
				if len(n.Rhs) == len(n.Lhs) && n.Tok == token.ASSIGN && appends(n.Rhs[i], e) {
					add(e)
				}
			}
		}
		return true
	})
	return out
}

// appends tells whether an expression is append of what it is assigned to.
func appends(value, to ast.Expr) bool {
	c, ok := value.(*ast.CallExpr)
	return ok && len(c.Args) > 0 && fmt.Sprint(c.Fun) == "append" && root(c.Args[0]) == root(to)
}

// root is the variable that an expression begins with.
func root(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.SelectorExpr:
		return root(e.X)
	case *ast.IndexExpr:
		return root(e.X)
	case *ast.StarExpr:
		return root(e.X)
	case *ast.ParenExpr:
		return root(e.X)
	case *ast.Ident:
		return e.Name
	}
	return ""
}
