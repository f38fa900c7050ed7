package e2e

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/rotation"
	"plumlatch/reach"
)

// stewardOf opens the steward's way to a real sshd: its own line, SFTP only,
// among the given other lines.
func stewardOf(t *testing.T, real *realSSHD, others string) reach.Files {
	t.Helper()
	pair, err := keypair.Create(keypair.Ed25519, "steward")
	if err != nil {
		t.Fatal(err)
	}
	home{real.home, real.uid, real.gid}.place(t, authorizedCase{what: "steward"}, others+authkeys.StewardOptions+" "+
		pair.Public.Line()+"\n")
	signer, err := pair.Signer()
	if err != nil {
		t.Fatal(err)
	}
	files, closer, err := reach.SFTP(t.Context(), reach.Policy{AllowLoopback: true}, real.target(), signer)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { closer.Close() })
	return files
}

func publicKey(t testing.TB) keypair.Public {
	t.Helper()
	p, err := keypair.ReadPublic([]byte(newPublic(t)))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

const keysFile = ".ssh/authorized_keys"

// counted is a permit for keys that are taken with nothing in their place, on the
// file as it is now: the guard is asked as if the instance had been counted out.
func counted(t *testing.T, files reach.Files, blobs ...[]byte) rotation.Permit {
	t.Helper()
	data, err := reach.ReadKeys(files, keysFile)
	if err != nil {
		t.Fatal(err)
	}
	q := rotation.Question{Instance: 1, LoginUser: "x", CutOff: true, Files: map[string][]byte{keysFile: data},
		Until: time.Now().Add(time.Minute), Confirm: func(context.Context) error { return nil }}
	for _, b := range blobs {
		q.Taken = append(q.Taken, rotation.Taking{Blob: b})
		q.Openers = append(q.Openers, rotation.Opener{Blob: b})
	}
	p, err := rotation.Judge(q)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// TestSafeEditAgainstSSHD adds, narrows, widens and removes on the real thing,
// and asks the server each time.
func TestSafeEditAgainstSSHD(t *testing.T) {
	t.Parallel()
	real := startSSHD(t)
	crew, gone := publicKey(t), publicKey(t)
	hand := "# by hand, 2019\n\n  " + crew.Line() + "\t the crew\ncommand=\"echo \\\"a, b\\\"\",no-pty " +
		gone.Line() + "\n" + "unreadable\n" + gone.Line() + " again"
	files := stewardOf(t, real, hand+"\n")
	path := filepath.Join(real.home, keysFile)
	before, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	ask := func(p keypair.Public) reach.Answer {
		t.Helper()
		return reach.Probe(t.Context(), reach.Policy{AllowLoopback: true}, real.target(), [][]byte{p.Blob},
			time.Now)[0].Answer
	}
	added := publicKey(t)
	// Without a permit nothing of anybody is taken or narrowed, and the file is not replaced.
	for what, change := range map[string]func(d *authkeys.Document) error{
		"taking": func(d *authkeys.Document) error { d.Remove(gone.Blob); return nil },
		"narrowing": func(d *authkeys.Document) error {
			_, err := d.Narrow(crew.Blob, authkeys.Narrowing{From: "192.0.2.1"})
			return err
		},
		"a comment": func(d *authkeys.Document) error { d.RemoveAppended("# by hand, 2019"); return nil },
	} {
		for _, p := range []rotation.Permit{{}, rotation.Own(gone.Blob), rotation.Own(crew.Blob),
			counted(t, files, added.Blob)} {
			if _, err := reach.Edit(t.Context(), files, keysFile, p,
				reach.EditOptions{Now: time.Now(), Settle: time.Millisecond}, change); !errors.Is(err,
				rotation.ErrNoPermit) {
				t.Errorf("%s with %v: %v", what, p, err)
			}
		}
	}
	if now, err := os.ReadFile(path); err != nil || string(now) != string(before) {
		t.Fatalf("without a permit: %v, and the file is now\n%s", err, now)
	}
	edit := func(change func(*authkeys.Document) error) reach.Edited {
		t.Helper()
		e, err := reach.Edit(t.Context(), files, keysFile, counted(t, files, gone.Blob, added.Blob),
			reach.EditOptions{Now: time.Now(), Settle: 10 * time.Millisecond}, change)
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	if _, err := reach.AddLine(files, keysFile, "restrict "+added.Line(), time.Now()); err != nil ||
		ask(added) != reach.Accepted {
		t.Errorf("adding: %v, %s", err, ask(added))
	}
	end := authkeys.Narrowing{Expires: authkeys.FormatTime(time.Now().Add(-time.Minute))}
	edit(func(d *authkeys.Document) error { _, err := d.Narrow(gone.Blob, end); return err })
	if ask(gone) != reach.Refused || ask(crew) != reach.Accepted {
		t.Errorf("narrowed to a past end: %s; the crew: %s", ask(gone), ask(crew))
	}
	edit(func(d *authkeys.Document) error { _, err := d.Widen(gone.Blob, end); return err })
	if ask(gone) != reach.Accepted {
		t.Errorf("widened again: %s", ask(gone))
	}
	e := edit(func(d *authkeys.Document) error { d.Remove(gone.Blob); d.Remove(added.Blob); return nil })
	if ask(gone) != reach.Refused || ask(added) != reach.Refused || ask(crew) != reach.Accepted {
		t.Errorf("removed: %s, %s; the crew: %s", ask(gone), ask(added), ask(crew))
	}
	after, err := os.ReadFile(path)
	if err != nil || !strings.HasPrefix(string(after), "# by hand, 2019\n\n  "+crew.Line()+
		"\t the crew\nunreadable\n") || strings.Contains(string(after), gone.Line()) {
		t.Errorf("%v: what was written by hand:\n%s\nis now\n%s", err, before, after)
	}
	fi, err := os.Stat(path)
	if err != nil || fi.Mode().Perm() != 0o600 || fmt.Sprint(fi.Sys()) == "" {
		t.Errorf("%v %v", fi, err)
	}
	if out, err := exec.Command("stat", "-c", "%u %g", path).Output(); err != nil ||
		strings.TrimSpace(string(out)) != fmt.Sprintf("%d %d", real.uid, real.gid) {
		t.Errorf("owner: %s %v", out, err)
	}
	if backup, err := os.ReadFile(filepath.Join(real.home, e.Backup)); err != nil ||
		string(backup) != string(e.Before) {
		t.Errorf("backup %s: %v", e.Backup, err)
	}
	// What an edit that was cut off has left is in nobody's way.
	leftover := path + ".plumlatch-new"
	if err := errors.Join(os.WriteFile(leftover, []byte("half of"), 0o600),
		os.Chown(leftover, real.uid, real.gid)); err != nil {
		t.Fatal(err)
	}
	if _, err := reach.AddLine(files, keysFile, gone.Line(), time.Now()); err != nil || ask(gone) != reach.Accepted {
		t.Errorf("adding beside what was left: %v, %s", err, ask(gone))
	}
	if err := errors.Join(os.WriteFile(leftover, []byte("half of"), 0o600),
		os.Chown(leftover, real.uid, real.gid)); err != nil {
		t.Fatal(err)
	}
	edit(func(d *authkeys.Document) error { d.Remove(gone.Blob); return nil })
	if _, err := os.Stat(leftover); ask(gone) != reach.Refused || !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("removing beside what was left: %s, %v", ask(gone), err)
	}
	// An edit that changes nothing writes nothing.
	old, err := os.Stat(path)
	if err != nil {
		t.Fatal(err)
	}
	edit(func(d *authkeys.Document) error { d.Remove(gone.Blob); return nil })
	if now, err := os.Stat(path); err != nil || !os.SameFile(old, now) {
		t.Errorf("nothing to do, and the file was replaced: %v", err)
	}
}

// TestSafeEditUnderOtherWriters edits while others write, and counts.
func TestSafeEditUnderOtherWriters(t *testing.T) {
	t.Parallel()
	real := startSSHD(t)
	files := stewardOf(t, real, "")
	path := filepath.Join(real.home, keysFile)
	key := publicKey(t)
	edits, late, busy := 0, 0, 0
	round := func(n int) {
		t.Helper()
		for range n {
			if _, err := reach.AddLine(files, keysFile, key.Line(), time.Now()); err != nil {
				t.Fatal(err)
			}
			e, err := reach.Edit(t.Context(), files, keysFile, counted(t, files, key.Blob),
				reach.EditOptions{Now: time.Now(), Settle: 20 * time.Millisecond},
				func(d *authkeys.Document) error { d.Remove(key.Blob); return nil })
			if errors.Is(err, reach.ErrBusy) || errors.Is(err, rotation.ErrStale) {
				busy++
				continue
			}
			if err != nil {
				t.Fatal(err)
			}
			edits++
			late += e.Late
			_ = os.Remove(filepath.Join(real.home, e.Backup))
		}
	}
	missing := func(written int64, word string) (lost int) {
		t.Helper()
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		have := map[string]int{}
		for line := range strings.Lines(string(data)) {
			have[strings.TrimSpace(line)]++
		}
		for i := range written {
			switch have[fmt.Sprintf("# %s %d", word, i)] {
			case 0:
				lost++
			case 1:
			default:
				t.Errorf("%s %d stands there %d times", word, i, have[fmt.Sprintf("# %s %d", word, i)])
			}
		}
		return lost
	}
	// One that opens the file for each line it appends: loses nothing.
	var appended atomic.Int64
	writer(t, func(ctx context.Context) {
		for ctx.Err() == nil {
			f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0)
			if err != nil {
				t.Error(err)
				return
			}
			fmt.Fprintf(f, "# append %d\n", appended.Load())
			f.Close()
			appended.Add(1)
			time.Sleep(8 * time.Millisecond)
		}
	}, func() { round(130) })
	if lost := missing(appended.Load(), "append"); lost != 0 {
		t.Errorf("an appender lost %d of %d lines", lost, appended.Load())
	}
	t.Logf("appender: %d lines written, none lost; %d edits, %d found too busy, %d bytes carried over",
		appended.Load(), edits, busy, late)
	if edits < 100 {
		t.Errorf("%d edits went through: too few to mean anything", edits)
	}

	// One that reads, and puts another file in its place: not promised, and counted.
	edits, busy = 0, 0
	var rewritten atomic.Int64
	writer(t, func(ctx context.Context) {
		for ctx.Err() == nil {
			data, err := os.ReadFile(path)
			if err != nil {
				t.Error(err)
				return
			}
			next := path + ".theirs"
			data = append(data, fmt.Sprintf("\n# rewrite %d\n", rewritten.Load())...)
			if err := errors.Join(os.WriteFile(next, data, 0o600), os.Chown(next, real.uid, real.gid),
				os.Rename(next, path)); err != nil {
				t.Error(err)
				return
			}
			rewritten.Add(1)
			time.Sleep(25 * time.Millisecond)
		}
	}, func() { round(60) })
	lost := missing(rewritten.Load(), "rewrite")
	t.Logf("rewriter: %d rewrites, %d lost in the one round trip; %d edits, %d found too busy", rewritten.Load(),
		lost, edits, busy)
	if int64(lost) > rewritten.Load()/4 {
		t.Errorf("a rewriter lost %d of %d: more than a round trip explains", lost, rewritten.Load())
	}
	// When they are done, the last word is ours.
	if _, err := reach.Edit(t.Context(), files, keysFile, counted(t, files, key.Blob),
		reach.EditOptions{Now: time.Now(), Settle: time.Millisecond},
		func(d *authkeys.Document) error { d.Remove(key.Blob); return nil }); err != nil {
		t.Fatal(err)
	}
	if r := reach.Probe(t.Context(), reach.Policy{AllowLoopback: true}, real.target(), [][]byte{key.Blob},
		time.Now)[0]; r.Answer != reach.Refused {
		t.Errorf("the removed key: %+v", r)
	}
}

// writer runs one goroutine while the work is done, and waits for its end.
func writer(t *testing.T, write func(context.Context), work func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		write(ctx)
	}()
	work()
	cancel()
	<-done
}

