package e2e

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"plumlatch/core/why"
)

// realCases break a stock Debian sshd, PAM and StrictModes on, or an ordinary
// account of it.
var realCases = []whyCase{
	{want: "", what: "a door in order", broke: func(*testing.T, *broken) {},
		says: []string{"Nothing is in the way", "gets a session"}},
	{want: why.PortClosed, what: "the server is down", broke: func(t *testing.T, b *broken) { b.real.stop() }},
	{want: why.NotSSH, what: "something else on its port", broke: func(t *testing.T, b *broken) {
		b.real.stop()
		speak(t, b.real.port, func(c net.Conn) { fmt.Fprint(c, "220 ferry mail\r\n") })
	}, says: []string{"ferry mail"}},
	{want: why.PortSilent, what: "something that says nothing", broke: func(t *testing.T, b *broken) {
		b.real.stop()
		speak(t, b.real.port, func(c net.Conn) { _, _ = io.Copy(io.Discard, c) })
	}},
	{want: why.TooManyConns, what: "MaxStartups is reached", broke: func(t *testing.T, b *broken) {
		b.real.serve(t, "-o", "MaxStartups=1:100:1")
		hold(t, b.real.port, 1)
	}},
	{want: why.Penalised, what: "too many from this address", broke: func(t *testing.T, b *broken) {
		// Not 1: on a busy machine the service's last connection may not be gone yet when its next comes.
		b.real.serve(t, "-o", "PerSourceMaxStartups=4")
		hold(t, b.real.port, 4)
	}, says: []string{"the service, from"}},
	{want: why.HostKey, what: "another host key", broke: func(t *testing.T, b *broken) {
		b.real.key = filepath.Join(t.TempDir(), "host")
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f",
			b.real.key).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
		b.real.serve(t)
	}, says: []string{"expected", "found"}},
	{want: why.NoAlgorithm, what: "an ancient cipher only", broke: func(t *testing.T, b *broken) {
		b.real.serve(t, "-o", "Ciphers=aes128-cbc")
	}, says: []string{"aes128-cbc"}},
	{want: why.NoAlgorithm, what: "RSA with SHA-1 only", broke: func(t *testing.T, b *broken) {
		dir := t.TempDir()
		b.identity = filepath.Join(dir, "rsa")
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "rsa", "-b", "3072", "-N", "", "-f",
			b.identity).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
		pub, err := os.ReadFile(b.identity + ".pub")
		mustDo(t, err)
		b.edit(t, b.real.file, func(s string) string { return s + "\n" + string(pub) })
		b.real.serve(t, "-o", "PubkeyAcceptedAlgorithms=ssh-rsa,ssh-ed25519")
	}, says: []string{"ssh-rsa", "PubkeyAcceptedAlgorithms"}},
	{want: why.LoginUser, what: "no such user",
		broke: func(t *testing.T, b *broken) { b.args = []string{"-user", "no-such-captain"} }},
	{want: why.LoginUser, what: "a user that this key does not open",
		broke: func(t *testing.T, b *broken) { b.args = []string{"-user", "nobody"} }},
	{want: why.KeyNotInFile, what: "the line is gone",
		broke: func(t *testing.T, b *broken) { b.engineersLine(t, func(string) string { return "" }) }},
	{want: why.KeyExpired, what: "expired",
		broke: func(t *testing.T, b *broken) { b.engineersLine(t, before(`expiry-time="20200101000000Z" `)) }},
	{want: why.KeyFrom, what: "from elsewhere",
		broke: func(t *testing.T, b *broken) { b.engineersLine(t, before(`from="192.0.2.1" `)) },
		says:  []string{"192.0.2.1"}},
	{want: why.ForcedCommand, what: "a forced command", broke: func(t *testing.T, b *broken) {
		b.engineersLine(t, before(`command="touch `+b.real.home+`/ran" `))
	}, says: []string{"/ran"}},
	{want: why.ServerModes, what: "the home is writable by all",
		broke: func(t *testing.T, b *broken) { mustDo(t, os.Chmod(b.real.home, 0o777)) }},
	{want: why.ServerModes, what: "the file is writable by all",
		broke: func(t *testing.T, b *broken) { mustDo(t, os.Chmod(b.real.file, 0o666)) }},
	{want: why.NoShell, what: "nologin",
		broke: func(t *testing.T, b *broken) { usermod(t, b, "--shell", "/usr/sbin/nologin") },
		says:  []string{"nologin"}},
	{want: why.LoginRefused, what: "a shell that ends at once",
		broke: func(t *testing.T, b *broken) { usermod(t, b, "--shell", "/bin/true") }},
	{want: why.AccountExpired, what: "expired account",
		broke: func(t *testing.T, b *broken) { usermod(t, b, "--expiredate", "1") },
		says:  []string{"expired", "chage"}},
	{want: why.RootOff, what: "root by no key", broke: func(t *testing.T, b *broken) {
		pub, err := os.ReadFile(b.identity + ".pub")
		mustDo(t, err)
		dir, err := os.MkdirTemp("/var/lib", "pl-keys-") // no folder on the way may be another's to write
		mustDo(t, err)
		t.Cleanup(func() { os.RemoveAll(dir) })
		mustDo(t, os.Chmod(dir, 0o755))
		mustDo(t, os.WriteFile(filepath.Join(dir, "root"), pub, 0o600))
		b.real.serve(t, "-o", "PermitRootLogin=no", "-o", "AuthorizedKeysFile="+dir+"/%u .ssh/authorized_keys")
		b.args = []string{"-user", "root"}
	}},
	{want: why.SecondFactor, what: "a code besides the key", broke: func(t *testing.T, b *broken) {
		b.real.serve(t, "-o", "AuthenticationMethods=publickey,keyboard-interactive", "-o",
			"KbdInteractiveAuthentication=yes")
	}},
	{want: why.PasswordOnly, what: "passwords only", broke: func(t *testing.T, b *broken) {
		b.real.serve(t, "-o", "PubkeyAuthentication=no", "-o", "PasswordAuthentication=yes")
	}},
}

