package reach

import (
	"errors"
	"os/exec"
	"strings"
	"testing"
)

// TestHashPassword: the system's own crypt(3), by perl, comes to the same hash, whatever bytes the password has.
func TestHashPassword(t *testing.T) {
	t.Parallel()
	every := make([]byte, 0, 255)
	for b := 1; b < 256; b++ {
		if b != '\n' && b != '\r' {
			every = append(every, byte(b))
		}
	}
	for _, takes := range []string{"yescrypt", "sha512crypt"} {
		seen := map[string]bool{}
		for _, password := range [][]byte{[]byte("mast-lamp-7"), every, []byte("x"), []byte("übergröße ☃"), []byte(strings.Repeat("a", 511))} {
			hash, err := HashPassword(takes, password)
			if err != nil || seen[hash] || strings.ContainsAny(hash, ":\n") || !strings.HasPrefix(hash, map[string]string{"yescrypt": "$y$j9T$", "sha512crypt": "$6$"}[takes]) {
				t.Fatalf("%s of %.20q: %s %v", takes, password, hash, err)
			}
			seen[hash] = true
			cmd := exec.Command("perl", "-e", `local $/; my $p = <STDIN>; print crypt($p, $ARGV[0])`, hash)
			cmd.Stdin = strings.NewReader(string(password))
			out, err := cmd.CombinedOutput()
			if err != nil || string(out) != hash {
				t.Errorf("%s of %.20q is %s, and crypt(3) has %s (%v)", takes, password, hash, out, err)
			}
		}
	}
	for _, bad := range []string{"", "a\nb", "a\rb", "a\x00b", strings.Repeat("a", 512)} {
		if _, err := HashPassword("yescrypt", []byte(bad)); !errors.Is(err, ErrPassword) {
			t.Errorf("%.20q: %v", bad, err)
		}
	}
	if _, err := HashPassword("md5crypt", []byte("x")); err == nil {
		t.Error("a hash that is none of ours")
	}
}
