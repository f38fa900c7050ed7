package authkeys

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Document is an authorized_keys file that can be edited. What an edit does
// not name stays byte for byte: comments, blank lines, options, order, lines
// that nobody can read. Bytes of a Document that was not edited are the bytes
// that it was parsed from, whatever they are.
type Document struct {
	lines [][]byte // each with its '\n', but perhaps the last
}

// ParseDocument takes a file apart into lines. It copies the file.
func ParseDocument(file []byte) *Document {
	d := &Document{}
	for line := range bytes.Lines(file) {
		d.lines = append(d.lines, bytes.Clone(line))
	}
	return d
}

// Bytes returns the file.
func (d *Document) Bytes() []byte { return bytes.Join(d.lines, nil) }

// Appended returns what has to be appended to a file to add a line, in one
// write: a line break in front, in case that the file's last line has none, the
// line, and its end. It can only add a way in, and loses nobody's line.
// ErrUnwritable if the line holds a line break or NUL, ErrNoKey if sshd would
// not read it.
func Appended(line string) ([]byte, error) {
	if strings.ContainsAny(line, "\r\n\x00") {
		return nil, ErrUnwritable
	}
	l := Parse([]byte(line), time.UTC)
	if len(l) != 1 {
		return nil, ErrNoKey
	}
	if l[0].Err != nil {
		return nil, l[0].Err
	}
	return []byte("\n" + line + "\n"), nil
}

// Add appends a line, as Appended does.
func (d *Document) Add(line string) error {
	text, err := Appended(line)
	if err != nil {
		return err
	}
	*d = *ParseDocument(append(d.Bytes(), text...))
	return nil
}

// holds tells whether a line names the key in whatever way: also with options
// that this sshd refuses, since another version may take them.
func holds(line, blob []byte) bool {
	of := keyOf(line)
	return of != nil && bytes.Equal(of, blob)
}

// Lines returns the lines that name a key, without their line ends, in their order.
func (d *Document) Lines(blob []byte) []string {
	var out []string
	for _, l := range d.lines {
		if holds(l, blob) {
			out = append(out, strings.TrimRight(string(l), "\r\n"))
		}
	}
	return out
}

// Remove takes out every line that names the key and returns how many there
// were. To withdraw a key, every line must go: sshd takes the first that allows it.
func (d *Document) Remove(blob []byte) int {
	kept := d.lines[:0:0]
	for _, l := range d.lines {
		if !holds(l, blob) {
			kept = append(kept, l)
		}
	}
	n := len(d.lines) - len(kept)
	d.lines = kept
	return n
}

// Has tells whether a line stands in the document, whatever its line end.
func (d *Document) Has(line string) bool {
	return slices.ContainsFunc(d.lines, func(l []byte) bool { return strings.TrimRight(string(l), "\r\n") == line })
}

// RemoveAppended takes out every line that is just this one, each with the line
// break that Appended put in front of it, and returns how many there were.
func (d *Document) RemoveAppended(line string) int {
	count := 0
	for n := len(d.lines) - 1; n >= 0; n-- {
		if strings.TrimRight(string(d.lines[n]), "\r\n") != line {
			continue
		}
		count++
		from := n
		if n > 0 && string(d.lines[n-1]) == "\n" {
			from = n - 1
		}
		d.lines = slices.Delete(d.lines, from, n+1)
		n = from
	}
	return count
}

// Taken is a line that was taken out, and where it stood.
type Taken struct {
	Line  string `json:"line"`  // with its line end, if it had one
	N     int    `json:"n"`     // its place among the lines, from 0
	Above string `json:"above"` // the line above it, as it stood
}

// Take takes out every line that names the key, as Remove does, and returns
// them for PutBack.
func (d *Document) Take(blob []byte) []Taken {
	var out []Taken
	above := ""
	for n, l := range d.lines {
		if holds(l, blob) {
			out = append(out, Taken{string(l), n, above})
		}
		above = string(l)
	}
	d.Remove(blob)
	return out
}

