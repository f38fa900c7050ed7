package plaintext

import (
	"strings"
	"testing"
)

func TestLine(t *testing.T) {
	for in, want := range map[string]string{
		"harbour-ops":            "harbour-ops",
		"Fähre 2026 ✓":           "Fähre 2026 ✓",
		"a\x1b[2Jb":              `a\x1b[2Jb`,
		"a\r\nb":                 `a\x0d\x0ab`,
		"a\u009bb":               `a\x9bb`,
		"a\x7fb":                 `a\x7fb`,
		"a\u202eb":               `a\u{202e}b`,
		"a\u200bb":               `a\u{200b}b`,
		"a\u2028b":               `a\u{2028}b`,
		"a\xffb":                 `a\xffb`,
		"\u2066evil\u2069 comes": `\u{2066}evil\u{2069} comes`,
	} {
		if got := Line(in); got != want {
			t.Errorf("Line(%q) = %q, want %q", in, got, want)
		}
	}
}

func TestLinesKeepsBreaksAndTabs(t *testing.T) {
	if got, want := Lines("a\tb\r\nc\x1bd\n"), "a\tb\nc\\x1bd\n"; got != want {
		t.Errorf("Lines = %q, want %q", got, want)
	}
}

func TestCellDisarmsFormulas(t *testing.T) {
	for in, want := range map[string]string{"=1+1": "'=1+1", "-x": "'-x", "plain": "plain", "": ""} {
		if got := Cell(in); got != want {
			t.Errorf("Cell(%q) = %q, want %q", in, got, want)
		}
	}
}

func FuzzLine(f *testing.F) {
	f.Add("a\x1bb")
	f.Fuzz(func(t *testing.T, s string) {
		got := Line(s)
		if HasControl(got) {
			t.Errorf("Line(%q) = %q still holds a control character", s, got)
		}
		if strings.ContainsAny(got, "\r\n\x00\x1b") {
			t.Errorf("Line(%q) = %q", s, got)
		}
	})
}
