package keypair

import (
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/plaintext"
	"plumlatch/core/secrets"
)

// Public is the public half of a key pair.
type Public struct {
	Blob    []byte // the wire form of RFC 4253 section 6.6
	Comment string // one line; may be empty
}

// Errors of ReadPublic. Each is wrapped with what was found; none quotes the input.
var (
	ErrPrivateKey = errors.New("this is a private key; it stays with its holder: give the public half, the one " +
		"line of the .pub file")
	ErrEmpty       = errors.New("there is nothing in it: an empty file is not a public key")
	ErrTooLarge    = errors.New("too large for a public key")
	ErrNUL         = errors.New("there is a NUL byte in it: this is not a text file")
	ErrSeveralKeys = errors.New("there is more than one key in it: import them one at a time, each under its own name")
	ErrBase64      = errors.New("the key's base64 is malformed")
	ErrTruncated   = errors.New("the key is cut short")
	ErrType        = errors.New("the type named on the line is not the type inside the key")
	ErrCertificate = errors.New("this is a certificate, not a key: certificates end by themselves and are not " +
		"placed; import the key that it certifies")
	ErrUnknownType = errors.New("unknown type of key")
	ErrComment     = errors.New("the comment holds control characters")
	ErrNotAKey     = errors.New("this is not a public key")
)

// FromBlob makes a Public of a wire-format blob (RFC 4253 section 6.6),
// checking that it is whole and of a type that OpenSSH accepts.
func FromBlob(blob []byte, comment string) (Public, error) {
	key, err := ssh.ParsePublicKey(blob)
	if err != nil {
		return Public{}, fmt.Errorf("%w: %s", ErrTruncated, "its inner fields do not fit its length")
	}
	if _, ok := key.(*ssh.Certificate); ok {
		return Public{}, ErrCertificate
	}
	if plaintext.HasControl(comment) {
		return Public{}, ErrComment
	}
	return Public{Blob: key.Marshal(), Comment: comment}, nil
}

// ReadPublic reads one public half, in whatever format Read knows. A private
// key is refused with ErrPrivateKey, whatever else is wrong with it.
func ReadPublic(file []byte) (Public, error) {
	f, err := ReadPublicFile(file)
	return f.Public, err
}

// ReadPublicFile is ReadPublic with all that was found out about the file.
func ReadPublicFile(file []byte) (File, error) {
	if LooksPrivate(file[:min(len(file), MaxFile)]) {
		return File{}, ErrPrivateKey
	}
	f, err := Read(file, nil)
	if err == nil && f.Private {
		return File{}, ErrPrivateKey
	}
	return f, err
}

func readLine(line string) (Public, error) {
	name, rest := line, ""
	if i := strings.IndexAny(line, " \t"); i >= 0 {
		name, rest = line[:i], line[i:]
	}
	if !knownType(name) {
		if isCertType(name) {
			return Public{}, ErrCertificate
		}
		if strings.HasPrefix(name, "ssh-") || strings.HasPrefix(name, "ecdsa-") || strings.HasPrefix(name, "sk-") {
			return Public{}, fmt.Errorf("%w; this reads %s", ErrUnknownType, strings.Join(types, ", "))
		}
		return Public{}, fmt.Errorf("%w: a public key is one line such as \"ssh-ed25519 AAAA... comment\"", ErrNotAKey)
	}
	b64, comment := strings.TrimLeft(rest, " \t"), ""
	if i := strings.IndexAny(b64, " \t"); i >= 0 {
		b64, comment = b64[:i], b64[i:]
	}
	if b64 == "" {
		return Public{}, fmt.Errorf("%w: nothing follows the type", ErrTruncated)
	}
	blob, err := decodeBlob(b64)
	if err != nil {
		return Public{}, err
	}
	inner, ok := blobType(blob)
	if !ok {
		return Public{}, fmt.Errorf("%w: it does not even hold its type; copy the whole line again", ErrTruncated)
	}
	if inner != name {
		return Public{}, fmt.Errorf("%w: the line says %s, the key says %s", ErrType, name,
			plaintext.Line(plaintext.Cut(inner, 40)))
	}
	return FromBlob(blob, strings.TrimSpace(comment))
}

