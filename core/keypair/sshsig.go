package keypair

import (
	"bytes"
	"crypto/rand"
	"crypto/sha512"
	"encoding/pem"
	"errors"
	"io"

	"golang.org/x/crypto/ssh"
)

// ProofNamespace keeps a signature that shows a private half to exist from
// being taken for anything else (PROTOCOL.sshsig of OpenSSH).
const ProofNamespace = "prove@plumlatch"

// WordNamespace is that of a signature that lets large work begin.
const WordNamespace = "word@plumlatch"

const (
	sigMagic = "SSHSIG"
	sigType  = "SSH SIGNATURE"
	sigHash  = "sha512"
)

type sigBlob struct {
	Version   uint32
	PublicKey []byte
	Namespace string
	Reserved  string
	Hash      string
	Signature []byte
}

type sigData struct {
	Namespace string
	Reserved  string
	Hash      string
	Message   []byte
}

func signedData(namespace string, message []byte) []byte {
	sum := sha512.Sum512(message)
	return append([]byte(sigMagic), ssh.Marshal(sigData{namespace, "", sigHash, sum[:]})...)
}

// Sign returns the armored OpenSSH signature (PROTOCOL.sshsig) of a message by
// a signer, which may be an agent's.
func Sign(signer ssh.Signer, namespace string, message []byte) ([]byte, error) {
	data := signedData(namespace, message)
	var sig *ssh.Signature
	var err error
	if as, ok := signer.(ssh.AlgorithmSigner); ok && signer.PublicKey().Type() == ssh.KeyAlgoRSA {
		sig, err = as.SignWithAlgorithm(io.Reader(rand.Reader), data, ssh.KeyAlgoRSASHA512)
	} else {
		sig, err = signer.Sign(rand.Reader, data)
	}
	if err != nil {
		return nil, err
	}
	blob := ssh.Marshal(sigBlob{1, signer.PublicKey().Marshal(), namespace, "", sigHash, ssh.Marshal(sig)})
	return pem.EncodeToMemory(&pem.Block{Type: sigType, Bytes: append([]byte(sigMagic), blob...)}), nil
}

// ErrSignature says that a signature does not show what it should.
var ErrSignature = errors.New("the signature is not one of this message by this key")

// Verify checks an armored OpenSSH signature of a message by the key, for the
// namespace. ErrSignature. RSA with SHA-1 is refused, as PROTOCOL.sshsig demands.
func (p Public) Verify(armored []byte, namespace string, message []byte) error {
	block, rest := pem.Decode(armored)
	if block == nil || block.Type != sigType || len(bytes.TrimSpace(rest)) > 0 {
		return ErrSignature
	}
	body, ok := bytes.CutPrefix(block.Bytes, []byte(sigMagic))
	var b sigBlob
	if !ok || ssh.Unmarshal(body, &b) != nil || b.Version != 1 || b.Namespace != namespace || b.Hash != sigHash ||
		!bytes.Equal(b.PublicKey, p.Blob) {
		return ErrSignature
	}
	var sig ssh.Signature
	key, err := ssh.ParsePublicKey(p.Blob)
	if err != nil || ssh.Unmarshal(b.Signature, &sig) != nil || sig.Format == ssh.KeyAlgoRSA {
		return ErrSignature
	}
	if key.Verify(signedData(namespace, message), &sig) != nil {
		return ErrSignature
	}
	return nil
}
