package keypair

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/pbkdf2"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"hash"
	"io"
	"math/big"

	"golang.org/x/crypto/scrypt"
)

// PKCS#8 (RFC 5958) holds a private key of any kind. Encrypted, it says in front how (PBES2,
// RFC 8018 section 6.2): a function that makes a key of the passphrase (PBKDF2, RFC 8018
// section 5.2, or scrypt, RFC 7914) and a cipher (RFC 8018 appendix B.2). We read what openssl
// writes by these, and write PBKDF2 with HMAC-SHA-256 and AES-256-CBC, which everything reads.

// encryptedPKCS8 is EncryptedPrivateKeyInfo of RFC 5958 section 3.
type encryptedPKCS8 struct {
	Algorithm pkix.AlgorithmIdentifier
	Data      []byte
}

// pbes2 is PBES2-params of RFC 8018 appendix A.4.
type pbes2 struct{ KDF, Cipher pkix.AlgorithmIdentifier }

// pbkdf2Params is PBKDF2-params of RFC 8018 appendix A.2. Its salt may also be the name of an
// algorithm that makes one; nobody writes that.
type pbkdf2Params struct {
	Salt       []byte
	Iterations *big.Int
	KeyLength  int                      `asn1:"optional"`
	PRF        pkix.AlgorithmIdentifier `asn1:"optional"` // HMAC-SHA-1 if it is left out
}

// scryptParams is scrypt-params of RFC 7914 section 7.1.
type scryptParams struct {
	Salt      []byte
	N, R, P   *big.Int
	KeyLength int `asn1:"optional"`
}

var (
	oidPBES2      = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13}
	oidPBKDF2     = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}
	oidScrypt     = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 11591, 4, 11}
	oidHMACSHA1   = asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 7}
	oidHMACSHA256 = asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 9}
	oidAES256CBC  = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42}
)

// hmacs are the functions under PBKDF2 (RFC 8018 appendix B.1.2).
var hmacs = []struct {
	oid  asn1.ObjectIdentifier
	hash func() hash.Hash
}{
	{oidHMACSHA1, sha1.New},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 8}, sha256.New224},
	{oidHMACSHA256, sha256.New},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 10}, sha512.New384},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 11}, sha512.New},
}

// ciphers are those of RFC 8018 appendix B.2 that are still met, all in CBC.
var ciphers = []struct {
	oid   asn1.ObjectIdentifier
	key   int // length in bytes
	block func(key []byte) (cipher.Block, error)
}{
	{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 2}, 16, aes.NewCipher},
	{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 22}, 24, aes.NewCipher},
	{oidAES256CBC, 32, aes.NewCipher},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 3, 7}, 24, des.NewTripleDESCipher},
}

var errLockedPKCS8 = fmt.Errorf(
	"%w: it is damaged, or encrypted in a way that is not read; \"openssl pkcs8 -topk8 -v2 aes-256-cbc\" writes it "+
		"in one that is",
	ErrNotPrivate)

// lockedPKCS8 is an encrypted file whose head has been read, and whose cost is bounded.
type lockedPKCS8 struct {
	data   []byte
	iv     []byte
	keyLen int
	block  func(key []byte) (cipher.Block, error)
	derive func(passphrase []byte, length int) ([]byte, error)
}

// readPKCS8Head reads how a file is encrypted, before any of the work that it asks for is done.
// ErrCost if that is too much, ErrNotPrivate if it is damaged or of a kind that is not read.
func readPKCS8Head(der []byte) (lockedPKCS8, error) {
	var l lockedPKCS8
	var info encryptedPKCS8
	if rest, err := asn1.Unmarshal(der, &info); err != nil || len(rest) > 0 ||
		!info.Algorithm.Algorithm.Equal(oidPBES2) {
		return l, errLockedPKCS8
	}
	var params pbes2
	if _, err := asn1.Unmarshal(info.Algorithm.Parameters.FullBytes, &params); err != nil {
		return l, errLockedPKCS8
	}
	l.data = info.Data
	said := 0 // the length of the key, where it is said
	switch kdf := params.KDF; {
	case kdf.Algorithm.Equal(oidPBKDF2):
		var p pbkdf2Params
		if _, err := asn1.Unmarshal(kdf.Parameters.FullBytes, &p); err != nil {
			return l, errLockedPKCS8
		}
		if !between(p.Iterations, maxPBKDF2) {
			return l, ErrCost
		}
		if p.PRF.Algorithm == nil {
			p.PRF.Algorithm = oidHMACSHA1
		}
		said = p.KeyLength
		for _, h := range hmacs {
			if h.oid.Equal(p.PRF.Algorithm) {
				l.derive = func(passphrase []byte, length int) ([]byte, error) {
					return pbkdf2.Key(h.hash, string(passphrase), p.Salt, int(p.Iterations.Int64()), length)
				}
			}
		}
	case kdf.Algorithm.Equal(oidScrypt):
		var p scryptParams
		if _, err := asn1.Unmarshal(kdf.Parameters.FullBytes, &p); err != nil {
			return l, errLockedPKCS8
		}
		// Each bound by itself first, so that the product is a number.
		if !between(p.N, maxScrypt) || !between(p.R, maxScrypt) || !between(p.P, maxScrypt) ||
			!between(new(big.Int).Mul(new(big.Int).Mul(p.N, p.R), p.P), maxScrypt) {
			return l, ErrCost
		}
		said = p.KeyLength
		l.derive = func(passphrase []byte, length int) ([]byte, error) {
			return scrypt.Key(passphrase, p.Salt, int(p.N.Int64()), int(p.R.Int64()), int(p.P.Int64()), length)
		}
	}
	for _, c := range ciphers {
		if c.oid.Equal(params.Cipher.Algorithm) {
			l.keyLen, l.block = c.key, c.block
		}
	}
	if l.derive == nil || l.block == nil || said != 0 && said != l.keyLen {
		return l, errLockedPKCS8
	}
	if _, err := asn1.Unmarshal(params.Cipher.Parameters.FullBytes, &l.iv); err != nil {
		return l, errLockedPKCS8
	}
	return l, nil
}

