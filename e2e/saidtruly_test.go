package e2e

import (
	"strings"
	"testing"
)

// TestSaidTruly: what a command says of what it did, or will do, is so.
func TestSaidTruly(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 135)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir := t.TempDir()
	for _, k := range []string{"truly-lost", "truly-mate"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", "none")
	}

	// A static address is not given back by a stop.
	if r := d.client(t, "", "instance", "launch", "truly-front", "-image", "debian-12", "-size", "small", "-region",
		"north-pier", "-key", "truly-lost", "-static-address", "new"); r.code != 0 {
		t.Fatalf("%+v", r)
	}
	d.launchBoard(t, "truly-board", "truly-lost")
	if r := d.client(t, "", "instance", "stop", "truly-front"); r.code == 0 || !strings.Contains(r.out, "stays: it is a static one") {
		t.Errorf("a static address: %+v", r)
	}
	if r := d.client(t, "", "instance", "stop", "truly-board"); r.code == 0 ||
		!strings.Contains(r.out, "is given back; it gets another one when it is started") {
		t.Errorf("a dynamic address: %+v", r)
	}

	// A restore that recorded something does not say that nothing was changed.
	contains(t, "recorded as lost", d.must(t, "restore", "truly-board", "-lost", "truly-lost", "-yes"), "Nothing else was changed.")
	contains(t, "it was recorded before", d.must(t, "restore", "truly-board"), "Nothing was changed.")
}

// TestForgotten: an adopted instance is forgotten, and no cloud is said to be asked.
func TestForgotten(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	d := newHome(t, shared)
	d.must(t, a.args("forgotten-real", "-record", "none")...)
	r := d.client(t, "", "instance", "remove", "forgotten-real", "-yes")
	if r.code != 0 || strings.Contains(r.out+r.err, "asking the cloud") || !strings.Contains(r.out+r.err, "forgotten") {
		t.Errorf("%+v", r)
	}
	survives(t, "forgotten", a.text, a.now(t), 0)
}
