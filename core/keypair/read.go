package keypair

import (
	"bytes"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumlatch/core/authkeys"
)

// MaxFile is the greatest size, in bytes, of a key file that is looked at.
const MaxFile = 64 << 10

// Read finds out what a file is: a private half in any format, or one public
// half. Without the passphrase of a locked private file it returns what can be
// known, with Pair nil; with a wrong one, ErrPassphrase. Files of CRLF lines,
// without a last newline, with a byte-order mark or with other text around the
// key are read, and the File's Remarks say so.
//
// Errors: those of ReadPublic, ErrPassphrase, ErrNotPrivate, ErrCost.
func Read(file, passphrase []byte) (File, error) {
	if len(file) > MaxFile {
		return File{}, tooLarge(file)
	}
	if bytes.IndexByte(file, 0) >= 0 && !bytes.HasPrefix(file, []byte{0xff, 0xfe}) {
		if LooksPrivate(file) {
			return File{}, fmt.Errorf("%w: there is a NUL byte in it", ErrNotPrivate)
		}
		return File{}, ErrNUL
	}
	text, remarks := tidy(file)
	f, err := readText(text, passphrase)
	f.Remarks = append(remarks, f.Remarks...)
	return f, err
}

func tooLarge(file []byte) error {
	if LooksPrivate(file[:MaxFile]) {
		return ErrPrivateKey // the more important thing first
	}
	return fmt.Errorf("%w: %d bytes, the limit is %d", ErrTooLarge, len(file), MaxFile)
}

// tidy takes away what editors and mail programs add.
func tidy(file []byte) (text string, remarks []string) {
	text = string(file)
	if rest, ok := strings.CutPrefix(text, "\ufeff"); ok {
		text = rest
		remarks = append(remarks, "It begins with a byte-order mark, which ssh does not expect.")
	}
	if strings.Contains(text, "\r\n") {
		text = strings.ReplaceAll(text, "\r\n", "\n")
		remarks = append(remarks, "Its lines end in CRLF.")
	}
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
		remarks = append(remarks, "Its last line has no end.")
	}
	return text, remarks
}

func readText(text string, passphrase []byte) (File, error) {
	if strings.TrimSpace(text) == "" {
		return File{}, ErrEmpty
	}
	for _, f := range forms() {
		if f.begins != nil && f.begins(text) {
			return f.read(text, passphrase)
		}
	}
	if strings.Contains(text, "-----BEGIN ") {
		return readPEM(text, passphrase)
	}
	if LooksPrivate([]byte(text)) {
		return File{}, fmt.Errorf("%w: it looks like part of one; the BEGIN line, the END line or both are missing",
			ErrNotPrivate)
	}
	return readLines(text)
}

// readPEM reads the first PEM block (RFC 7468) that is a key.
func readPEM(text string, passphrase []byte) (File, error) {
	lines := strings.Split(text, "\n")
	moved := false
	for i, l := range lines {
		if t := strings.Trim(l, " \t\u00a0"); t != l {
			lines[i], moved = t, true
		}
	}
	clean := strings.Join(lines, "\n")
	block, rest := pem.Decode([]byte(clean))
	if block == nil {
		if LooksPrivate([]byte(text)) {
			return File{}, fmt.Errorf("%w: its base64 is damaged or it is cut short; copy the whole file again",
				ErrNotPrivate)
		}
		return File{}, fmt.Errorf("%w: its base64 is damaged or it is cut short", ErrBase64)
	}
	if another, _ := pem.Decode(rest); another != nil && strings.HasSuffix(another.Type, "KEY") {
		return File{}, ErrSeveralKeys
	}
	f, err := readBlock(block, []byte(clean), passphrase)
	if moved {
		f.Remarks = append(f.Remarks, "Its lines are indented or end in blanks.")
	}
	if !strings.HasPrefix(strings.TrimLeft(clean, "\n"), "-----BEGIN ") || strings.TrimSpace(string(rest)) != "" {
		f.Remarks = append(f.Remarks, "There is other text around the key.")
	}
	return f, err
}

func lineForm() form {
	return form{name: FormatLine, title: "OpenSSH line",
		public: func(p Public) ([]byte, error) { return []byte(p.Line() + "\n"), nil }}
}

