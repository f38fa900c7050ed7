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

// TestPrinted: host keys are read between the marks that were made for them, whatever prefix the console gives
// each line, and by no others.
func TestPrinted(t *testing.T) {
	begin, end := Marks("abc")
	other, otherEnd := Marks("xyz")
	const (
		one = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f root@berth"
		two = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAICAhIiMkJSYnKCkqKywtLi8wMTIzNDU2Nzg5Ojs8PT4/ root@berth"
	)
	block := func(begin, end string, lines ...string) string {
		text := begin + "\n"
		for _, l := range lines {
			text += "cloud-init[388]: " + l + "\r\n"
		}
		return text + "cloud-init[388]: " + end + "\n"
	}
	for name, c := range map[string]struct {
		output string
		keys   int
		err    error
	}{
		"two keys":            {"login: \n" + block(begin, end, one, two), 2, nil},
		"printed twice":       {block(begin, end, one) + block(begin, end, one), 1, nil},
		"two that differ":     {block(begin, end, one) + block(begin, end, two), 0, ErrDiffer},
		"of another mark":     {block(other, otherEnd, one), 0, ErrNoBlock},
		"not complete":        {strings.TrimSuffix(block(begin, end, one), end+"\n"), 0, ErrNoBlock},
		"no key in it":        {block(begin, end, "cat: no such file"), 0, ErrNoBlock},
		"nothing":             {"", 0, ErrNoBlock},
		"what is no key":      {block(begin, end, "ssh-ed25519 AAAAnothing", one), 1, nil},
		"before and after it": {one + "\n" + block(begin, end, two) + one + "\n", 1, nil},
	} {
		keys, err := Printed(c.output, "abc")
		if len(keys) != c.keys || !errors.Is(err, c.err) {
			t.Errorf("%s: %d keys, %v", name, len(keys), err)
		}
	}
}

func FuzzPrinted(f *testing.F) {
	begin, end := Marks("abc")
	f.Add(begin + "\nssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f x\n" + end + "\n")
	f.Fuzz(func(t *testing.T, output string) {
		keys, err := Printed(output, "abc")
		if (err == nil) != (len(keys) > 0) || len(keys) > 8 {
			t.Errorf("%d keys, %v", len(keys), err)
		}
		for _, k := range keys {
			if !strings.Contains(output, strings.Fields(k.Line())[1]) {
				t.Errorf("%s was not printed", k.Fingerprint())
			}
		}
	})
}
