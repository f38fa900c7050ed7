package keypair

import (
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"math/big"
	"strconv"
	"strings"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/ssh"
)

var randReader = rand.Reader

// ppkHeader begins a PPK file, before its version.
const ppkHeader = "PuTTY-User-Key-File-"

// ppk is the text of a PPK file, taken apart.
type ppk struct {
	version    int
	algorithm  string
	encryption string // "none" or "aes256-cbc"
	comment    string
	public     []byte
	private    []byte // encrypted and padded if encryption is not "none"
	mac        []byte
	argon      ppkArgon // version 3, encrypted
}

type ppkArgon struct {
	flavour     string // Argon2id or Argon2i
	memory      uint32 // KiB
	passes      uint32
	parallelism uint8
	salt        []byte
}

// Bounds on what a PPK 3 file may ask for (RFC 9106).
const (
	maxArgonMemory = 512 << 10 // KiB
	maxArgonWork   = 8 << 20   // KiB times passes
)

// ppkForm is one version of PPK; either is read by the form of the newest.
func ppkForm(version int) form {
	f := form{name: FormatPPK2, title: "PPK 2",
		private: func(p *Pair, passphrase []byte) ([]byte, error) { return p.ppkFile(version, passphrase) }}
	if version == 3 {
		f.name, f.title = FormatPPK3, "PPK 3"
		f.begins = func(text string) bool { return strings.HasPrefix(strings.TrimLeft(text, " \t\n"), ppkHeader) }
		f.read = func(text string, passphrase []byte) (File, error) {
			return readPPK(strings.TrimLeft(text, " \t\n"), passphrase)
		}
	}
	return f
}

// readPPK reads a PPK file, version 2 or 3.
func readPPK(text string, passphrase []byte) (File, error) {
	f, err := parsePPK(text)
	if err != nil {
		return File{Private: true}, err
	}
	out := File{Format: FormatPPK3, Private: true, Encrypted: f.encryption != "none"}
	if f.version == 2 {
		out.Format = FormatPPK2
	}
	if out.Public, err = FromBlob(f.public, f.comment); err != nil {
		return out, fmt.Errorf("%w: its public half cannot be read", ErrNotPrivate)
	}
	if out.Public.Type() != f.algorithm {
		return out, fmt.Errorf("%w: the type that it names is not that of its key", ErrNotPrivate)
	}
	if out.Encrypted && len(passphrase) == 0 {
		return out, nil
	}
	plain, mac, err := f.open(passphrase)
	if err != nil {
		return out, err
	}
	if subtle.ConstantTimeCompare(mac, f.mac) != 1 {
		if out.Encrypted {
			return out, ErrPassphrase
		}
		return out, fmt.Errorf("%w: its checksum is wrong: it was damaged or changed", ErrNotPrivate)
	}
	signer, err := ppkSigner(out.Public, plain)
	if err != nil {
		return out, err
	}
	pair, err := newPair(signer, f.comment)
	if err != nil {
		return out, err
	}
	if pair.Public.Fingerprint() != out.Public.Fingerprint() {
		return out, fmt.Errorf("%w: its private half belongs to another key", ErrNotPrivate)
	}
	out.Pair = pair
	return out, nil
}

func parsePPK(text string) (*ppk, error) {
	damaged := fmt.Errorf("%w: the PPK file is damaged or cut short", ErrNotPrivate)
	lines := strings.Split(text, "\n")
	f := &ppk{}
	headers := map[string]string{}
	for i := 0; i < len(lines); i++ {
		name, value, ok := strings.Cut(lines[i], ": ")
		if !ok {
			name, value = strings.TrimSuffix(strings.TrimSpace(lines[i]), ":"), ""
		}
		value = strings.TrimSuffix(value, "\r")
		if name == "" {
			continue
		}
		headers[name] = value
		if into := map[string]*[]byte{"Public-Lines": &f.public, "Private-Lines": &f.private}[name]; into != nil {
			n, err := strconv.Atoi(value)
			if err != nil || n < 0 || n > len(lines)-i-1 {
				return nil, damaged
			}
			if *into, err = base64.StdEncoding.DecodeString(strings.TrimSpace(strings.Join(lines[i+1:i+1+n],
				""))); err != nil {
				return nil, damaged
			}
			i += n
		}
	}
	for version, name := range map[int]string{2: ppkHeader + "2", 3: ppkHeader + "3"} {
		if a, ok := headers[name]; ok {
			f.version, f.algorithm = version, a
		}
	}
	if f.version == 0 {
		return nil, fmt.Errorf("%w: PPK files are read in version 2 and 3", ErrNotPrivate)
	}
	f.encryption, f.comment = headers["Encryption"], headers["Comment"]
	var err error
	if f.mac, err = hex.DecodeString(headers["Private-MAC"]); err != nil || len(f.mac) == 0 || len(f.public) == 0 ||
		len(f.private) == 0 {
		return nil, damaged
	}
	switch {
	case f.encryption == "none":
		return f, nil
	case f.encryption != "aes256-cbc":
		return nil, fmt.Errorf("%w: the PPK file's encryption is not known", ErrNotPrivate)
	case len(f.private)%aes.BlockSize != 0:
		return nil, damaged
	case f.version == 2:
		return f, nil
	}
	return f, f.readArgon(headers)
}

