package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/core/wire"
)

// volumePassphrase opens the encrypted images of tools/vmimage.
const volumePassphrase = "the tide leaves at noon"

// TestVMShut restores by the disk of a machine whose root lies in a volume group within an encrypted partition. The rescue machine's own disk was
// made from the same image: it has the same partition, the same group, and the same UUIDs.
func TestVMShut(t *testing.T) {
	b := startVMs(t, 166, "debian-12-luks").launchBoard(t, "locker-board", "debian-12-luks")
	b.rootUp(t)
	if out := b.root(t, "findmnt -n -o SOURCE /; blkid -p -s TYPE -o value /dev/vda1"); out != "/dev/mapper/deck--lines-root\ncrypto_LUKS\n" {
		t.Fatalf("it has not the disk that this is about: %s", out)
	}
	header := "cryptsetup luksDump /dev/vda1; pvs --noheadings -o pv_uuid,vg_uuid,vg_name"
	before := b.root(t, header)
	lost, next := b.lose(t), b.fresh(t)

	// Without its passphrase nobody gets in, and what is needed is said; the machine runs again.
	r := b.client(t, "", "restore", b.name, "-route", "disk", "-new", next, "-dir", b.keys, "-yes")
	if r.code == 0 || !strings.Contains(r.err, "is encrypted") || !strings.Contains(r.err, "plumlatch restore unlock ") {
		t.Errorf("an encrypted disk: %+v", r)
	}
	waitFor(t, "it is gone back", func() bool { return b.workByID(t, lastRestore(t, b.demo, b.name)).Over() })
	if i := b.instance(t, b.name); i.State != "running" {
		t.Errorf("it is %s", i.State)
	}

	// A passphrase that does not open it changes nothing, and the work waits for another one.
	wrong, right := filepath.Join(t.TempDir(), "wrong"), filepath.Join(t.TempDir(), "right")
	mustDo(t, os.WriteFile(wrong, []byte("the tide leaves at one\n"), 0o600))
	mustDo(t, os.WriteFile(right, []byte(volumePassphrase+"\n"), 0o600))
	b.timed(t, "restore by disk", func() {
		r = b.client(t, "", "restore", "unlock", b.name, "-new", next, "-dir", b.keys, "-unlock", wrong, "-yes")
		if r.code == 0 || !strings.Contains(r.err, "does not open it") || !strings.Contains(r.err, "plumlatch work here") {
			t.Errorf("a wrong passphrase: %+v", r)
		}
		id := lastRestore(t, b.demo, b.name)
		if w := b.workByID(t, id); w.WaitsCode != wire.WaitsHands || w.StepName != "mount" {
			t.Errorf("it waits for %q in %s", w.WaitsFor, w.StepName)
		}
		b.must(t, "work", "here", fmt.Sprint(id), "-identity", b.file(next), "-unlock", right)
	})
	b.opens(t, next)
	b.shut(t, lost)
	b.key = next
	b.rootUp(t)
	if after := b.root(t, header); after != before {
		t.Errorf("its head was\n%s\nand is\n%s", before, after)
	}
	// The service has not seen it: neither its log nor its database has it.
	if strings.Contains(b.service.log.String(), volumePassphrase) {
		t.Error("the passphrase is in the service's log")
	}
	dump, err := exec.Command("pg_dump", "--data-only", b.slot.database).CombinedOutput()
	if err != nil || !bytes.Contains(dump, []byte(b.name)) || bytes.Contains(dump, []byte(volumePassphrase)) {
		t.Errorf("the passphrase is in the database, or that was not seen: %v %.300s", err, dump)
	}
	// Files are copied out of it too.
	out := filepath.Join(t.TempDir(), "out")
	b.must(t, "restore", "fetch", b.name, "/etc/hostname", "/home", "-out", out, "-new", next, "-dir", b.keys, "-unlock", right, "-yes")
	if text, err := os.ReadFile(filepath.Join(out, "etc/hostname")); err != nil || len(text) == 0 {
		t.Errorf("copied: %q %v", text, err)
	}
	b.opens(t, next)
	b.gone(t)
}

// TestVMEnforced restores by the disk of a machine on which a policy of SELinux is enforced: the file has the label that its neighbours have, and the login
// works without anything being labelled anew. The rescue machine enforces it too.
func TestVMEnforced(t *testing.T) {
	b := startVMs(t, 169, "debian-12-selinux").launchBoard(t, "watch-board", "debian-12-selinux")
	look := func() string { // who labelled it is no matter: a policy goes by the type
		t.Helper()
		out, ok := b.realSSH(t, b.instance(t, b.name), b.file(b.key), "cat /sys/fs/selinux/enforce; echo; ls -1dZ .ssh .ssh/authorized_keys; id -Z; test -e /.autorelabel && echo relabel")
		if !ok && !strings.HasPrefix(out, "1\n") {
			t.Fatal(out)
		}
		return strings.ReplaceAll(out, "unconfined_u:object_r", "system_u:object_r")
	}
	before := look()
	if !strings.HasPrefix(before, "1\n") || strings.Count(before, ":ssh_home_t:") != 2 {
		t.Fatalf("it has not the system that this is about: %s", before)
	}
	b.lostAndRestored(t, "disk")
	if after := look(); after != before {
		t.Errorf("it was\n%s\nand is\n%s", before, after)
	}
	// A folder that is not there has no neighbour to go by: the machine labels everything anew at its next boot, by itself.
	if out, ok := b.realSSH(t, b.instance(t, b.name), b.file(b.key), "rm -r .ssh"); !ok {
		t.Fatal(out)
	}
	b.lostAndRestored(t, "disk")
	if after := look(); after != before {
		t.Errorf("of a new file: it was\n%s\nand is\n%s", before, after)
	}
	b.gone(t)
}
