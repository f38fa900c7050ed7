package keybook

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
)

// TestSchema: at each place the schema has the words that the reader knows, as the reader itself tells them, and no others.
func TestSchema(t *testing.T) {
	var schema map[string]any
	if err := json.Unmarshal([]byte(Schema), &schema); err != nil {
		t.Fatal(err)
	}
	if schema["$schema"] != "https://json-schema.org/draft/2020-12/schema" {
		t.Error("the draft")
	}
	at := func(path string) map[string]any {
		var v any = schema
		for p := range strings.SplitSeq(path, " ") {
			switch x := v.(type) {
			case map[string]any:
				v = x[p]
			case []any:
				v = x[int(p[0]-'0')]
			}
		}
		m, ok := v.(map[string]any)
		if !ok {
			t.Fatalf("no %s", path)
		}
		return m
	}
	for _, c := range []struct{ what, text, path string }{
		{"a keybook", "NO: 1\n", "properties"},
		{"complete", "complete: {NO: 1}\n", "properties complete properties"},
		{"a holder", "holders: {h: {NO: 1}}\n", "properties holders additionalProperties anyOf 1 properties"},
		{"a key", "keys: {k: {NO: 1}}\n", "properties keys additionalProperties anyOf 1 properties"},
		{"make", "keys: {k: {make: {NO: 1}}}\n", "properties keys additionalProperties anyOf 1 properties make properties"},
		{"an access", "access: [{NO: 1}]\n", "properties access items properties"},
		{"to", "access: [{to: {NO: 1}}]\n", "$defs to properties"},
		{"except", "access: [{to: {except: {NO: 1}}}]\n", "$defs except properties"},
		{"an instance", "instances: {i: {NO: 1}}\n", "properties instances additionalProperties properties"},
		{"a rule", "rules: [{NO: 1}]\n", "properties rules items properties"},
		{"a check", "checks: [{NO: 1}]\n", "properties checks items properties"},
		{"a way of logging in", "logins: [{NO: 1}]\n", "properties logins items properties"},
		{"a user", "users: [{NO: 1}]\n", "properties users items properties"},
	} {
		_, r := read(t, "keybook: b\n"+c.text)
		n := slices.IndexFunc(r.Findings, func(f Finding) bool { return f.Code == "unknown-word" })
		if n < 0 {
			t.Fatalf("%s: %v", c.what, r.Findings)
		}
		_, words, _ := strings.Cut(r.Findings[n].Sentence, "; it has ")
		known := strings.Split(words, ", ")
		var has []string
		for w := range at(c.path) {
			has = append(has, w)
		}
		slices.Sort(has)
		if !slices.Equal(known, has) || !strings.HasPrefix(r.Findings[n].Sentence, c.what+" ") {
			t.Errorf("%s: the reader knows %v, the schema %v", c.what, known, has)
		}
	}
}