func usermod(t *testing.T, b *broken, args ...string) {
	t.Helper()
	if out, err := exec.Command("usermod", append(args, b.user)...).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
}

// speak listens in a server's place.
func speak(t *testing.T, port int, say func(net.Conn)) {
	t.Helper()
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	mustDo(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				say(c)
				c.Close()
			}()
		}
	}()
}

// hold keeps connections open that never log in.
func hold(t *testing.T, port, n int) {
	t.Helper()
	for range n {
		waitFor(t, "a place to hold", func() bool {
			c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
			mustDo(t, err)
			t.Cleanup(func() { c.Close() })
			buf := make([]byte, 4)
			_, err = io.ReadFull(c, buf)
			return err == nil && string(buf) == "SSH-"
		})
	}
}

// TestWhyOnSSHD breaks doors of the real sshd, each in one way.
func TestWhyOnSSHD(t *testing.T) {
	t.Parallel()
	all := append(slices.Clone(realCases), fileCases...)
	codes := map[why.Code]bool{}
	for n, c := range all {
		codes[c.want] = true
		t.Run(fmt.Sprintf("%s: %s", c.want, c.what), func(t *testing.T) {
			t.Parallel()
			a := startAdoptee(t, "")
			dir := t.TempDir()
			b := &broken{d: shared, name: fmt.Sprintf("real-door-%d", n), home: filepath.Join(dir, "home"),
				real: a, user: a.user}
			mustDo(t, os.MkdirAll(filepath.Join(b.home, ".ssh"), 0o700))
			b.identity = filepath.Join(dir, "engineer")
			for _, half := range []string{"", ".pub"} {
				data, err := os.ReadFile(a.identity + half)
				mustDo(t, err)
				mustDo(t, os.WriteFile(b.identity+half, data, 0o600))
			}
			shared.must(t, a.args(b.name, "-record", b.name+"-key")...)
			c.broke(t, b)
			if b.identity != "" && !slices.Contains(b.args, "-passphrase-file") {
				b.shut(t, c.want != "" && c.want != why.TooManyKeys)
			}
			c.check(t, b)
			if _, err := os.Stat(filepath.Join(a.home, "ran")); err == nil {
				t.Error("the forced command was run")
			}
		})
	}
	t.Logf("%d cases, %d causes", len(all), len(codes)-1)
}

