// Command apidoc writes what is made of the API's table: docs/api.md, and the OpenAPI document
// that the console's types are made of. "make generate" runs it.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"reflect"
	"strings"

	"plumlatch/service/api"
)

func main() {
	document, err := openAPI()
	if err == nil {
		err = os.WriteFile("docs/openapi.json", document, 0o644)
	}
	if err == nil {
		err = os.WriteFile("docs/api.md", markdown(), 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "apidoc:", err)
		os.Exit(1)
	}
}

// openAPI is the document with line breaks, for whoever reads the differences.
func openAPI() ([]byte, error) {
	text, err := api.OpenAPI()
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	err = json.Indent(&out, text, "", " ")
	out.WriteByte('\n')
	return out.Bytes(), err
}

const head = `# The API

Made by "make generate" from the table in service/api/table.go, which the routes and the tests of
the roles are made of too. The same as an OpenAPI 3.1 document: docs/openapi.json, and from a
running service /api/v1/openapi.json. Documents are described in package core/wire.

The examples are run by a test. They need two variables:

    export PLUMLATCH=http://127.0.0.1:8470
    export TOKEN=                                   # that plumlatch token create NAME shows once

- Whoever asks has a role: viewer, operator or admin; each may do what the one before may.
- A failure is a problem document (RFC 9457). Its type is a path that explains it; ask the
  service for that page.
- What begins work is answered with 202 and the work; GET /work/ID tells how far it is. With an
  Idempotency-Key header, a request that is sent twice is done once.
- A list has items, and next_cursor where there are more.
- A body is one JSON object of at most 128 KiB. A field that the call does not know is refused,
  and so is a private key, in any field.

`

// markdown is docs/api.md.
func markdown() []byte {
	var b bytes.Buffer
	b.WriteString(head)
	for _, o := range api.Operations() {
		fmt.Fprintf(&b, "## %s %s\n\n%s", o.Method, path(o.Path), o.About)
		if o.Role != "" {
			fmt.Fprintf(&b, " For: %s.", o.Role)
		} else {
			b.WriteString(" For anybody.")
		}
		if q := api.Query(o); len(q) > 0 {
			fmt.Fprintf(&b, " Query: %s.", strings.Join(q, ", "))
		}
		if o.In != nil {
			fmt.Fprintf(&b, " Sends %s.", document(o.In))
		}
		if o.Out != nil {
			fmt.Fprintf(&b, " Answers %s.", document(o.Out))
		}
		if o.Costly {
			b.WriteString(" Costly: bounded for each operator.")
		}
		fmt.Fprintf(&b, "\n\n```sh\n%s\n```\n\n", example(o))
	}
	return bytes.TrimSuffix(b.Bytes(), []byte("\n"))
}

func path(p string) string {
	parts := strings.Split(p, "/")
	for n, part := range parts {
		if name, ok := strings.CutPrefix(part, ":"); ok {
			parts[n] = strings.ToUpper(name)
		}
	}
	return strings.Join(parts, "/")
}

// document names a document as Go does.
func document(v any) string {
	t := reflect.TypeOf(v)
	name := t.Name()
	if of, ok := strings.CutPrefix(name, "List["); ok {
		return "a list of " + of[strings.LastIndexByte(of, '.')+1:len(of)-1]
	}
	if name == "" || name == "empty" {
		return "an object"
	}
	return name
}

// names fill the paths of examples, by what stands before them.
var names = map[string]string{"keys": "day-crew", "instances": "berth-board-1", "holders": "crew",
	"operators": "night-lead", "work": "17", "access": "4", "today": "3", "tokens": "2",
	"static-addresses": "ferry-gate", "keybooks": "12", "streams": "7"}

// example is a call with curl. What it sends is the document with every field that is always
// there, empty: fill in what is meant.
func example(o api.Operation) string {
	parts := strings.Split(o.Path, "/")
	for n, part := range parts {
		if strings.HasPrefix(part, ":") {
			parts[n] = names[parts[n-1]]
		}
	}
	text := "curl -sS"
	if o.Method != "GET" {
		text += " -X " + o.Method
	}
	if o.Role != "" {
		text += ` -H "Authorization: Bearer $TOKEN"`
	}
	if o.In != nil {
		body, err := json.Marshal(o.In)
		if err != nil {
			panic(err) // a type of our own that has no JSON
		}
		text += fmt.Sprintf(` -H 'Content-Type: application/json' \`+"\n  -d '%s'", body)
	}
	return text + ` \` + "\n" + `  "$PLUMLATCH/api/v1` + strings.Join(parts, "/") + `"`
}
