package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// layers says what each part of the house may import of ours, besides itself and what is
// below it in the same folder ("The house" in docs/architecture.md). A part that is not
// named here may import nothing of ours; so a new one asks for its line.
var layers = map[string][]string{
	"core":   {},
	"reach":  {"core"},
	"client": {"core", "reach", "stream"},
	"stream": {"core"},
	"shell":  {"core"},
	// A keybook on a disk: read by the client, and by a service that follows one.
	"bookfile": {"core"},
	"agent":    {"core", "reach"},
	"standin":  {"agent", "core", "reach"},
	"console":  {},
	"tools":    {"core", "service/api"},

	"service/child":     {},
	"service/postgres":  {"service/child"},
	"service/atrest":    {"core"},
	"service/store":     {"core", "service/atrest"},
	"service/cloud":     {"core"},
	"service/work":      {"core", "service/store"},
	"service/door":      {"core", "reach", "service/cloud", "service/atrest", "service/store", "service/work"},
	"service/survey":    above("service/door"),
	"service/lifecycle": above("service/door", "service/survey"),
	"service/network":   above("service/door", "service/survey"),
	"service/keylists":  above("service/door"),
	"service/inside":    above("service/door", "service/survey", "service/accesses"),
	"service/agents":    above("service/door", "service/survey"),
	"service/streams":   above("service/door", "service/survey", "service/agents", "stream"),
	"service/accesses":  above("service/door", "service/survey"),
	"service/restore": above("service/door", "service/survey", "service/lifecycle", "service/network",
		"service/accesses"),
	"service/fleet":  above("service/door", "service/survey", "service/accesses", "service/lifecycle", "service/keylists", "service/restore", "bookfile"),
	"service/upkeep": above("service/door", "service/survey", "service/keylists", "service/accesses", "service/restore"),
	"service/kinds": above("service/door", "service/survey", "service/lifecycle", "service/network",
		"service/keylists", "service/inside", "service/agents", "service/accesses", "service/restore", "service/fleet", "service/upkeep", "service/streams", "stream"),
	"service": above("service/door", "service/kinds", "service/api"),
	"service/api": above("service/door", "service/survey", "service/lifecycle", "service/network",
		"service/keylists", "service/inside", "service/agents", "service/streams", "service/kinds"),
	"cmd/internal":            {},
	"cmd/plumlatch":           {"bookfile", "cmd/internal", "core", "reach", "client", "stream"},
	"cmd/plumlatch-agent":     {"agent", "core", "reach"},
	"cmd/plumlatchd":          {"bookfile", "cmd/internal", "core", "reach", "client", "console", "service"},
	"cmd/plumlatch-standin":   {"standin"},
	"cmd/plumlatch-wasm":      {"core", "shell", "stream"},
	"service/postgres/pgtest": {"service/store"}, // for tests alone
	"service/work/worktest":   {"core", "service/store", "service/postgres"},
	"service/kinds/kindtest": above("service/door", "service/kinds", "service/lifecycle", "service/postgres",
		"standin"),
}

// above are the parts that every family of work stands on, and these.
func above(more ...string) []string {
	return append([]string{"core", "reach", "service/cloud", "service/atrest", "service/store", "service/work"},
		more...)
}

// TestArrows: arrows between the parts run down only, for files that are not tests.
func TestArrows(t *testing.T) {
	files := 0
	err := filepath.WalkDir("..", func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && d.Name() != "..") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return nil
		}
		files++
		at := path.Dir(strings.TrimPrefix(filepath.ToSlash(file), "../"))
		f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, imp := range f.Imports {
			p, _ := strconv.Unquote(imp.Path.Value)
			if ours, ok := strings.CutPrefix(p, "plumlatch/"); ok && !mayImport(at, ours) {
				t.Errorf("%s imports %s: this arrow does not run down", file, p)
			}
		}
		return nil
	})
	if err != nil || files < 100 {
		t.Fatalf("%d files: %v", files, err)
	}
	for _, c := range []struct {
		from, to string
		may      bool
	}{
		{"service/work", "service/door", false},
		{"service/door", "service/work", true},
		{"service/door", "service/survey", false},
		{"service/lifecycle", "service/network", false},
		{"service/accesses", "service/restore", false},
		{"service/restore", "service/fleet", false},
		{"service/kinds", "standin", false},
		{"reach", "service/store", false},
		{"client", "service/store", false},
		{"standin/shell", "standin/tree", true},
		{"service/cloud/standin", "service/cloud", true},
		{"service/cloud/standin", "standin", false},
		{"service/new", "core", false},
	} {
		if got := mayImport(c.from, c.to); got != c.may {
			t.Errorf("%s may import %s: %t", c.from, c.to, got)
		}
	}
}

// mayImport tells whether a folder may import another.
func mayImport(from, to string) bool {
	part := ""
	for p := range layers {
		if (from == p || p != "service" && strings.HasPrefix(from, p+"/")) && len(p) > len(part) {
			part = p
		}
	}
	if part == "" {
		return false
	}
	within := func(p string) bool { return to == p || strings.HasPrefix(to, p+"/") }
	return to == part || part != "service" && within(part) || strings.HasPrefix(part, to+"/") && to != "service" ||
		slices.ContainsFunc(layers[part], within)
}

// TestNothingAtOnce: the core starts no goroutine and shares nothing, so it has nothing that the race detector could find
// ("make race" leaves it out).
func TestNothingAtOnce(t *testing.T) {
	files := 0
	err := filepath.WalkDir(".", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		files++
		f, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			return err
		}
		for _, imp := range f.Imports {
			if p, _ := strconv.Unquote(imp.Path.Value); p == "sync" || p == "sync/atomic" {
				t.Errorf("%s imports %s", file, p)
			}
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n.(type) {
			case *ast.GoStmt, *ast.ChanType, *ast.SendStmt, *ast.SelectStmt:
				t.Errorf("%s does something at once with something else", file)
			}
			return true
		})
		return nil
	})
	if err != nil || files < 40 {
		t.Fatalf("%d files: %v", files, err)
	}
}

// TestEngineKnowsNoKind: nothing in the engine's sources is the name of a kind of work, or
// speaks of what they are about.
func TestEngineKnowsNoKind(t *testing.T) {
	files, err := filepath.Glob("../service/work/*.go")
	if err != nil || len(files) < 3 {
		t.Fatalf("%d files: %v", len(files), err)
	}
	for _, file := range files {
		f, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, word := range []string{"launch", "adopt", "rotat", "restor", "steward", "survey", "rescue", "admit",
			"authorized", "key"} {
			for _, name := range names(f) {
				if strings.Contains(strings.ToLower(name), word) {
					t.Errorf("%s speaks of %q: %s", file, word, name)
				}
			}
		}
	}
}

// names are the identifiers and texts of a file.
func names(f *ast.File) []string {
	var out []string
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.Ident:
			out = append(out, n.Name)
		case *ast.BasicLit:
			out = append(out, n.Value)
		}
		return true
	})
	return out
}
