// Package firstpassword reads the first password of an instance that takes no key: the cloud makes it, encrypts it to the
// RSA key that the instance was launched with, and shows the cipher text to whoever asks. Only the holder of the private half
// reads it. The cipher is RSAES-PKCS1-v1_5 (RFC 8017, section 7.2), as the systems that boot such images use it; the text is
// base64 (RFC 4648, section 4).
package firstpassword

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"plumlatch/core/keypair"
)

// What Decrypt and CipherText say no with.
var (
	// ErrNoCipherText: the text is not what an RSA key has encrypted.
	ErrNoCipherText = errors.New("that is no cipher text of a password")
	// ErrOtherKey: it was encrypted to another key.
	ErrOtherKey = errors.New("it was encrypted to another key")
)

// maxText is more than any cipher text has in base64: that of an RSA key of 16,384 bits.
const maxText = 4 << 10

// Check returns keypair.ErrNotRSA for a key that no password can be encrypted to.
func Check(p keypair.Public) error {
	if p.RSASize() == 0 {
		return keypair.ErrNotRSA
	}
	return nil
}

// CipherText reads base64, on one line or several. ErrNoCipherText.
func CipherText(text string) ([]byte, error) {
	if len(text) > maxText {
		return nil, ErrNoCipherText
	}
	data, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), ""))
	if err != nil || len(data) < 64 { // RSA of 512 bits, which nobody uses, has 64 bytes
		return nil, ErrNoCipherText
	}
	return data, nil
}

// Decrypt returns the password. RFC 8017, section 7.2.2: the cipher text is as long as the key's modulus, and what comes out
// is told from garbage by its padding alone; so it must also be a line of text. keypair.ErrNotRSA, ErrNoCipherText, ErrOtherKey.
func Decrypt(pair *keypair.Pair, cipherText []byte) (string, error) {
	size := pair.Public.RSASize()
	switch {
	case size == 0:
		return "", keypair.ErrNotRSA
	case len(cipherText) != size && len(cipherText)%16 == 0 && len(cipherText) >= 128:
		return "", fmt.Errorf("%w: this one has %d bits, and that one has %d", ErrOtherKey, size*8, len(cipherText)*8)
	case len(cipherText) != size:
		return "", ErrNoCipherText
	}
	out, err := pair.DecryptPKCS1v15(cipherText)
	if err != nil {
		return "", ErrOtherKey
	}
	password := strings.TrimRight(string(out), "\r\n\x00")
	if password == "" || !utf8.ValidString(password) || strings.ContainsFunc(password, func(r rune) bool { return !unicode.IsPrint(r) }) {
		return "", ErrOtherKey
	}
	return password, nil
}
