// Package secrets finds private keys in text: the one place that says what may
// not come in, and what is blanked in what instances and clouds send.
//
// It errs on the side of yes for whatever is a private key, or a recognisable
// part of one, in any form that people send by mistake: PEM of every sort (RFC
// 7468), OpenSSH's and PuTTY's formats, age identities, JWK (RFC 7517), and the
// bare bodies of PKCS#8 (RFC 5958), PKCS#1 (RFC 8017) and SEC 1 (RFC 5915); as they
// are, with other blanks in them, URL-encoded, escaped as in JSON, in hexadecimal,
// in base64 within base64, and compressed within base64 as first-boot text has it.
// It errs on the side of no for public keys, certificates, configurations and
// logs: a test counts false alarms over those.
package secrets

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/hex"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Blanked stands where a private key stood.
const Blanked = "[a private key stood here]"

// Bounds of a search: how deep an encoding within an encoding is followed, and
// how much a compressed text may become.
const (
	maxDepth = 4
	maxUnzip = 1 << 20
	// A text of n bytes has at most this many times n bytes looked at in all its
	// encodings, and a little.
	maxTimes, little = 40, 1 << 20
)

// Holds tells whether a text holds a private key.
func Holds(text string) bool {
	s := &search{left: maxTimes*len(text) + little}
	return s.text(text, 0)
}

type search struct{ left int }

// marks are what a private key's text has in it, without its blanks and in
// capitals.
var marks = []string{
	"PRIVATEKEY-----",         // PEM of every sort, RFC 7468
	"ENCRYPTEDPRIVATEKEY----", // RFC 4716's private cousin
	"PRIVATE-LINES:",          // PPK
	"PRIVATE-MAC:",            //
	"USER-KEY-FILE-2:SSH",     // PPK 2
	"USER-KEY-FILE-3:SSH",     // PPK 3
	"USER-KEY-FILE-2:ECDSA",   //
	"USER-KEY-FILE-3:ECDSA",   //
	"OPENSSH-KEY-V1",          // PROTOCOL.key of OpenSSH, decoded
	"B3BLBNNZAC1RZXKTDJ",      // the same in base64, its PEM header lost
	"AGE-SECRET-KEY-1",        // an age identity
}

// text looks into a text, and into what it may be an encoding of.
func (s *search) text(text string, depth int) bool {
	if depth > maxDepth || len(text) < minText {
		return false
	}
	if s.left -= len(text); s.left < 0 {
		return false
	}
	flat := flatten(text)
	upper := strings.ToUpper(flat)
	for _, m := range marks {
		if strings.Contains(upper, m) {
			return true
		}
	}
	if jwk(flat) || der([]byte(text)) {
		return true
	}
	if depth == maxDepth {
		return false
	}
	for _, other := range []string{percent(text, false), percent(text, true), escapes(text), entities(text)} {
		if other != text && s.text(other, depth+1) {
			return true
		}
	}
	return s.runs(flat, depth)
}

// minText is the length of the shortest text that holds anything: the mark of an
// age identity.
const minText = 14

// flatten leaves out whatever is blank or invisible.
func flatten(text string) string {
	return strings.Map(func(r rune) rune {
		if r < utf8.RuneSelf { // most are; unicode.In searches tables
			if r <= ' ' || r == 0x7f {
				return -1
			}
			return r
		}
		if r == utf8.RuneError || unicode.IsSpace(r) || unicode.In(r, unicode.Cf, unicode.Zs, unicode.Cc) {
			return -1
		}
		return r
	}, text)
}

// runs looks into stretches that may be base64 or hexadecimal.
func (s *search) runs(flat string, depth int) bool {
	for begin := 0; begin < len(flat); {
		end := begin
		for end < len(flat) && alphabet[flat[end]] {
			end++
		}
		if end-begin >= minRun && s.run(flat[begin:end], depth) {
			return true
		}
		begin = end + 1
	}
	return false
}

// minRun is the shortest run that can be the body of a private key: PKCS#8 of
// Ed25519 is 48 bytes, 64 characters; a part of it counts.
const minRun = 40

var alphabet = func() (a [256]bool) {
	for _, r := range "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/-_" {
		a[r] = true
	}
	return a
}()

var urlSafe = strings.NewReplacer("-", "+", "_", "/")

// run decodes one stretch: at each of the four places where a group of base64 may
// begin, since a word may stand before it.
func (s *search) run(run string, depth int) bool {
	run = urlSafe.Replace(run)
	for at := range 4 {
		part := run[min(at, len(run)):]
		part = part[:len(part)/4*4]
		if s.left -= len(part); s.left < 0 {
			return false
		}
		data, err := base64.StdEncoding.DecodeString(part)
		if err == nil && s.decoded(data, depth) {
			return true
		}
		if rest := run[min(at, len(run)):]; len(rest)%4 > 1 { // its padding stood behind it, or was lost
			data, err := base64.RawStdEncoding.DecodeString(rest)
			if err == nil && s.decoded(data, depth) {
				return true
			}
		}
	}
	return s.hexadecimal(run, depth)
}

