package keypair

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/sha512"
	"encoding/binary"

	//lint:ignore SA1019 the format is built on it
	"golang.org/x/crypto/blowfish"
)

// decrypt opens the private block of "openssh-key-v1" with a passphrase that
// has been seen to be right. It is needed for the comment alone.
func (f opensshFile) decrypt(passphrase []byte) ([]byte, bool) {
	salt, rounds, ok := f.bcrypt()
	if !ok || len(f.privateBlock)%aes.BlockSize != 0 || len(f.privateBlock) == 0 {
		return nil, false
	}
	key, err := bcryptPBKDF(passphrase, salt, rounds, 32+aes.BlockSize)
	if err != nil {
		return nil, false
	}
	block, err := aes.NewCipher(key[:32])
	if err != nil {
		return nil, false
	}
	out := make([]byte, len(f.privateBlock))
	switch f.cipher {
	case "aes256-ctr":
		cipher.NewCTR(block, key[32:]).XORKeyStream(out, f.privateBlock)
	case "aes256-cbc":
		cipher.NewCBCDecrypter(block, key[32:]).CryptBlocks(out, f.privateBlock)
	default:
		return nil, false
	}
	return out, true
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
