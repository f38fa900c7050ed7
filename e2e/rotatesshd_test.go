package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

// logsIn tries a login with the real ssh.
func (a *adoptee) logsIn(t *testing.T, identity string, command ...string) bool {
	t.Helper()
	args := append([]string{"-F", "none", "-o", "BatchMode=yes", "-o", "IdentitiesOnly=yes", "-o",
		"UserKnownHostsFile=" + writeFile(t, a.hostKeyLine()), "-i", identity, "-p", fmt.Sprint(a.port),
		a.user + "@127.0.0.1"}, command...)
	out, err := exec.Command("ssh", args...).CombinedOutput()
	if err != nil && !strings.Contains(string(out), "Permission denied") &&
		!strings.Contains(string(out), "not available") {
		t.Logf("ssh: %v %s", err, out)
	}
	return err == nil
}

// pair makes a pair in a folder, outside the ledger.
func pairIn(t *testing.T, file string) keypair.Public {
	t.Helper()
	p, err := keypair.Create(keypair.Ed25519, filepath.Base(file))
	mustDo(t, err)
	private, err := p.OpenSSH(nil)
	mustDo(t, err)
	mustDo(t, os.WriteFile(file, private, 0o600))
	mustDo(t, os.WriteFile(file+".pub", []byte(p.Public.Line()+"\n"), 0o644))
	return p.Public
}

// TestRotateSSHD rotates on Debian's own sshd, PAM and StrictModes on, an
// ordinary account without sudo: what others wrote stays byte for byte, a forced
// command is carried over and does not run, and real logins bear it out.
func TestRotateSSHD(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	d := newHome(t, shared)
	dir, none := t.TempDir(), writeFile(t, "")
	name := fmt.Sprintf("rot-door-%d", a.port)
	d.must(t, a.args(name, "-record", name+"-key")...)
	before := a.now(t)
	out := d.must(t, "rotate", name, "-grace", "0", "-yes", "-dir", dir, "-name", name+"-new", "-new-passphrase", none)
	contains(t, "the report", out, name+"-new in the place of "+name+"-key", "withdrawn", name+"-new opens "+name+
		"; "+name+"-key is withdrawn", "15 minutes and a day")
	fresh, err := publicOf(filepath.Join(dir, name+"-new.pub"))
	mustDo(t, err)
	var want strings.Builder
	for line := range strings.Lines(before) {
		if !strings.Contains(line, " engineer@desk") {
			want.WriteString(line)
		}
	}
	if got := a.now(t); got != want.String()+"\n"+fresh.Line()+"\n" {
		t.Errorf("the file is\n%s\n--- wanted\n%s", got, want.String())
	}
	if a.logsIn(t, a.identity, "true") || !a.logsIn(t, filepath.Join(dir, name+"-new"), "true") {
		t.Error("the old key still logs in, or the new one does not")
	}
	who := d.must(t, "who", name)
	contains(t, "who", who, name+"-new", "accepted")
	if strings.Contains(who, name+"-key") {
		t.Errorf("the old key is still on record:\n%s", who)
	}
	contains(t, "its history", d.api(t, "GET", "/api/v1/keys/"+name+"-key/timeline", "").body,
		"withdrawn, for "+name+"-new")

	// A configuration run puts it back: that is on today.
	old, err := os.ReadFile(a.identity + ".pub")
	mustDo(t, err)
	a.put(t, a.file, a.now(t)+string(old), true)
	d.surveyOf(t, name)
	has(t, "put back", d.reasonsOf(t, "instance", name), "key-came-back", true)
	a.put(t, a.file, strings.ReplaceAll(a.now(t), string(old), ""), true)

	// A forced command, with a comment and blanks of somebody's own.
	job := pairIn(t, filepath.Join(dir, "job"))
	ran := filepath.Join(a.home, "ran")
	text := a.now(t) + "#  the night copy --\tdo not touch\n\n  command=\"touch " + ran +
		"\",no-pty,from=\"127.0.0.0/8\" " + job.Line() + "\n\n\n# the end, without a newline"
	a.put(t, a.file, text, true)
	d.surveyOf(t, name)
	d.must(t, "access", "record", name, job.Fingerprint(), "-as", name+"-job")
	out = d.must(t, "rotate", name, "-old", name+"-job", "-grace", "0", "-yes", "-dir", dir, "-name", name+"-job-new",
		"-new-passphrase", none)
	contains(t, "what is carried over", out, "the forced command is carried over: touch "+ran,
		"taken from these addresses only, as before: 127.0.0.0/8")
	jobNew, err := publicOf(filepath.Join(dir, name+"-job-new.pub"))
	mustDo(t, err)
	options := "command=\"touch " + ran + "\",no-pty,from=\"127.0.0.0/8\" "
	if got, want := a.now(t), strings.Replace(text, "  "+options+job.Line()+"\n", "", 1)+"\n"+options+jobNew.Line()+
		"\n"; got != want {
		t.Errorf("the file is\n%q\n--- wanted\n%q", got, want)
	}
	if _, err := os.Stat(ran); err == nil {
		t.Error("the forced command ran")
	}
	if !a.logsIn(t, filepath.Join(dir, name+"-job-new")) {
		t.Error("the job's new key does not log in")
	}
	if _, err := os.Stat(ran); err != nil {
		t.Error("with the new key the forced command does not run")
	}

	// A line that leaves the service out: a login from the engineer's machine shows it.
	desk := pairIn(t, filepath.Join(dir, "desk"))
	a.put(t, a.file, a.now(t)+"from=\"127.0.0.1\" "+desk.Line()+"\n", true)
	d.surveyOf(t, name)
	d.must(t, "access", "record", name, desk.Fingerprint(), "-as", name+"-desk")
	d.must(t, "rotate", name, "-old", name+"-desk", "-grace", "0", "-yes", "-dir", dir, "-name", name+"-desk-new",
		"-new-passphrase", none)
	if a.logsIn(t, filepath.Join(dir, "desk"), "true") || !a.logsIn(t, filepath.Join(dir, name+"-desk-new"), "true") {
		t.Error("from=: the old key still logs in, or the new one does not")
	}
}

