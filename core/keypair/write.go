package keypair

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"
)

// ErrReadBack says that what was written does not read back as what was asked for.
var ErrReadBack = errors.New("the written key does not read back as the key that was asked for; nothing was kept")

// Write returns the private half in a format, ending in a newline, with a
// passphrase unless that is empty. What was written has been read back and
// compared in kind, format, encryption and fingerprint. ErrKindFormat where
// the format has no place for the kind; LoadWarning tells what else to know.
func (p *Pair) Write(f Format, passphrase []byte) ([]byte, error) {
	var out []byte
	var err error
	switch f {
	case FormatOpenSSH:
		out, err = p.opensshKey(passphrase)
	case FormatPEM:
		out, err = p.pemKey(passphrase)
	case FormatPKCS8:
		out, err = p.pkcs8Key(passphrase)
	case FormatPPK3:
		out, err = p.ppkFile(3, passphrase)
	case FormatPPK2:
		out, err = p.ppkFile(2, passphrase)
	default:
		_, err = ParseFormat(string(f), PrivateFormats())
	}
	if err != nil {
		return nil, err
	}
	back, err := Read(out, passphrase)
	if err != nil || back.Pair == nil || back.Format != f || back.Encrypted != (len(passphrase) > 0) ||
		back.Public.Kind() != p.Public.Kind() || !bytes.Equal(back.Pair.Public.Blob, p.Public.Blob) {
		clear(out)
		return nil, ErrReadBack
	}
	return out, nil
}

// opensshKey is OpenSSH's own format: aes256-ctr and bcrypt with a passphrase.
func (p *Pair) opensshKey(passphrase []byte) ([]byte, error) {
	var block *pem.Block
	var err error
	if len(passphrase) == 0 {
		block, err = ssh.MarshalPrivateKey(p.private, p.Public.Comment)
	} else {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(p.private, p.Public.Comment, passphrase)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %s", ErrKindFormat, p.Public.Kind())
	}
	return pem.EncodeToMemory(block), nil
}

// Write returns the public half in a format, ending in a newline. ErrKindFormat
// where the format has no place for the kind.
func (p Public) Write(f Format) ([]byte, error) {
	switch f {
	case FormatLine:
		return []byte(p.Line() + "\n"), nil
	case FormatRFC4716:
		return []byte(p.rfc4716()), nil
	case FormatSPKI:
		key, err := ssh.ParsePublicKey(p.Blob)
		if err != nil {
			return nil, err
		}
		c, ok := key.(ssh.CryptoPublicKey)
		if !ok || strings.HasPrefix(p.Type(), "sk-") {
			return nil, fmt.Errorf("%w: a hardware-held key has no PEM form", ErrKindFormat)
		}
		der, err := x509.MarshalPKIXPublicKey(c.CryptoPublicKey())
		if err != nil {
			return nil, fmt.Errorf("%w: %s", ErrKindFormat, p.Kind())
		}
		return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}), nil
	}
	_, err := ParseFormat(string(f), PublicFormats())
	return nil, err
}
