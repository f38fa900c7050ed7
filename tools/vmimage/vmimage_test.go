package main

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestBootSectors: the numbers stand where GRUB's sources have them, the table of partitions stays, and nothing else changes.
func TestBootSectors(t *testing.T) {
	first, second, table := bytes.Repeat([]byte{1}, 512), bytes.Repeat([]byte{2}, 3*512-10), bytes.Repeat([]byte{3}, 512)
	zero, rest, err := bootSectors(first, second, table, 2048)
	if err != nil {
		t.Fatal(err)
	}
	if at := binary.LittleEndian.Uint64(zero[0x5c:]); at != 2048 {
		t.Errorf("the second stage begins at %d", at)
	}
	if !bytes.Equal(zero[0x1b8:], table[0x1b8:]) || len(zero) != 512 {
		t.Error("the table of partitions was changed")
	}
	if at, n := binary.LittleEndian.Uint64(rest[0x1f4:]), binary.LittleEndian.Uint16(rest[0x1fc:]); at != 2049 || n != 2 {
		t.Errorf("the rest is %d sectors from %d on", n, at)
	}
	changed := 0
	for n := range second {
		if second[n] != rest[n] {
			changed++
		}
	}
	if changed > 10 || !bytes.Equal(first[:0x5c], zero[:0x5c]) || first[0] != 1 || second[0x1f4] != 2 {
		t.Errorf("%d bytes changed, or what was given was written to", changed)
	}
	for what, bad := range map[string][3][]byte{"no first stage": {nil, second, table}, "no table": {first, second, nil}, "no second stage": {first, second[:100], table},
		"one that is too long": {first, make([]byte, (biosLength+1)*512), table}} {
		if _, _, err := bootSectors(bad[0], bad[1], bad[2], 2048); err == nil {
			t.Errorf("%s: taken", what)
		}
	}
}

func TestPrototype(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root gives files to others")
	}
	root := t.TempDir()
	for name, mode := range map[string]os.FileMode{"etc": 0o755 | os.ModeDir, "etc/passwd": 0o644, "bin": 0o755 | os.ModeDir, "bin/su": 0o755 | os.ModeSetuid, "a b": 0o600} {
		file := filepath.Join(root, name)
		if mode.IsDir() {
			if err := os.MkdirAll(file, 0o755); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(file, mode); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chown(filepath.Join(root, "etc/passwd"), 7, 8); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("bin/su", filepath.Join(root, "link")); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(root, 0o755); err != nil {
		t.Fatal(err)
	}
	got, err := prototype(root)
	if err != nil {
		t.Fatal(err)
	}
	want := []string{"/", "0 0", "d--755 0 0", "bin d--755 0 0", "su -u-755 0 0 " + root + "/bin/su", "$", "etc d--755 0 0", "passwd ---644 7 8 " + root + "/etc/passwd", "$",
		"link l--777 0 0 bin/su", "$"}
	if lines := strings.Split(strings.TrimSpace(string(got)), "\n"); !slices.Equal(lines, want) {
		t.Errorf("it is\n%s", got)
	}
}

// TestFurnish: what an image must not have is gone, and what it must have is there, also where a package had a link.
func TestFurnish(t *testing.T) {
	root := t.TempDir()
	for _, name := range []string{"etc/ssh/ssh_host_rsa_key", "etc/ssh/sshd_config", "var/lib/dbus/machine-id"} {
		if err := os.MkdirAll(filepath.Join(root, filepath.Dir(name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(root, name), []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	outside := filepath.Join(t.TempDir(), "resolv.conf")
	if err := os.WriteFile(outside, []byte("theirs"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(outside, filepath.Join(root, "etc/resolv.conf")); err != nil {
		t.Fatal(err)
	}
	for range 2 { // again it is the same
		if err := furnish(root, images[2]); err != nil {
			t.Fatal(err)
		}
	}
	if text, err := os.ReadFile(outside); err != nil || string(text) != "theirs" {
		t.Errorf("a link led out of the image: %q %v", text, err)
	}
	for name, there := range map[string]bool{"etc/ssh/ssh_host_rsa_key": false, "etc/ssh/sshd_config": true, "var/lib/dbus/machine-id": false, "etc/fstab": true} {
		if _, err := os.Stat(filepath.Join(root, name)); (err == nil) != there {
			t.Errorf("%s: %v", name, err)
		}
	}
	if text, err := os.ReadFile(filepath.Join(root, "etc/cloud/cloud.cfg.d/90-image.cfg")); err != nil || !strings.Contains(string(text), "name: deck") {
		t.Errorf("the login user: %s %v", text, err)
	}
}

func TestKeyOf(t *testing.T) {
	all, err := keyOf("*.go")
	if err != nil {
		t.Fatal(err)
	}
	root, err := keyOf("root.go")
	if err != nil || all == root || len(root) != 12 {
		t.Errorf("%s and %s: %v", all, root, err)
	}
}
