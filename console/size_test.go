package console

import (
	"bytes"
	"compress/gzip"
	"io/fs"
	"regexp"
	"testing"
)

// limit is how much script the first page may load, gzipped, in bytes.
const limit = 300_000

// TestFirstPage: the entry and the page of today, with whatever either needs, are small; the
// other pages are loaded later.
func TestFirstPage(t *testing.T) {
	page, err := fs.ReadFile(Files(), "index.html")
	if err != nil {
		t.Fatal(err)
	}
	first, err := fs.Glob(Files(), "assets/today-*.js")
	if err != nil || len(first) != 1 {
		t.Fatalf("the page of today: %q %v", first, err)
	}
	for _, m := range regexp.MustCompile(`(?:src|href)="/(assets/[^"]+\.js)"`).FindAllSubmatch(page, -1) {
		first = append(first, string(m[1]))
	}
	size, loaded := 0, map[string]bool{}
	needs := regexp.MustCompile(`(?:from|import)\s*"\./([^"]+\.js)"`)
	for len(first) > 0 {
		name := first[0]
		first = first[1:]
		if loaded[name] {
			continue
		}
		loaded[name] = true
		text, err := fs.ReadFile(Files(), name)
		if err != nil {
			t.Fatal(err)
		}
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		_, _ = w.Write(text)
		_ = w.Close()
		size += b.Len()
		for _, m := range needs.FindAllSubmatch(text, -1) {
			first = append(first, "assets/"+string(m[1]))
		}
	}
	t.Logf("%d scripts, %d bytes gzipped", len(loaded), size)
	if len(loaded) < 3 || size > limit {
		t.Errorf("the first page loads %d bytes of script in %d files, of at most %d", size, len(loaded), limit)
	}
}
