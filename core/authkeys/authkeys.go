// Package authkeys reads an authorized_keys file the way sshd does.
//
// The rules are those of sshd(8), "AUTHORIZED_KEYS FILE FORMAT", where the
// manual speaks, and of OpenSSH 9.2's behaviour where it is silent: a line
// that sshd cannot read is skipped, not an error; the first line that allows
// a key wins; a later line may allow what an earlier one has let expire.
package authkeys

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/times"
)

// Line is one line of the file that names a key. A line that sshd would skip
// because it is broken has Err set and nothing else but Number.
type Line struct {
	Number  int    // from 1
	Blob    []byte // the key, RFC 4253 section 6.6
	Type    string // as written
	Comment string
	Options Options
	Err     error
}

// Parse reads a whole file. Blank lines and comments are left out, broken
// lines are kept with their reason. loc is the server's local time zone, which
// an expiry-time without a final Z is in.
func Parse(file []byte, loc *time.Location) []Line {
	var lines []Line
	number := 0
	for raw := range bytes.Lines(file) {
		number++
		// sshd reads C strings: what follows a NUL does not exist for it.
		if i := bytes.IndexByte(raw, 0); i >= 0 {
			raw = raw[:i]
		}
		s := strings.TrimLeft(string(raw), " \t")
		if s == "" || s[0] == '\n' || s[0] == '#' {
			continue
		}
		l := parseLine(s, loc)
		l.Number = number
		lines = append(lines, l)
	}
	return lines
}

// ErrNoKey says that a line holds no key that can be read.
var ErrNoKey = errors.New("no key on this line")

func parseLine(s string, loc *time.Location) Line {
	if l, ok := readKey(s); ok {
		return l
	}
	end, ok := skipOptions(s)
	if !ok {
		return Line{Err: fmt.Errorf("%w: a quote is not closed", ErrNoKey)}
	}
	l, ok := readKey(strings.TrimLeft(s[end:], " \t"))
	if !ok {
		return Line{Err: ErrNoKey}
	}
	opts, err := parseOptions(s[:end], loc)
	if err != nil {
		return Line{Err: err}
	}
	l.Options = opts
	return l
}

// readKey reads "type base64 comment" (sshkey_read of OpenSSH 9.2).
func readKey(s string) (Line, bool) {
	i := strings.IndexAny(s, " \t")
	if i < 0 {
		return Line{}, false
	}
	typ, rest := s[:i], strings.TrimLeft(s[i:], " \t")
	j := strings.IndexAny(rest, " \t")
	if j < 0 {
		j = len(rest)
	}
	// b64_pton passes over white space, the \r\n of the line's end included.
	b64 := strings.Map(func(r rune) rune {
		if strings.ContainsRune("\r\n\v\f", r) {
			return -1
		}
		return r
	}, rest[:j])
	blob, err := base64.StdEncoding.DecodeString(b64)
	if err != nil || len(blob) == 0 {
		return Line{}, false
	}
	key, err := ssh.ParsePublicKey(blob)
	if err != nil || key.Type() != typ {
		return Line{}, false
	}
	return Line{
		Blob:    blob,
		Type:    typ,
		Comment: strings.Trim(rest[j:], " \t\r\n"),
	}, true
}

// skipOptions returns where the options end: the first blank outside quotes.
func skipOptions(s string) (int, bool) {
	quoted := false
	i := 0
	for ; i < len(s) && (quoted || s[i] != ' ' && s[i] != '\t'); i++ {
		if s[i] == '\\' && i+1 < len(s) && s[i+1] == '"' {
			i++
		} else if s[i] == '"' {
			quoted = !quoted
		}
	}
	return min(i, len(s)), !(quoted && i >= len(s))
}

// Decision is what the file says about one key.
type Decision struct {
	Allowed bool
	Line    Line   // the line that decided, when Allowed
	Reason  string // why not, of the last line that names the key; or that no line does
}

// Decide tells what sshd would do with the key blob offered from address
// (an IP address as text) at the time now.
func Decide(lines []Line, blob []byte, address string, now time.Time) Decision {
	d := Decision{Reason: "no line of the file holds this key"}
	for _, l := range lines {
		if l.Err != nil || !bytes.Equal(l.Blob, blob) {
			continue
		}
		if why := l.Options.refuses(address, now); why != "" {
			d.Reason = fmt.Sprintf("line %d: %s", l.Number, why)
			continue
		}
		return Decision{Allowed: true, Line: l}
	}
	return d
}

func (o Options) refuses(address string, now time.Time) string {
	if o.CertAuthority {
		return "it is a certificate authority, not a key that logs in"
	}
	if !o.Expires.IsZero() && o.Expires.Before(now.Truncate(time.Second)) {
		return "expired " + times.Show(o.Expires.UTC())
	}
	if o.hasFrom && !matchFrom(o.From, address) {
		return "not allowed from this address"
	}
	return ""
}