// TestSafeEditRefuses puts in the file's place what must not be edited.
func TestSafeEditRefuses(t *testing.T) {
	t.Parallel()
	real := startSSHD(t)
	files := stewardOf(t, real, "")
	path := filepath.Join(real.home, keysFile)
	key := publicKey(t)
	good, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	own := func() error { return os.Lchown(path, real.uid, real.gid) }
	for _, c := range []struct {
		what string
		make func() error
		want error
	}{
		{"missing", func() error { return nil }, reach.ErrMissing},
		{"a folder", func() error { return errors.Join(os.Mkdir(path, 0o700), own()) }, reach.ErrIrregular},
		{"a link", func() error {
			return errors.Join(os.WriteFile(path+".real", good, 0o600), os.Symlink("authorized_keys.real", path), own())
		}, reach.ErrLink},
		{"another's", func() error { return os.WriteFile(path, good, 0o644) }, reach.ErrOwner},
		{"50 MB", func() error {
			return errors.Join(os.WriteFile(path, good, 0o600), os.Truncate(path, 50<<20), own())
		}, reach.ErrTooBig},
		{"a pipe", func() error {
			return errors.Join(exec.Command("mkfifo", path).Run(), own())
		}, reach.ErrIrregular},
	} {
		if err := errors.Join(os.RemoveAll(path), c.make()); err != nil {
			t.Fatal(err)
		}
		_, err := reach.AddLine(files, keysFile, key.Line(), time.Now())
		_, editErr := reach.Edit(t.Context(), files, keysFile, rotation.Permit{}, reach.EditOptions{Now: time.Now()},
			func(d *authkeys.Document) error { return d.Add(key.Line()) })
		if !errors.Is(err, c.want) || !errors.Is(editErr, c.want) || !strings.Contains(err.Error(), "authorized_keys") {
			t.Errorf("%s: add: %v; edit: %v; want %v", c.what, err, editErr, c.want)
		}
	}
	// The folder itself is a link.
	sshDir := filepath.Join(real.home, ".ssh")
	if err := errors.Join(os.RemoveAll(path), os.WriteFile(path, good, 0o600), own(),
		os.Rename(sshDir, sshDir+".real"), os.Symlink(".ssh.real", sshDir)); err != nil {
		t.Fatal(err)
	}
	if _, err := reach.AddLine(files, keysFile, key.Line(), time.Now()); !errors.Is(err, reach.ErrLink) {
		t.Errorf("a linked folder: %v", err)
	}
	if err := errors.Join(os.Remove(sshDir), os.Rename(sshDir+".real", sshDir)); err != nil {
		t.Fatal(err)
	}
	t.Run("full disk", func(t *testing.T) { fullDisk(t, real, files, good) })
}

