package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/core/cloudconfig"
)

// TestRestoreSSHD gets back into Debian's own sshd, PAM and StrictModes on, an
// ordinary account without sudo: by the service's own key, by another holder's,
// and by a password that the server takes; real logins bear it out each time.
func TestRestoreSSHD(t *testing.T) {
	t.Parallel()
	d := newHome(t, shared)
	dir, none := t.TempDir(), writeFile(t, "")
	begin := func(t *testing.T, what string, more ...string) (*adoptee, string, string) {
		t.Helper()
		a := startAdoptee(t, "", more...)
		name := fmt.Sprintf("back-%s-%d", what, a.port)
		d.must(t, a.args(name, "-record", name+"-lost")...)
		d.must(t, "key", "lost", name+"-lost")
		return a, name, a.now(t)
	}
	restored := func(t *testing.T, a *adoptee, name, before, fresh string) {
		t.Helper()
		public, err := publicOf(filepath.Join(dir, fresh+".pub"))
		mustDo(t, err)
		var want strings.Builder
		for line := range strings.Lines(before) {
			if !strings.Contains(line, " engineer@desk") {
				want.WriteString(line)
			}
		}
		if got := a.now(t); got != want.String()+"\n"+public.Line()+"\n" {
			t.Errorf("the file is\n%s\n--- wanted\n%s\n%s", got, want.String(), public.Line())
		}
		if a.logsIn(t, a.identity, "true") || !a.logsIn(t, filepath.Join(dir, fresh), "true") {
			t.Error("the lost key still logs in, or the new one does not")
		}
		contains(t, "who", d.must(t, "who", name), fresh, "accepted")
	}

	t.Run("steward", func(t *testing.T) {
		a, name, before := begin(t, "steward")
		compared := d.must(t, "restore", name)
		contains(t, "compared", compared, "steward", "lost: "+name+"-lost", "no cloud of ours is behind it",
			"Nothing was changed")
		if a.now(t) != before {
			t.Error("comparing changed the file")
		}
		if r := d.client(t, "", "restore", name, "-route", "disk", "-yes"); r.code != 1 ||
			!strings.Contains(r.err, "disk is not open") {
			t.Errorf("a closed route: %+v", r)
		}
		if r := d.client(t, "", "restore", name, "-go"); r.code != 1 ||
			!strings.Contains(r.err, "same command with -yes") {
			t.Errorf("without a word: %+v", r)
		}
		out := d.must(t, "restore", name, "-go", "-yes", "-dir", dir, "-name", name+"-new",
			"-new-passphrase", none)
		contains(t, "restored", out, name+"-new opens "+name+"; "+name+"-lost is withdrawn", "In after", "work report")
		restored(t, a, name, before, name+"-new")
	})

	t.Run("second-key", func(t *testing.T) {
		a, name, _ := begin(t, "second")
		d.must(t, "key", "create", name+"-mate", "-dir", dir, "-new-passphrase", none)
		d.must(t, "key", "create", name+"-new", "-dir", dir, "-new-passphrase", none)
		d.must(t, "access", "add", name, "-key", name+"-mate")
		before := a.now(t)
		r := d.client(t, "", "restore", name, "-route", "second-key", "-new", name+"-new", "-yes", "-dir", dir)
		if r.code != 1 || !strings.Contains(r.err, "it waits for the holder of another key") ||
			!strings.Contains(r.err, "plumlatch restore grant ") {
			t.Fatalf("it waits: %+v", r)
		}
		_, rest, _ := strings.Cut(r.err, "restore grant ")
		id, _, _ := strings.Cut(rest, " ")
		has(t, "while it waits", d.reasonsOf(t, "instance", name), "grant-asked", true)
		contains(t, "today", d.must(t, "today", "-instance", name), "plumlatch restore grant "+id+" -identity FILE")
		if r := d.client(t, "", "restore", "grant", id, "-identity", filepath.Join(dir, name+"-mate")); r.code != 1 ||
			!strings.Contains(r.out, "asks to be let into") {
			t.Errorf("a grant without a word: %+v", r)
		}
		contains(t, "granted", d.must(t, "restore", "grant", id, "-identity", filepath.Join(dir, name+"-mate"),
			"-yes"), "Added to .ssh/authorized_keys of "+a.user)
		contains(t, "restored", d.must(t, "work", "here", id, "-dir", dir), name+"-new opens "+name,
			name+"-lost is withdrawn")
		has(t, "granted", d.reasonsOf(t, "instance", name), "grant-asked", false)
		restored(t, a, name, before, name+"-new")
		if !a.logsIn(t, filepath.Join(dir, name+"-mate"), "true") {
			t.Error("the other holder is locked out")
		}
		if r := d.client(t, "", "restore", "grant", id, "-identity", filepath.Join(dir, name+"-mate"),
			"-yes"); r.code != 1 || !strings.Contains(r.err, "waits for no line") {
			t.Errorf("a grant too late: %+v", r)
		}
	})

	t.Run("already-open", func(t *testing.T) {
		a, name, before := begin(t, "open", "-o", "PasswordAuthentication=yes", "-o", "KbdInteractiveAuthentication=no")
		const word = "ebb-and-flow-17"
		set := exec.Command("chpasswd")
		set.Stdin = strings.NewReader(a.user + ":" + word + "\n")
		if out, err := set.CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
		d.must(t, "instance", "probing", name, "yes")
		d.must(t, "survey", name, "-outside")
		d.must(t, "key", "create", name+"-new", "-dir", dir, "-new-passphrase", none)
		args := []string{"restore", name, "-route", "already-open", "-new", name + "-new", "-yes", "-dir", dir,
			"-password-file"}
		r := d.client(t, "", append(args, writeFile(t, "wrong\n"))...)
		if r.code != 1 || !strings.Contains(r.err, "by that password") || strings.Contains(r.err+r.out, "wrong\n") {
			t.Fatalf("a wrong password: %+v", r)
		}
		_, rest, _ := strings.Cut(r.err, "next: plumlatch work here ")
		id, _, _ := strings.Cut(rest, ";")
		out := d.must(t, "work", "here", strings.TrimSpace(id), "-dir", dir, "-password-file",
			writeFile(t, word+"\n"))
		contains(t, "restored", out, name+"-new opens "+name, name+"-lost is withdrawn")
		restored(t, a, name, before, name+"-new")
		for _, kept := range []string{"work list -json", "journal list", "work show " +
			strings.TrimSpace(id) + " -json"} {
			if text := d.must(t, strings.Fields(kept)...); strings.Contains(text, word) {
				t.Errorf("the password is in %s", kept)
			}
		}
	})
}

