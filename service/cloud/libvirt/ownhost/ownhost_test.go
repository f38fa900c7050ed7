package ownhost

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
)

// TestNoLinkLeadsOut: the folder is its owner's, and whoever starts the host may be root. What the owner puts there, a link in the place of a
// file that root writes, leads nowhere.
func TestNoLinkLeadsOut(t *testing.T) {
	owner := &syscall.Credential{Uid: uint32(os.Getuid()), Gid: uint32(os.Getgid())}
	for _, place := range []string{"config/libvirt/qemu.conf", "pool/image.qcow2"} {
		dir, victim := t.TempDir(), filepath.Join(t.TempDir(), "victim")
		if err := os.WriteFile(victim, []byte("theirs"), 0o600); err != nil {
			t.Fatal(err)
		}
		h, err := New(dir, owner)
		if err != nil {
			t.Fatal(err)
		}
		if err := h.Close(); err != nil {
			t.Fatal(err)
		}
		link := filepath.Join(dir, place)
		if err := os.Remove(link); err != nil && !os.IsNotExist(err) {
			t.Fatal(err)
		}
		if err := os.Symlink(victim, link); err != nil {
			t.Fatal(err)
		}
		if h, err = New(dir, owner); err == nil { // the second start, as the demo's
			err = h.AddImage(t.Context(), "image.qcow2", os.Args[0])
			_ = h.Close()
		}
		if err == nil {
			t.Errorf("%s: the link was followed, or taken for a file", place)
		}
		if text, err := os.ReadFile(victim); err != nil || string(text) != "theirs" {
			t.Errorf("%s: what the link leads to is %q now: %v", place, text, err)
		}
	}
}

// TestApart: what changes the network and the folders of whoever starts it is refused outside of namespaces of its own, also where somebody has
// set the mark.
func TestApart(t *testing.T) {
	for _, mark := range []string{"", "1"} {
		t.Setenv(apartMark, mark)
		if h, err := NewSystem(t.TempDir()); err == nil {
			h.Close()
			t.Errorf("with the mark %q a libvirtd of the system's kind is laid out here", mark)
		}
	}
}