// readLines reads one public half in the one-line form, which may have options
// in front and may have been folded over several lines.
func readLines(text string) (File, error) {
	var lines []string
	for line := range strings.Lines(text) {
		line = strings.Trim(line, " \t\n")
		if line != "" && line[0] != '#' {
			lines = append(lines, line)
		}
	}
	if len(lines) == 0 {
		return File{}, ErrEmpty
	}
	keys := 0
	for _, l := range lines {
		if startsKey(l) {
			keys++
		}
	}
	if keys > 1 {
		return File{}, fmt.Errorf("%w (%d keys)", ErrSeveralKeys, keys)
	}
	if len(lines) == 1 {
		return readOneLine(lines[0])
	}
	if !startsKey(lines[0]) {
		return File{}, notAKey(text)
	}
	// Folded by a terminal in the middle of a word, or by a mail program at the blank after the type.
	for _, joined := range []string{strings.Join(lines, ""), lines[0] + " " + strings.Join(lines[1:], "")} {
		if f, err := readOneLine(joined); err == nil {
			f.Remarks = append(f.Remarks, fmt.Sprintf("It was folded over %d lines.", len(lines)))
			return f, nil
		}
	}
	return File{}, fmt.Errorf("%w: it goes on over %d lines, and does not make a whole key when they are joined",
		ErrNotAKey, len(lines))
}

// startsKey tells whether a line begins with a type of key, or with options
// that a type of key follows.
func startsKey(line string) bool {
	for _, l := range authkeys.Parse([]byte(line), time.UTC) {
		if l.Err == nil {
			return true
		}
	}
	return looksLikeLine(line)
}

func readOneLine(line string) (File, error) {
	if !looksLikeLine(line) {
		if found := authkeys.Parse([]byte(line), time.UTC); len(found) == 1 && found[0].Err == nil &&
			found[0].Options.Text != "" {
			p, err := FromBlob(found[0].Blob, found[0].Comment)
			return File{Format: FormatLine, Public: p, Options: found[0].Options.Text,
				Remarks: []string{"Options stand in front of the key; they are not part of it."}}, err
		} else if len(found) == 1 && errors.Is(found[0].Err, authkeys.ErrOption) {
			return File{}, fmt.Errorf("%w: %w", ErrNotAKey, found[0].Err)
		}
	}
	p, err := readLine(line)
	if errors.Is(err, ErrNotAKey) {
		err = notAKey(line)
	}
	return File{Format: FormatLine, Public: p}, err
}

// marks tell what a file is that is no key.
var marks = []struct{ mark, what string }{
	{"<!doctype html", "it looks like a web page: the download was perhaps an error page"},
	{"<html", "it looks like a web page: the download was perhaps an error page"},
	{"-----BEGIN CERTIFICATE REQUEST", "it is a certificate request (X.509), not a key"},
	{"-----BEGIN NEW CERTIFICATE REQUEST", "it is a certificate request (X.509), not a key"},
	{"-----BEGIN CERTIFICATE", "it is an X.509 certificate, not a key"},
	{"-----BEGIN PGP", "it is a PGP block, not an SSH key"},
	{"-----BEGIN DH PARAMETERS", "they are parameters for a key agreement, not a key"},
	{"-----BEGIN EC PARAMETERS", "they are the parameters of a curve; the key itself is missing"},
	{"untrusted comment:", "it is a key or signature of another signing tool, not an SSH key"},
	{`{"`, "it looks like JSON"},
	{"#cloud-config", "it is a cloud-config"},
	{"|1|", "it looks like a known_hosts file"},
}

// notAKey says what a text looks like that is no key.
func notAKey(text string) error {
	lower := strings.ToLower(strings.TrimLeft(text, " \t\n"))
	for _, m := range marks {
		if strings.HasPrefix(lower, strings.ToLower(m.mark)) {
			return fmt.Errorf("%w: %s", ErrNotAKey, m.what)
		}
	}
	if first, rest, ok := strings.Cut(lower, " "); ok &&
		strings.Trim(first, "abcdefghijklmnopqrstuvwxyz0123456789.-,*[]:") == "" &&
		looksLikeLine(strings.TrimSpace(rest)) {
		return fmt.Errorf("%w: it looks like a known_hosts line, a host's name before a host's key", ErrNotAKey)
	}
	return fmt.Errorf("%w: a public key is one line such as \"ssh-ed25519 AAAA... comment\"", ErrNotAKey)
}

// Entry is one key, or one failure, of a file of many lines.
type Entry struct {
	Line   int // from 1, of its first line
	Public Public
	Err    error
}

// ReadMany reads a file of many public halves, a line each: an authorized_keys
// file, or a list. Blank lines and comments are passed over; the limit on size
// is per line. The whole file is refused only if a private key is in it.
func ReadMany(file []byte) ([]Entry, error) {
	if LooksPrivate(file) {
		return nil, ErrPrivateKey
	}
	if bytes.IndexByte(file, 0) >= 0 {
		return nil, ErrNUL
	}
	text, _ := tidy(file)
	var out []Entry
	number := 0
	for line := range strings.Lines(text) {
		number++
		line = strings.Trim(line, " \t\n")
		if line == "" || line[0] == '#' {
			continue
		}
		e := Entry{Line: number}
		if len(line) > MaxFile {
			e.Err = ErrTooLarge
		} else {
			var f File
			f, e.Err = readOneLine(line)
			e.Public = f.Public
		}
		out = append(out, e)
	}
	if len(out) == 0 {
		return nil, ErrEmpty
	}
	return out, nil
}
