package firstpassword

import (
	"bytes"
	"encoding/base64"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/core/keypair"
)

// pairOf has ssh-keygen make a pair, and openssl encrypt a text to it: both are others' code.
func pairOf(t *testing.T, bits string) (*keypair.Pair, func(text string) []byte) {
	t.Helper()
	for _, tool := range []string{"ssh-keygen", "openssl"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip(err)
		}
	}
	file := filepath.Join(t.TempDir(), "key")
	run := func(in []byte, args ...string) []byte {
		t.Helper()
		cmd := exec.Command(args[0], args[1:]...)
		var stderr bytes.Buffer
		cmd.Stdin, cmd.Stderr = bytes.NewReader(in), &stderr
		out, err := cmd.Output()
		if err != nil {
			t.Fatal(args, err, stderr.String())
		}
		return out
	}
	run(nil, "ssh-keygen", "-q", "-t", "rsa", "-b", bits, "-m", "PEM", "-N", "", "-f", file)
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	pair, err := keypair.ReadPrivate(data, nil)
	if err != nil {
		t.Fatal(err)
	}
	return pair, func(text string) []byte {
		return run([]byte(text), "openssl", "pkeyutl", "-encrypt", "-inkey", file, "-pkeyopt", "rsa_padding_mode:pkcs1")
	}
}

// TestDecrypt reads what openssl has encrypted, and nothing else.
func TestDecrypt(t *testing.T) {
	t.Parallel()
	pair, encrypt := pairOf(t, "2048")
	other, toOther := pairOf(t, "2048")
	_, toLarger := pairOf(t, "3072")
	const password = "Tide!table&42 é"
	for text, want := range map[string]string{password: password, password + "\r\n": password} {
		if got, err := Decrypt(pair, encrypt(text)); err != nil || got != want {
			t.Errorf("%q: %q %v", text, got, err)
		}
	}
	sealed := encrypt(password)
	for what, c := range map[string]struct {
		pair *keypair.Pair
		text []byte
		want error
	}{
		"to another key":        {pair, toOther(password), ErrOtherKey},
		"by another key":        {other, sealed, ErrOtherKey},
		"to a larger key":       {pair, toLarger(password), ErrOtherKey},
		"cut short":             {pair, sealed[:len(sealed)-1], ErrNoCipherText},
		"garbage of its length": {pair, bytes.Repeat([]byte{7}, len(sealed)), ErrOtherKey},
		"nothing":               {pair, nil, ErrNoCipherText},
		"not text":              {pair, encrypt("\x01\x02"), ErrOtherKey},
		"control characters":    {pair, encrypt("a\x1b[2Jb"), ErrOtherKey},
		"empty":                 {pair, encrypt("\r\n"), ErrOtherKey},
	} {
		if got, err := Decrypt(c.pair, c.text); !errors.Is(err, c.want) || got != "" {
			t.Errorf("%s: %q %v", what, got, err)
		}
	}
	ed, err := keypair.Create(keypair.Ed25519, "x")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Decrypt(ed, sealed); !errors.Is(err, keypair.ErrNotRSA) {
		t.Error(err)
	}
	if err := Check(ed.Public); !errors.Is(err, keypair.ErrNotRSA) {
		t.Error(err)
	}
	if err := Check(pair.Public); err != nil {
		t.Error(err)
	}
}

func TestCipherText(t *testing.T) {
	t.Parallel()
	data := bytes.Repeat([]byte{1, 2, 3, 4}, 64)
	text := base64.StdEncoding.EncodeToString(data)
	for _, in := range []string{text, text[:76] + "\r\n" + text[76:] + "\n"} {
		if got, err := CipherText(in); err != nil || !bytes.Equal(got, data) {
			t.Errorf("%q: %v", in, err)
		}
	}
	for _, in := range []string{"", "AAAA", "no base64!", strings.Repeat("A", 5000), text[:50] + "*" + text[51:]} {
		if _, err := CipherText(in); !errors.Is(err, ErrNoCipherText) {
			t.Errorf("%q: %v", in, err)
		}
	}
}

func FuzzCipherText(f *testing.F) {
	f.Add(strings.Repeat("AQID", 64))
	f.Add("x")
	f.Fuzz(func(t *testing.T, in string) {
		data, err := CipherText(in)
		if (err == nil) != (len(data) >= 64) {
			t.Errorf("%d bytes and %v", len(data), err)
		}
	})
}
