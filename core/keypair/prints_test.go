package keypair

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestPrintsAgainstOpenSSL: each form is what openssl and ssh-keygen make of the same key.
func TestPrintsAgainstOpenSSL(t *testing.T) {
	t.Parallel()
	run := func(in []byte, name string, args ...string) []byte {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Stdin = strings.NewReader(string(in))
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%s %v: %v", name, args, err)
		}
		return out
	}
	// last is the fingerprint at the end of "SHA1(stdin)= aa:bb".
	last := func(out []byte) string {
		fields := strings.Fields(string(out))
		return fields[len(fields)-1]
	}
	for _, kind := range Kinds() {
		t.Run(string(kind), func(t *testing.T) {
			pair, err := Create(kind, "deck")
			if err != nil {
				t.Fatal(err)
			}
			file, err := pair.Write(FormatPKCS8, nil)
			if err != nil {
				t.Fatal(err)
			}
			spki := run(file, "openssl", "pkey", "-pubout", "-outform", "DER")
			if got, want := pair.Public.FingerprintDER(), "MD5:"+last(run(spki, "openssl", "md5", "-c")); got != want {
				t.Errorf("DER: %s, and openssl says %s", got, want)
			}
			der := run(file, "openssl", "pkcs8", "-topk8", "-nocrypt", "-outform", "DER")
			got, err := pair.FingerprintPrivate()
			if want := "SHA1:" + last(run(der, "openssl", "sha1", "-c")); err != nil || got != want {
				t.Errorf("PKCS#8: %s, %v, and openssl says %s", got, err, want)
			}
			public := filepath.Join(t.TempDir(), "deck.pub")
			if err := os.WriteFile(public, []byte(pair.Public.Line()+"\n"), 0o600); err != nil {
				t.Fatal(err)
			}
			for hash, got := range map[string]string{"md5": pair.Public.FingerprintMD5(), "sha256": pair.Public.Fingerprint()} {
				if want := strings.Fields(string(run(nil, "ssh-keygen", "-l", "-E", hash, "-f", public)))[1]; got != want {
					t.Errorf("%s: %s, and ssh-keygen says %s", hash, got, want)
				}
			}
		})
	}
}

// The forms of one key, deck, as openssl and ssh-keygen print them.
const (
	deckSHA256 = "SHA256:FJ2n0bM0C0m0wS9C1aVYxZsJ9rXb2vQe0c7nBqJ5l1M"
	deckMD5    = "MD5:0b:1c:2d:3e:4f:50:61:72:83:94:a5:b6:c7:d8:e9:fa"
	deckSHA1   = "SHA1:0b:1c:2d:3e:4f:50:61:72:83:94:a5:b6:c7:d8:e9:fa:01:02:03:04"
)

func TestParsePrint(t *testing.T) {
	t.Parallel()
	plain := func(s string) string { return strings.ReplaceAll(s[strings.Index(s, ":")+1:], ":", "") }
	for _, c := range []struct {
		name, in, want string
		bare           bool
		err            error
	}{
		{"sha256", deckSHA256, deckSHA256, false, nil},
		{"sha256 with padding", deckSHA256 + "=", deckSHA256, false, nil},
		{"sha256 without prefix", plain(deckSHA256), deckSHA256, true, nil},
		{"sha256 with a small prefix", "sha256:" + plain(deckSHA256), deckSHA256, false, nil},
		{"sha256 in hex", "SHA256:" + strings.Repeat("00", 32), "SHA256:" + strings.Repeat("A", 43), false, nil},
		{"sha256 in hex with colons", "00" + strings.Repeat(":00", 31), "SHA256:" + strings.Repeat("A", 43), false, nil},
		{"md5", deckMD5, deckMD5, false, nil},
		{"md5 without prefix", deckMD5[4:], deckMD5, false, nil},
		{"md5 without colons", "MD5:" + plain(deckMD5), deckMD5, false, nil},
		{"md5 without either, in capitals", strings.ToUpper(plain(deckMD5)), deckMD5, true, nil},
		{"sha1", deckSHA1, deckSHA1, false, nil},
		{"sha1 without prefix", deckSHA1[5:], deckSHA1, false, nil},
		{"sha1 without either", plain(deckSHA1), deckSHA1, true, nil},
		{"sha1 of the blob", "SHA1:" + strings.Repeat("A", 27), "", false, ErrPrintSHA1},
		{"sha256 cut short", deckSHA256[:40], "", false, ErrPrint},
		{"sha256 with odd last bits", "SHA256:" + strings.Repeat("A", 42) + "B", "", false, ErrPrint},
		{"md5 as sha256", "SHA256:" + plain(deckMD5), "", false, ErrPrint},
		{"md5 with a digit too few", deckMD5[:len(deckMD5)-1], "", false, ErrPrint},
		{"md5 with some colons", "MD5:0b1c:" + plain(deckMD5)[6:], "", false, ErrPrint},
		{"nothing behind the prefix", "MD5:", "", false, ErrPrint},
		{"a name", "day-crew", "", false, nil},
		{"a file", "./stray", "", false, nil},
		{"a short hex word", "cafe", "", false, nil},
		{"nothing", "", "", false, nil},
		{"another prefix", "SHA512:abcd", "", false, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p, ok, err := ParsePrint(c.in)
			if !errors.Is(err, c.err) || p.Text != c.want || p.Bare != c.bare || ok != (c.want != "" || c.err != nil) {
				t.Errorf("%+v, %t, %v", p, ok, err)
			}
			if p.Form != "" && PrintOfHex(p.Form, p.Hex()) != p.Text && p.Form != PrintSHA256 {
				t.Errorf("%s comes back as %s", p.Text, PrintOfHex(p.Form, p.Hex()))
			}
		})
	}
}

// FuzzParsePrint: what is taken for a print is taken for the same one again.
func FuzzParsePrint(f *testing.F) {
	for _, s := range []string{deckSHA256, deckMD5, deckSHA1, "SHA256:", "a:b", deckMD5[4:]} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		p, ok, err := ParsePrint(s)
		if !ok || err != nil {
			return
		}
		again, ok, err := ParsePrint(p.Text)
		if !ok || err != nil || again.Text != p.Text || again.Form != p.Form {
			t.Errorf("%q is %s, and that is %s, %t, %v", s, p.Text, again.Text, ok, err)
		}
	})
}
