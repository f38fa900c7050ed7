// Package keypair creates key pairs and reads and writes their files, in every
// format that SSH clients and the tools around them use.
//
// It computes only: bytes in, bytes out. Whoever calls it reads the file, asks
// for the passphrase and decides where a private half is to lie. Nothing here
// ever puts key material into an error.
//
// Read takes any file apart; ReadPublic takes one public half and refuses
// everything else. Pair.Write writes a private half, Public.Write a public one.
package keypair

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
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
	Ed25519  Kind = "ed25519"
	RSA2048  Kind = "rsa-2048"
	RSA3072  Kind = "rsa-3072"
	RSA4096  Kind = "rsa-4096"
	ECDSA256 Kind = "ecdsa-256"
	ECDSA384 Kind = "ecdsa-384"
	ECDSA521 Kind = "ecdsa-521"
)

// Kinds lists what Create makes, the default first.
func Kinds() []Kind {
	return []Kind{Ed25519, RSA3072, RSA2048, RSA4096, ECDSA256, ECDSA384, ECDSA521}
}

// ErrKind says that a kind is not one of Kinds.
var ErrKind = errors.New("unknown kind of key")

// ParseKind reads a Kind by its name; "rsa" and "ecdsa" alone name their
// defaults. The error wraps ErrKind and lists what there is.
func ParseKind(s string) (Kind, error) {
	switch s {
	case "rsa":
		return RSA3072, nil
	case "ecdsa":
		return ECDSA256, nil
	}
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
	case RSA2048:
		private, err = rsa.GenerateKey(rand.Reader, 2048)
	case RSA3072:
		private, err = rsa.GenerateKey(rand.Reader, 3072)
	case RSA4096:
		private, err = rsa.GenerateKey(rand.Reader, 4096)
	case ECDSA256:
		private, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case ECDSA384:
		private, err = ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	case ECDSA521:
		private, err = ecdsa.GenerateKey(elliptic.P521(), rand.Reader)
	default:
		_, err = ParseKind(string(kind))
	}
	if err != nil {
		return nil, err
	}
	return newPair(private, comment)
}

// FromPrivate makes a Pair of a private key as the standard library has it,
// with the comment on its public half. ErrNotPrivate for other kinds.
func FromPrivate(key crypto.PrivateKey, comment string) (*Pair, error) {
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, ErrNotPrivate
	}
	return newPair(signer, comment)
}

func newPair(private crypto.Signer, comment string) (*Pair, error) {
	if k, ok := private.(*ed25519.PrivateKey); ok {
		private = *k
	}
	pub, err := ssh.NewPublicKey(private.Public())
	if err != nil {
		return nil, ErrNotPrivate
	}
	p, err := FromBlob(pub.Marshal(), comment)
	if err != nil {
		return nil, err
	}
	return &Pair{Public: p, private: private}, nil
}

// Signer returns the pair for use with golang.org/x/crypto/ssh.
func (p *Pair) Signer() (ssh.Signer, error) { return ssh.NewSignerFromSigner(p.private) }

// ErrNotRSA says that nothing can be encrypted to a key of this kind.
var ErrNotRSA = errors.New("only an RSA key can have a password encrypted to it: the other kinds sign, and do not decrypt")

// DecryptPKCS1v15 returns what was encrypted to the pair by RSAES-PKCS1-v1_5 (RFC 8017, section 7.2.2). The cipher text is as
// long as Size says. ErrNotRSA; every other error says no more than that it could not be.
func (p *Pair) DecryptPKCS1v15(cipherText []byte) ([]byte, error) {
	key, ok := p.private.(*rsa.PrivateKey)
	if !ok {
		return nil, ErrNotRSA
	}
	// Whoever could ask again and again whether a text decrypts would learn what the key decrypts. Nobody else is told here: it
	// happens on its holder's machine, once for each command that they type.
	//lint:ignore SA1019 the clouds encrypt first passwords in this way alone
	return rsa.DecryptPKCS1v15(nil, key, cipherText)
}

// RSASize returns the length of an RSA key's modulus in bytes, 0 for a key of another kind.
func (p Public) RSASize() int {
	key, err := ssh.ParsePublicKey(p.Blob)
	if err != nil {
		return 0
	}
	crypt, ok := key.(ssh.CryptoPublicKey)
	if !ok {
		return 0
	}
	if k, ok := crypt.CryptoPublicKey().(*rsa.PublicKey); ok {
		return k.Size()
	}
	return 0
}

// WithComment returns the pair with another comment. ErrComment.
func (p *Pair) WithComment(comment string) (*Pair, error) {
	public, err := FromBlob(p.Public.Blob, comment)
	if err != nil {
		return nil, err
	}
	return &Pair{Public: public, private: p.private}, nil
}

// OpenSSH is Write in OpenSSH's own format, with the passphrase, if any.
func (p *Pair) OpenSSH(passphrase []byte) ([]byte, error) { return p.Write(FormatOpenSSH, passphrase) }

// Errors of reading a private half.
var (
	// ErrPassphrase: the file is encrypted and no passphrase, or a wrong one, was given.
	ErrPassphrase = errors.New("the private key has a passphrase, and none or a wrong one was given")
	// ErrNotPrivate: the bytes are no private key in a format that is read here.
	ErrNotPrivate = errors.New("this is not a private key in a format that is read here")
	// ErrCost: the file asks for more work than a key file ever needs.
	ErrCost = errors.New("the file asks for more passphrase rounds or memory than is sane; it was not tried")
)

// ReadPrivate reads a private half in any format. It returns ErrPassphrase,
// ErrNotPrivate, ErrCost or ErrTooLarge.
func ReadPrivate(file, passphrase []byte) (*Pair, error) {
	f, err := Read(file, passphrase)
	switch {
	case err != nil:
		return nil, err
	case f.Pair != nil:
		return f.Pair, nil
	case f.Private:
		return nil, ErrPassphrase
	}
	return nil, ErrNotPrivate
}

// PublicOfPrivate returns the public half of a private file, without its
// passphrase where the format has the public half in the clear (OpenSSH, PPK).
// It returns ErrPassphrase where it has not, and otherwise as ReadPrivate.
func PublicOfPrivate(file []byte) (Public, error) {
	f, err := Read(file, nil)
	switch {
	case err != nil:
		return Public{}, err
	case !f.Private:
		return Public{}, ErrNotPrivate
	case len(f.Public.Blob) == 0:
		return Public{}, ErrPassphrase
	}
	return f.Public, nil
}

// AgentKey returns the private half in the form that an ssh-agent takes
// (draft-miller-ssh-agent, section 3.2). It is for an agent in this process.
func (p *Pair) AgentKey() (any, error) {
	switch k := p.private.(type) {
	case ed25519.PrivateKey:
		return &k, nil
	case *rsa.PrivateKey, *ecdsa.PrivateKey:
		return k, nil
	}
	return nil, fmt.Errorf("a key of this kind does not go into an agent")
}