// PutBack puts lines that Take took out back where they stood: at their place
// if the line above is the same, else behind that line wherever it is now, else
// at the end. A line that stands there again is not put back twice.
func (d *Document) PutBack(all []Taken) {
	// Keys that somebody has added again meanwhile: a line with options goes behind
	// theirs, since sshd takes the first that allows it.
	again := map[string]bool{}
	for _, l := range d.lines {
		if blob := keyOf(l); blob != nil &&
			!slices.ContainsFunc(all, func(t Taken) bool {
				return strings.TrimRight(string(l),
					"\r\n") == strings.TrimRight(t.Line, "\r\n")
			}) {
			again[string(blob)] = true
		}
	}
	for _, t := range all {
		if slices.ContainsFunc(d.lines, func(l []byte) bool {
			return strings.TrimRight(string(l),
				"\n") == strings.TrimRight(t.Line, "\n")
		}) {
			continue
		}
		at := len(d.lines)
		behind := false
		if blob := keyOf([]byte(t.Line)); again[string(blob)] {
			_, options, _ := split([]byte(t.Line))
			behind = options != ""
		}
		switch n := slices.IndexFunc(d.lines, func(l []byte) bool { return string(l) == t.Above }); {
		case behind:
		case t.N == 0:
			at = 0
		case t.N <= len(d.lines) && string(d.lines[t.N-1]) == t.Above:
			at = t.N
		case n >= 0:
			at = n + 1
		}
		line := []byte(t.Line)
		if at < len(d.lines) && !bytes.HasSuffix(line, []byte("\n")) {
			line = append(line, '\n')
		}
		if at > 0 && !bytes.HasSuffix(d.lines[at-1], []byte("\n")) {
			d.lines[at-1] = append(bytes.Clone(d.lines[at-1]), '\n')
		}
		d.lines = slices.Insert(d.lines, at, line)
	}
}

// Errors of Narrow.
var (
	// ErrHasFrom: a line has a from= already, and sshd refuses a second one.
	ErrHasFrom = errors.New("a line of this key has a from= of its own, and a second one would make sshd refuse the line")
	// ErrNothing: neither an end nor addresses were given.
	ErrNothing = errors.New("nothing to narrow to")
)

// Narrowing is what Narrow puts in front of the options of a key's lines.
type Narrowing struct {
	// Expires is the value of an expiry-time option, as FormatTime writes it, or
	// in the server's own zone for servers before OpenSSH 9.1. The earliest
	// expiry-time of a line counts.
	Expires string
	// From is the value of a from option.
	From string
}

func (n Narrowing) text() (string, error) {
	var parts []string
	if n.Expires != "" {
		if _, err := parseTime(n.Expires, time.UTC); err != nil {
			return "", err
		}
		parts = append(parts, `expiry-time="`+n.Expires+`"`)
	}
	if n.From != "" {
		q, err := Quote(n.From)
		if err != nil {
			return "", err
		}
		parts = append(parts, "from="+q)
	}
	if len(parts) == 0 {
		return "", ErrNothing
	}
	return strings.Join(parts, ","), nil
}

// Narrow puts options in front of every line that names the key, and returns
// how many lines there were. A line that is narrowed in just this way already
// is left alone. On an error nothing was changed.
func (d *Document) Narrow(blob []byte, n Narrowing) (int, error) {
	text, err := n.text()
	if err != nil {
		return 0, err
	}
	next, count := make([][]byte, 0, len(d.lines)), 0
	for _, l := range d.lines {
		if !holds(l, blob) {
			next = append(next, l)
			continue
		}
		count++
		blank, options, rest := split(l)
		if options == text || strings.HasPrefix(options, text+",") {
			next = append(next, l)
			continue
		}
		if o, err := parseOptions(options, time.UTC); n.From != "" && err == nil && o.hasFrom {
			return 0, ErrHasFrom
		}
		front := text + " "
		if options != "" {
			front = text + "," + options
		}
		next = append(next, []byte(blank+front+rest))
	}
	d.lines = next
	return count, nil
}

// Ends counts the lines of a key whose end is ours, as ours says of the value of
// their expiry-time, and the others.
func (d *Document) Ends(blob []byte, ours func(expiry string) bool) (mine, others int) {
	for _, l := range d.lines {
		if !holds(l, blob) {
			continue
		}
		if _, options, _ := split(l); endIsOurs(options, ours) {
			mine++
		} else {
			others++
		}
	}
	return mine, others
}

// SetExpiry gives the lines of a key whose end is ours, as ours says of the value
// of their expiry-time, this end in its place, and returns how many lines there
// were. expires is a value as FormatTime writes it. A line without an end, or with
// somebody else's, stays as it is: an end is a narrowing.
func (d *Document) SetExpiry(blob []byte, ours func(expiry string) bool, expires string) (int, error) {
	text, err := Narrowing{Expires: expires}.text()
	if err != nil {
		return 0, err
	}
	count := 0
	for i, l := range d.lines {
		if !holds(l, blob) {
			continue
		}
		blank, options, rest := split(l)
		if !endIsOurs(options, ours) {
			continue
		}
		count++
		parts := SplitOptions(options)
		for n, o := range parts {
			if value, ok := expiryOf(o); ok && ours(value) {
				parts[n] = text
			}
		}
		d.lines[i] = []byte(blank + strings.Join(parts, ",") + rest)
	}
	return count, nil
}

