package keypair

import (
	"encoding/pem"
	"errors"
	"fmt"
	"strings"
)

// Format is a file format of a private or public half.
type Format string

// The formats of private halves.
const (
	FormatOpenSSH Format = "openssh" // "openssh-key-v1", PROTOCOL.key of OpenSSH
	FormatPEM     Format = "pem"     // PKCS#1 (RFC 8017 appendix A.1.2) or SEC1 (RFC 5915)
	FormatPKCS8   Format = "pkcs8"   // RFC 5958
	FormatPPK3    Format = "ppk"     // PPK version 3
	FormatPPK2    Format = "ppk2"    // PPK version 2
)

// The formats of public halves.
const (
	FormatLine    Format = "line"    // one line, sshd(8) "AUTHORIZED_KEYS FILE FORMAT"
	FormatRFC4716 Format = "rfc4716" // RFC 4716
	FormatSPKI    Format = "spki"    // PEM "PUBLIC KEY", RFC 5280 section 4.1
	FormatPKCS1   Format = "pkcs1"   // PEM "RSA PUBLIC KEY", RFC 8017 appendix A.1.1
)

// form is all that the package knows of one format: each is made in the file of its format,
// and listed in forms. A text is read by the first form that it begins as; PEM (RFC 7468) by the
// type of its block; whatever is left by lines.
type form struct {
	name  Format
	title string // for people

	begins func(text string) bool // nil for what is PEM
	read   func(text string, passphrase []byte) (File, error)

	blocks []string // types of PEM blocks
	block  func(b *pem.Block, passphrase []byte) (File, error)

	private func(p *Pair, passphrase []byte) ([]byte, error) // nil: no private half is written
	public  func(p Public) ([]byte, error)                   // nil: no public half is written
}

// forms are all formats; of those of private and of public halves the default comes first.
func forms() []form {
	return []form{
		opensshForm(),
		pemForm(),
		pkcs8Form(),
		ppkForm(3),
		ppkForm(2),
		lineForm(),
		rfc4716Form(),
		spkiForm(),
		pkcs1Form(),
	}
}

// PrivateFormats lists what Pair.Write writes, the default first.
func PrivateFormats() (out []Format) {
	for _, f := range forms() {
		if f.private != nil {
			out = append(out, f.name)
		}
	}
	return out
}

// PublicFormats lists what Public.Write writes, the default first.
func PublicFormats() (out []Format) {
	for _, f := range forms() {
		if f.public != nil {
			out = append(out, f.name)
		}
	}
	return out
}

// Errors about formats.
var (
	// ErrFormat: there is no such format.
	ErrFormat = errors.New("unknown format")
	// ErrKindFormat: this kind of key cannot stand in this format.
	ErrKindFormat = errors.New("this kind of key cannot be written in this format")
)

// ParseFormat reads a format by its name, among the given ones.
func ParseFormat(s string, among []Format) (Format, error) {
	var all []string
	for _, f := range among {
		if string(f) == s {
			return f, nil
		}
		all = append(all, string(f))
	}
	return "", fmt.Errorf("%w; there are %s", ErrFormat, strings.Join(all, ", "))
}

// Title returns the format's name for people.
func (f Format) Title() string {
	for _, form := range forms() {
		if form.name == f {
			return form.title
		}
	}
	return ""
}

// LoadWarning says what stands against the kind in the format: nothing (""),
// or why Debian 12's own ssh does not load such a file, and what does.
func LoadWarning(kind string, f Format) string {
	switch {
	case f == FormatPPK3:
		return "OpenSSH's ssh does not read PPK files; PPK 3 is read by Windows clients of that family since 2021 " +
			"and by file transfer clients built on them. For ssh, use the format openssh"
	case f == FormatPPK2:
		return "OpenSSH's ssh does not read PPK files; PPK 2 is for Windows clients older than 2021, and its " +
			"passphrase protection is weak. For ssh, use the format openssh"
	case f == FormatPKCS8 && kind == string(Ed25519):
		return "OpenSSH 9.2 (Debian 12) does not load Ed25519 as PKCS#8; programs built on OpenSSL 1.1.1 or later, " +
			"Go and Java 15 do. For ssh, use the format openssh"
	}
	return ""
}

// File is what a file was found to be.
type File struct {
	Format    Format
	Private   bool     // it holds a private half
	Encrypted bool     // that half has a passphrase
	Pair      *Pair    // nil for a public file, or without the passphrase
	Public    Public   // its Blob is empty where a locked file does not show it
	Options   string   // options that stood in front of the line
	Remarks   []string // what was tolerated in reading it, a sentence each
}
