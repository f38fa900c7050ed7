package keypair

import (
	"bytes"
	"encoding/pem"
	"errors"
	"fmt"

	"golang.org/x/crypto/ssh"
)

// ErrReadBack says that what was written does not read back as what was asked for.
var ErrReadBack = errors.New("the written key does not read back as the key that was asked for; nothing was kept")

// Write returns the private half in a format, ending in a newline, with a
// passphrase unless that is empty. What was written has been read back and
// compared in kind, format, encryption and fingerprint. ErrKindFormat where
// the format has no place for the kind; LoadWarning tells what else to know.
func (p *Pair) Write(f Format, passphrase []byte) ([]byte, error) {
	write := func(*Pair, []byte) ([]byte, error) {
		_, err := ParseFormat(string(f), PrivateFormats())
		return nil, err
	}
	for _, form := range forms() {
		if form.name == f && form.private != nil {
			write = form.private
		}
	}
	out, err := write(p, passphrase)
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

func opensshForm() form {
	return form{name: FormatOpenSSH, title: "OpenSSH", blocks: []string{"OPENSSH PRIVATE KEY"}, block: readOpenSSH,
		private: (*Pair).opensshKey}
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
	for _, form := range forms() {
		if form.name == f && form.public != nil {
			return form.public(p)
		}
	}
	_, err := ParseFormat(string(f), PublicFormats())
	return nil, err
}
