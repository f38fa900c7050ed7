package keypair

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"golang.org/x/crypto/ssh"
)

// PrintForm is a way to tell keys apart by a short text. Clouds and tools show one and the same key in several.
type PrintForm string

// The forms of fingerprints.
const (
	// PrintSHA256 is the SHA-256 of the public blob, as ssh-keygen -l prints it: "SHA256:" and base64
	// without padding. It is the only one by which something is changed.
	PrintSHA256 PrintForm = "SHA256"
	// PrintMD5 is an MD5 in hex: of the public blob, as ssh-keygen -l -E md5 prints it (RFC 4716
	// section 4), or of the public key's DER (SubjectPublicKeyInfo, RFC 5280 section 4.1). By the text
	// alone nobody can tell which.
	PrintMD5 PrintForm = "MD5"
	// PrintSHA1 is the SHA-1, in hex, of the private half's DER (PKCS#8, RFC 5958), which some clouds
	// show of pairs that they made themselves. Who has the public half alone cannot make it.
	PrintSHA1 PrintForm = "SHA1"
)

// Print is a fingerprint that somebody wrote.
type Print struct {
	Form PrintForm
	// Text is the one way to write it here: "SHA256:" and base64 without padding, or "MD5:" or "SHA1:"
	// and bytes in small hex with colons between.
	Text string
	// Bare tells that it came without a prefix and without colons, so that it may as well be a name.
	Bare bool
}

// Hex is the print as hex digits alone; "" for SHA256.
func (p Print) Hex() string {
	if p.Form == PrintSHA256 {
		return ""
	}
	_, text, _ := strings.Cut(p.Text, ":")
	return strings.ReplaceAll(text, ":", "")
}

// Changes tells whether something may be changed by it: another key can be made to fit an MD5, and
// what is said of a private half proves nothing.
func (p Print) Changes() bool { return p.Form == PrintSHA256 }

// ErrPrint says that a text begins as a fingerprint does, and is of no form that is known.
var ErrPrint = errors.New("this is no fingerprint of a known form; there are SHA256: and 43 letters of base64, " +
	"MD5: and 32 hex digits, SHA1: and 40 hex digits, with colons between the bytes or without")

// ErrPrintSHA1 says that a SHA-1 came in base64, as ssh-keygen -l -E sha1 prints it: no cloud shows that.
var ErrPrintSHA1 = errors.New("this is the SHA-1 of the public blob, by which nothing is kept: run ssh-keygen -l -f " +
	"FILE without -E, and give the SHA256")

var (
	base64SHA256 = regexp.MustCompile(`^[A-Za-z0-9+/]{43}=?$`)
	base64SHA1   = regexp.MustCompile(`^[A-Za-z0-9+/]{27}=?$`)
	hexBytes     = regexp.MustCompile(`^[0-9a-fA-F]{2}(:?[0-9a-fA-F]{2})*$`)
)

// ParsePrint reads a fingerprint of whatever form, with and without its prefix, its colons and its
// padding. ok is false for a text that is none and does not look like one. ErrPrint, ErrPrintSHA1.
func ParsePrint(text string) (p Print, ok bool, err error) {
	prefix, rest, prefixed := strings.Cut(text, ":")
	form := PrintForm(strings.ToUpper(prefix))
	switch {
	case !prefixed || form != PrintSHA256 && form != PrintMD5 && form != PrintSHA1:
		form, rest, prefixed = "", text, false
	case form == PrintSHA1 && base64SHA1.MatchString(rest):
		return Print{}, true, ErrPrintSHA1
	}
	if (form == "" || form == PrintSHA256) && base64SHA256.MatchString(rest) {
		if _, err := base64.RawStdEncoding.Strict().DecodeString(strings.TrimRight(rest, "=")); err == nil {
			return Print{PrintSHA256, "SHA256:" + strings.TrimRight(rest, "="), !prefixed}, true, nil
		}
	}
	if hexBytes.MatchString(rest) {
		digits := strings.ToLower(strings.ReplaceAll(rest, ":", ""))
		of := map[int]PrintForm{2 * md5.Size: PrintMD5, 2 * sha1.Size: PrintSHA1, 64: PrintSHA256}[len(digits)]
		// Colons stand between all bytes or none.
		colons := strings.Count(rest, ":")
		if of != "" && (form == "" || form == of) && (colons == 0 || colons == len(digits)/2-1) {
			raw, _ := hex.DecodeString(digits) // the pattern has seen to that
			if of == PrintSHA256 {
				return Print{of, "SHA256:" + base64.RawStdEncoding.EncodeToString(raw), !prefixed && colons == 0}, true, nil
			}
			return Print{of, string(of) + ":" + colonHex(raw), !prefixed && colons == 0}, true, nil
		}
	}
	if prefixed {
		return Print{}, true, fmt.Errorf("%w", ErrPrint)
	}
	return Print{}, false, nil
}

// PrintOfHex is the canonical text of a print whose hex digits were kept. "" for "".
func PrintOfHex(form PrintForm, digits string) string {
	raw, err := hex.DecodeString(digits)
	if err != nil || digits == "" {
		return ""
	}
	return string(form) + ":" + colonHex(raw)
}

// FingerprintMD5 returns "MD5:" and the colon-separated hex of the blob's MD5,
// as ssh-keygen -l -E md5 prints it (RFC 4716 section 4).
func (p Public) FingerprintMD5() string {
	sum := md5.Sum(p.Blob)
	return "MD5:" + colonHex(sum[:])
}

// FingerprintDER returns "MD5:" and the colon-separated hex of the MD5 of the public key's
// SubjectPublicKeyInfo in DER (RFC 5280 section 4.1), as "openssl md5 -c" prints it. "" for a kind
// that has no such form here: keys of security keys, and DSA.
func (p Public) FingerprintDER() string {
	key, err := ssh.ParsePublicKey(p.Blob)
	if err != nil {
		return ""
	}
	c, ok := key.(ssh.CryptoPublicKey)
	if !ok || strings.HasPrefix(key.Type(), "sk-") {
		return ""
	}
	der, err := x509.MarshalPKIXPublicKey(c.CryptoPublicKey())
	if err != nil {
		return ""
	}
	sum := md5.Sum(der)
	return "MD5:" + colonHex(sum[:])
}

// FingerprintPrivate returns "SHA1:" and the colon-separated hex of the SHA-1 of the private half in
// PKCS#8 DER without encryption (RFC 5958), as "openssl pkcs8 -topk8 -nocrypt -outform DER | openssl sha1 -c"
// prints it. It says nothing of the private half to whoever reads it.
func (p *Pair) FingerprintPrivate() (string, error) {
	der, err := x509.MarshalPKCS8PrivateKey(p.private)
	if err != nil {
		return "", fmt.Errorf("a key of this kind has no PKCS#8 form here")
	}
	defer clear(der)
	sum := sha1.Sum(der)
	return "SHA1:" + colonHex(sum[:]), nil
}

func colonHex(b []byte) string {
	var parts []string
	for _, one := range b {
		parts = append(parts, hex.EncodeToString([]byte{one}))
	}
	return strings.Join(parts, ":")
}
