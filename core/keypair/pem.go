package keypair

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
)

// readBlock reads one PEM block; file is the text that it stands in.
func readBlock(block *pem.Block, file, passphrase []byte) (File, error) {
	for _, f := range forms() {
		if slices.Contains(f.blocks, block.Type) {
			return f.block(block, passphrase)
		}
	}
	if block.Type == "DSA PRIVATE KEY" {
		return File{}, fmt.Errorf("%w: DSA keys are not read; OpenSSH has given them up", ErrNotPrivate)
	}
	return File{}, notAKey(string(file[max(0, bytes.Index(file, []byte("-----BEGIN "))):]))
}

func pemForm() form {
	return form{name: FormatPEM, title: "PEM", blocks: []string{"RSA PRIVATE KEY", "EC PRIVATE KEY"}, block: readLegacy,
		private: (*Pair).pemKey}
}

func spkiForm() form {
	return form{name: FormatSPKI, title: "PEM public key", blocks: []string{"PUBLIC KEY"}, public: Public.spki,
		block: func(b *pem.Block, _ []byte) (File, error) {
			return readPublicBlock(FormatSPKI, b, x509.ParsePKIXPublicKey)
		}}
}

// pkcs1Form is read only.
func pkcs1Form() form {
	return form{name: FormatPKCS1, title: "PEM RSA public key", blocks: []string{"RSA PUBLIC KEY"},
		block: func(b *pem.Block, _ []byte) (File, error) {
			return readPublicBlock(FormatPKCS1, b,
				func(der []byte) (any, error) { return x509.ParsePKCS1PublicKey(der) })
		}}
}

func readPublicBlock(f Format, b *pem.Block, parse func([]byte) (any, error)) (File, error) {
	key, err := parse(b.Bytes)
	if err != nil {
		return File{}, fmt.Errorf("%w: its inner fields do not fit its length", ErrTruncated)
	}
	return publicFile(f, key)
}