// fullDisk mounts a small disk over the folder, and fills it.
func fullDisk(t *testing.T, real *realSSHD, files reach.Files, good []byte) {
	sshDir := filepath.Join(real.home, ".ssh")
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o",
		fmt.Sprintf("size=64k,mode=700,uid=%d,gid=%d", real.uid, real.gid), "tmpfs",
		sshDir).CombinedOutput(); err != nil {
		t.Skipf("this machine does not let us mount: %s", out)
	}
	defer func() { _ = exec.Command("umount", "-l", sshDir).Run() }()
	path := filepath.Join(sshDir, "authorized_keys")
	if err := errors.Join(os.WriteFile(path, good, 0o600), os.Chown(path, real.uid, real.gid)); err != nil {
		t.Fatal(err)
	}
	filler := filepath.Join(sshDir, "filler")
	_ = os.WriteFile(filler, make([]byte, 128<<10), 0o600) // as much as goes
	fi, err := os.Stat(filler)
	if err != nil {
		t.Fatal(err)
	}
	// One page is free: enough for a backup, and not for the line.
	if err := os.Truncate(filler, fi.Size()-int64(os.Getpagesize())); err != nil {
		t.Fatal(err)
	}
	change := func(d *authkeys.Document) error { return d.Add(newPublic(t)) }
	for _, when := range []string{"full", "read-only"} {
		if _, err := reach.AddLine(files, keysFile, newPublic(t)+" "+strings.Repeat("x", 8<<10),
			time.Now()); err == nil {
			t.Errorf("%s: the append succeeded", when)
		}
		if left, _ := filepath.Glob(filepath.Join(sshDir, ".*before*")); len(left) != 0 {
			t.Errorf("%s: a backup of nothing is left: %v", when, left)
		}
		if _, err := reach.Edit(t.Context(), files, keysFile, rotation.Permit{}, reach.EditOptions{Now: time.Now()},
			change); err == nil {
			t.Errorf("%s: the edit succeeded", when)
		}
		if now, err := os.ReadFile(path); err != nil || string(now) != string(good) {
			t.Errorf("%s: the file changed: %v %q", when, err, now)
		}
		if left, _ := filepath.Glob(filepath.Join(sshDir, "*new*")); len(left) != 0 {
			t.Errorf("%s: left: %v", when, left)
		}
		if out, err := exec.Command("mount", "-o", "remount,ro", sshDir).CombinedOutput(); err != nil {
			t.Skipf("no remount: %s", out)
		}
	}
}
