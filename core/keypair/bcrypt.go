package keypair

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/sha512"
	"encoding/binary"
	"encoding/pem"
	"fmt"

	//lint:ignore SA1019 the format is built on it
	"golang.org/x/crypto/blowfish"
	"golang.org/x/crypto/chacha20"
	//lint:ignore SA1019 OpenSSH's construction is not the RFC's, which has a package of its own
	"golang.org/x/crypto/poly1305"
	"golang.org/x/crypto/ssh"
)

// opensshCiphers are the ciphers of "openssh-key-v1" that ssh-keygen -Z knows
// and that are read here: the lengths of their key and initialisation vector,
// and how each is undone. tag is what follows the encrypted block.
var opensshCiphers = map[string]struct {
	key, iv, tag int
	open         func(key, iv, data, tag []byte) ([]byte, bool)
}{
	"3des-cbc":                      {24, 8, 0, openCBC(des.NewTripleDESCipher)},
	"aes128-cbc":                    {16, 16, 0, openCBC(aes.NewCipher)},
	"aes192-cbc":                    {24, 16, 0, openCBC(aes.NewCipher)},
	"aes256-cbc":                    {32, 16, 0, openCBC(aes.NewCipher)},
	"aes128-ctr":                    {16, 16, 0, openCTR},
	"aes192-ctr":                    {24, 16, 0, openCTR},
	"aes256-ctr":                    {32, 16, 0, openCTR},
	"aes128-gcm@openssh.com":        {16, 12, 16, openGCM},
	"aes256-gcm@openssh.com":        {32, 12, 16, openGCM},
	"chacha20-poly1305@openssh.com": {64, 0, 16, openChaCha},
}

func openCBC(newCipher func([]byte) (cipher.Block, error)) func(key, iv, data, tag []byte) ([]byte, bool) {
	return func(key, iv, data, _ []byte) ([]byte, bool) {
		block, err := newCipher(key)
		if err != nil || len(data)%block.BlockSize() != 0 {
			return nil, false
		}
		out := make([]byte, len(data))
		cipher.NewCBCDecrypter(block, iv).CryptBlocks(out, data)
		return out, true
	}
}

func openCTR(key, iv, data, _ []byte) ([]byte, bool) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, false
	}
	out := make([]byte, len(data))
	cipher.NewCTR(block, iv).XORKeyStream(out, data)
	return out, true
}

func openGCM(key, iv, data, tag []byte) ([]byte, bool) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, false
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		return nil, false
	}
	out, err := gcm.Open(nil, iv, append(append([]byte(nil), data...), tag...), nil)
	return out, err == nil
}

// openChaCha undoes chacha20-poly1305@openssh.com (PROTOCOL.chacha20poly1305
// of OpenSSH) with sequence number 0 and no additional data: the first half of
// the key is used, the other, for packet lengths, is not.
func openChaCha(key, _, data, tag []byte) ([]byte, bool) {
	c, err := chacha20.NewUnauthenticatedCipher(key[:32], make([]byte, chacha20.NonceSize))
	if err != nil {
		return nil, false
	}
	var polyKey [32]byte
	c.XORKeyStream(polyKey[:], polyKey[:])
	var sum [16]byte
	copy(sum[:], tag)
	if !poly1305.Verify(&sum, data, &polyKey) {
		return nil, false
	}
	c.SetCounter(1)
	out := make([]byte, len(data))
	c.XORKeyStream(out, data)
	return out, true
}

// decrypt opens the private block with a passphrase. It returns ErrPassphrase
// if the result is no private block, and ErrNotPrivate for a cipher that is
// not read.
func (f opensshFile) decrypt(passphrase []byte) ([]byte, error) {
	c, ok := opensshCiphers[f.cipher]
	salt, rounds, kdf := f.bcrypt()
	if !ok || !kdf || f.kdf != "bcrypt" || len(f.tag) != c.tag || len(f.privateBlock) == 0 {
		return nil, fmt.Errorf("%w: it is damaged, or its cipher is not one that is read", ErrNotPrivate)
	}
	key, err := bcryptPBKDF(passphrase, salt, rounds, c.key+c.iv)
	if err != nil {
		return nil, err
	}
	plain, ok := c.open(key[:c.key], key[c.key:], f.privateBlock, f.tag)
	if !ok || len(plain) < 8 || !bytes.Equal(plain[:4], plain[4:8]) {
		return nil, ErrPassphrase
	}
	return plain, nil
}

// unlocked returns the file as it would be without a passphrase.
func (f opensshFile) unlocked(plain []byte) *pem.Block {
	return &pem.Block{Type: "OPENSSH PRIVATE KEY", Bytes: append([]byte(opensshMagic), ssh.Marshal(struct {
		Cipher, KDF, KDFOptions string
		Keys                    uint32
		Public, Private         []byte
	}{"none", "none", "", 1, f.public, plain})...)}
}

// bcryptPBKDF derives n bytes as bcrypt_pbkdf(3) of OpenBSD does: PBKDF2's
// structure over bcrypt's, with its output spread over the result.
func bcryptPBKDF(passphrase, salt []byte, rounds, n int) ([]byte, error) {
	const size = 32
	blocks := (n + size - 1) / size
	out := make([]byte, blocks*size)
	pass := sha512.Sum512(passphrase)
	for count := 1; count <= blocks; count++ {
		input := sha512.Sum512(binary.BigEndian.AppendUint32(append([]byte(nil), salt...), uint32(count)))
		step, err := bcryptHash(pass[:], input[:])
		if err != nil {
			return nil, err
		}
		sum := step
		for range rounds - 1 {
			input = sha512.Sum512(step[:])
			if step, err = bcryptHash(pass[:], input[:]); err != nil {
				return nil, err
			}
			for i := range sum {
				sum[i] ^= step[i]
			}
		}
		for i, b := range sum {
			out[i*blocks+count-1] = b
		}
	}
	return out[:n], nil
}

// bcryptHash is bcrypt's core with 64 rounds of expansion and a text of its own.
func bcryptHash(pass, salt []byte) (out [32]byte, err error) {
	c, err := blowfish.NewSaltedCipher(pass, salt)
	if err != nil {
		return out, err
	}
	for range 64 {
		blowfish.ExpandKey(salt, c)
		blowfish.ExpandKey(pass, c)
	}
	copy(out[:], "OxychromaticBlowfishSwatDynamite")
	for i := 0; i < len(out); i += blowfish.BlockSize {
		for range 64 {
			c.Encrypt(out[i:i+8], out[i:i+8])
		}
	}
	for i := 0; i < len(out); i += 4 { // big-endian words, little-endian bytes
		out[i], out[i+1], out[i+2], out[i+3] = out[i+3], out[i+2], out[i+1], out[i]
	}
	return out, nil
}