func (f *ppk) readArgon(headers map[string]string) error {
	f.argon.flavour = headers["Key-Derivation"]
	var v [3]uint64
	for i, h := range []string{"Argon2-Memory", "Argon2-Passes", "Argon2-Parallelism"} {
		var err error
		if v[i], err = strconv.ParseUint(headers[h], 10, 32); err != nil || v[i] == 0 {
			return fmt.Errorf("%w: the PPK file's key derivation is damaged", ErrNotPrivate)
		}
	}
	if v[0] > maxArgonMemory || v[0]*v[1] > maxArgonWork || v[2] > 64 {
		return ErrCost
	}
	f.argon.memory, f.argon.passes, f.argon.parallelism = uint32(v[0]), uint32(v[1]), uint8(v[2])
	var err error
	if f.argon.salt, err = hex.DecodeString(headers["Argon2-Salt"]); err != nil {
		return fmt.Errorf("%w: the PPK file's key derivation is damaged", ErrNotPrivate)
	}
	if f.argon.flavour != "Argon2id" && f.argon.flavour != "Argon2i" {
		return fmt.Errorf("%w: the PPK file's key derivation is not one that is read (Argon2id, Argon2i)",
			ErrNotPrivate)
	}
	return nil
}

// keys derives the cipher key, the initialisation vector and the MAC key.
func (f *ppk) keys(passphrase []byte) (key, iv, mac []byte) {
	if f.version == 2 {
		for i := range byte(2) {
			h := sha1.Sum(append([]byte{0, 0, 0, i}, passphrase...))
			key = append(key, h[:]...)
		}
		if f.encryption == "none" {
			passphrase = nil
		}
		m := sha1.Sum(append([]byte("putty-private-key-file-mac-key"), passphrase...))
		return key[:32], make([]byte, aes.BlockSize), m[:]
	}
	if f.encryption == "none" {
		return nil, nil, nil
	}
	derive := argon2.IDKey
	if f.argon.flavour == "Argon2i" {
		derive = argon2.Key
	}
	k := derive(passphrase, f.argon.salt, f.argon.passes, f.argon.memory, f.argon.parallelism, 80)
	return k[:32], k[32:48], k[48:]
}

// open returns the private half in the clear, still padded, and its MAC.
func (f *ppk) open(passphrase []byte) (plain, mac []byte, err error) {
	key, iv, macKey := f.keys(passphrase)
	plain = append([]byte(nil), f.private...)
	if f.encryption != "none" {
		block, err := aes.NewCipher(key)
		if err != nil {
			return nil, nil, err
		}
		cipher.NewCBCDecrypter(block, iv).CryptBlocks(plain, plain)
	}
	return plain, f.sum(macKey, plain), nil
}

func (f *ppk) sum(key, plain []byte) []byte {
	hash := map[int]func() hash.Hash{2: sha1.New, 3: sha256.New}[f.version]
	h := hmac.New(hash, key)
	for _, s := range [][]byte{[]byte(f.algorithm), []byte(f.encryption), []byte(f.comment), f.public, plain} {
		h.Write(binary.BigEndian.AppendUint32(nil, uint32(len(s))))
		h.Write(s)
	}
	return h.Sum(nil)
}

// ppkSigner makes the private key of a PPK private blob: the numbers that the
// public half lacks.
func ppkSigner(p Public, plain []byte) (crypto.Signer, error) {
	damaged := fmt.Errorf("%w: the PPK file's private half is damaged", ErrNotPrivate)
	key, err := ssh.ParsePublicKey(p.Blob)
	if err != nil {
		return nil, damaged
	}
	first, rest, ok := cutString(plain)
	if !ok {
		return nil, damaged
	}
	switch pub := key.(ssh.CryptoPublicKey).CryptoPublicKey().(type) {
	case ed25519.PublicKey:
		// A number, least byte first, without the zero bytes at its end.
		if len(first) > ed25519.SeedSize {
			return nil, damaged
		}
		seed := make([]byte, ed25519.SeedSize)
		copy(seed, first)
		return ed25519.NewKeyFromSeed(seed), nil
	case *ecdsa.PublicKey:
		size := (pub.Curve.Params().BitSize + 7) / 8
		d := new(big.Int).SetBytes(first)
		if len(d.Bytes()) > size {
			return nil, damaged
		}
		k, err := ecdsa.ParseRawPrivateKey(pub.Curve, d.FillBytes(make([]byte, size)))
		if err != nil {
			return nil, damaged
		}
		return k, nil
	case *rsa.PublicKey:
		numbers := []*big.Int{new(big.Int).SetBytes(first)}
		for range 2 {
			var n []byte
			if n, rest, ok = cutString(rest); !ok {
				return nil, damaged
			}
			numbers = append(numbers, new(big.Int).SetBytes(n))
		}
		k := &rsa.PrivateKey{PublicKey: *pub, D: numbers[0], Primes: numbers[1:]}
		if err := k.Validate(); err != nil {
			return nil, damaged
		}
		k.Precompute()
		return k, nil
	}
	return nil, fmt.Errorf("%w: this kind of key is not read from PPK", ErrNotPrivate)
}

