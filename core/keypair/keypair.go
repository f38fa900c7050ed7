// Package keypair creates key pairs and reads and writes their files.
//
// It computes only: bytes in, bytes out. Whoever calls it reads the file, asks
// for the passphrase and decides where a private half is to lie. Nothing here
// ever puts key material into an error.
package keypair

import (
	"bytes"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Kind names a kind of pair to create: an algorithm, with the size in bits
// where the algorithm has several.
type Kind string

// The kinds that Create makes.
const (
	Ed25519 Kind = "ed25519"
	RSA3072 Kind = "rsa-3072"
	RSA4096 Kind = "rsa-4096"
)

// Kinds lists what Create makes, the default first.
func Kinds() []Kind { return []Kind{Ed25519, RSA3072, RSA4096} }

// ErrKind says that a kind is not one of Kinds.
var ErrKind = errors.New("unknown kind of key")

// ParseKind reads a Kind by its name; the error wraps ErrKind and lists what there is.
func ParseKind(s string) (Kind, error) {
	var all []string
	for _, k := range Kinds() {
		if string(k) == s {
			return k, nil
		}
		all = append(all, string(k))
	}
	return "", fmt.Errorf("%w; there are %s", ErrKind, strings.Join(all, ", "))
}

// Pair is a key pair in memory. Its String shows the public half only.
type Pair struct {
	Public  Public
	private crypto.Signer
}

// String returns the fingerprint, so that a Pair printed by mistake gives nothing away.
func (p *Pair) String() string { return p.Public.Fingerprint() }

// GoString is String: %#v must not walk into the private half either.
func (p *Pair) GoString() string { return p.String() }

// Create makes a new pair of the given kind with the comment on its public
// half. Randomness is the operating system's (Go's generators ignore a reader).
func Create(kind Kind, comment string) (*Pair, error) {
	var private crypto.Signer
	var err error
	switch kind {
	case Ed25519:
		_, private, err = ed25519.GenerateKey(rand.Reader)
	case RSA3072:
		private, err = rsa.GenerateKey(rand.Reader, 3072)
	case RSA4096:
		private, err = rsa.GenerateKey(rand.Reader, 4096)
	default:
		_, err = ParseKind(string(kind))
	}
	if err != nil {
		return nil, err
	}
	return newPair(private, comment)
}

func newPair(private crypto.Signer, comment string) (*Pair, error) {
	pub, err := ssh.NewPublicKey(private.Public())
	if err != nil {
		return nil, fmt.Errorf("public half: %w", err)
	}
	p, err := FromBlob(pub.Marshal(), comment)
	if err != nil {
		return nil, err
	}
	return &Pair{Public: p, private: private}, nil
}

// Signer returns the pair for use with golang.org/x/crypto/ssh.
func (p *Pair) Signer() (ssh.Signer, error) { return ssh.NewSignerFromSigner(p.private) }

// ErrReadBack says that what was written does not read back as what was asked for.
var ErrReadBack = errors.New("the written key does not read back as the key that was made; nothing was kept")

// OpenSSH returns the private half in OpenSSH's own format (PROTOCOL.key of
// OpenSSH: "openssh-key-v1", aes256-ctr and bcrypt where a passphrase is
// given), ending in a newline. An empty passphrase writes it unencrypted. The
// result has been read back and compared.
func (p *Pair) OpenSSH(passphrase []byte) ([]byte, error) {
	var block *pem.Block
	var err error
	if len(passphrase) == 0 {
		block, err = ssh.MarshalPrivateKey(p.private, p.Public.Comment)
	} else {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(p.private, p.Public.Comment, passphrase)
	}
	if err != nil {
		return nil, fmt.Errorf("write private half: %w", err)
	}
	out := pem.EncodeToMemory(block)
	back, err := ReadPrivate(out, passphrase)
	if err != nil || !bytes.Equal(back.Public.Blob, p.Public.Blob) {
		return nil, ErrReadBack
	}
	return out, nil
}

// Errors of ReadPrivate and PublicOfPrivate.
var (
	// ErrPassphrase: the file is encrypted and no passphrase, or a wrong one, was given.
	ErrPassphrase = errors.New("the private key has a passphrase, and none or a wrong one was given")
	// ErrNotPrivate: the bytes are no private key in a format that is read here.
	ErrNotPrivate = errors.New("this is not a private key in OpenSSH's format")
)

// ReadPrivate reads a private half in OpenSSH's format. It returns
// ErrPassphrase or ErrNotPrivate.
func ReadPrivate(file, passphrase []byte) (*Pair, error) {
	var raw any
	var err error
	if len(passphrase) == 0 {
		raw, err = ssh.ParseRawPrivateKey(file)
	} else {
		raw, err = ssh.ParseRawPrivateKeyWithPassphrase(file, passphrase)
	}
	if _, missing := errors.AsType[*ssh.PassphraseMissingError](err); missing || errors.Is(err, x509.IncorrectPasswordError) {
		return nil, ErrPassphrase
	}
	if err != nil {
		return nil, ErrNotPrivate // the cause may quote the file
	}
	if k, ok := raw.(*ed25519.PrivateKey); ok {
		raw = *k
	}
	signer, ok := raw.(crypto.Signer)
	if !ok {
		return nil, ErrNotPrivate
	}
	return newPair(signer, "")
}

// PublicOfPrivate returns the public half of a private file. OpenSSH's format
// holds it in the clear, so that no passphrase is needed.
func PublicOfPrivate(file []byte) (Public, error) {
	pair, err := ReadPrivate(file, nil)
	if err == nil {
		return pair.Public, nil
	}
	_, err = ssh.ParseRawPrivateKey(file)
	if missing, ok := errors.AsType[*ssh.PassphraseMissingError](err); ok && missing.PublicKey != nil {
		return FromBlob(missing.PublicKey.Marshal(), "")
	} else if ok {
		return Public{}, ErrPassphrase
	}
	return Public{}, ErrNotPrivate
}
