package agentcalls

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
)

// TestBox: a box is opened by the agent's own key alone, for the request and the user that it is for, and holds a hash.
func TestBox(t *testing.T) {
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	_, another, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	to, err := ssh.NewPublicKey(pub)
	if err != nil {
		t.Fatal(err)
	}
	const hash = "$y$j9T$F5Jx5fExrKuPp53xLKQ..1$X3DX6M94c7o.9agCG9G317fhZg9SqC.5i5rd.RhAtQ7"
	seal := func(p NewPassword) string {
		t.Helper()
		box, err := p.Seal(to.Marshal())
		if err != nil {
			t.Fatal(err)
		}
		return box
	}
	good := seal(NewPassword{"purser", hash, "N"})
	if strings.Contains(good, "$y$") || !strings.HasPrefix(good, "-----BEGIN AGE ENCRYPTED FILE-----") {
		t.Errorf("the box is %s", good)
	}
	for _, c := range []struct {
		what, box, nonce, user string
		key                    ed25519.PrivateKey
		ok                     bool
	}{
		{"as it is", good, "N", "purser", key, true},
		{"another agent's", good, "N", "purser", another, false},
		{"of a former request", good, "M", "purser", key, false},
		{"for another user", good, "N", "root", key, false},
		{"cut", good[:len(good)/2], "N", "purser", key, false},
		{"none", "", "N", "purser", key, false},
		{"a password in the clear", seal(NewPassword{"purser", "secret", "N"}), "N", "purser", key, false},
		{"a second line", seal(NewPassword{"purser", hash + "\nroot:" + hash, "N"}), "N", "purser", key, false},
		{"another field", seal(NewPassword{"purser", hash + ":0", "N"}), "N", "purser", key, false},
		{"longer than any", good + strings.Repeat(" ", maxBox), "N", "purser", key, false},
	} {
		got, err := OpenBox(c.key, c.box, Request{Nonce: c.nonce}, c.user)
		if c.ok != (err == nil) || c.ok && got != hash || !c.ok && (!errors.Is(err, ErrBox) || got != "") {
			t.Errorf("%s: %q %v", c.what, got, err)
		}
	}
}