// shut uses plain ssh by hand: what why calls a cause must really be in the way.
func (b *broken) shut(t *testing.T, want bool) {
	t.Helper()
	user := b.user
	if n := slices.Index(b.args, "-user"); n >= 0 {
		user = b.args[n+1]
	}
	known := filepath.Join(t.TempDir(), "known")
	mustDo(t, os.WriteFile(known, []byte(b.real.hostKeyLine()), 0o600))
	patience, silence := "60", "20" // a machine may stand still for a while; a door that is shut may say nothing at all
	if want {
		patience, silence = "3", "2"
	}
	cmd := exec.Command("ssh", "-F", "none", "-n", "-o", "BatchMode=yes", "-o", "IdentitiesOnly=yes", "-o",
		"IdentityAgent=none", "-o", "ConnectTimeout="+patience, "-o", "ServerAliveInterval="+silence,
		"-o", "StrictHostKeyChecking=yes", "-o", "UserKnownHostsFile="+known, "-o", "GlobalKnownHostsFile=/dev/null",
		"-i", b.identity, "-p", fmt.Sprint(b.real.port), "-l", user, "127.0.0.1", "echo plumlatch-by-hand")
	out, err := cmd.CombinedOutput()
	if in := err == nil && strings.Contains(string(out), "plumlatch-by-hand"); in == want {
		t.Errorf("ssh by hand gets in: %v (%v %s)", in, err, out)
	}
	// A forced command ran just now, by hand; that why runs none is looked at after this.
	_ = os.Remove(filepath.Join(b.real.home, "ran"))
}

// TestTooManyKeysIsReal counts with the real ssh, agent and sshd how many keys
// fit before the right one.
func TestTooManyKeysIsReal(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	known := filepath.Join(t.TempDir(), "known")
	mustDo(t, os.WriteFile(known, []byte(a.hostKeyLine()), 0o600))
	for n, fits := range map[int]bool{5: true, 6: false} {
		cmd := exec.Command("ssh", "-F", "none", "-n", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=yes", "-o",
			"UserKnownHostsFile="+known, "-i", a.identity, "-p", fmt.Sprint(a.port), "-l", a.user, "127.0.0.1",
			"echo plumlatch-is-in")
		cmd.Env = append(os.Environ(), "SSH_AUTH_SOCK="+crowdedAgent(t, n))
		out, _ := cmd.CombinedOutput()
		if in := strings.Contains(string(out), "plumlatch-is-in"); in != fits ||
			!fits && !strings.Contains(string(out), "Too many authentication failures") {
			t.Errorf("%d keys before it: %s", n, out)
		}
	}
}

// TestWhyByAgent looks for the key in the running agent, and logs in by it.
func TestWhyByAgent(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	shared.must(t, a.args("real-door-agent", "-record", "why-agent-key")...)
	socket := crowdedAgent(t, 2)
	b := &broken{d: shared, name: "real-door-agent", home: t.TempDir(), env: []string{"SSH_AUTH_SOCK=" + socket}}
	if r := b.client(t, "why", b.name, "-ssh-agent", "-json"); r.code != 3 ||
		!strings.Contains(r.out, `"code": "file_missing"`) || !strings.Contains(r.out, "ssh-add") {
		t.Errorf("an agent without the key: %+v", r)
	}
	add := exec.Command("ssh-add", "-q", a.identity)
	add.Env = append(os.Environ(), "SSH_AUTH_SOCK="+socket)
	if out, err := add.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if r := b.client(t, "why", b.name, "-ssh-agent", "-json"); r.code != 0 || !strings.Contains(r.out, "gets a session") {
		t.Errorf("an agent with the key: %+v", r)
	}
}

// TestWhyWithoutASteward says what could not be seen, and claims no more.
func TestWhyWithoutASteward(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	b := &broken{d: shared, name: "real-door-blind", home: t.TempDir(), real: a, user: a.user, identity: a.identity}
	shared.must(t, a.args(b.name, "-no-steward", "-record", "blind-key")...)
	report, r := b.why(t)
	if report.First != nil || r.code != 0 || !strings.Contains(r.out, "gets a session") {
		t.Errorf("in order: %s", r.out)
	}
	b.engineersLine(t, before(`command="touch `+a.home+`/ran" `))
	if report, r = b.why(t); report.First == nil || report.First.Code != why.ForcedCommand {
		t.Errorf("a forced command, as sshd itself tells: %s", r.out)
	}
	if _, err := os.Stat(filepath.Join(a.home, "ran")); err == nil {
		t.Error("the forced command was run")
	}
	b.engineersLine(t, func(string) string { return "" })
	if report, r = b.why(t); report.First == nil || report.First.Code != why.KeyRefused ||
		!strings.Contains(r.out, "no steward") {
		t.Errorf("a key that is refused, and nobody to see why: %s", r.out)
	}
}