// TestRotateGuard: where nobody is known to get a session, or somebody else owns
// the file, nothing of the old key is touched.
func TestRotateGuard(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	d := newHome(t, shared)
	dir, none := t.TempDir(), writeFile(t, "")
	name := fmt.Sprintf("guard-door-%d", a.port)
	d.must(t, a.args(name, "-record", name+"-key")...)
	d.must(t, "key", "create", name+"-new", "-dir", dir, "-new-passphrase", none)
	identity := filepath.Join(dir, name+"-new")
	shell := func(s string) {
		t.Helper()
		if out, err := exec.Command("usermod", "--shell", s, a.user).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	refused := func(what string, parts ...string) {
		t.Helper()
		before := a.now(t)
		r := d.client(t, "", "rotate", name, "-new", name+"-new", "-identity", identity, "-grace", "0", "-yes")
		if r.code != 1 {
			t.Fatalf("%s: %+v", what, r)
		}
		contains(t, what, r.err, parts...)
		// Going back is guarded too: with no session known, the new line stays beside the old one.
		stays := what == "no shell"
		if now := a.now(t); now != before && now != before+"\n" &&
			!(stays && strings.HasPrefix(now, before) && strings.Contains(now, mustRead(t, identity+".pub"))) {
			t.Errorf("%s: the file is\n%q\n--- before\n%q", what, now, before)
		}
		contains(t, what+": the old key", d.must(t, "access", "list", "-instance", name, "-key", name+"-key"),
			"accepted")
	}
	// Adopting proved a login; a door's proof is of the door as it was.
	a.put(t, a.file, a.now(t), true)
	shell("/usr/sbin/nologin")
	_, err := shared.database(t).Exec(t.Context(),
		"UPDATE instances SET changed_at = clock_timestamp() WHERE name = $1; ", name)
	mustDo(t, err)
	_, err = shared.database(t).Exec(t.Context(),
		"UPDATE access SET standing_old = true WHERE instance_id = (SELECT id FROM instances WHERE name = $1)", name)
	mustDo(t, err)
	refused("no shell", "rule 1", "the shell of "+a.user+" is /usr/sbin/nologin", "both "+name+"-key and "+name+
		"-new open "+name+" now")
	shell("/bin/sh")
	mustDo(t, os.Chown(a.file, 0, 0))
	mustDo(t, os.Chmod(a.file, 0o644))
	refused("root's file", "it belongs to somebody else", "as before")
	mustDo(t, os.Chown(a.file, a.uid, a.gid))
	mustDo(t, os.Chmod(a.file, 0o600))
	// The server takes no new key, as its modes are wrong: an old one neither, so it is not even begun.
	d.must(t, "rotate", name, "-new", name+"-new", "-identity", identity, "-grace", "0", "-yes")
	if a.logsIn(t, a.identity, "true") || !a.logsIn(t, identity, "true") {
		t.Error("the old key still logs in, or the new one does not")
	}
}

// TestGraceGivenUpSSHD: the new key is lost during the grace time. The end that the old one
// was given is taken out of its line again, and it opens the door as before.
func TestGraceGivenUpSSHD(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	d := newHome(t, shared)
	dir, none := t.TempDir(), writeFile(t, "")
	name := fmt.Sprintf("given-up-door-%d", a.port)
	d.must(t, a.args(name, "-record", name+"-key")...)
	// Else the lost key's line stays beside it: nobody knows whose the old one is.
	d.must(t, "holder", "add", name+"-person")
	d.must(t, "key", "set", name+"-key", "-holder", name+"-person")
	d.must(t, "key", "prove", name+"-key", "-identity", a.identity)
	before := a.now(t)
	d.must(t, "rotate", name, "-grace", "40s", "-dir", dir, "-name", name+"-new", "-new-passphrase", none)
	if !strings.Contains(a.now(t), "expiry-time=") || !a.logsIn(t, filepath.Join(dir, name+"-new"), "true") {
		t.Fatalf("within the grace time:\n%s", a.now(t))
	}
	d.must(t, "key", "lost", name+"-new", "-yes")
	var list wire.List[wire.Work]
	waitFor(t, "it to go back", func() bool {
		unmarshal(t, d.must(t, "work", "list", "-instance", name, "-kind", "rotate", "-json"), &list)
		return len(list.Items) == 1 && list.Items[0].Over()
	})
	if w := list.Items[0]; w.State != "failed" ||
		!strings.Contains(w.Outcome, "cannot end with its grace time any more") {
		t.Errorf("%s: %s", w.State, w.Outcome)
	}
	if now := strings.TrimSpace(a.now(t)); now != strings.TrimSpace(before) {
		t.Errorf("the file is\n%s\n--- before\n%s", now, before)
	}
	if !a.logsIn(t, a.identity, "true") || a.logsIn(t, filepath.Join(dir, name+"-new"), "true") {
		t.Error("the old key does not log in, or the lost one does")
	}
}

// TestGraceSSHD: the real sshd ends the old key while the service is down; the
// service withdraws its line when it is back.
func TestGraceSSHD(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	s := newSlot(t, 78)
	r, err := s.start("", "")
	mustDo(t, err)
	d := newHome(t, &demo{dir: s.dir, url: r.url, token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	d.must(t, a.args("grace-door", "-record", "grace-key")...)
	before := a.now(t)
	out := d.must(t, "rotate", "grace-door", "-grace", "25s", "-dir", dir, "-name", "grace-new",
		"-new-passphrase", none)
	contains(t, "the report", out, "The server itself ends it, also when the service is down",
		"back to the old key until then: plumlatch work cancel")
	r.end()
	narrowed, end := false, time.Time{}
	for _, l := range authkeys.Parse([]byte(a.now(t)), time.UTC) {
		if l.Comment == "engineer@desk" && !l.Options.Expires.IsZero() {
			narrowed, end = true, l.Options.Expires
		}
	}
	if !narrowed || !a.logsIn(t, a.identity, "true") || !a.logsIn(t, filepath.Join(dir, "grace-new"), "true") {
		t.Errorf("within the grace time (narrowed: %v):\n%s", narrowed, a.now(t))
	}
	time.Sleep(time.Until(end.Add(1500 * time.Millisecond)))
	if a.logsIn(t, a.identity, "true") || !a.logsIn(t, filepath.Join(dir, "grace-new"), "true") {
		t.Error("after its end, with the service down, the old key logs in, or the new one does not")
	}
	if !strings.Contains(a.now(t), "engineer@desk") {
		t.Error("somebody took the line out while the service was down")
	}
	s.serve(t)
	waitFor(t, "the line to be withdrawn", func() bool { return !strings.Contains(a.now(t), "engineer@desk") })
	for line := range strings.Lines(before) {
		if !strings.Contains(line, "engineer@desk") && !strings.Contains(a.now(t), strings.TrimSuffix(line, "\n")) {
			t.Errorf("lost: %q", line)
		}
	}
}
