package e2e

import (
	"crypto/ed25519"
	"crypto/rsa"
	"testing"
)

// secretParts returns the bytes of a private key that nobody else may see.
func secretParts(t *testing.T, raw any) [][]byte {
	t.Helper()
	switch k := raw.(type) {
	case *ed25519.PrivateKey:
		return [][]byte{k.Seed()}
	case *rsa.PrivateKey:
		return [][]byte{k.D.Bytes(), k.Primes[0].Bytes(), k.Primes[1].Bytes()}
	}
	t.Fatalf("a %T", raw)
	return nil
}
