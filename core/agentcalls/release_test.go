package agentcalls

import (
	"errors"
	"strings"
	"testing"

	"plumlatch/core/keypair"
)

// TestRelease: a release is read as it was signed, and no other text is one.
func TestRelease(t *testing.T) {
	pair, err := keypair.Create(keypair.Ed25519, "release")
	if err != nil {
		t.Fatal(err)
	}
	other, err := keypair.Create(keypair.Ed25519, "other")
	if err != nil {
		t.Fatal(err)
	}
	good := Release{Version: 12, Arch: "x86_64", SHA256: strings.Repeat("ab", 32), Size: 11_000_000}
	sign := func(pair *keypair.Pair, namespace, text string) string {
		t.Helper()
		signer, err := pair.Signer()
		if err != nil {
			t.Fatal(err)
		}
		s, err := keypair.Sign(signer, namespace, []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return string(s)
	}
	if r, err := CheckRelease(good.Text(), sign(pair, ReleaseNamespace, good.Text()), pair.Public); err != nil || r != good {
		t.Fatalf("%+v %v", r, err)
	}
	for what, c := range map[string]struct{ text, signature string }{
		"another key's":     {good.Text(), sign(other, ReleaseNamespace, good.Text())},
		"another namespace": {good.Text(), sign(pair, Namespace, good.Text())},
		"another text":      {strings.Replace(good.Text(), "version 12", "version 13", 1), sign(pair, ReleaseNamespace, good.Text())},
		"no signature":      {good.Text(), ""},
	} {
		if _, err := CheckRelease(c.text, c.signature, pair.Public); !errors.Is(err, ErrRelease) {
			t.Errorf("%s: %v", what, err)
		}
	}
	for what, text := range map[string]string{
		"nothing":           "",
		"a field more":      good.Text() + "more 1\n",
		"a field less":      strings.Replace(good.Text(), "arch x86_64\n", "", 1),
		"no version":        strings.Replace(good.Text(), "version 12", "version x", 1),
		"version 0":         strings.Replace(good.Text(), "version 12", "version 0", 1),
		"a version's twin":  strings.Replace(good.Text(), "version 12", "version 012", 1),
		"a hash too short":  strings.Replace(good.Text(), "abab", "ab", 1),
		"larger than any":   strings.Replace(good.Text(), "size 11000000", "size 1100000000", 1),
		"of no size":        strings.Replace(good.Text(), "size 11000000", "size 0", 1),
		"another beginning": strings.Replace(good.Text(), "plumlatch agent", "plumlatch", 1),
	} {
		if r, err := ReadRelease(text); !errors.Is(err, ErrRelease) {
			t.Errorf("%s: %+v %v", what, r, err)
		}
	}
}

func FuzzRelease(f *testing.F) {
	f.Add(Release{1, "x86_64", strings.Repeat("0", 64), 1}.Text())
	f.Fuzz(func(t *testing.T, text string) {
		if r, err := ReadRelease(text); err == nil && r.Text() != text {
			t.Errorf("%q is read as %q", text, r.Text())
		}
	})
}
