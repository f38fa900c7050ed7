package main

import (
	"bytes"
	"os"
	"testing"
)

// TestFresh: what is committed is what the table makes now.
func TestFresh(t *testing.T) {
	document, err := openAPI()
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string][]byte{"../../docs/api.md": markdown(), "../../docs/openapi.json": document} {
		if got, err := os.ReadFile(name); err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s is not what the table makes now: make generate (%v)", name, err)
		}
	}
}
