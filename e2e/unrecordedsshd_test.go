package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestUnrecordedSSHD: a key that nobody recorded, and a line that trusts an authority, are withdrawn from
// the real sshd, PAM and StrictModes on, by one command each: its key, and a certificate of the authority,
// log in before and not after; the person's key does, and stays.
func TestUnrecordedSSHD(t *testing.T) {
	t.Parallel()
	a, d, dir := startAdoptee(t, ""), shared, t.TempDir()
	d.must(t, "holder", "add", "reef-engineer")
	d.must(t, a.args("reef-board", "-record", "reef-key", "-holder", "reef-engineer")...)
	for _, k := range []string{"intruder", "office", "fitter"} {
		sshKeygen(t, "-q", "-t", "ed25519", "-N", "", "-C", k, "-f", filepath.Join(dir, k))
	}
	sshKeygen(t, "-q", "-s", filepath.Join(dir, "office"), "-I", "fitter", "-n", "deck", filepath.Join(dir, "fitter.pub"))
	text := func(name string) string {
		t.Helper()
		data, err := os.ReadFile(filepath.Join(dir, name+".pub"))
		mustDo(t, err)
		return strings.TrimSpace(string(data))
	}
	before := a.now(t)
	a.put(t, a.file, before+text("intruder")+"\n"+`cert-authority,principals="deck" `+text("office")+"\n", true)
	logsIn := func(identity string) bool {
		t.Helper()
		out, err := exec.Command("ssh", "-F", "none", "-i", identity, "-p", fmt.Sprint(a.port), "-o", "IdentitiesOnly=yes",
			"-o", "IdentityAgent=none", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null",
			"-o", "ConnectTimeout=10", a.user+"@127.0.0.1", "echo in").CombinedOutput()
		return err == nil && strings.Contains(string(out), "in")
	}
	intruder, fitter := filepath.Join(dir, "intruder"), filepath.Join(dir, "fitter")
	if !logsIn(intruder) || !logsIn(fitter) || !logsIn(a.identity) {
		t.Fatal("not everybody gets in before")
	}
	d.must(t, "survey", "reef-board")
	contains(t, "who", d.must(t, "who", "reef-board"), "reef-key", "? intruder", "a certificate authority", "principals deck")
	d.must(t, "key", "prove", "reef-key", "-identity", a.identity)

	d.must(t, "access", "remove", "reef-board", "-key", intruder+".pub", "-yes")
	if logsIn(intruder) || !logsIn(fitter) || !logsIn(a.identity) {
		t.Errorf("after the intruder's key was withdrawn: intruder %t, fitter %t, engineer %t", logsIn(intruder), logsIn(fitter),
			logsIn(a.identity))
	}
	d.must(t, "key", "import", "reef-office", filepath.Join(dir, "office.pub"), "-authority")
	d.must(t, "access", "remove", "reef-board", "-key", "reef-office", "-yes")
	if logsIn(fitter) || !logsIn(a.identity) {
		t.Errorf("after the authority was withdrawn: fitter %t, engineer %t", logsIn(fitter), logsIn(a.identity))
	}
	if now := a.now(t); strings.Contains(now, strings.Fields(text("intruder"))[1]) || strings.Contains(now, "cert-authority,principals=\"deck\"") ||
		!strings.HasPrefix(now, before) {
		t.Errorf("there stands\n%s", now)
	}
	d.must(t, "instance", "remove", "reef-board", "-yes")
}