// onTerms tells whether a line has no options but those that an access of ours can have: an end, networks and one command.
func onTerms(options string) bool {
	for _, o := range SplitOptions(options) {
		if !hasPrefixFold(o, "expiry-time=") && !hasPrefixFold(o, "from=") && !hasPrefixFold(o, "command=") && strings.TrimSpace(o) != "" {
			return false
		}
	}
	return true
}

// OnTerms counts the lines of a key that have no options but an end, networks and one command, and the others.
func (d *Document) OnTerms(blob []byte) (mine, others int) {
	for _, l := range d.lines {
		if holds(l, blob) {
			if _, options, _ := split(l); onTerms(options) {
				mine++
			} else {
				others++
			}
		}
	}
	return mine, others
}

// SetTerms gives the lines of a key that OnTerms counts as ours these options in the place of theirs ("" for none); all else of the line
// stays as it is.
func (d *Document) SetTerms(blob []byte, options string) {
	for i, l := range d.lines {
		if !holds(l, blob) {
			continue
		}
		blank, had, rest := split(l)
		if !onTerms(had) {
			continue
		}
		switch {
		case options == "":
			rest = strings.TrimLeft(rest, " \t")
		case had == "":
			rest = " " + strings.TrimLeft(rest, " \t")
		}
		d.lines[i] = []byte(blank + options + rest)
	}
}

func endIsOurs(options string, ours func(expiry string) bool) bool {
	for _, o := range SplitOptions(options) {
		if value, ok := expiryOf(o); ok && ours(value) {
			return true
		}
	}
	return false
}

// expiryOf returns the value of an expiry-time option.
func expiryOf(option string) (string, bool) {
	if !hasPrefixFold(option, "expiry-time=") {
		return "", false
	}
	return strings.Trim(option[len("expiry-time="):], `"`), true
}

// Widen takes out again what Narrow put in, from every line that names the
// key, and returns from how many. The lines are then as they were before.
func (d *Document) Widen(blob []byte, n Narrowing) (int, error) {
	text, err := n.text()
	if err != nil {
		return 0, err
	}
	count := 0
	for i, l := range d.lines {
		if !holds(l, blob) {
			continue
		}
		blank, options, rest := split(l)
		switch {
		case options == text:
			d.lines[i] = []byte(blank + strings.TrimPrefix(rest, " "))
			count++
		case strings.HasPrefix(options, text+","):
			d.lines[i] = []byte(blank + options[len(text)+1:] + rest)
			count++
		}
	}
	return count, nil
}

// split takes a line that names a key apart: the blanks in front, the options
// ("" for none), and the rest, from the blank before the key on.
func split(line []byte) (blank, options, rest string) {
	s := string(line)
	text := strings.TrimLeft(s, " \t")
	blank = s[:len(s)-len(text)]
	visible := text
	if i := strings.IndexByte(text, 0); i >= 0 {
		visible = text[:i]
	}
	if _, ok := readKey(visible); ok {
		return blank, "", text
	}
	end, _ := skipOptions(visible)
	return blank, text[:end], text[end:]
}

// KeyChange is what happened to one key between two files.
type KeyChange struct {
	Blob    []byte
	Before  []string // its lines, nil if it was not there
	After   []string
	Comment string // of its first line, after the change if it is there still
}

// Diff compares two files by key, in the order in which the keys first stand.
// A key whose lines are the same is left out; so are lines that name no key.
func Diff(before, after []byte) []KeyChange {
	a, b := ParseDocument(before), ParseDocument(after)
	var out []KeyChange
	seen := map[string]bool{}
	for _, file := range [][]byte{before, after} {
		for _, l := range Parse(file, time.UTC) {
			if l.Err != nil || seen[string(l.Blob)] {
				continue
			}
			seen[string(l.Blob)] = true
			c := KeyChange{Blob: l.Blob, Before: a.Lines(l.Blob), After: b.Lines(l.Blob), Comment: l.Comment}
			if strings.Join(c.Before, "\n") != strings.Join(c.After, "\n") {
				out = append(out, c)
			}
		}
	}
	return out
}

// Late returns the lines of a file that grew while it was being replaced: what
// stands in grown behind old. An error if grown does not begin with old: then
// somebody rewrote the file and did not append to it.
func Late(old, grown []byte) ([]byte, error) {
	rest, ok := bytes.CutPrefix(grown, old)
	if !ok {
		return nil, fmt.Errorf("the file was rewritten in place while it was being replaced: %d bytes before, %d after", len(old), len(grown))
	}
	return rest, nil
}
