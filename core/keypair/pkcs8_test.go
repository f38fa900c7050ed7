package keypair

import (
	"bytes"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestLockedPKCS8: what openssl encrypted is read under its passphrase, and under no other;
// testdata/pkcs8/README.md says how it was made.
func TestLockedPKCS8(t *testing.T) {
	read := func(name string) []byte {
		t.Helper()
		text, err := os.ReadFile(filepath.Join("testdata/pkcs8", name))
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	plain, passphrase := read("plain.pem"), read("passphrase")
	want, err := Read(plain, nil)
	if err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob("testdata/pkcs8/*.pem")
	if err != nil || len(files) < 15 {
		t.Fatal(files, err)
	}
	for _, file := range files {
		name := filepath.Base(file)
		if name == "plain.pem" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			text := read(name)
			got, err := Read(text, passphrase)
			if strings.HasPrefix(name, "camellia") || strings.HasPrefix(name, "pbes1") {
				if !errors.Is(err, ErrNotPrivate) || !strings.Contains(err.Error(), "openssl pkcs8 -topk8") {
					t.Errorf("%v", err)
				}
				return
			}
			if err != nil || !bytes.Equal(got.Public.Blob, want.Public.Blob) {
				t.Fatalf("%v", err)
			}
			if got, err := Read(text, nil); err != nil || !got.Encrypted || got.Pair != nil {
				t.Errorf("without a passphrase: %+v %v", got, err)
			}
			// With one passphrase in 256 the padding comes out right by chance: tried in one file.
			tries := 3
			if name == "aes-256-cbc-hmacWithSHA256.pem" {
				tries = 600
			}
			for n := range tries {
				wrong := append([]byte("high tide "), byte(n), byte(n>>8))
				if _, err := Read(text, wrong); !errors.Is(err, ErrPassphrase) {
					t.Fatalf("a wrong passphrase: %v", err)
				}
			}
			// Cut off anywhere, or with any byte changed: no panic, and no key of a file that was cut.
			block, _ := pem.Decode(text)
			for n := range block.Bytes {
				if _, err := readPKCS8Head(block.Bytes[:n]); !errors.Is(err, ErrNotPrivate) {
					t.Errorf("cut at %d: %v", n, err)
				}
				der := bytes.Clone(block.Bytes)
				der[n] ^= 0x5a
				_, err := readPKCS8Head(der)
				if err != nil && !errors.Is(err, ErrNotPrivate) && !errors.Is(err, ErrCost) {
					t.Errorf("byte %d changed: %v", n, err)
				}
			}
		})
	}
}

// TestPKCS8Cost: a file that asks for too much is refused before any of it is done.
func TestPKCS8Cost(t *testing.T) {
	pbkdf2With := func(iterations *big.Int) asn1Value {
		return asn1Value{oidPBKDF2, pbkdf2Params{Salt: []byte("salt"), Iterations: iterations}}
	}
	scryptWith := func(n, r, p int64) asn1Value {
		return asn1Value{oidScrypt, scryptParams{Salt: []byte("salt"), N: big.NewInt(n), R: big.NewInt(r),
			P: big.NewInt(p)}}
	}
	for name, c := range map[string]struct {
		kdf  asn1Value
		want error
	}{
		"openssl's":               {pbkdf2With(big.NewInt(2048)), nil},
		"no iteration":            {pbkdf2With(big.NewInt(0)), ErrCost},
		"fewer than none":         {pbkdf2With(big.NewInt(-1)), ErrCost},
		"a day of iterations":     {pbkdf2With(big.NewInt(1 << 40)), ErrCost},
		"more than a number":      {pbkdf2With(new(big.Int).Lsh(big.NewInt(1), 200)), ErrCost},
		"scrypt's":                {scryptWith(1<<14, 8, 1), nil},
		"memory":                  {scryptWith(1<<20, 8, 1), ErrCost},
		"passes":                  {scryptWith(1<<14, 8, 1<<20), ErrCost},
		"a product that is small": {scryptWith(-1<<20, -8, 1), ErrCost},
	} {
		kdf, err := algorithm(c.kdf.oid, c.kdf.params)
		if err != nil {
			t.Fatal(err)
		}
		with, _ := algorithm(oidAES256CBC, make([]byte, 16))
		how, _ := algorithm(oidPBES2, pbes2{kdf, with})
		der, err := asn1.Marshal(encryptedPKCS8{how, make([]byte, 48)})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := readPKCS8Head(der); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, and not %v", name, err, c.want)
		}
	}
}

type asn1Value struct {
	oid    asn1.ObjectIdentifier
	params any
}

// TestOpensslReadsPKCS8: what we encrypt, openssl reads.
func TestOpensslReadsPKCS8(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not here; the vectors of testdata/pkcs8 were made by it")
	}
	for _, kind := range []Kind{Ed25519, RSA2048} {
		p, err := Create(kind, "")
		if err != nil {
			t.Fatal(err)
		}
		locked, err := p.pkcs8Key([]byte("low tide"))
		if err != nil {
			t.Fatal(err)
		}
		plain, err := p.pkcs8Key(nil)
		if err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command(openssl, "pkcs8", "-passin", "pass:low tide")
		cmd.Stdin = bytes.NewReader(locked)
		if out, err := cmd.Output(); err != nil || !bytes.Equal(out, plain) {
			t.Errorf("%s: openssl read another key: %v", kind, err)
		}
	}
}
