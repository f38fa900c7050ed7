// Package service_test holds the sources to rules that the compiler does not know.
package service_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// sources parses every file that is not a test below a folder.
func sources(t *testing.T, root string, use func(path string, f *ast.File)) {
	t.Helper()
	n := 0
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && d.Name() != "." &&
			d.Name() != "..") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		n++
		use(filepath.ToSlash(path), f)
		return nil
	})
	if err != nil || n == 0 {
		t.Fatalf("%d files: %v", n, err)
	}
}

// calls gives each call of a package's function to use: "rotation.Judge".
func calls(f *ast.File, use func(name string, call *ast.CallExpr)) {
	ast.Inspect(f, func(n ast.Node) bool {
		if call, ok := n.(*ast.CallExpr); ok {
			if sel, ok := call.Fun.(*ast.SelectorExpr); ok {
				if pkg, ok := sel.X.(*ast.Ident); ok {
					use(pkg.Name+"."+sel.Sel.Name, call)
				}
			}
		}
		return true
	})
}

// TestWhoMakesPermits: the guard is asked in two places, for the steward's edits
// and for the engineer's; what is the service's own is named where it is.
func TestWhoMakesPermits(t *testing.T) {
	may := map[string][]string{
		"rotation.Judge":  {"../service/door/guard.go", "../service/door/paper.go"},
		"rotation.Own":    {"../service/door/guard.go", "../cmd/plumlatch/adopt.go"},
		"rotation.Unread": {"../reach/beneath.go"},
		"rotation.Lent":   {"../service/door/guard.go"},
		"rotation.Signed": {"../cmd/plumlatch/restorehand.go"},
		// An operator's signature stands there where the guard does here, and the agent judges the file once more.
		"rotation.OnRequest": {"../agent/keysedit.go", "../standin/agent.go"},
	}
	seen := map[string]bool{}
	sources(t, "..", func(path string, f *ast.File) {
		calls(f, func(name string, _ *ast.CallExpr) {
			if places, ok := may[name]; ok {
				seen[name] = true
				if !slices.Contains(places, path) {
					t.Errorf("%s calls %s, which makes a permit", path, name)
				}
			}
		})
	})
	if len(seen) != len(may) {
		t.Errorf("seen: %v", seen)
	}
}

// TestOneSafeEdit: files on instances are written by the safe edit alone.
func TestOneSafeEdit(t *testing.T) {
	sources(t, "..", func(path string, f *ast.File) {
		if strings.HasPrefix(path, "../reach/") || strings.HasPrefix(path, "../standin/") {
			return
		}
		ast.Inspect(f, func(n ast.Node) bool {
			if sel, ok := n.(*ast.SelectorExpr); ok {
				switch sel.Sel.Name {
				case "PosixRename", "Replace", "Append":
					if x, ok := sel.X.(*ast.Ident); ok && (x.Name == "files" || x.Name == "f") {
						t.Errorf("%s writes a file of an instance by %s", path, sel.Sel.Name)
					}
				}
			}
			return true
		})
	})
}

// TestNoRedirects: whatever speaks HTTP follows no redirect, which would carry a
// token elsewhere.
func TestNoRedirects(t *testing.T) {
	clients := 0
	sources(t, "..", func(path string, f *ast.File) {
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.SelectorExpr:
				if pkg, ok := n.X.(*ast.Ident); ok && pkg.Name == "http" &&
					slices.Contains([]string{"DefaultClient", "Get", "Post", "PostForm", "Head"}, n.Sel.Name) {
					t.Errorf("%s uses http.%s, which follows redirects", path, n.Sel.Name)
				}
			case *ast.CompositeLit:
				sel, ok := n.Type.(*ast.SelectorExpr)
				if !ok || sel.Sel.Name != "Client" {
					return true
				}
				if pkg, ok := sel.X.(*ast.Ident); !ok || pkg.Name != "http" {
					return true
				}
				clients++
				if !slices.ContainsFunc(n.Elts, func(e ast.Expr) bool {
					kv, ok := e.(*ast.KeyValueExpr)
					return ok && kv.Key.(*ast.Ident).Name == "CheckRedirect"
				}) {
					t.Errorf("%s makes an http.Client that follows redirects", path)
				}
			}
			return true
		})
	})
	if clients < 4 {
		t.Errorf("%d clients were looked at", clients)
	}
}