// ppkPrivate returns the PPK private blob of the pair.
func (p *Pair) ppkPrivate() ([]byte, error) {
	str := func(b []byte) []byte { return append(binary.BigEndian.AppendUint32(nil, uint32(len(b))), b...) }
	mpint := func(n *big.Int) []byte { // RFC 4251 section 5
		b := n.Bytes()
		if len(b) > 0 && b[0]&0x80 != 0 {
			b = append([]byte{0}, b...)
		}
		return str(b)
	}
	switch k := p.private.(type) {
	case ed25519.PrivateKey:
		seed := k.Seed()
		for len(seed) > 0 && seed[len(seed)-1] == 0 {
			seed = seed[:len(seed)-1]
		}
		return str(seed), nil
	case *ecdsa.PrivateKey:
		d, err := k.Bytes()
		if err != nil {
			return nil, err
		}
		return mpint(new(big.Int).SetBytes(d)), nil
	case *rsa.PrivateKey:
		if len(k.Primes) != 2 {
			return nil, fmt.Errorf("%w: RSA of more than two primes", ErrKindFormat)
		}
		q := k.Primes[1]
		out := append(mpint(k.D), mpint(k.Primes[0])...)
		out = append(out, mpint(q)...)
		return append(out, mpint(new(big.Int).ModInverse(q, k.Primes[0]))...), nil
	}
	return nil, ErrKindFormat
}

// ppkFile writes the pair as PPK of the given version.
func (p *Pair) ppkFile(version int, passphrase []byte) ([]byte, error) {
	plain, err := p.ppkPrivate()
	if err != nil {
		return nil, err
	}
	f := &ppk{version: version, algorithm: p.Public.Type(), encryption: "none", comment: p.Public.Comment,
		public: p.Public.Blob}
	if len(passphrase) > 0 {
		f.encryption = "aes256-cbc"
		if version == 3 {
			f.argon = ppkArgon{flavour: "Argon2id", memory: 8 << 10, passes: 21, parallelism: 1, salt: make([]byte, 16)}
			if _, err := io.ReadFull(randReader, f.argon.salt); err != nil {
				return nil, err
			}
		}
		padding := sha1.Sum(plain)
		if n := len(plain) % aes.BlockSize; n != 0 {
			plain = append(plain, padding[:aes.BlockSize-n]...)
		}
	}
	key, iv, macKey := f.keys(passphrase)
	mac := f.sum(macKey, plain)
	f.private = append([]byte(nil), plain...)
	if f.encryption != "none" {
		block, err := aes.NewCipher(key)
		if err != nil {
			return nil, err
		}
		cipher.NewCBCEncrypter(block, iv).CryptBlocks(f.private, f.private)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s%d: %s\nEncryption: %s\nComment: %s\n", ppkHeader, version, f.algorithm, f.encryption, f.comment)
	section := func(name string, data []byte) {
		lines := (base64.StdEncoding.EncodedLen(len(data)) + 63) / 64
		fmt.Fprintf(&b, "%s: %d\n", name, lines)
		wrap(&b, data, 64)
	}
	section("Public-Lines", f.public)
	if f.argon.flavour != "" {
		fmt.Fprintf(&b, "Key-Derivation: %s\nArgon2-Memory: %d\nArgon2-Passes: %d\nArgon2-Parallelism: "+
			"%d\nArgon2-Salt: %x\n",
			f.argon.flavour, f.argon.memory, f.argon.passes, f.argon.parallelism, f.argon.salt)
	}
	section("Private-Lines", f.private)
	fmt.Fprintf(&b, "Private-MAC: %x\n", mac)
	return []byte(b.String()), nil
}

// wrap writes base64 in lines of at most width.
func wrap(b *strings.Builder, data []byte, width int) {
	text := base64.StdEncoding.EncodeToString(data)
	for len(text) > width {
		b.WriteString(text[:width] + "\n")
		text = text[width:]
	}
	b.WriteString(text + "\n")
}
