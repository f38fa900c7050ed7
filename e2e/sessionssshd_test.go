package e2e

import (
	"bytes"
	"crypto/ed25519"
	"encoding/binary"
	"fmt"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf16"

	"golang.org/x/crypto/ssh"
)

// TestSavedSessions: what "hosts write -sessions" writes is enough to log in to a stock sshd: address, port,
// user, key file, and the host key that its numbers make. The Windows client itself is not run here.
func TestSavedSessions(t *testing.T) {
	t.Parallel()
	a, d, dir := startAdoptee(t, ""), newHome(t, shared), t.TempDir()
	d.must(t, "key", "create", "session-key", "-format", "ppk", "-new-passphrase", "none", "-dir", dir)
	d.must(t, a.args("session-real", "-record", "session-engineer")...)
	d.must(t, "access", "add", "session-real", "-key", "session-key")
	registry := filepath.Join(t.TempDir(), "sessions.reg")
	out := d.must(t, "hosts", "write", "-yes", "-dir", dir, "-sessions", registry)
	contains(t, "written", out, registry+" has 1 session, named plumlatch-NAME", "reg import sessions.reg")
	if r := d.client(t, "", "hosts", "write", "-yes", "-dir", dir, "-sessions", registry); r.code != 1 ||
		!strings.Contains(r.err, "exists, and is not overwritten") {
		t.Errorf("once more: %+v", r)
	}
	// A folder without PPK files has no session.
	if r := d.client(t, "", "hosts", "write", "-yes", "-dir", filepath.Dir(a.identity), "-sessions", registry+"2"); r.code != 1 ||
		!strings.Contains(r.err, "plumlatch key convert ") {
		t.Errorf("without a PPK file: %+v", r)
	}

	data := []byte(mustRead(t, registry))
	if !bytes.HasPrefix(data, []byte{0xff, 0xfe}) {
		t.Fatalf("no byte-order mark: %x", data[:4])
	}
	var units []uint16
	for n := 2; n+1 < len(data); n += 2 {
		units = append(units, binary.LittleEndian.Uint16(data[n:]))
	}
	value := regexp.MustCompile(`^"(.*)"=(?:"(.*)"|dword:([0-9a-f]{8}))$`)
	got := map[string]string{}
	for line := range strings.SplitSeq(strings.ReplaceAll(string(utf16.Decode(units)), "\r\n", "\n"), "\n") {
		if m := value.FindStringSubmatch(line); m != nil {
			got[m[1]] = strings.ReplaceAll(m[2], `\\`, `\`)
			if m[3] != "" {
				n, err := strconv.ParseUint(m[3], 16, 32)
				mustDo(t, err)
				got[m[1]] = fmt.Sprint(n)
			}
		}
	}
	// What stands there is enough for a login, and nothing else is asked: with the host key that its numbers make.
	identity := filepath.Join(dir, "session-key-for-ssh")
	d.must(t, "key", "convert", got["PublicKeyFile"], "-format", "openssh", "-out", identity)
	login := func(numbers string) (string, error) {
		known := filepath.Join(t.TempDir(), "known_hosts")
		mustDo(t, os.WriteFile(known, []byte(fmt.Sprintf("[%s]:%s %s\n", got["HostName"], got["PortNumber"], edwardsLine(t, numbers))), 0o600))
		text, err := exec.Command("ssh", "-F", "none", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=yes", "-o",
			"UserKnownHostsFile="+known, "-o", "GlobalKnownHostsFile=/dev/null", "-o", "IdentitiesOnly=yes", "-i", identity, "-p",
			got["PortNumber"], got["UserName"]+"@"+got["HostName"], "id", "-un").CombinedOutput()
		return string(text), err
	}
	numbers := got["ssh-ed25519@"+got["PortNumber"]+":"+got["HostName"]]
	if text, err := login(numbers); err != nil || strings.TrimSpace(text) != a.user {
		t.Errorf("a login: %v\n%s\n%v", err, text, got)
	}
	// Another host key than the one that is kept is refused.
	other := []byte(numbers)
	if last := &other[len(other)-1]; *last == '0' {
		*last = '1'
	} else {
		*last = '0'
	}
	if text, err := login(string(other)); err == nil || !strings.Contains(text, "Host key verification failed") {
		t.Errorf("a host key that was changed: %v %s", err, text)
	}
}

// edwardsLine is the public line of an Ed25519 key from the coordinates of its point: the y-coordinate in
// little-endian order, with the lowest bit of x on top (RFC 8032 section 5.1.2).
func edwardsLine(t *testing.T, numbers string) string {
	t.Helper()
	text := strings.Split(numbers, ",")
	if len(text) != 2 {
		t.Fatalf("no coordinates: %q", numbers)
	}
	x, okX := new(big.Int).SetString(text[0], 0)
	y, okY := new(big.Int).SetString(text[1], 0)
	if !okX || !okY {
		t.Fatalf("no coordinates: %q", numbers)
	}
	key := y.FillBytes(make([]byte, 32))
	slices.Reverse(key)
	key[31] |= byte(x.Bit(0)) << 7
	public, err := ssh.NewPublicKey(ed25519.PublicKey(key))
	mustDo(t, err)
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))
}