// TestContexts: gin's context is used again for another request once a handler has
// returned, so the database and goroutines get the request's own. A function of
// the package that takes a *gin.Context may be given one; nothing else.
func TestContexts(t *testing.T) {
	takes := map[string]bool{}
	isGin := func(e ast.Expr) bool {
		star, ok := e.(*ast.StarExpr)
		if !ok {
			return false
		}
		sel, ok := star.X.(*ast.SelectorExpr)
		return ok && sel.Sel.Name == "Context"
	}
	var files []*ast.File
	var paths []string
	sources(t, "api", func(path string, f *ast.File) {
		files, paths = append(files, f), append(paths, path)
		for _, d := range f.Decls {
			if fn, ok := d.(*ast.FuncDecl); ok {
				for _, p := range fn.Type.Params.List {
					takes[fn.Name.Name] = takes[fn.Name.Name] || isGin(p.Type)
				}
			}
		}
	})
	looked := 0
	for n, f := range files {
		ast.Inspect(f, func(node ast.Node) bool {
			call, ok := node.(*ast.CallExpr)
			if !ok {
				return true
			}
			name := ""
			switch fun := call.Fun.(type) {
			case *ast.Ident:
				name = fun.Name
			case *ast.SelectorExpr:
				name = fun.Sel.Name
			case *ast.IndexExpr:
				if id, ok := fun.X.(*ast.Ident); ok {
					name = id.Name
				}
			}
			for _, a := range call.Args {
				if id, ok := a.(*ast.Ident); ok && id.Name == "c" {
					looked++
					// What is called may bear the name of one of ours, as a method of the store does.
					if sel, ok := call.Fun.(*ast.SelectorExpr); ok {
						if inner, ok := sel.X.(*ast.SelectorExpr); ok &&
							slices.Contains([]string{"Store", "Worker", "Cloud"}, inner.Sel.Name) {
							t.Errorf("%s gives gin's context to %s.%s", paths[n], inner.Sel.Name, name)
							continue
						}
					}
					if !takes[name] {
						t.Errorf("%s gives gin's context to %s", paths[n], name)
					}
				}
			}
			return true
		})
	}
	if looked < 200 {
		t.Errorf("%d calls were looked at", looked)
	}
}

// TestEveryWayInChecksPins: whatever in the client gets into an instance that the
// service names has compared its host key and alias with what is pinned here.
// adopt.go fetches the host key itself and asks about it; entrance.go is the way in.
func TestEveryWayInChecksPins(t *testing.T) {
	ways := 0
	sources(t, "../cmd/plumlatch", func(path string, f *ast.File) {
		if strings.HasSuffix(path, "/adopt.go") || strings.HasSuffix(path, "/entrance.go") {
			return
		}
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Body == nil {
				continue
			}
			enters, checks := "", false
			ast.Inspect(fn.Body, func(n ast.Node) bool {
				call, ok := n.(*ast.CallExpr)
				if !ok {
					return true
				}
				switch f := call.Fun.(type) {
				case *ast.Ident:
					checks = checks || f.Name == "pinnedDoor" || f.Name == "readPins"
				case *ast.SelectorExpr:
					if x, ok := f.X.(*ast.Ident); ok &&
						(x.Name == "c" && (f.Sel.Name == "enter" || f.Sel.Name == "login") ||
							x.Name == "reach" && (f.Sel.Name == "LoginBy" || f.Sel.Name == "Login")) {
						enters = x.Name + "." + f.Sel.Name
					}
				}
				return true
			})
			if enters == "" {
				continue
			}
			ways++
			if !checks {
				t.Errorf("%s: %s calls %s and does not look at the pins", path, fn.Name.Name, enters)
			}
		}
	})
	if ways < 5 {
		t.Errorf("%d ways in were looked at", ways)
	}
}