// TestBootHookSSHD runs the text of the boot-text route as root, as first boot
// does, for an ordinary account of Debian's own sshd: the key logs in then, what
// stood there stays, and links lead nowhere.
func TestBootHookSSHD(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	dir := t.TempDir()
	fresh := pairIn(t, filepath.Join(dir, "fresh"))
	run := func() string {
		t.Helper()
		script, ok := strings.CutPrefix(cloudconfig.BootHook(7, a.user, ".ssh/authorized_keys",
			[]string{fresh.Line()}, "mark7"), "#cloud-boothook\n")
		if !ok {
			t.Fatal("it is no boot hook")
		}
		file := writeFile(t, script)
		mustDo(t, os.Chmod(file, 0o700))
		out, err := exec.Command("sh", file).CombinedOutput()
		if err != nil {
			t.Fatalf("%v %s", err, out)
		}
		return string(out)
	}
	before := a.now(t)
	contains(t, "the first time", run(), "a line was added")
	if text := run(); strings.Contains(text, "added") {
		t.Errorf("twice: %s", text)
	}
	if got := a.now(t); got != before+"\n"+fresh.Line()+"\n" {
		t.Errorf("the file is\n%q", got)
	}
	if !a.logsIn(t, filepath.Join(dir, "fresh"), "true") || !a.logsIn(t, a.identity, "true") {
		t.Error("the new key does not log in, or the old one does not any more")
	}
	// Nothing there yet: made as sshd wants it.
	mustDo(t, os.RemoveAll(filepath.Join(a.home, ".ssh")))
	run()
	if !a.logsIn(t, filepath.Join(dir, "fresh"), "true") {
		t.Error("the new key does not log in where there was no file")
	}
	// Links are not followed.
	victim := filepath.Join(dir, "victim")
	mustDo(t, os.WriteFile(victim, nil, 0o600))
	mustDo(t, os.Remove(a.file))
	mustDo(t, os.Symlink(victim, a.file))
	contains(t, "a link", run(), "is a link; nothing was changed")
	mustDo(t, os.RemoveAll(filepath.Join(a.home, ".ssh")))
	mustDo(t, os.Symlink(dir, filepath.Join(a.home, ".ssh")))
	contains(t, "a linked folder", run(), "is a link; nothing was changed")
	if text := mustRead(t, victim); text != "" {
		t.Errorf("written through a link: %q", text)
	}
}