func decodeBlob(b64 string) ([]byte, error) {
	blob, err := base64.StdEncoding.DecodeString(b64)
	if err == nil {
		return blob, nil
	}
	if len(strings.TrimRight(b64, "="))%4 == 1 || strings.Trim(b64, base64Alphabet) == "" {
		return nil, fmt.Errorf("%w: the base64 ends in the middle of a group; copy the whole key again", ErrTruncated)
	}
	return nil, fmt.Errorf("%w; copy the whole key again", ErrBase64)
}

const base64Alphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/="

var types = []string{
	ssh.KeyAlgoED25519, ssh.KeyAlgoRSA, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521,
	ssh.KeyAlgoSKED25519, ssh.KeyAlgoSKECDSA256, typeDSA,
}

// typeDSA is read so that an old fleet's keys can be named and tracked.
const typeDSA = "ssh-dss"

func knownType(s string) bool {
	for _, t := range types {
		if s == t {
			return true
		}
	}
	return false
}

func isCertType(s string) bool { return strings.HasSuffix(s, "-cert-v01@openssh.com") }

func looksLikeLine(s string) bool {
	name := s
	if i := strings.IndexAny(s, " \t"); i >= 0 {
		name = s[:i]
	}
	return knownType(name) || isCertType(name)
}

func blobType(blob []byte) (string, bool) {
	if len(blob) < 4 {
		return "", false
	}
	n := binary.BigEndian.Uint32(blob)
	if n == 0 || uint64(n) > uint64(len(blob)-4) {
		return "", false
	}
	return string(blob[4 : 4+n]), true
}

// LooksPrivate tells whether text holds a private key, or a recognisable part
// of one, in any format that is in use: it errs on the side of yes (core/secrets).
func LooksPrivate(file []byte) bool { return secrets.Holds(string(file)) }

// Type returns the type of the key as it stands on its line, such as "ssh-ed25519".
func (p Public) Type() string {
	t, _ := blobType(p.Blob)
	return t
}

// Kind returns a short name for people, with the size where it differs:
// ed25519, rsa-3072, ecdsa-256, sk-ed25519.
func (p Public) Kind() string {
	if len(p.Blob) == 0 {
		return ""
	}
	switch t := p.Type(); t {
	case ssh.KeyAlgoED25519:
		return "ed25519"
	case ssh.KeyAlgoRSA:
		return fmt.Sprintf("rsa-%d", p.Bits())
	case typeDSA:
		return "dsa"
	case ssh.KeyAlgoSKED25519:
		return "sk-ed25519"
	case ssh.KeyAlgoSKECDSA256:
		return "sk-ecdsa-256"
	default:
		return "ecdsa-" + strings.TrimPrefix(t, "ecdsa-sha2-nistp")
	}
}

// Bits returns the size of an RSA modulus in bits, and 0 for every other kind.
func (p Public) Bits() int {
	key, err := ssh.ParsePublicKey(p.Blob)
	if err != nil {
		return 0
	}
	if c, ok := key.(ssh.CryptoPublicKey); ok {
		if r, ok := c.CryptoPublicKey().(*rsa.PublicKey); ok {
			return r.N.BitLen()
		}
	}
	return 0
}

// Line returns the one-line form of sshd(8), without a newline.
func (p Public) Line() string {
	s := p.Type() + " " + base64.StdEncoding.EncodeToString(p.Blob)
	if p.Comment != "" {
		s += " " + p.Comment
	}
	return s
}

// Fingerprint returns "SHA256:" and the unpadded base64 of the blob's SHA-256,
// as ssh-keygen -l prints it.
func (p Public) Fingerprint() string { return Fingerprint(p.Blob) }

// Fingerprint is Public.Fingerprint for a bare blob.
func Fingerprint(blob []byte) string {
	sum := sha256.Sum256(blob)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}
