package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
)

// figure keeps what was measured for the table of docs/libvirt.md.
func (b *board) figure(t *testing.T, what, figure string) {
	t.Helper()
	t.Logf("%s: %s", what, figure)
	b.keepTime(t, map[string]any{"test": t.Name(), "image": b.image, "what": what, "figure": figure})
}

// TestVMSpeed measures what the service adds to what a machine takes by itself: a launch beside a boot by hand of the same disk and seed, its own share of a restore by
// disk, and its processor time for rotations beside those on the stand-in. It asserts no time: the figures are kept.
func TestVMSpeed(t *testing.T) {
	b := startVMs(t, 171, "debian-12").launchBoard(t, "tender-board", "debian-12")
	launched := b.lastTook
	i := b.instance(t, b.name)
	hand := b.bootByHand(t, i)
	b.figure(t, "launch to a login, beside a boot by hand to a login", fmt.Sprintf("%.2f times (%s and %s)", launched.Seconds()/hand.Seconds(),
		launched.Round(time.Second), hand.Round(time.Second)))

	// Its own share: the steps in which no machine boots, stops or is logged in to.
	b.lostAndRestored(t, "disk")
	id := lastRestore(t, b.demo, b.name)
	w := b.workByID(t, id)
	var events struct{ Items []wire.WorkEvent }
	mustDo(t, json.Unmarshal([]byte(b.api(t, "GET", fmt.Sprintf("/api/v1/work/%d/events?limit=500", id), "").body), &events))
	var own, all time.Duration
	for n, e := range events.Items {
		until := w.EndedAt
		if n+1 < len(events.Items) {
			until = &events.Items[n+1].At
		}
		took := until.Sub(e.At)
		all += took
		switch e.Step {
		case "rescue", "stop", "accept", "login", "checks":
		default:
			own += took
		}
	}
	b.figure(t, "own share of a restore by disk", fmt.Sprintf("%.1f %% (%s of %s)", 100*own.Seconds()/all.Seconds(), own.Round(time.Second), all.Round(time.Second)))

	// Twenty rotations on two machines, one after the other, and the same on the stand-in.
	second := &board{vms: b.vms, name: "tender-board-2", image: b.image, key: "tender-board-2-key-0", keys: b.keys}
	b.must(t, "key", "create", second.key, "-dir", b.keys)
	b.must(t, "instance", "launch", second.name, "-image", b.image, "-size", "small", "-region", vmRegion, "-key", second.key)
	pid := b.service.cmd.Process.Pid
	rotate := func(boards []*board) time.Duration {
		t.Helper()
		before := cpuOf(t, pid)
		for n := range 20 {
			one := boards[n%2]
			next := one.fresh(t)
			one.must(t, "rotate", one.name, "-old", one.key, "-new", next, "-identity", one.file(next), "-grace", "0", "-yes")
			one.key = next
		}
		return cpuOf(t, pid) - before
	}
	real := rotate([]*board{b, second})
	var standins []*board
	for n := range 2 {
		s := &board{vms: b.vms, name: fmt.Sprintf("tender-standin-%d", n), key: fmt.Sprintf("tender-standin-%d-key-0", n), keys: b.keys}
		b.must(t, "key", "create", s.key, "-dir", b.keys)
		b.must(t, "instance", "launch", s.name, "-image", "debian-12", "-size", "small", "-region", "north-pier", "-key", s.key)
		standins = append(standins, s)
	}
	stand := rotate(standins)
	b.figure(t, "processor time of the service for 20 rotations, beside the stand-in", fmt.Sprintf("%.2f times (%s and %s)", real.Seconds()/stand.Seconds(),
		real.Round(10*time.Millisecond), stand.Round(10*time.Millisecond)))
	b.gone(t)
}

// bootByHand boots a machine's twin with virsh alone: the same definition and seed, and a new volume of the same image. It returns how long that took to a login.
func (b *board) bootByHand(t *testing.T, i wire.Instance) time.Duration {
	t.Helper()
	const twin, id = "twin", "11111111-2222-4333-8444-555555555555"
	pool := filepath.Join(b.host.Dir, "pool")
	virsh := func(args ...string) string {
		t.Helper()
		out, err := b.host.Virsh(t.Context(), args...)
		mustDo(t, err)
		return out
	}
	virsh("vol-create-as", "machines", "twin.qcow2", "3G", "--format", "qcow2", "--backing-vol", b.image+".qcow2", "--backing-vol-format", "qcow2")
	xml := virsh("dumpxml", "--inactive", "plumlatch-"+i.CloudID)
	xml = regexp.MustCompile(`(?s)<metadata>.*?</metadata>`).ReplaceAllString(xml, "")
	for from, to := range map[string]string{"<name>plumlatch-" + i.CloudID: "<name>" + twin, "<uuid>" + i.CloudID: "<uuid>" + id,
		filepath.Join(pool, "plumlatch-"+i.CloudID+"-root.qcow2"): filepath.Join(pool, "twin.qcow2"), "plumlatch-" + i.CloudID + "-console.log": "twin-console.log"} {
		if !strings.Contains(xml, from) {
			t.Fatalf("no %s in %s", from, xml)
		}
		xml = strings.ReplaceAll(xml, from, to)
	}
	xml = regexp.MustCompile(`<mac address='[^']*'/>`).ReplaceAllString(xml, "<mac address='52:54:00:11:22:33'/>")
	virsh("define", writeFile(t, xml))
	defer func() {
		_, _ = b.host.Virsh(t.Context(), "destroy", twin)
		virsh("undefine", twin)
		virsh("vol-delete", "twin.qcow2", "--pool", "machines")
		_ = os.Remove(filepath.Join(pool, "twin-console.log"))
		virsh("pool-refresh", "machines")
	}()
	port := freePorts(1)
	began := time.Now()
	virsh("start", twin)
	virsh("qemu-monitor-command", "--hmp", twin, fmt.Sprintf("hostfwd_add hostua-net0 tcp:127.0.0.1:%d-:22", port))
	for deadline := began.Add(10 * time.Minute); ; {
		out, err := exec.Command("ssh", "-F", "none", "-i", b.file(b.key), "-o", "IdentitiesOnly=yes", "-o", "IdentityAgent=none", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no",
			"-o", "UserKnownHostsFile=/dev/null", "-o", "ConnectTimeout=30", "-p", fmt.Sprint(port), i.LoginUser+"@127.0.0.1", "true").CombinedOutput()
		if err == nil {
			return time.Since(began)
		}
		if time.Now().After(deadline) {
			t.Fatalf("by hand nobody gets in: %s", out)
		}
		time.Sleep(500 * time.Millisecond)
	}
}
