package api

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"plumlatch/service/store"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// TestOpenAPI: the document has every call of the table, with its parameters, and a schema for
// whatever it refers to.
func TestOpenAPI(t *testing.T) {
	t.Parallel()
	text, err := OpenAPI()
	if err != nil {
		t.Fatal(err)
	}
	var d struct {
		OpenAPI string `json:"openapi"`
		Paths   map[string]map[string]struct {
			Summary    string
			Parameters []struct{ Name, In string }
		}
		Components struct{ Schemas map[string]json.RawMessage }
	}
	if err := json.Unmarshal(text, &d); err != nil || !strings.HasPrefix(d.OpenAPI, "3.1") {
		t.Fatalf("version %q: %v", d.OpenAPI, err)
	}
	for _, o := range Operations() {
		at, ok := d.Paths["/api/v1"+parameter.ReplaceAllString(o.Path, "{$1}")][strings.ToLower(o.Method)]
		want := len(parameter.FindAllString(o.Path, -1)) + len(strings.Fields(queries[o.Method+" "+o.Path]))
		if !ok || at.Summary != o.About || len(at.Parameters) != want {
			t.Errorf("%s %s: %+v", o.Method, o.Path, at)
		}
	}
	for _, ref := range regexp.MustCompile(`#/components/schemas/(\w+)`).FindAllStringSubmatch(string(text), -1) {
		if d.Components.Schemas[ref[1]] == nil {
			t.Errorf("nothing is called %s", ref[1])
		}
	}
	for name := range d.Components.Schemas {
		if regexp.MustCompile(`Type\d+$`).MatchString(name) {
			t.Errorf("two types have one name: %s", name)
		}
	}
}

// TestQueries: what handlers read from a query stands in the table, and nothing else does.
func TestQueries(t *testing.T) {
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	read := map[string]bool{}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range regexp.MustCompile(`\bQuery\("(\w+)"\)|days\(c, "(\w+)"`).FindAllStringSubmatch(string(text), -1) {
			read[m[1]+m[2]] = true
		}
	}
	var all []string
	for at, names := range queries {
		all = append(all, strings.Fields(names)...)
		if !slices.ContainsFunc(Operations(), func(o Operation) bool { return o.Method+" "+o.Path == at }) {
			t.Errorf("no call is %s", at)
		}
	}
	for name := range read {
		if !slices.Contains(all, name) {
			t.Errorf("a handler reads %q, which the table does not name", name)
		}
	}
	for _, name := range all {
		if !read[name] {
			t.Errorf("the table names %q, which no handler reads", name)
		}
	}
}

// TestExamples runs every example of docs/api.md with curl, as whoever copies it does: each
// reaches its call, and what it sends is a document that the call reads.
func TestExamples(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/api.md")
	if err != nil {
		t.Fatal(err)
	}
	c := newCaller(t)
	token := c.token("night-lead", store.Admin)
	blocks := regexp.MustCompile("(?s)```sh\n(.*?)\n```").FindAllStringSubmatch(string(text), -1)
	if len(blocks) != len(Operations()) {
		t.Errorf("%d examples for %d calls", len(blocks), len(Operations()))
	}
	for _, b := range blocks {
		if strings.Contains(b[1], "/events") || strings.Contains(b[1], "DELETE") && strings.Contains(b[1], "/session") {
			continue // the one goes on for ever, the other ends the session
		}
		cmd := exec.CommandContext(t.Context(), "sh", "-c",
			strings.Replace(b[1], "curl -sS", `curl -sS -m 20 -w '\n%{http_code}'`, 1))
		cmd.Env = append(os.Environ(), "PLUMLATCH="+c.url, "TOKEN="+token)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Errorf("%s: %v %s", b[1], err, out)
			continue
		}
		end := bytes.LastIndexByte(out, '\n')
		body, answer := string(out[:end]), string(out[end+1:])
		switch {
		case answer == "403", answer == "500", answer == "400", answer == "405", answer == "415":
			t.Errorf("%s: %s %s", b[1], answer, body)
		case answer == "401" && !strings.Contains(b[1], "/session"):
			t.Errorf("%s: %s %s", b[1], answer, body)
		case strings.Contains(body, "no such call"):
			t.Errorf("%s: %s", b[1], body)
		}
	}
}
