// Package plaintext makes foreign text safe to show. What comes from an
// instance, a cloud or another person may carry terminal escape sequences,
// line breaks that forge a log entry, or bidirectional marks that show a word
// as another one. Line replaces each such character by a visible escape, so
// that a reader sees that something was there.
package plaintext

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Line returns s as one line of printable text. Control characters (C0, DEL
// and C1, ISO/IEC 6429), bidirectional and other invisible format characters,
// line and paragraph separators and invalid UTF-8 appear as \xNN or \u{NNNN}.
func Line(s string) string {
	if clean(s) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case !printable(r) && r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		case !printable(r):
			fmt.Fprintf(&b, `\u{%04x}`, r)
		default:
			b.WriteRune(r)
		}
		i += n
	}
	return b.String()
}

// Lines does the same for text of several lines, and keeps its '\n' and '\t'.
func Lines(s string) string {
	parts := strings.Split(strings.ReplaceAll(s, "\r\n", "\n"), "\n")
	for i, p := range parts {
		cells := strings.Split(p, "\t")
		for j, c := range cells {
			cells[j] = Line(c)
		}
		parts[i] = strings.Join(cells, "\t")
	}
	return strings.Join(parts, "\n")
}

// HasControl tells whether s holds a character that Line would replace.
func HasControl(s string) bool { return !clean(s) }

func clean(s string) bool {
	if !utf8.ValidString(s) {
		return false
	}
	for _, r := range s {
		if !printable(r) {
			return false
		}
	}
	return true
}

func printable(r rune) bool {
	// Cf holds the bidirectional marks and zero-width characters; Co has no agreed look.
	return r == ' ' || unicode.IsGraphic(r) && !unicode.Is(unicode.Zl, r) && !unicode.Is(unicode.Zp, r) &&
		!unicode.Is(unicode.Cf, r)
}

// Cell returns s for a CSV cell. Besides Line it disarms what a spreadsheet
// would run as a formula (a leading =, +, -, @), by an apostrophe in front.
func Cell(s string) string {
	s = Line(s)
	if s != "" && strings.ContainsRune("=+-@", rune(s[0])) {
		return "'" + s
	}
	return s
}

// Cut returns at most n runes of s, with an ellipsis where something was left out.
func Cut(s string, n int) string {
	r := []rune(s)
	if len(r) <= n {
		return s
	}
	return string(r[:n-1]) + "…"
}
