package hostkeys

import (
	"slices"
	"strings"
	"testing"

	"plumlatch/core/keypair"
)

func newKey(t *testing.T) keypair.Public {
	t.Helper()
	p, err := keypair.Create(keypair.Ed25519, "")
	if err != nil {
		t.Fatal(err)
	}
	return p.Public
}

func TestPins(t *testing.T) {
	a, b := newKey(t), newKey(t)
	p := ReadPins("")
	p.Set("plumlatch-a", []keypair.Public{a})
	p.Set("plumlatch-b", []keypair.Public{b, a})
	text, err := p.Text()
	if err != nil || strings.Count(text, "\n") != 3 {
		t.Fatalf("%q %v", text, err)
	}
	again := ReadPins(text + "# by hand\n@cert-authority * x\nplumlatch-c not-a-key\n")
	if !again.Same("plumlatch-a", []keypair.Public{a}) || !again.Same("plumlatch-b", []keypair.Public{a, b}) || again.Same("plumlatch-a", []keypair.Public{b}) || again.Same("plumlatch-a", []keypair.Public{a, b}) || len(again.Of("plumlatch-c")) != 0 {
		t.Errorf("%+v", again)
	}
	again.Set("plumlatch-a", []keypair.Public{b})
	if !slices.Equal(again.Of("plumlatch-a"), []string{b.Fingerprint()}) {
		t.Errorf("%v", again.Of("plumlatch-a"))
	}
	p.Set("a b", []keypair.Public{a})
	if text, err := p.Text(); err == nil {
		t.Errorf("a bad alias was written: %q", text)
	}
}

func TestPrintedFingerprints(t *testing.T) {
	a, b := newKey(t), newKey(t)
	first, err := FingerprintBlock("board", [][]byte{a.Blob})
	if err != nil {
		t.Fatal(err)
	}
	second, err := FingerprintBlock("board", [][]byte{b.Blob, a.Blob})
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string][]string{
		"": nil, first: {a.Fingerprint()}, first + "boot\r\n" + second: {b.Fingerprint(), a.Fingerprint()}, first[:len(first)-20]: nil, "x " + a.Fingerprint(): nil,
	} {
		if got := PrintedFingerprints(text); !slices.Equal(got, want) {
			t.Errorf("%q: %v", text, got)
		}
	}
}

func FuzzPins(f *testing.F) {
	f.Add("plumlatch-a ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ4yQd0o4jv3xk3Kb1J1Q9VvM1m8i8V8p3r0z3J1m8aB\n")
	f.Add("@revoked a b\n-x y\n")
	f.Fuzz(func(t *testing.T, text string) {
		out, err := ReadPins(text).Text()
		if err != nil {
			t.Fatalf("what was read cannot be written: %v", err)
		}
		if again, err := ReadPins(out).Text(); err != nil || again != out {
			t.Errorf("%q became %q", out, again)
		}
	})
}