// TestNoSentenceDecides: texts for people are compared with nothing. What a program
// decides by is a code, or an error's identity.
func TestNoSentenceDecides(t *testing.T) {
	// What is said to people, wherever it is kept.
	texts := []string{"Outcome", "Trouble", "WaitsFor", "Detail", "Problem", "Reason", "Note", "Title", "StepTitle"}
	// golang.org/x/crypto/ssh has no values for these errors.
	may := map[string]int{"../reach/probe.go": 9, "../reach/knock.go": 2, "../cmd/plumlatch/entrance.go": 1}
	found := map[string]int{}
	saysIt := func(e ast.Expr) bool {
		is := false
		ast.Inspect(e, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.SelectorExpr:
				is = is || slices.Contains(texts, n.Sel.Name)
			case *ast.CallExpr:
				if sel, ok := n.Fun.(*ast.SelectorExpr); ok && sel.Sel.Name == "Error" && len(n.Args) == 0 {
					is = true
				}
			}
			return !is
		})
		return is
	}
	literal := func(e ast.Expr) bool {
		l, ok := e.(*ast.BasicLit)
		return ok && l.Kind == token.STRING && l.Value != `""`
	}
	sources(t, "..", func(path string, f *ast.File) {
		if strings.HasPrefix(path, "../standin/") || strings.HasPrefix(path, "../tools/") ||
			strings.HasPrefix(path, "../service/cloud/drivertest/") {
			return
		}
		// "switch text := err.Error(); {" and "text := err.Error()" give it another name.
		named := map[string]bool{}
		ast.Inspect(f, func(n ast.Node) bool {
			if a, ok := n.(*ast.AssignStmt); ok && len(a.Lhs) == 1 && len(a.Rhs) == 1 {
				if id, ok := a.Lhs[0].(*ast.Ident); ok {
					if call, ok := a.Rhs[0].(*ast.CallExpr); ok {
						if sel, ok := call.Fun.(*ast.SelectorExpr); ok && sel.Sel.Name == "Error" &&
							len(call.Args) == 0 {
							named[id.Name] = true
						}
					}
				}
			}
			return true
		})
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.CallExpr:
				sel, ok := n.Fun.(*ast.SelectorExpr)
				if !ok || len(n.Args) != 2 ||
					!slices.Contains([]string{"Contains", "HasPrefix", "HasSuffix", "EqualFold", "Index",
						"TrimPrefix", "TrimSuffix", "Cut"}, sel.Sel.Name) {
					return true
				}
				if pkg, ok := sel.X.(*ast.Ident); !ok || pkg.Name != "strings" {
					return true
				}
				id, isName := n.Args[0].(*ast.Ident)
				if saysIt(n.Args[0]) || isName && named[id.Name] {
					found[path]++
				}
			case *ast.BinaryExpr:
				if (n.Op == token.EQL || n.Op == token.NEQ) && (saysIt(n.X) && literal(n.Y) ||
					saysIt(n.Y) && literal(n.X)) {
					found[path]++
				}
			case *ast.BasicLit:
				// The same in SQL.
				if n.Kind == token.STRING && sentenceInSQL.MatchString(n.Value) {
					t.Errorf("%s: a statement decides by a sentence: %s", path, n.Value)
				}
			}
			return true
		})
	})
	for path, n := range found {
		if n > may[path] {
			t.Errorf("%s compares %d sentences; give what is meant a code, or an error of its own", path, n)
		}
	}
	pages, err := filepath.Glob("../console/src/*.ts*")
	if err != nil || len(pages) == 0 {
		t.Fatalf("%d pages: %v", len(pages), err)
	}
	for _, page := range pages {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range sentenceInPage.FindAllString(string(text), -1) {
			t.Errorf("%s decides by a sentence: %s", page, m)
		}
	}
}

var (
	sentenceInSQL  = regexp.MustCompile(`(?i)\b(waits_for|outcome|trouble|text)\s+(NOT\s+)?(LIKE|ILIKE|~)\s`)
	sentenceInPage = regexp.MustCompile(`\.(waits_for|outcome|trouble|detail|text|title|note|reason)\??\.(startsWith|endsWith|includes|indexOf|match)\(`)
)

// TestNoSQLInWork: no statement reads inside the input or the data of a piece of work:
// those are its own steps'. What others look for has a column.
func TestNoSQLInWork(t *testing.T) {
	inside := regexp.MustCompile(`\b(w|work)?\.?(input|data)\s*(->|#>|@>|\?)`)
	n := 0
	sources(t, "store", func(path string, f *ast.File) {
		ast.Inspect(f, func(node ast.Node) bool {
			if l, ok := node.(*ast.BasicLit); ok && l.Kind == token.STRING {
				n++
				if m := inside.FindString(l.Value); m != "" {
					t.Errorf("%s reads inside a work's JSON: %s", path, m)
				}
			}
			return true
		})
	})
	if n < 500 {
		t.Fatalf("%d texts only", n)
	}
}
