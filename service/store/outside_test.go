package store

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// outside are the functions whose statements write without a transaction of tx: one
// statement each, which carries its own fence, or needs none.
var outside = map[string]string{
	"ClaimWork":     "makes the fence",
	"RenewClaim":    "AND fence",
	"ReleaseClaim":  "AND fence",
	"claimed":       "AND fence, in each statement that it is given",
	"SetData":       "AND fence",
	"witnessAtOnce": "has the fence in it",
	"AddPermit":     "has the fence in it",
	"EndAccess":     "has the fence in it",
	"BeginMembers":  "has the fence in it",
	"KeyShown":      "its last statement wakes work, which looks anew by itself",
	"TakeTurn":      "makes the fence of a survey",
	"TakeTurns":     "makes the fence of a survey",
	"DueTurns":      "makes the fence of a survey",
	"HoldTurn":      "AND fence",
	"GiveTurn":      "AND fence",
	"HoldPermit":    "a permit that has ended meanwhile stays ended",
	"EndPermitsOf":  "as EndPermit",
	"markTx":        "its last statement wakes work, which looks anew by itself",
	"EndPermit":     "a permit that is ended twice is ended; no claim may have gone meanwhile",
	"AddDataKey":    "adds a row of no work's",
	"SetSentinel":   "adds a row once, which its table holds",
	"MatterMark":    "the newest mark wins, whoever writes it",
	"TakeChallenge": "takes a challenge, once",
	"Knocked":       "one statement, of the outside probe, which runs beside the steps; what came late is a knock too",
}

// TestWritesOutside: whatever writes does so in a transaction, which looks at the claim,
// or stands in the list above with what holds it.
func TestWritesOutside(t *testing.T) {
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	writes := regexp.MustCompile(`\b(INSERT\s+INTO|UPDATE\s+[a-z_]+\s+([a-z]\s+)?SET|DELETE\s+FROM|TRUNCATE)\b`)
	found := map[string]bool{}
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Body == nil {
				continue
			}
			ast.Inspect(fn.Body, func(n ast.Node) bool {
				call, ok := n.(*ast.CallExpr)
				if !ok {
					return true
				}
				if helper, ok := call.Fun.(*ast.IndexExpr); ok { // one[T] reads
					if id, ok := helper.X.(*ast.Ident); ok && id.Name == "one" &&
						slices.ContainsFunc(call.Args, anyText(writes.MatchString)) {
						found[fn.Name.Name] = true
					}
				}
				sel, ok := call.Fun.(*ast.SelectorExpr)
				if !ok || sel.Sel.Name != "Exec" && sel.Sel.Name != "Raw" || !onDB(sel.X) {
					return true
				}
				text, ok := call.Args[0].(*ast.BasicLit)
				if sel.Sel.Name == "Exec" && !(ok && strings.HasPrefix(text.Value, `"SELECT `)) {
					found[fn.Name.Name] = true
				}
				if slices.ContainsFunc(call.Args, anyText(writes.MatchString)) || outsideTx(fn.Body, writes.MatchString) {
					found[fn.Name.Name] = true
				}
				// A statement that is somebody else's is as bad as one that writes.
				if id, ok := call.Args[0].(*ast.Ident); ok && id.Name == "sql" && fn.Name.Name != "one" {
					found[fn.Name.Name] = true
				}
				return true
			})
		}
	}
	var names []string
	for name := range found {
		names = append(names, name)
		if outside[name] == "" {
			t.Errorf("%s writes outside of a transaction: use tx, or say here what holds it", name)
		}
	}
	for name := range outside {
		if !slices.Contains(names, name) {
			t.Errorf("%s stands in the list and writes nothing", name)
		}
	}
}

// outsideTx tells whether a function has a string for which ok is true that it gives to no transaction:
// one that is put together before it is sent.
func outsideTx(body ast.Node, ok func(string) bool) bool {
	is := false
	ast.Inspect(body, func(n ast.Node) bool {
		if call, isCall := n.(*ast.CallExpr); isCall {
			if sel, isSel := call.Fun.(*ast.SelectorExpr); isSel {
				if on, isID := sel.X.(*ast.Ident); isID && on.Name == "tx" {
					return false
				}
			}
		}
		l, text := n.(*ast.BasicLit)
		is = is || text && l.Kind == token.STRING && ok(l.Value)
		return true
	})
	return is
}

// anyText tells whether an expression has a string in it, also a part of one, for which ok is true.
func anyText(ok func(string) bool) func(ast.Expr) bool {
	return func(e ast.Expr) bool {
		is := false
		ast.Inspect(e, func(n ast.Node) bool {
			l, text := n.(*ast.BasicLit)
			is = is || text && l.Kind == token.STRING && ok(l.Value)
			return true
		})
		return is
	}
}

// onDB tells whether an expression is the store's own connection, and no transaction.
func onDB(x ast.Expr) bool {
	is := false
	ast.Inspect(x, func(n ast.Node) bool {
		if sel, ok := n.(*ast.SelectorExpr); ok && sel.Sel.Name == "db" {
			is = true
		}
		return true
	})
	return is
}
