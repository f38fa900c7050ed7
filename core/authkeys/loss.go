package authkeys

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"slices"
	"strings"
	"time"
)

// Loss is what an edit takes from one key: lines that are gone, or that let
// less in than before.
type Loss struct {
	Blob  []byte
	Lines []string // as they stood before, without their line ends
}

// mostTried is with how many lines of the new file one of the old one is compared.
const mostTried = 100

// Losses compares a file before and after an edit. keys has every key whose
// holder may be worse off for it, in the order of the file; others tells that a
// line which names no key, and is not blank, is gone too: no edit of ours does
// that.
//
// It judges the two texts alone, and does not know how the one became the other:
// whoever writes the second over the first needs a permit for each key in keys.
// It errs on the side of loss. A line is not lost if it still stands, or if it
// stands without some of its expiry-time= and from= options. A key loses also
// where a line with options was put above one of its own that stood before, since
// sshd takes the first line that allows a key.
func Losses(before, after []byte) (keys []Loss, others bool) {
	was, is := linesAsRead(before), linesAsRead(after)
	// Which line of the old file each line of the new one was, as it is or narrower.
	const isNew = -1
	from := make([]int, len(is))
	for n := range from {
		from[n] = isNew
	}
	at := map[string][]int{}
	for n, l := range is {
		at[l.text] = append(at[l.text], n)
	}
	lost := map[string]int{}
	lose := func(l readLine) {
		n, ok := lost[string(l.blob)]
		if !ok {
			n = len(keys)
			lost[string(l.blob)] = n
			keys = append(keys, Loss{Blob: l.blob})
		}
		keys[n].Lines = append(keys[n].Lines, l.text)
	}
	var gone []int
	for n, l := range was {
		switch same := at[l.text]; {
		case len(same) > 0:
			from[same[0]], at[l.text] = n, same[1:]
		case l.blob != nil:
			gone = append(gone, n)
		case strings.TrimSpace(l.text) != "":
			others = true
		}
	}
	free := map[string][]int{} // lines that are new so far, by key
	for m, w := range is {
		if w.blob != nil && from[m] == isNew {
			free[string(w.blob)] = append(free[string(w.blob)], m)
		}
	}
	for _, n := range gone {
		wider, tried := false, 0
		of := free[string(was[n].blob)]
		for k, m := range of {
			if tried++; tried > mostTried { // a file that was made for this: lost, then
				break
			}
			if lessOf(is[m], was[n]) {
				from[m], wider = n, true
				free[string(was[n].blob)] = slices.Delete(of, k, k+1)
				break
			}
		}
		if !wider {
			lose(was[n])
		}
	}
	// A line with options that has come to stand above one of the same key decides
	// in its place. From the end on: which line below stood the furthest up.
	below := map[string]int{}
	for n := len(is) - 1; n >= 0; n-- {
		l := is[n]
		if l.blob == nil {
			continue
		}
		m, any := below[string(l.blob)]
		if any && l.options != "" && (from[n] == isNew || from[n] > from[m]) && readable(l) {
			lose(is[m])
		}
		if from[n] != isNew && (!any || from[n] < from[m]) {
			below[string(l.blob)] = n
		}
	}
	return keys, others
}

// lessOf tells whether wide is narrow without some of its expiry-time= and from=
// options, or with a later end in the place of one, and with no others.
func lessOf(wide, narrow readLine) bool {
	have := SplitOptions(wide.options)
	for _, o := range SplitOptions(narrow.options) {
		switch {
		case len(have) > 0 && (have[0] == o || laterEnd(have[0], o)):
			have = have[1:]
		case !hasPrefixFold(o, "expiry-time=") && !hasPrefixFold(o, "from="):
			return false
		}
	}
	if len(have) > 0 {
		return false
	}
	return readable(wide) || !readable(narrow)
}

// laterEnd tells whether an option is an end, and no earlier than another; both are
// in UTC, or both in the server's own zone.
func laterEnd(option, than string) bool {
	a, ok := expiryOf(option)
	b, ok2 := expiryOf(than)
	if !ok || !ok2 || strings.HasSuffix(strings.ToLower(a), "z") != strings.HasSuffix(strings.ToLower(b), "z") {
		return false
	}
	at, err := parseTime(a, time.UTC)
	before, err2 := parseTime(b, time.UTC)
	return err == nil && err2 == nil && !at.Before(before)
}

// readable tells whether sshd takes the line for one of a key.
func readable(l readLine) bool {
	lines := Parse([]byte(l.text), time.UTC)
	return len(lines) == 1 && lines[0].Err == nil
}

// readLine is a line of a file with the key that it names, nil for none.
type readLine struct {
	text, options string
	blob          []byte
}

func linesAsRead(file []byte) []readLine {
	var out []readLine
	for raw := range bytes.Lines(file) {
		l := readLine{text: strings.TrimRight(string(raw), "\r\n")}
		if l.blob = keyOf(raw); l.blob != nil {
			_, l.options, _ = split(raw)
		}
		out = append(out, l)
	}
	return out
}

// keyOf returns the key that a line names in whatever way, nil for none.
func keyOf(line []byte) []byte {
	s := line
	if i := bytes.IndexByte(s, 0); i >= 0 {
		s = s[:i]
	}
	text := strings.TrimLeft(string(s), " \t")
	if text == "" || text[0] == '\n' || text[0] == '#' {
		return nil
	}
	if l, ok := readKey(text); ok {
		return l.Blob
	}
	end, ok := skipOptions(text)
	if !ok {
		return nil
	}
	if l, ok := readKey(strings.TrimLeft(text[end:], " \t")); ok {
		return l.Blob
	}
	return nil
}

// Name is what a sentence calls a key of which the blob alone is known: its
// SHA256 fingerprint, as ssh-keygen(1) writes it.
func Name(blob []byte) string {
	sum := sha256.Sum256(blob)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}