func (p Public) spki() ([]byte, error) {
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

func publicFile(f Format, key crypto.PublicKey) (File, error) {
	pub, err := ssh.NewPublicKey(key)
	if err != nil {
		return File{}, fmt.Errorf("%w: ssh has no keys of this kind", ErrUnknownType)
	}
	p, err := FromBlob(pub.Marshal(), "")
	return File{Format: f, Public: p}, err
}

// private makes a File of a private key's bytes. The parser's error is
// dropped: it may quote the key.
func private(f Format, encrypted bool, der []byte, parse func([]byte) (any, error)) (File, error) {
	out := File{Format: f, Private: true, Encrypted: encrypted}
	key, err := parse(der)
	if err != nil {
		return out, fmt.Errorf("%w: its inner fields do not fit", ErrNotPrivate)
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return out, fmt.Errorf("%w: ssh has no keys of this kind", ErrNotPrivate)
	}
	if out.Pair, err = newPair(signer, ""); err != nil {
		return out, err
	}
	out.Public = out.Pair.Public
	return out, nil
}

func parsePKCS8(der []byte) (any, error) { return x509.ParsePKCS8PrivateKey(der) }

// parseTraditional reads PKCS#1 or SEC1; some tools put PKCS#8 under either name.
func parseTraditional(der []byte) (any, error) {
	if k, err := x509.ParsePKCS1PrivateKey(der); err == nil {
		return k, nil
	}
	if k, err := x509.ParseECPrivateKey(der); err == nil {
		return k, nil
	}
	return parsePKCS8(der)
}

// readLegacy reads PKCS#1 and SEC1, plain or with the old "Proc-Type:
// 4,ENCRYPTED" (RFC 1421 section 4.6).
func readLegacy(block *pem.Block, passphrase []byte) (File, error) {
	locked := File{Format: FormatPEM, Private: true, Encrypted: true}
	if block.Headers["DEK-Info"] == "" {
		return private(FormatPEM, false, block.Bytes, parseTraditional)
	}
	if len(passphrase) == 0 {
		return locked, nil
	}
	der, err := x509.DecryptPEMBlock(block, passphrase) //lint:ignore SA1019 this old format has no other reader
	if errors.Is(err, x509.IncorrectPasswordError) {
		return locked, ErrPassphrase
	}
	if err != nil {
		return locked, fmt.Errorf("%w: its encryption is not known, or it is damaged", ErrNotPrivate)
	}
	f, err := private(FormatPEM, true, der, parseTraditional)
	if err != nil { // the padding came out right by chance
		return locked, ErrPassphrase
	}
	return f, nil
}

// Bounds on what a file may ask for before its passphrase is tried.
const (
	maxBcryptRounds = 2000      // ssh-keygen -a; 16 or 24 by default
	maxPBKDF2       = 5_000_000 // iterations
	maxScrypt       = 1 << 21   // N times r times p: 256 MiB for p = 1; openssl takes 1 << 17
)

// readOpenSSH reads "openssh-key-v1" (PROTOCOL.key of OpenSSH). x/crypto reads
// the key; it knows two of ssh-keygen's ciphers and drops the comment, so the
// passphrase and the comment are dealt with here.
func readOpenSSH(block *pem.Block, passphrase []byte) (File, error) {
	out := File{Format: FormatOpenSSH, Private: true}
	head, err := opensshHead(block.Bytes)
	if err != nil {
		return out, err
	}
	out.Encrypted = head.cipher != "none"
	if out.Public, err = FromBlob(head.public, ""); err != nil {
		return out, fmt.Errorf("%w: its public half cannot be read", ErrNotPrivate)
	}
	if out.Encrypted && len(passphrase) == 0 {
		return out, nil
	}
	plain := head.privateBlock
	if out.Encrypted {
		if plain, err = head.decrypt(passphrase); err != nil {
			return out, err
		}
		defer clear(plain)
		block = head.unlocked(plain)
		defer clear(block.Bytes)
	}
	raw, err := ssh.ParseRawPrivateKey(pem.EncodeToMemory(block))
	signer, ok := raw.(crypto.Signer)
	if err != nil || !ok {
		return out, fmt.Errorf("%w: it is damaged, or of a kind that is not read", ErrNotPrivate)
	}
	if out.Pair, err = newPair(signer, head.comment(plain)); err != nil {
		return out, err
	}
	if !bytes.Equal(out.Pair.Public.Blob, out.Public.Blob) {
		return out, fmt.Errorf("%w: its public half belongs to another key", ErrNotPrivate)
	}
	out.Public = out.Pair.Public
	return out, nil
}

// opensshFile is the outer structure of "openssh-key-v1".
type opensshFile struct {
	cipher, kdf  string
	kdfOptions   []byte
	public       []byte
	privateBlock []byte
	tag          []byte // of an authenticated cipher; follows the block
}

const opensshMagic = "openssh-key-v1\x00"

func opensshHead(data []byte) (opensshFile, error) {
	damaged := fmt.Errorf("%w: it is damaged or cut short", ErrNotPrivate)
	rest, ok := bytes.CutPrefix(data, []byte(opensshMagic))
	if !ok {
		return opensshFile{}, damaged
	}
	var w struct {
		Cipher, KDF string
		KDFOptions  string
		Keys        uint32
		Public      []byte
		Private     []byte
		Rest        []byte `ssh:"rest"`
	}
	if err := ssh.Unmarshal(rest, &w); err != nil || w.Keys != 1 {
		return opensshFile{}, damaged
	}
	f := opensshFile{w.Cipher, w.KDF, []byte(w.KDFOptions), w.Public, w.Private, w.Rest}
	if f.kdf == "bcrypt" {
		if _, rounds, ok := f.bcrypt(); !ok || rounds > maxBcryptRounds {
			return f, ErrCost
		}
	}
	return f, nil
}

func (f opensshFile) bcrypt() (salt []byte, rounds int, ok bool) {
	var o struct {
		Salt   []byte
		Rounds uint32
	}
	if ssh.Unmarshal(f.kdfOptions, &o) != nil || o.Rounds == 0 || o.Rounds > 1<<30 {
		return nil, 0, false
	}
	return o.Salt, int(o.Rounds), true
}

// comment returns the comment inside the plain private block, or "" where it
// cannot be read.
func (f opensshFile) comment(plain []byte) string {
	if len(plain) < 8 {
		return ""
	}
	// The fields before the comment: how many depends on the type.
	rest := plain[8:]
	typ, rest, ok := cutString(rest)
	if !ok {
		return ""
	}
	fields := map[string]int{ssh.KeyAlgoED25519: 2, ssh.KeyAlgoRSA: 6, ssh.KeyAlgoECDSA256: 3, ssh.KeyAlgoECDSA384: 3,
		ssh.KeyAlgoECDSA521: 3}[string(typ)]
	for range fields {
		if _, rest, ok = cutString(rest); !ok {
			return ""
		}
	}
	comment, _, ok := cutString(rest)
	if _, err := FromBlob(f.public, string(comment)); !ok || fields == 0 || err != nil {
		return ""
	}
	return string(comment)
}

// cutString takes one string (RFC 4251 section 5) off the front.
func cutString(b []byte) (s, rest []byte, ok bool) {
	if len(b) < 4 {
		return nil, nil, false
	}
	n := binary.BigEndian.Uint32(b)
	if uint64(n) > uint64(len(b)-4) {
		return nil, nil, false
	}
	return b[4 : 4+n], b[4+n:], true
}

// pemKey returns the private half as PKCS#1 or SEC1, with the passphrase in
// the old way if there is one.
func (p *Pair) pemKey(passphrase []byte) ([]byte, error) {
	var block *pem.Block
	switch k := p.private.(type) {
	case *rsa.PrivateKey:
		block = &pem.Block{Type: "RSA PRIVATE KEY", Bytes: x509.MarshalPKCS1PrivateKey(k)}
	case *ecdsa.PrivateKey:
		der, err := x509.MarshalECPrivateKey(k)
		if err != nil {
			return nil, err
		}
		block = &pem.Block{Type: "EC PRIVATE KEY", Bytes: der}
	default:
		return nil, fmt.Errorf("%w: %s has no PEM form of its own; use openssh, which every current ssh reads, or pkcs8", ErrKindFormat, p.Public.Kind())
	}
	if len(passphrase) > 0 {
		var err error
		//lint:ignore SA1019 this old format has no other writer
		if block, err = x509.EncryptPEMBlock(randReader, block.Type, block.Bytes, passphrase,
			x509.PEMCipherAES128); err != nil {
			return nil, err
		}
	}
	return pem.EncodeToMemory(block), nil
}

const (
	rfc4716Begin = "---- BEGIN SSH2 PUBLIC KEY ----"
	rfc4716End   = "---- END SSH2 PUBLIC KEY ----"
)

func rfc4716Form() form {
	return form{name: FormatRFC4716, title: "RFC 4716",
		begins: func(text string) bool { return strings.Contains(text, rfc4716Begin) },
		read:   func(text string, _ []byte) (File, error) { return readRFC4716(text) },
		public: func(p Public) ([]byte, error) { return []byte(p.rfc4716()), nil }}
}

// readRFC4716 reads a public half in the form of RFC 4716 section 3: headers
// (a trailing backslash continues one), then base64.
func readRFC4716(text string) (File, error) {
	before, rest, _ := strings.Cut(text, rfc4716Begin)
	body, after, ok := strings.Cut(rest, rfc4716End)
	if !ok {
		return File{}, fmt.Errorf("%w: its END line is missing", ErrTruncated)
	}
	if strings.Contains(after, rfc4716Begin) {
		return File{}, ErrSeveralKeys
	}
	f := File{Format: FormatRFC4716}
	if strings.TrimSpace(before+after) != "" {
		f.Remarks = append(f.Remarks, "There is other text around the key.")
	}
	comment, b64, header := "", "", ""
	continued := false
	for line := range strings.Lines(body) {
		line = strings.Trim(line, " \t\n")
		switch {
		case continued:
			header += line
		case strings.Contains(line, ":"):
			header = line
		default:
			b64 += line
			continue
		}
		if header, continued = strings.CutSuffix(header, `\`); continued {
			continue
		}
		if tag, value, _ := strings.Cut(header, ":"); strings.EqualFold(strings.TrimSpace(tag), "comment") {
			comment = strings.TrimSpace(value)
			if len(comment) >= 2 && comment[0] == '"' && comment[len(comment)-1] == '"' {
				comment = comment[1 : len(comment)-1]
			}
		}
	}
	blob, err := decodeBlob(b64)
	if err != nil {
		return f, err
	}
	f.Public, err = FromBlob(blob, comment)
	return f, err
}

func (p Public) rfc4716() string {
	var b strings.Builder
	b.WriteString(rfc4716Begin + "\n")
	if p.Comment != "" {
		// RFC 4716 section 3.1: at most 72 bytes a line, continued by a backslash.
		header := `Comment: "` + p.Comment + `"`
		for len(header) > 70 {
			cut := 70
			for cut > 1 && header[cut]&0xc0 == 0x80 { // not within a rune
				cut--
			}
			b.WriteString(header[:cut] + "\\\n")
			header = header[cut:]
		}
		b.WriteString(header + "\n")
	}
	wrap(&b, p.Blob, 70)
	b.WriteString(rfc4716End + "\n")
	return b.String()
}
