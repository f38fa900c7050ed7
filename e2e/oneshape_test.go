package e2e

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/core/wire"
)

// TestOneShape: what used to be modes of rotate are commands: this machine's part, a pause and going on
// belong to work; a pair that is made on the way is of a kind that the policy takes; and small waves say why.
func TestOneShape(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 132)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir := t.TempDir()
	for _, k := range []string{"shape-old", "shape-new", "shape-next"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", "none")
	}
	for n := range 3 {
		d.launchBoard(t, fmt.Sprintf("shape-%d", n+1), "shape-old")
	}
	lastOf := func(kind string) wire.Work {
		t.Helper()
		var list wire.List[wire.Work]
		mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "list", "-kind", kind, "-limit", "1", "-json")), &list))
		if len(list.Items) != 1 {
			t.Fatalf("no work of the kind %s", kind)
		}
		return list.Items[0]
	}

	// Left, and gone on with where the new key is.
	out := d.must(t, "rotate", "shape-1", "-new", "shape-new", "-grace", "0", "-yes", "-detach")
	id := fmt.Sprint(lastOf("rotate").ID)
	contains(t, "detached", out, "next: plumlatch work here "+id+" -identity FILE")
	if r := d.client(t, "", "work", "here", id, "-dir", t.TempDir()); r.code != 1 ||
		!strings.Contains(r.err, "plumlatch work here "+id+" -identity FILE") {
		t.Errorf("where the key is not: %+v", r)
	}
	contains(t, "here", d.must(t, "work", "here", id, "-identity", filepath.Join(dir, "shape-new")),
		"shape-new opens shape-1; shape-old is withdrawn")
	if r := d.client(t, "", "work", "here", id, "-dir", dir); r.code != 1 || !strings.Contains(r.err, "is over") {
		t.Errorf("once more: %+v", r)
	}
	if r := d.client(t, "", "work", "here", id, "-identity", "x", "-ssh-agent"); r.code != 2 {
		t.Errorf("two places: %+v", r)
	}

	// Each wave is one instance, and says why.
	contains(t, "small waves", d.must(t, "rotate", "many", "shape-old", "-new", "shape-new", "-plan"), "Waves of 1, 1;",
		"Each wave is one instance, as 10% of 2 allows no more; -waves 1,x3,50% makes them larger.")
	contains(t, "access in waves", d.must(t, "access", "second", "-all", "-key", "shape-next", "-waves", "1,x1", "-plan"),
		"Waves of 1, 1, 1;")

	// Paused before anything begins, let go on, followed from somewhere else.
	d.must(t, "rotate", "many", "shape-old", "-new", "shape-next", "-dir", t.TempDir(), "-grace", "0", "-yes", "-detach")
	many := fmt.Sprint(lastOf("rotate-many").ID)
	contains(t, "paused", d.must(t, "work", "pause", many), "plumlatch work go-on "+many)
	d.must(t, "key", "prove", "shape-next", "-identity", filepath.Join(dir, "shape-next"))
	waitFor(t, "it waits for a word", func() bool {
		var w wire.Work
		mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "show", many, "-json")), &w))
		return w.WaitsCode == wire.WaitsGoOn
	})
	if r := d.client(t, "", "work", "follow", many); r.code != 1 || !strings.Contains(r.err, "plumlatch work go-on "+many) {
		t.Errorf("followed while it is paused: %+v", r)
	}
	contains(t, "it goes on", d.must(t, "work", "go-on", many, "-detach"), "plumlatch work follow "+many)
	r := d.client(t, "", "work", "follow", many)
	if r.code != 0 || !strings.Contains(r.out, "2 instances shown to work") || !strings.Contains(r.err, "wave 2 of 2") ||
		strings.Contains(r.out, "grace time") {
		t.Errorf("followed to the end: %+v", r)
	}

	// The kind of a pair that is made on the way is one that the policy takes, and the image.
	d.must(t, "policy", "set", writeFile(t, "keys:\n  kinds: [ecdsa-384]\n"))
	d.must(t, "rotate", "shape-1", "-name", "shape-ecdsa", "-dir", dir, "-new-passphrase", "none", "-grace", "0", "-yes")
	contains(t, "its kind", d.must(t, "key", "show", "shape-ecdsa"), "ecdsa-384")
	d.must(t, "instance", "launch", "shape-4", "-image", "debian-12", "-size", "small", "-region", "north-pier/north-pier-a",
		"-new-key", "shape-made", "-dir", dir, "-new-passphrase", "none")
	contains(t, "its kind, too", d.must(t, "key", "show", "shape-made"), "ecdsa-384")
	d.must(t, "policy", "set", writeFile(t, "keys:\n  kinds: [rsa-4096]\n"))
	if r := d.client(t, "", "instance", "launch", "shape-5", "-image", "tideline-2", "-size", "small", "-region",
		"south-pier", "-new-key", "shape-never", "-dir", dir, "-new-passphrase", "none"); r.code != 1 ||
		!strings.Contains(r.err, "takes no kind of key that the policy allows") {
		t.Errorf("no kind is left: %+v", r)
	}
	// No key, on purpose.
	d.must(t, "instance", "launch", "shape-6", "-image", "debian-12", "-size", "small", "-region", "north-pier", "-key", "none")
}
