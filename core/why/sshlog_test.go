package why

import (
	"strings"
	"testing"
)

const greeting = "OpenSSH_9.2p1 Debian-2, OpenSSL 3.0\ndebug1: kex_input_ext_info: " +
	"server-sig-algs=<ssh-ed25519,rsa-sha2-256>\ndebug1: Authentications that can continue: publickey,password\n"

func TestReadSSH(t *testing.T) {
	const took = "debug1: Offering public key: /k ED25519 SHA256:x explicit\ndebug1: Server accepts key: /k " +
		"ED25519 SHA256:x explicit\n"
	for what, c := range map[string]struct {
		text string
		ok   func(Login) bool
	}{
		"in": {took + "Authenticated to 192.0.2.7 ([192.0.2.7]:22) using \"publickey\".\ndebug1: Remote: " +
			"/home/tess/.ssh/authorized_keys:3: key options: agent-forwarding pty user-rc\n",
			func(l Login) bool { return l.Authenticated && l.TookKey && l.OptionsKnown && !l.Forced && !l.Closed }},
		"a forced command": {took + "Authenticated to x.\ndebug1: Remote: /home/tess/.ssh/authorized_keys:3: key " +
			"options: command pty\n", func(l Login) bool { return l.Forced }},
		"refused": {"tess@192.0.2.7: Permission denied (publickey,password).\n",
			func(l Login) bool { return !l.TookKey && !l.Authenticated && len(l.Methods) == 2 }},
		"a second factor": {took + "Authenticated using \"publickey\" with partial success.\ntess@192.0.2.7: " +
			"Permission denied (keyboard-interactive).\n",
			func(l Login) bool { return l.Partial && !l.Authenticated && !l.Closed }},
		"expired": {took + "Your account has expired; please contact your system administrator.\nConnection " +
			"closed by 192.0.2.7 port 22\n",
			func(l Login) bool { return l.Closed && strings.HasPrefix(l.Banner, "Your account has expired") }},
		"no signature": {"debug1: send_pubkey_test: no mutual signature algorithm\n",
			func(l Login) bool { return l.NoMutual }},
		"steering": {"\x1b[31mred\x1b[0m\n", func(l Login) bool { return !strings.ContainsRune(l.Said, 0x1b) }},
	} {
		var l Login
		ReadSSH(greeting+c.text, &l)
		if !c.ok(l) || len(l.SignaturesOf) != 2 {
			t.Errorf("%s: %+v", what, l)
		}
	}
}

func FuzzReadSSH(f *testing.F) {
	f.Add(greeting + "Authenticated to x")
	f.Add("debug1: Remote: a:1: key options: command")
	f.Fuzz(func(t *testing.T, text string) {
		var l Login
		ReadSSH(text, &l)
		for _, s := range append([]string{l.Said, l.Banner}, append(l.Methods, l.SignaturesOf...)...) {
			if strings.ContainsAny(s, "\x1b\n\r\x00") || len(s) > 1<<16 {
				t.Errorf("%q got through", s)
			}
		}
	})
}