// hexadecimal decodes the stretches of a run that are hexadecimal.
func (s *search) hexadecimal(run string, depth int) bool {
	digit := func(b byte) bool { return b >= '0' && b <= '9' || b >= 'a' && b <= 'f' || b >= 'A' && b <= 'F' }
	for begin := 0; begin < len(run); {
		end := begin
		for end < len(run) && digit(run[end]) {
			end++
		}
		if end-begin >= minRun {
			for at := range 2 {
				part := run[begin+at : end]
				part = part[:len(part)/2*2]
				if s.left -= len(part); s.left < 0 {
					return false
				}
				if data, err := hex.DecodeString(part); err == nil && s.decoded(data, depth) {
					return true
				}
			}
		}
		begin = end + 1
	}
	return false
}

// decoded looks into bytes: keys without any text around them, and text.
func (s *search) decoded(data []byte, depth int) bool {
	if der(data) || dropbear(data) || bytes.Contains(data, []byte("openssh-key-v1\x00")) {
		return true
	}
	for at := bytes.Index(data, gzipMagic); at >= 0; {
		if r, err := gzip.NewReader(bytes.NewReader(data[at:])); err == nil {
			plain, _ := io.ReadAll(io.LimitReader(r, maxUnzip)) // as much as can be read
			if s.left -= len(plain); s.left > 0 && s.text(string(plain), depth+1) {
				return true
			}
		}
		next := bytes.Index(data[at+1:], gzipMagic)
		if next < 0 {
			break
		}
		at += 1 + next
	}
	return printable(data) && s.text(string(data), depth+1)
}

var gzipMagic = []byte{0x1f, 0x8b, 0x08}

// printable tells whether bytes are text for the greater part.
func printable(data []byte) bool {
	text := 0
	for _, b := range data {
		if b >= 0x20 && b < 0x7f || b == '\n' || b == '\r' || b == '\t' {
			text++
		}
	}
	return text*4 >= len(data)*3
}

// percent undoes URL encoding (RFC 3986 section 2.1), passing over what is none. In
// a form, a plus is a blank; elsewhere it is itself.
func percent(text string, form bool) string {
	if !strings.Contains(text, "%") {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] == '%' && i+2 < len(text) {
			if n, err := strconv.ParseUint(text[i+1:i+3], 16, 8); err == nil {
				b.WriteByte(byte(n))
				i += 2
				continue
			}
		}
		if text[i] == '+' && form {
			b.WriteByte(' ')
			continue
		}
		b.WriteByte(text[i])
	}
	return b.String()
}

// escapes undoes the escapes of JSON, C and YAML.
func escapes(text string) string {
	if !strings.Contains(text, `\`) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] != '\\' || i+1 == len(text) {
			b.WriteByte(text[i])
			continue
		}
		digits := map[byte]int{'u': 4, 'x': 2, 'U': 8}[text[i+1]]
		if digits > 0 && i+2+digits <= len(text) {
			if n, err := strconv.ParseUint(text[i+2:i+2+digits], 16, 32); err == nil && n <= unicode.MaxRune {
				b.WriteRune(rune(n))
				i += 1 + digits
				continue
			}
		}
		switch text[i+1] {
		case 'n', 'r', 't', '\n':
			b.WriteByte('\n')
		default:
			b.WriteByte(text[i+1])
		}
		i++
	}
	return b.String()
}

var entity = regexp.MustCompile(`&#(x[0-9A-Fa-f]{1,5}|[0-9]{1,6});`)

// entities undoes the numbered characters of XML.
func entities(text string) string {
	if !strings.Contains(text, "&#") {
		return text
	}
	return entity.ReplaceAllStringFunc(text, func(e string) string {
		digits, base := e[2:len(e)-1], 10
		if digits[0] == 'x' {
			digits, base = digits[1:], 16
		}
		n, err := strconv.ParseUint(digits, base, 32)
		if err != nil || n > unicode.MaxRune {
			return e
		}
		return string(rune(n))
	})
}

// jwk: a JSON Web Key whose private part is there (RFC 7518 section 6): "d" beside
// "kty".
var jwkPrivate = regexp.MustCompile(`["']d["']:["'][A-Za-z0-9_-]{22,}`)

func jwk(flat string) bool {
	return (strings.Contains(flat, `"kty"`) || strings.Contains(flat, `'kty'`)) && jwkPrivate.MatchString(flat)
}
