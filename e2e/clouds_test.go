package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"plumlatch/core/wire"
	"plumlatch/service/cloud/libvirt/ownhost"
)

// TestClouds: one service has two clouds. An instance is asked about at its own, what a cloud lacks is said, one that does not answer
// holds up no other, and one that the service was not started with makes nothing look gone.
func TestClouds(t *testing.T) {
	t.Parallel()
	host := startHost(t)
	raw, image := filepath.Join(t.TempDir(), "bare.raw"), filepath.Join(t.TempDir(), "bare.qcow2")
	mustDo(t, os.WriteFile(raw, make([]byte, 1<<20), 0o600)) // nothing boots from it: no door is asked for here
	if out, err := exec.Command("qemu-img", "convert", "-f", "raw", "-O", "qcow2", raw, image).CombinedOutput(); err != nil {
		t.Fatalf("qemu-img: %v %s", err, out)
	}
	mustDo(t, host.AddImage(t.Context(), "bare.qcow2", image))
	_, err := host.Virsh(t.Context(), "pool-refresh", ownhost.Pool)
	mustDo(t, err)
	s := newSlot(t, 159)
	s.libvirt = filepath.Join(s.dir, "libvirt.yaml")
	s.options = []string{"-state-limit", "60s"} // libvirtd asks QEMU what it can do when it is first met, which takes seconds
	mustDo(t, os.WriteFile(s.libvirt, fmt.Appendf(nil, `
hosts:
  - {region: ticket-office, socket: %s, pool: %s, addresses: 127.62.200.0/24, processor: emulated}
images:
  - {name: bare, volume: bare.qcow2, login_user: deck, disk_gb: 1}
sizes:
  - {name: tiny, cpus: 1, memory_mb: 64, disk_gb: 1}
boot: 1s
power_off: 1s
`, host.Socket, ownhost.Pool), 0o600))
	var running *replica
	end := func() {
		if running != nil {
			running.end()
		}
		running = nil
	}
	t.Cleanup(end)
	d := &demo{dir: s.dir, token: s.token}
	start := func() {
		t.Helper()
		var err error
		running, err = s.start("", "")
		mustDo(t, err)
		d.url = running.url
	}
	start()
	contains(t, "the regions", d.must(t, "region", "list"), "north-pier", "ticket-office")
	contains(t, "the sizes", d.must(t, "size", "list"), "tiny", "not known", "harbour pence")

	// Each is launched where its region is.
	office, pier := "cloud-office", "cloud-pier"
	d.must(t, "instance", "launch", office, "-image", "bare", "-size", "tiny", "-region", "ticket-office", "-key", s.key)
	d.must(t, "instance", "launch", pier, "-image", "debian-12", "-size", "small", "-region", "north-pier", "-key", s.key)
	if i := d.instance(t, office); i.Cloud != "libvirt" || i.Address != "127.62.200.1" || i.State != "running" {
		t.Errorf("%s: %+v", office, i)
	}
	if i := d.instance(t, pier); i.Cloud != "standin" || i.State != "running" {
		t.Errorf("%s: %+v", pier, i)
	}
	if out, err := host.Virsh(t.Context(), "list", "--name"); err != nil || strings.Count(out, "plumlatch-") != 1 {
		t.Errorf("on the host: %s %v", out, err)
	}
	// An image of the other cloud's region is told with where it is.
	if r := d.client(t, "", "instance", "launch", "cloud-wrong", "-image", "bare", "-size", "small", "-region", "north-pier", "-key", s.key); r.code == 0 ||
		!strings.Contains(r.err, "ticket-office has it") {
		t.Errorf("the other cloud's image: %+v", r)
	}
	if r := d.client(t, "", "instance", "launch", "cloud-wrong", "-image", "bare", "-size", "tiny", "-region", "nowhere", "-key", s.key); r.code == 0 ||
		!strings.Contains(r.err, "north-pier") || !strings.Contains(r.err, "ticket-office") {
		t.Errorf("a region that there is not: %+v", r)
	}
	// What one lacks, and the other has.
	if r := d.client(t, "", "static-address", "reserve", "office-address", "-region", "ticket-office"); r.code == 0 || !strings.Contains(r.err, "no addresses to reserve") {
		t.Errorf("an address where there is none: %+v", r)
	}
	if r := d.client(t, "", "instance", "rules", office); r.code == 0 || !strings.Contains(r.err, "no inbound rules") {
		t.Errorf("rules where there are none: %+v", r)
	}
	contains(t, "rules", d.must(t, "instance", "rules", pier), "127.0.0.1/32")
	var ways wire.Routes
	mustDo(t, json.Unmarshal([]byte(d.must(t, "restore", office, "-json")), &ways))
	for _, o := range ways.Offers {
		if o.Open && o.Route == "copy" {
			t.Errorf("a way that this cloud has not: %+v", o)
		}
	}
	d.must(t, "instance", "stop", office, "-yes")
	if i := d.instance(t, office); i.State != "stopped" {
		t.Errorf("stopped: %+v", i)
	}
	if i := d.instance(t, pier); i.State != "running" {
		t.Errorf("the other one: %+v", i)
	}

	// One that does not answer: the other goes on, launches too, and nothing is taken for gone.
	mustDo(t, host.Signal(syscall.SIGSTOP))
	t.Cleanup(func() { _ = host.Signal(syscall.SIGCONT) })
	d.must(t, "instance", "launch", "cloud-pier-2", "-image", "debian-12", "-size", "small", "-region", "north-pier", "-key", s.key)
	d.must(t, "instance", "stop", pier, "-yes")
	mustDo(t, host.Signal(syscall.SIGCONT))
	end()

	// Without the option it is not seen, and not gone.
	file := s.libvirt
	s.libvirt = ""
	start()
	if r := d.client(t, "", "why", office); !strings.Contains(r.out+r.err, "not started with the cloud libvirt") {
		t.Errorf("why: %+v", r)
	}
	d.client(t, "", "discover")
	if i := d.instance(t, office); i.State != "stopped" || i.VanishedAt != nil {
		t.Errorf("without its cloud: %+v", i)
	}
	end()
	s.libvirt = file
	start()
	d.must(t, "instance", "start", office)
	for _, name := range []string{office, pier, "cloud-pier-2"} {
		d.must(t, "instance", "remove", name, "-yes")
	}
	if out, err := host.Virsh(t.Context(), "list", "--all", "--name"); err != nil || strings.TrimSpace(out) != "" {
		t.Errorf("left on the host: %s %v", out, err)
	}
}