// between tells whether n is from 1 to limit.
func between(n *big.Int, limit int64) bool {
	return n != nil && n.Sign() > 0 && n.Cmp(big.NewInt(limit)) <= 0
}

// open decrypts. ErrPassphrase if the passphrase is wrong, or the file damaged: the format
// cannot tell. Whoever calls clears what it returns.
func (l lockedPKCS8) open(passphrase []byte) ([]byte, error) {
	key, err := l.derive(passphrase, l.keyLen)
	if err != nil { // such as an N for scrypt that is no power of two
		return nil, errLockedPKCS8
	}
	defer clear(key)
	block, err := l.block(key)
	if err != nil {
		return nil, errLockedPKCS8
	}
	size := block.BlockSize()
	if len(l.iv) != size || len(l.data) == 0 || len(l.data)%size != 0 {
		return nil, errLockedPKCS8
	}
	plain := make([]byte, len(l.data))
	cipher.NewCBCDecrypter(block, l.iv).CryptBlocks(plain, l.data)
	// RFC 8018 section 6.1.1 step 4: n bytes of the value n.
	pad := int(plain[len(plain)-1])
	if pad < 1 || pad > size || !bytes.Equal(plain[len(plain)-pad:], bytes.Repeat([]byte{byte(pad)}, pad)) {
		clear(plain)
		return nil, ErrPassphrase
	}
	return plain[:len(plain)-pad], nil
}

func readLockedPKCS8(der, passphrase []byte) (File, error) {
	locked := File{Format: FormatPKCS8, Private: true, Encrypted: true}
	head, err := readPKCS8Head(der)
	if err != nil || len(passphrase) == 0 {
		return locked, err
	}
	plain, err := head.open(passphrase)
	if err != nil {
		return locked, err
	}
	defer clear(plain)
	f, err := private(FormatPKCS8, true, plain, parsePKCS8)
	if errors.Is(err, ErrNotPrivate) && !isPKCS8(plain) { // the padding came out right by chance
		return locked, ErrPassphrase
	}
	return f, err
}

// isPKCS8 tells whether something has the outer form of PrivateKeyInfo (RFC 5958 section 2).
func isPKCS8(der []byte) bool {
	var info struct {
		Version   int
		Algorithm pkix.AlgorithmIdentifier
		Key       []byte
		Rest      []asn1.RawValue `asn1:"optional"`
	}
	_, err := asn1.Unmarshal(der, &info)
	return err == nil
}

// pkcs8Iterations makes a guess cost some tenths of a second of a processor.
const pkcs8Iterations = 600_000

// lockPKCS8 encrypts a PrivateKeyInfo.
func lockPKCS8(der, passphrase []byte) ([]byte, error) {
	random := make([]byte, 16+aes.BlockSize)
	if _, err := io.ReadFull(randReader, random); err != nil {
		return nil, err
	}
	salt, iv := random[:16], random[16:]
	key, err := pbkdf2.Key(sha256.New, string(passphrase), salt, pkcs8Iterations, 32)
	if err != nil {
		return nil, err
	}
	defer clear(key)
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	pad := aes.BlockSize - len(der)%aes.BlockSize
	data := append(bytes.Clone(der), bytes.Repeat([]byte{byte(pad)}, pad)...)
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(data, data)

	kdf, err := algorithm(oidPBKDF2, pbkdf2Params{Salt: salt, Iterations: big.NewInt(pkcs8Iterations),
		PRF: pkix.AlgorithmIdentifier{Algorithm: oidHMACSHA256, Parameters: asn1.NullRawValue}})
	if err != nil {
		return nil, err
	}
	with, err := algorithm(oidAES256CBC, iv)
	if err != nil {
		return nil, err
	}
	how, err := algorithm(oidPBES2, pbes2{kdf, with})
	if err != nil {
		return nil, err
	}
	return asn1.Marshal(encryptedPKCS8{how, data})
}

func algorithm(oid asn1.ObjectIdentifier, params any) (pkix.AlgorithmIdentifier, error) {
	der, err := asn1.Marshal(params)
	return pkix.AlgorithmIdentifier{Algorithm: oid, Parameters: asn1.RawValue{FullBytes: der}}, err
}

func pkcs8Form() form {
	return form{name: FormatPKCS8, title: "PKCS#8", blocks: []string{"PRIVATE KEY", "ENCRYPTED PRIVATE KEY"},
		private: (*Pair).pkcs8Key,
		block: func(b *pem.Block, passphrase []byte) (File, error) {
			if b.Type == "PRIVATE KEY" {
				return private(FormatPKCS8, false, b.Bytes, parsePKCS8)
			}
			return readLockedPKCS8(b.Bytes, passphrase)
		}}
}

// pkcs8Key returns the private half as PKCS#8, encrypted if there is a passphrase.
func (p *Pair) pkcs8Key(passphrase []byte) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(p.private)
	if err != nil {
		return nil, err
	}
	if len(passphrase) == 0 {
		return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
	}
	defer clear(der)
	locked, err := lockPKCS8(der, passphrase)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: locked}), nil
}
