package e2e

import (
	"encoding/json"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"plumlatch/core/wire"
	"plumlatch/service/cloud/libvirt/ownhost"
)

// TestVMNetwork is about machines in a network of libvirt, with a libvirtd of the system's kind in namespaces of its own: rules that let in by
// source address, a rehearsal on a copy that nothing leads out of, and a copy that takes the place of a machine whose private key was lost.
func TestVMNetwork(t *testing.T) {
	needsVMs(t)
	if inside, err := ownhost.Apart("-test.run=^TestVMNetwork$", "-test.v"); !inside {
		mustDo(t, err)
		return
	}
	const gate, beside = "192.168.162.1", "192.168.162.250"
	v := startVMsOn(t, 162, startHostBy(t, ownhost.NewSystem), "network: 192.168.162.0/24, admit: ["+gate+"/32, 192.0.2.0/24]", []string{"-dial-from", gate}, "debian-12")
	b := v.launchBoard(t, "net-board", "debian-12")
	i := b.instance(t, b.name)

	// The host lets in whom a rule lets in, and nobody else, by the address that a connection comes from.
	found, err := exec.Command("ip", "-o", "-4", "address", "show", "to", gate).CombinedOutput()
	if err != nil || len(strings.Fields(string(found))) < 2 {
		t.Fatalf("%v %s", err, found)
	}
	device := strings.Fields(string(found))[1]
	if out, err := exec.Command("ip", "address", "add", beside+"/24", "dev", device).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	from := func() bool {
		out, ok := b.realSSH(t, i, b.file(b.key), "true", "-b", beside, "-o", "ConnectTimeout=8")
		if !ok && !strings.Contains(out, "timed out") {
			t.Errorf("from %s: %s", beside, out)
		}
		return ok
	}
	if from() {
		t.Error("somebody whom no rule lets in gets in")
	}
	b.must(t, "instance", "admit", b.name, "-from", beside, "-for", "1h")
	contains(t, "its rules", b.must(t, "instance", "rules", b.name), beside, gate)
	if !from() {
		t.Error("a rule lets in, and nobody gets in")
	}
	b.must(t, "instance", "unadmit", b.name, "-from", beside, "-yes")
	if from() {
		t.Error("taken away, and in")
	}
	b.opens(t, b.key)

	// A rehearsal: on a copy out of which nothing leads, and which is gone afterwards.
	before := v.left(t)
	b.must(t, "instance", "check", "add", b.name, "tcp:22")
	b.timed(t, "rehearse boot-text", func() {
		contains(t, "rehearsed", b.must(t, "restore", "rehearse", b.name, "-route", "boot-text", "-yes"), "by boot-text somebody would be in after", "the copy and its image are removed")
	})
	if after := v.left(t); !slices.Equal(before, after) {
		t.Errorf("on the host stood %v, and after the rehearsal %v", before, after)
	}

	// A copy takes the place.
	was := b.instance(t, b.name)
	var ways wire.Routes
	mustDo(t, json.Unmarshal([]byte(b.must(t, "restore", b.name, "-json")), &ways))
	n := slices.IndexFunc(ways.Offers, func(o wire.RouteOffer) bool { return o.Route == "copy" })
	if o := ways.Offers[n]; !o.Open || !slices.ContainsFunc(o.Changes, func(s string) bool { return strings.Contains(s, "its address is another one") }) {
		t.Errorf("offered: %+v", o)
	}
	id, ok := b.realSSH(t, was, b.file(b.key), "cat /etc/machine-id")
	if !ok {
		t.Fatal(id)
	}
	lost, next := b.lose(t), b.fresh(t)
	b.timed(t, "restore by copy", func() {
		b.must(t, "restore", "copy", b.name, "-new", next, "-dir", b.keys, "-keep", "1d", "-yes")
	})
	b.opens(t, next)
	b.shut(t, lost)
	now := b.instance(t, b.name)
	if now.CloudID == was.CloudID || now.Address == was.Address || now.HostKeys[0].Fingerprint == was.HostKeys[0].Fingerprint {
		t.Errorf("it was %+v, and is %+v", was, now)
	}
	if out, ok := b.realSSH(t, now, b.file(next), "cat /etc/machine-id"); !ok || out != id {
		t.Errorf("the copy's machine-id is %s, and the old one's %s: what the route says of it is not so", out, id)
	}
	b.key = next
	t.Log(strings.Join(b.took, "\n"))
}
