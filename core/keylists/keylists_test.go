package keylists_test

import (
	"crypto/md5"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/hex"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/keylists"
	"plumlatch/core/keypair"
)

// TestOf: an entry is the key whose public half it shows, whatever its fingerprint says; without one it is the
// key that its fingerprint fits, if that is one alone.
func TestOf(t *testing.T) {
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(private.Public())
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.MarshalPKIXPublicKey(private.Public())
	if err != nil {
		t.Fatal(err)
	}
	sum := md5.Sum(der)
	var colons []string
	for _, b := range sum {
		colons = append(colons, hex.EncodeToString([]byte{b}))
	}
	ofDER := strings.Join(colons, ":")
	line := string(ssh.MarshalAuthorizedKey(key))
	pair, err := keypair.Create(keypair.Ed25519, "x")
	if err != nil {
		t.Fatal(err)
	}
	ed := pair.Public
	x := keylists.NewIndex([]keylists.Key{{ID: 1, Name: "rsa", Blob: key.Marshal()}, {ID: 2, Name: "ed", Blob: ed.Blob,
		PrivateSHA1: strings.Repeat("ab", 20)}})
	shown := strings.TrimPrefix(ssh.FingerprintSHA256(key), "SHA256:") + "="
	for _, c := range []struct {
		what, print, public string
		want                string
		lies, claim         bool
	}{
		{"its public half", "", line, "rsa", false, false},
		{"and its DER", ofDER, line, "rsa", false, false},
		{"and a lie", ofDER[:len(ofDER)-2] + "zz", line, "rsa", false, false}, // no fingerprint at all
		{"and another's", "SHA256:" + strings.TrimPrefix(ed.Fingerprint(), "SHA256:"), line, "rsa", true, false},
		{"what its private half is said to be", strings.Repeat("cd:", 19) + "cd", line, "rsa", false, false},
		{"a fingerprint alone", shown, "", "rsa", false, true},
		{"the DER alone", ofDER, "", "rsa", false, true},
		{"the MD5 alone", strings.TrimPrefix(ssh.FingerprintLegacyMD5(key), "MD5:"), "", "rsa", false, true},
		{"the private half's", strings.Repeat("ab:", 19) + "ab", "", "ed", false, true},
		{"nobody's", strings.Repeat("00:", 15) + "00", "", "", false, false},
		{"nothing", "", "", "", false, false},
		{"no key", "what", "ssh-rsa AAAA", "", false, false},
	} {
		got := x.Of(c.print, c.public)
		name := ""
		if got.Key != nil {
			name = got.Key.Name
		}
		if name != c.want || got.Lies != c.lies || got.Claim != c.claim {
			t.Errorf("%s: %+v, and not %+v", c.what, got, c)
		}
	}
	two := keylists.NewIndex([]keylists.Key{{Name: "one", Blob: key.Marshal(), PrivateSHA1: strings.Repeat("ab", 20)},
		{Name: "two", Blob: ed.Blob, PrivateSHA1: strings.Repeat("ab", 20)}})
	if got := two.Of(strings.Repeat("ab:", 19)+"ab", ""); got.Key != nil {
		t.Errorf("a fingerprint of two keys is %s's", got.Key.Name)
	}
	if got := new(keylists.Index).Of(shown, line); got.Key != nil || got.SHA256 == "" {
		t.Errorf("the zero Index: %+v", got)
	}
}

func TestFull(t *testing.T) {
	for _, c := range []struct {
		used, limit int
		want        bool
	}{{0, 0, false}, {9000, 0, false}, {4499, 5000, false}, {4500, 5000, true}, {12, 12, true}, {13, 12, true}} {
		if got := keylists.Full(c.used, c.limit); got != c.want {
			t.Errorf("%d of %d: %t", c.used, c.limit, got)
		}
	}
}

// FuzzOf: whatever a cloud says, an entry is the key that it shows or none.
func FuzzOf(f *testing.F) {
	pair, err := keypair.Create(keypair.Ed25519, "x")
	if err != nil {
		f.Fatal(err)
	}
	x := keylists.NewIndex([]keylists.Key{{ID: 1, Name: "one", Blob: pair.Public.Blob}})
	f.Add(pair.Public.Fingerprint(), pair.Public.Line())
	f.Add("ab:cd", "ssh-ed25519 AAAA")
	f.Fuzz(func(t *testing.T, print, public string) {
		m := x.Of(print, public)
		if m.Key != nil && m.Public.Blob != nil && string(m.Public.Blob) != string(pair.Public.Blob) {
			t.Errorf("%q %q is another key", print, public)
		}
	})
}
