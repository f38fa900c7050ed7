package secrets

import (
	"bytes"
	"encoding/binary"
)

// der tells whether a private key in DER stands somewhere in the bytes, whole or
// with its end cut off.
func der(data []byte) bool {
	for at := 0; ; at++ {
		n := bytes.IndexByte(data[at:], 0x30) // SEQUENCE
		if n < 0 {
			return false
		}
		at += n
		if body, ok := inner(data[at:], 0x30); ok && (pkcs8(body) || pkcs1(body) || sec1(body) || encrypted(body)) {
			return true
		}
	}
}

// inner returns the content of an element with a tag, as much of it as is there
// (X.690 section 8.1.3).
func inner(data []byte, tag byte) ([]byte, bool) {
	body, _, ok := element(data, tag)
	return body, ok
}

// element returns the content of the element that data begins with, and what
// follows it.
func element(data []byte, tag byte) (body, rest []byte, ok bool) {
	if len(data) < 2 || data[0] != tag {
		return nil, nil, false
	}
	n, data := int(data[1]), data[2:]
	if n >= 0x80 {
		bytes := n & 0x7f
		if bytes < 1 || bytes > 3 || len(data) < bytes {
			return nil, nil, false
		}
		n = 0
		for _, b := range data[:bytes] {
			n = n<<8 | int(b)
		}
		data = data[bytes:]
	}
	if n > len(data) {
		return data, nil, true // its end is cut off
	}
	return data[:n], data[n:], true
}

var (
	versionZero = []byte{0x02, 0x01, 0x00}
	versionOne  = []byte{0x02, 0x01, 0x01}
)

// Algorithms of private keys, as object identifiers begin.
var algorithms = [][]byte{
	{0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x01}, // RSA, RFC 8017 appendix C
	{0x2a, 0x86, 0x48, 0xce, 0x3d, 0x02},             // id-ecPublicKey, RFC 5480 section 2.1.1
	{0x2b, 0x65},                                     // X25519, X448, Ed25519, Ed448, RFC 8410 section 3
	{0x2a, 0x86, 0x48, 0xce, 0x38, 0x04, 0x01},       // DSA, RFC 3279 section 2.3.2
	{0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x03}, // DH, PKCS #3 section 9
}

// pkcs8: OneAsymmetricKey, version 0 or 1, algorithm, OCTET STRING (RFC 5958
// section 2).
func pkcs8(body []byte) bool {
	if !bytes.HasPrefix(body, versionZero) && !bytes.HasPrefix(body, versionOne) {
		return false
	}
	algorithm, rest, ok := element(body[3:], 0x30)
	if !ok {
		return false
	}
	id, ok := inner(algorithm, 0x06)
	if !ok {
		return false
	}
	for _, a := range algorithms {
		if bytes.HasPrefix(id, a) {
			return len(rest) == 0 || rest[0] == 0x04
		}
	}
	return false
}

// pkcs1: RSAPrivateKey, version 0 or 1, modulus, exponent (RFC 8017 appendix
// A.1.2); DSA's old form looks like it.
func pkcs1(body []byte) bool {
	if !bytes.HasPrefix(body, versionZero) && !bytes.HasPrefix(body, versionOne) {
		return false
	}
	rest := body[3:]
	// The number is long, so that its length has bytes of its own: 02 81 or 02 82.
	if len(rest) < 4 || rest[0] != 0x02 || rest[1] != 0x81 && rest[1] != 0x82 {
		return false
	}
	modulus, after, ok := element(rest, 0x02)
	if !ok || len(modulus) < 16 {
		return false
	}
	return after == nil || len(after) > 0 && after[0] == 0x02
}

// sec1: ECPrivateKey, version 1, the private number (RFC 5915 section 3).
func sec1(body []byte) bool {
	if !bytes.HasPrefix(body, versionOne) {
		return false
	}
	number, rest, ok := element(body[3:], 0x04)
	if !ok {
		return false
	}
	switch len(number) {
	case 28, 32, 48, 66:
		return len(rest) == 0 || rest[0] == 0xa0 || rest[0] == 0xa1
	}
	return false
}

// encrypted: EncryptedPrivateKeyInfo, by PBES1, PBES2 or PKCS#12 (RFC 5958 section
// 3).
func encrypted(body []byte) bool {
	algorithm, rest, ok := element(body, 0x30)
	if !ok {
		return false
	}
	id, ok := inner(algorithm, 0x06)
	if !ok || len(rest) > 0 && rest[0] != 0x04 {
		return false
	}
	return bytes.HasPrefix(id, []byte{0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x05}) || // pkcs-5
		bytes.HasPrefix(id, []byte{0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x0c, 0x01}) // pkcs-12PbeIds
}

// dropbear: a private key as Dropbear keeps it, which begins as its public half
// does and goes on.
func dropbear(data []byte) bool {
	for _, t := range []struct {
		name   string
		public int // mpints or strings of the public half
	}{{"ssh-rsa", 2}, {"ssh-ed25519", 1}} {
		head := append(binary.BigEndian.AppendUint32(nil, uint32(len(t.name))), t.name...)
		rest, ok := bytes.CutPrefix(data, head)
		if !ok {
			continue
		}
		sizes := []uint32{}
		for len(rest) >= 4 {
			n := binary.BigEndian.Uint32(rest)
			if int64(n) > int64(len(rest)-4) {
				break
			}
			sizes, rest = append(sizes, n), rest[4+n:]
		}
		if t.name == "ssh-ed25519" && len(sizes) > 0 && sizes[0] == 64 || t.name == "ssh-rsa" && len(sizes) > t.public {
			return true
		}
	}
	return false
}
