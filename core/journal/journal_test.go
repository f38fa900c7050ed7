package journal

import (
	"crypto/ed25519"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
)

// chain makes an export of n chained entries, with a head after each third one.
func chain(t *testing.T, n int) (ed25519.PublicKey, []Line, time.Time) {
	t.Helper()
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC)
	var lines, heads []Line
	var previous []byte
	for i := int64(1); i <= int64(n); i++ {
		e := entry(t, i, at.Add(time.Duration(i)*time.Second))
		previous = Link(previous, i, e.ID, e.Bytes)
		e.N, e.SHA256 = i, hex.EncodeToString(previous)
		lines = append(lines, Line{Entry: &e})
		if i%3 == 0 || i == int64(n) {
			h := wire.JournalHead{N: i, At: e.Columns.At, SHA256: e.SHA256,
				Signature: ed25519.Sign(private, HeadText(i, e.Columns.At, previous)), PublicKey: public}
			heads = append(heads, Line{Head: &h})
		}
	}
	return public, append(lines, heads...), at.Add(time.Hour)
}

func entry(t *testing.T, id int64, at time.Time) wire.ChainedEntry {
	t.Helper()
	text, err := json.Marshal(map[string]any{"at": at.Format(time.RFC3339Nano), "operator": "quay-lead",
		"action": "key.import", "target": fmt.Sprint("key ", id)})
	if err != nil {
		t.Fatal(err)
	}
	return wire.ChainedEntry{ID: id, Bytes: text,
		Columns: wire.JournalEntry{ID: id, At: at, Operator: "quay-lead", Action: "key.import",
			Target: fmt.Sprint("key ", id)}}
}

func verify(key ed25519.PublicKey, lines []Line, now time.Time, remembered ...wire.JournalHead) wire.JournalCheck {
	v := Verifier{Key: key, Now: now, Remembered: remembered}
	for _, l := range lines {
		v.Add(l)
	}
	return v.Done()
}

func TestVerify(t *testing.T) {
	rehash := func(lines []Line, from int) {
		var previous []byte
		if from > 0 {
			previous, _ = hex.DecodeString(lines[from-1].Entry.SHA256)
		}
		for n := from; n < len(lines) && lines[n].Entry != nil; n++ {
			previous = Link(previous, int64(n+1), lines[n].Entry.ID, lines[n].Entry.Bytes)
			lines[n].Entry.N, lines[n].Entry.SHA256 = int64(n+1), hex.EncodeToString(previous)
		}
	}
	for _, c := range []struct {
		name string
		do   func(lines []Line) []Line
		want []string // each in some break; none means that it holds
	}{
		{"untouched", func(l []Line) []Line { return l }, nil},
		{"bytes changed", func(l []Line) []Line { l[4].Entry.Bytes = []byte(`{}`); return l },
			[]string{"entry 5 (link 5) was changed"}},
		{"a column changed", func(l []Line) []Line { l[4].Entry.Columns.Operator = "nobody"; return l },
			[]string{"entry 5 (link 5) was changed: what lists show"}},
		{"an entry removed", func(l []Line) []Line { l[4].Entry.Bytes = nil; return l },
			[]string{"entry 5 (link 5) was removed"}},
		{"a link removed", func(l []Line) []Line { return slices.Delete(l, 4, 5) }, []string{"link 5 was taken out"}},
		{"put in between", func(l []Line) []Line {
			e := entry(t, 4, l[3].Entry.Columns.At)
			return slices.Insert(l, 10, Line{Entry: &e})
		}, []string{"entry 4 was put in between"}},
		{"put in with an old date", func(l []Line) []Line {
			e := entry(t, 11, l[0].Entry.Columns.At.Add(-time.Hour))
			l = slices.Insert(l, 10, Line{Entry: &e})
			rehash(l, 10)
			return l
		}, []string{"entry 11 (link 11) was put in", "not signed"}},
		{"changed and rehashed", func(l []Line) []Line {
			e := entry(t, 5, l[4].Entry.Columns.At)
			e.Columns.Operator = "nobody"
			e.Bytes = []byte(strings.Replace(string(e.Bytes), "quay-lead", "nobody", 1))
			l[4].Entry = &e
			rehash(l, 4)
			return l
		}, []string{"rehashed: link 6", "rehashed: link 9"}},
		{"the tail cut", func(l []Line) []Line { return slices.Delete(l, 8, 10) },
			[]string{"the tail was cut", "names link 10, and the chain ends at 8"}},
		{"the tail cut with its heads", func(l []Line) []Line {
			return slices.Delete(slices.Delete(l, 8, 10), 10,
				12)
		}, []string{"not signed"}},
		{"a head forged", func(l []Line) []Line { l[12].Head.SHA256 = l[0].Entry.SHA256; return l },
			[]string{"not signed with the journal's key"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			key, lines, now := chain(t, 10)
			got := verify(key, c.do(lines), now)
			for _, w := range c.want {
				if !slices.ContainsFunc(got.Breaks, func(b string) bool { return strings.Contains(b, w) }) {
					t.Errorf("nothing says %q: %q", w, got.Breaks)
				}
			}
			if len(c.want) == 0 && (len(got.Breaks) > 0 || got.Links != 10 || got.Heads != 4 || got.Unchained != 0) {
				t.Errorf("%+v", got)
			}
		})
	}
}

// TestRemembered: whoever cuts the tail and every head after it is found out by
// a head that somebody else has kept.
func TestRemembered(t *testing.T) {
	key, lines, now := chain(t, 9)
	head := *lines[len(lines)-1].Head
	cut := append(slices.Clone(lines[:6]), lines[9:11]...)
	if got := verify(key, cut, now); len(got.Breaks) > 0 {
		t.Fatalf("by itself the cut chain holds: %q", got.Breaks)
	}
	if got := verify(key, cut, now, head); len(got.Breaks) != 1 ||
		!strings.Contains(got.Breaks[0], "the tail was cut") {
		t.Errorf("%q", got.Breaks)
	}
}

func TestUnchainedTail(t *testing.T) {
	key, lines, _ := chain(t, 3)
	e := entry(t, 7, lines[2].Entry.Columns.At.Add(time.Second))
	lines = slices.Insert(lines, 3, Line{Entry: &e})
	got := verify(key, lines, e.Columns.At.Add(5*time.Second))
	if len(got.Breaks) > 0 || got.Unchained != 1 || got.UnchainedAge != 5 {
		t.Errorf("%+v", got)
	}
}
