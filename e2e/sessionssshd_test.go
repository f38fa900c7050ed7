package e2e

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"unicode/utf16"
)

// TestSavedSessions: what "hosts write -sessions" writes logs in to a stock sshd with the client that it is
// for: its build for this system keeps the same values in files, and asks nobody about a host key that it has.
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
	// The same values, as the build for this system keeps them.
	home := t.TempDir()
	mustDo(t, os.MkdirAll(filepath.Join(home, ".putty", "sessions"), 0o700))
	var session, keys strings.Builder
	into := &session
	value := regexp.MustCompile(`^"(.*)"=(?:"(.*)"|dword:([0-9a-f]{8}))$`)
	for line := range strings.SplitSeq(strings.ReplaceAll(string(utf16.Decode(units)), "\r\n", "\n"), "\n") {
		if strings.HasSuffix(line, `\SshHostKeys]`) {
			into = &keys
		}
		m := value.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		text := strings.ReplaceAll(m[2], `\\`, `\`)
		if m[3] != "" {
			var n int
			fmt.Sscanf(m[3], "%x", &n)
			text = fmt.Sprint(n)
		}
		fmt.Fprintf(into, "%s%s%s\n", m[1], map[bool]string{true: "=", false: " "}[into == &session], text)
	}
	mustDo(t, os.WriteFile(filepath.Join(home, ".putty", "sessions", "plumlatch-session-real"), []byte(session.String()), 0o600))
	login := func(known string) (string, error) {
		mustDo(t, os.WriteFile(filepath.Join(home, ".putty", "sshhostkeys"), []byte(known), 0o600))
		cmd := exec.Command("plink", "-batch", "-load", "plumlatch-session-real", "id", "-un")
		cmd.Env = append(os.Environ(), "HOME="+home)
		text, err := cmd.CombinedOutput()
		return string(text), err
	}
	if text, err := login(keys.String()); err != nil || strings.TrimSpace(text) != a.user {
		t.Errorf("a login: %v\n%s\n%s\n%s", err, text, session.String(), keys.String())
	}
	// Another host key than the one that is kept is refused.
	other := []byte(strings.TrimSuffix(keys.String(), "\n"))
	if last := &other[len(other)-1]; *last == '0' {
		*last = '1'
	} else {
		*last = '0'
	}
	if text, err := login(string(other) + "\n"); err == nil {
		t.Errorf("a host key that was changed: %s", text)
	}
}
