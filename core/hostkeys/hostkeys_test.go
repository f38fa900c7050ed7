package hostkeys

import (
	"errors"
	"strings"
	"testing"

	"plumlatch/core/keypair"
)

func pub(t *testing.T) keypair.Public {
	t.Helper()
	p, err := keypair.Create(keypair.Ed25519, "")
	if err != nil {
		t.Fatal(err)
	}
	return p.Public
}

func TestKnownHostsLine(t *testing.T) {
	p := pub(t)
	line, err := KnownHostsLine("plumlatch-abc", p.Blob)
	if err != nil || line != "plumlatch-abc "+p.Line()+"\n" {
		t.Errorf("line %q, err %v", line, err)
	}
	for _, alias := range []string{"", "a b", "a\nb", "*", "@cert-authority", "a,b", "-x", "#"} {
		if _, err := KnownHostsLine(alias, p.Blob); !errors.Is(err, ErrAlias) {
			t.Errorf("alias %q: err %v, want ErrAlias", alias, err)
		}
	}
}

func TestFirstBootFingerprints(t *testing.T) {
	a, b := pub(t), pub(t)
	blockA, _ := FingerprintBlock("tide-gauge-1", [][]byte{a.Blob})
	blockB, _ := FingerprintBlock("tide-gauge-1", [][]byte{b.Blob})
	prefixed := ""
	for l := range strings.Lines(blockA) {
		prefixed += "<14>Mar  1 00:00:07 cloud-init: " + strings.TrimSuffix(l, "\n") + "\r\n"
	}
	for name, c := range map[string]struct {
		in   string
		want string
		err  error
	}{
		"one block":              {"booting\n" + blockA + "login:", a.Fingerprint(), nil},
		"console prefixes, CRLF": {prefixed, a.Fingerprint(), nil},
		"the same twice":         {blockA + blockA, a.Fingerprint(), nil},
		"two that differ":        {blockA + blockB, "", ErrDiffer},
		"cut off":                {strings.Split(blockA, blockEnd)[0], "", ErrNoBlock},
		"end without begin":      {blockEnd + "\n", "", ErrNoBlock},
		"an empty block, then A": {blockBegin + "\n" + blockEnd + "\n" + blockA, a.Fingerprint(), nil},
		"nothing":                {"", "", ErrNoBlock},
	} {
		got, err := FirstBootFingerprints(c.in)
		if !errors.Is(err, c.err) || strings.Join(got, " ") != c.want {
			t.Errorf("%s: %v, %v; want %q, %v", name, got, err, c.want, c.err)
		}
	}
}

func FuzzFirstBootFingerprints(f *testing.F) {
	f.Add(blockBegin + "\n256 SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA x (ED25519)\n" + blockEnd)
	f.Fuzz(func(t *testing.T, s string) {
		got, err := FirstBootFingerprints(s)
		if (err == nil) != (len(got) > 0) {
			t.Errorf("%d fingerprints with err %v", len(got), err)
		}
	})
}
