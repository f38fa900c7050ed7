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
	p.Set("", "plumlatch-a", []keypair.Public{a})
	p.Set("", "plumlatch-b", []keypair.Public{b, a})
	text, err := p.Text()
	if err != nil || strings.Count(text, "\n") != 3 {
		t.Fatalf("%q %v", text, err)
	}
	again := ReadPins(text + "# by hand\n@cert-authority * x\nplumlatch-c not-a-key\n")
	if !again.Same("plumlatch-a", []keypair.Public{a}) || !again.Same("plumlatch-b", []keypair.Public{a, b}) ||
		again.Same("plumlatch-a", []keypair.Public{b}) || again.Same("plumlatch-a", []keypair.Public{a, b}) ||
		len(again.Of("plumlatch-c")) != 0 {
		t.Errorf("%+v", again)
	}
	again.Set("", "plumlatch-a", []keypair.Public{b})
	if !slices.Equal(again.Of("plumlatch-a"), []string{b.Fingerprint()}) {
		t.Errorf("%v", again.Of("plumlatch-a"))
	}
	if c := newKey(t); !p.Hold([]keypair.Public{c, a}) || p.Hold([]keypair.Public{c}) || p.Hold(nil) {
		t.Error("what is pinned for any host")
	}
	p.Set("", "a b", []keypair.Public{a})
	if text, err := p.Text(); err == nil {
		t.Errorf("a bad alias was written: %q", text)
	}
}

// TestPinsOfInstances: what is pinned is an instance of a service, whatever alias
// and key the service comes with.
func TestPinsOfInstances(t *testing.T) {
	a, b := newKey(t), newKey(t)
	own := Owner("https://x:1", "board", "")
	p := ReadPins("")
	p.Set(own, "plumlatch-a", []keypair.Public{a})
	p.Set(Owner("https://x:1", "board", "hop"), "plumlatch-a-hop", []keypair.Public{b})
	text, err := p.Text()
	if err != nil {
		t.Fatal(err)
	}
	p = ReadPins(text)
	for _, c := range []struct {
		what, owner, alias string
		key                keypair.Public
		fits               bool
	}{
		{"the same", own, "plumlatch-a", a, true},
		{"another key", own, "plumlatch-a", b, false},
		{"another alias", own, "plumlatch-z", a, false},
		{"another key and alias", own, "plumlatch-z", b, false},
		{"another instance", Owner("https://x:1", "gate", ""), "plumlatch-g", b, true},
		{"another instance by the same alias", Owner("https://x:1", "gate", ""), "plumlatch-a", a, false},
		{"another service", Owner("https://y:1", "board", ""), "plumlatch-y", b, true},
		{"its jump host by another alias", Owner("https://x:1", "board", "hop"), "plumlatch-b-hop", b, false},
	} {
		if p.Fits(c.owner, c.alias, []keypair.Public{c.key}) != c.fits {
			t.Errorf("%s: %v", c.what, !c.fits)
		}
	}
	if got := p.Pinned(own, "plumlatch-z"); !slices.Equal(got, []string{a.Fingerprint()}) {
		t.Errorf("pinned: %v", got)
	}
	p.Set(own, "plumlatch-z", []keypair.Public{b})
	if p.Fits(own, "plumlatch-a", []keypair.Public{a}) || !p.Fits(own, "plumlatch-z", []keypair.Public{b}) ||
		len(p.Of("plumlatch-a")) != 0 {
		t.Error("the former pin stays")
	}
	p.Drop(own)
	if text, err := p.Text(); err != nil || strings.Contains(text, "#board\n") {
		t.Errorf("%v %s", err, text)
	}
	// Pins of before are given their instance once.
	old := ReadPins("plumlatch-a " + a.Line() + "\n")
	old.Name("plumlatch-a", own)
	if old.Fits(own, "plumlatch-z", []keypair.Public{b}) {
		t.Error("an old pin is none")
	}
	for _, bad := range []string{Owner("", "x", ""), Owner("a b", "x", ""), Owner("a", "x\n", ""),
		Owner("a#b", "x", "")} {
		if bad != "" {
			t.Errorf("%q", bad)
		}
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
		"": nil, first: {a.Fingerprint()}, first + "boot\r\n" + second: {b.Fingerprint(), a.Fingerprint()},
		first[:len(first)-20]: nil, "x " + a.Fingerprint(): nil,
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
