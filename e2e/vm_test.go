package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"plumlatch/core/wire"
	"plumlatch/service/cloud/libvirt/ownhost"
)

// vmEnv names the folder with the images that make vm-images has made. Without it no machine is booted.
const vmEnv = "PLUMLATCH_VM"

// vmRegion is the one host, as a region.
const vmRegion = "ticket-office"

// vms is a service whose cloud is a libvirtd of an ordinary user, started for the test, with machines that boot a real system.
type vms struct {
	*demo   // the client's side
	host    *ownhost.Host
	slot    *slot
	service *replica // nil while none runs
}

// startHost starts a libvirtd of an ordinary user for the test, without any image.
func startHost(t *testing.T) *ownhost.Host {
	t.Helper()
	return startHostBy(t, func(dir string) (*ownhost.Host, error) {
		owner, err := ownhost.Ordinary()
		mustDo(t, err)
		return ownhost.New(dir, owner)
	})
}

func startHostBy(t *testing.T, lay func(dir string) (*ownhost.Host, error)) *ownhost.Host {
	t.Helper()
	dir, err := os.MkdirTemp("", "plv")
	mustDo(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	mustDo(t, os.Chmod(dir, 0o711))
	host, err := lay(filepath.Join(dir, "host"))
	mustDo(t, err)
	mustDo(t, host.Start(t.Context()))
	t.Cleanup(func() {
		if err := host.EndMachines(context.Background()); err != nil {
			t.Error(err)
		}
		host.Stop(syscall.SIGTERM)
		if err := host.Close(); err != nil {
			t.Error(err)
		}
	})
	return host
}

// startVMs starts such a service, with images by name.
func startVMs(t *testing.T, slotNumber int, images ...string) *vms {
	t.Helper()
	needsVMs(t)
	agents := freePorts(1)
	return startVMsOn(t, slotNumber, startHost(t), fmt.Sprintf("addresses: 127.62.%d.0/24", slotNumber%200), []string{"-agent-listen", fmt.Sprintf("127.0.0.1:%d", agents),
		"-agent-program", filepath.Join(bin, "plumlatch-agent")}, images...)
}

// needsVMs skips a test where no images of real machines are.
func needsVMs(t *testing.T) {
	t.Helper()
	if os.Getenv(vmEnv) == "" {
		t.Skip("real machines are booted by make vm-smoke and make vm-test")
	}
}

// startVMsOn starts a service for a host, whose machines are in a network of one kind or the other.
func startVMsOn(t *testing.T, slotNumber int, host *ownhost.Host, network string, options []string, images ...string) *vms {
	t.Helper()
	from := os.Getenv(vmEnv)
	v := &vms{host: host}
	config := fmt.Sprintf("hosts:\n  - {region: %s, title: The ticket office, socket: %s, pool: %s, %s}\n"+
		"sizes:\n  - {name: small, cpus: 1, memory_mb: 512, disk_gb: 3}\nboot: 10m\nimages:\n", vmRegion, v.host.Socket, ownhost.Pool, network)
	for _, name := range images {
		mustDo(t, v.host.AddImage(t.Context(), name+".qcow2", filepath.Join(from, name+".qcow2")))
		login := "debian"
		if name == "debian-12-deck" {
			login = "deck"
		}
		config += fmt.Sprintf("  - {name: %s, volume: %s.qcow2, login_user: %s, disk_gb: 2, asks: %t}\n", name, name, login, strings.HasSuffix(name, "-asks"))
	}
	_, err := v.host.Virsh(t.Context(), "pool-refresh", ownhost.Pool)
	mustDo(t, err)
	v.slot = newSlot(t, slotNumber)
	v.slot.libvirt = filepath.Join(v.slot.dir, "libvirt.yaml")
	mustDo(t, os.WriteFile(v.slot.libvirt, []byte(config), 0o600))
	v.slot.options = append([]string{"-state-limit", "10m"}, options...)
	v.demo = &demo{dir: v.slot.dir, token: v.slot.token}
	t.Cleanup(func() {
		if v.service == nil {
			return
		}
		v.service.end()
		if t.Failed() {
			t.Logf("what the service warned of:\n%s", warnings(v.service.log.String()))
		}
	})
	v.serve(t, "", "")
	return v
}

// serve starts the service, which ends at a point if one is given.
func (v *vms) serve(t *testing.T, point, how string) {
	t.Helper()
	r, err := v.slot.start(point, how)
	mustDo(t, err)
	v.service, v.url = r, r.url
}

// left is what stands on the host: domains, and volumes of the pool.
func (v *vms) left(t *testing.T) []string {
	t.Helper()
	domains, err := v.host.Virsh(t.Context(), "list", "--all", "--name")
	mustDo(t, err)
	volumes, err := v.host.Virsh(t.Context(), "vol-list", ownhost.Pool)
	mustDo(t, err)
	out := strings.Fields(domains)
	for line := range strings.Lines(volumes) {
		f := strings.Fields(line)
		if len(f) == 0 || strings.HasSuffix(f[0], "-removed") {
			continue
		}
		// What a machine writes is a volume only since somebody has had the pool read anew.
		if of, is := strings.CutSuffix(f[0], "-console.log"); !is || !slices.Contains(out, of) {
			out = append(out, f[0])
		}
	}
	slices.Sort(out)
	return out
}

// realSSH logs in with the stock client, by one key and no other.
func (v *vms) realSSH(t *testing.T, i wire.Instance, identity, command string, more ...string) (string, bool) {
	t.Helper()
	var known strings.Builder
	for _, k := range i.HostKeys {
		if i.Port == 22 {
			fmt.Fprintf(&known, "%s %s\n", i.Address, k.PublicKey)
		} else {
			fmt.Fprintf(&known, "[%s]:%d %s\n", i.Address, i.Port, k.PublicKey)
		}
	}
	var out []byte
	var err error
	for range 6 { // a server that is being started anew, or that has its hands full, closes the connection before it says a word
		if out, err = sshOnce(t, i, identity, command, known.String(), more); err == nil || !strings.Contains(string(out), "kex_exchange_identification") {
			break
		}
		time.Sleep(5 * time.Second)
	}
	return string(out), err == nil
}

func sshOnce(t *testing.T, i wire.Instance, identity, command, known string, more []string) ([]byte, error) {
	t.Helper()
	return exec.Command("ssh", append(slices.Clone(more), "-F", "none", "-i", identity, "-o", "IdentitiesOnly=yes", "-o", "IdentityAgent=none", "-o", "BatchMode=yes",
		"-o", "UserKnownHostsFile="+writeFile(t, known), "-o", "StrictHostKeyChecking=yes", "-o", "ConnectTimeout=30", "-p", strconv.Itoa(i.Port),
		i.LoginUser+"@"+i.Address, command)...).CombinedOutput()
}

// board is a machine, the key that opens it, and the folder with the engineer's private keys.
type board struct {
	*vms
	name, image string
	key, keys   string
	before      []string // what stood on the host
	turn        int
	prompts     int // that its console has shown, and that were answered
	took        []string
	lastTook    time.Duration
}

// launchBoard launches it, and gets in by the real ssh.
func (v *vms) launchBoard(t *testing.T, name, image string) *board {
	t.Helper()
	b := &board{vms: v, name: name, image: image, key: name + "-key-0", keys: t.TempDir(), before: v.left(t)}
	v.must(t, "key", "create", b.key, "-dir", b.keys)
	b.timed(t, "launch to a login", func() {
		v.must(t, "instance", "launch", name, "-image", image, "-size", "small", "-region", vmRegion, "-key", b.key)
	})
	b.opens(t, b.key)
	return b
}

func (b *board) timed(t *testing.T, what string, f func()) {
	t.Helper()
	began := time.Now()
	f()
	took := time.Since(began)
	b.lastTook, b.took = took, append(b.took, fmt.Sprintf("%s: %s", what, took.Round(time.Second)))
	t.Log(b.took[len(b.took)-1])
	b.keepTime(t, map[string]any{"test": t.Name(), "image": b.image, "what": what, "seconds": took.Seconds()})
}

// keepTime keeps what make vm-test makes the table of docs/libvirt.md from.
func (b *board) keepTime(t *testing.T, measured map[string]any) {
	t.Helper()
	file := os.Getenv("PLUMLATCH_VM_TIMES")
	if file == "" {
		return
	}
	line, err := json.Marshal(measured)
	mustDo(t, err)
	out, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	mustDo(t, err)
	defer out.Close()
	_, err = out.Write(append(line, '\n'))
	mustDo(t, err)
}

func (b *board) file(key string) string { return filepath.Join(b.keys, key) }

// opens has the real ssh get in by a key, to a system that is Debian 12 and whose login user has sudo.
func (b *board) opens(t *testing.T, key string) {
	t.Helper()
	if out, ok := b.realSSH(t, b.instance(t, b.name), b.file(key), "sudo -n cat /etc/debian_version"); !ok || !strings.HasPrefix(out, "12") {
		t.Fatalf("%s: the real ssh does not get in by %s: %s\n%s", b.name, key, out, b.must(t, "instance", "show", b.name))
	}
}

// shut has the real ssh be refused.
func (b *board) shut(t *testing.T, identity string) {
	t.Helper()
	if out, ok := b.realSSH(t, b.instance(t, b.name), identity, "true"); ok || !strings.Contains(out, "Permission denied") {
		t.Errorf("%s: %s still opens it: %s", b.name, filepath.Base(identity), out)
	}
}

// fresh makes a pair.
func (b *board) fresh(t *testing.T) string {
	t.Helper()
	b.turn++
	name := fmt.Sprintf("%s-key-%d", b.name, b.turn)
	b.must(t, "key", "create", name, "-dir", b.keys)
	return name
}

// lose has the engineer's private key be gone. What a thief would have of it is kept, to be refused later.
func (b *board) lose(t *testing.T) string {
	t.Helper()
	lost := filepath.Join(t.TempDir(), "lost")
	mustDo(t, os.Rename(b.file(b.key), lost))
	b.must(t, "key", "lost", b.key)
	return lost
}

// lostAndRestored loses the private key, and restores access by a route.
func (b *board) lostAndRestored(t *testing.T, route string, more ...string) {
	t.Helper()
	lost, next := b.lose(t), b.fresh(t)
	b.timed(t, "restore by "+route, func() {
		b.must(t, append([]string{"restore", b.name, "-route", route, "-new", next, "-dir", b.keys, "-yes"}, more...)...)
	})
	b.opens(t, next)
	b.shut(t, lost)
	b.key = next
}

// lostAndGranted is the same by a route that waits for somebody else: the holder of another key, or an operator whose signature the machine's
// agent asks for.
func (b *board) lostAndGranted(t *testing.T, route, identity string) {
	t.Helper()
	lost, next := b.lose(t), b.fresh(t)
	b.timed(t, "restore by "+route, func() {
		b.must(t, "restore", b.name, "-route", route, "-new", next, "-detach", "-yes")
		id := lastRestore(t, b.demo, b.name)
		b.until(t, id, "waits for somebody", func(w wire.Work) bool { return w.WaitsCode == wire.WaitsHands })
		b.must(t, "restore", "grant", fmt.Sprint(id), "-identity", identity, "-yes")
		b.until(t, id, "waits for a login", func(w wire.Work) bool { return w.StepName == "login" || w.Over() })
		b.must(t, "key", "prove", next, "-identity", b.file(next))
		b.until(t, id, "ends", func(w wire.Work) bool { return w.Over() })
		if w := b.workByID(t, id); w.State != "done" {
			t.Fatalf("%+v\n%s", w, b.must(t, "work", "report", fmt.Sprint(id)))
		}
	})
	b.opens(t, next)
	b.shut(t, lost)
	b.key = next
}

// until waits until a piece of work has come somewhere; a machine whose processor is emulated takes its time.
func (b *board) until(t *testing.T, id int64, what string, ok func(wire.Work) bool) {
	t.Helper()
	if !cameWithin(5*time.Minute, func() bool { return ok(b.workByID(t, id)) }) {
		t.Fatalf("work %d never %s\n%s", id, what, b.must(t, "work", "show", fmt.Sprint(id)))
	}
}

// gone removes all machines, and has nothing be left on the host.
func (b *board) gone(t *testing.T) {
	t.Helper()
	var all struct{ Items []wire.Instance }
	mustDo(t, json.Unmarshal([]byte(b.must(t, "instance", "list", "-json")), &all))
	for _, i := range all.Items {
		b.must(t, "instance", "remove", i.Name, "-yes")
	}
	if after := b.left(t); !slices.Equal(b.before, after) {
		t.Errorf("on the host stood %v, and now %v", b.before, after)
	}
	t.Logf("%s\n%s", b.name, strings.Join(b.took, "\n"))
}

// TestVMSmoke is one story on a real machine: it is launched, its key is rotated, the private key is lost, and access is restored by the
// disk of the machine, which a rescue machine mounts.
func TestVMSmoke(t *testing.T) {
	b := startVMs(t, 157, "debian-12").launchBoard(t, "quay-board", "debian-12")
	b.must(t, "survey", b.name)
	old, next := b.key, b.fresh(t)
	b.timed(t, "rotate", func() {
		b.must(t, "rotate", b.name, "-old", old, "-new", next, "-identity", b.file(next), "-grace", "0", "-yes")
	})
	b.opens(t, next)
	b.shut(t, b.file(old))
	b.key = next
	b.lostAndRestored(t, "disk")
	b.gone(t)
}

// TestVMRoutes loses the private key of one machine again and again, and restores access by every route that a libvirt host has. Its root is on
// XFS, of which the rescue machine's own has the UUID too.
func TestVMRoutes(t *testing.T) {
	b := startVMs(t, 158, "debian-12-xfs").launchBoard(t, "pontoon-board", "debian-12-xfs")
	b.lostAndRestored(t, "steward")
	second := b.fresh(t)
	b.must(t, "access", "add", b.name, "-key", second)
	b.opens(t, second)
	b.lostAndGranted(t, "second-key", b.file(second))
	b.must(t, "instance", "agent", "install", b.name, "-identity", b.file(b.key), "-verbs", "look,edit", "-operators", b.file(second)+".pub", "-yes")
	b.lostAndGranted(t, "agent", b.file(second))
	b.lostAndRestored(t, "boot-text")
	b.lostAndRestored(t, "disk")
	b.gone(t)
}

// TestVMGuestAgent restores by QEMU's guest agent, which is the cloud's own agent of a libvirt host: by the login user's own shell, through a link, and
// where the machine's owner lets it run no programs.
func TestVMGuestAgent(t *testing.T) {
	b := startVMs(t, 165, "debian-12").launchBoard(t, "buoy-board", "debian-12")
	b.rootUp(t)
	b.lostAndRestored(t, "cloud-agent") // the login user's own shell appends the line
	if line := b.root(t, "tail -c 1 ~debian/.ssh/authorized_keys | od -An -c; stat -c %a:%U ~debian/.ssh/authorized_keys"); line != "  \\n\n600:debian\n" {
		t.Errorf("the file's end, mode and owner: %q", line)
	}
	b.lostAndRestored(t, "lent-key")
	lines := func() string { return b.root(t, "cat ~debian/.ssh/authorized_keys") }
	if !strings.Contains(lines(), "expiry-time=") {
		t.Errorf("no key was lent by a line with an end: %s", lines())
	}
	b.until(t, 1, "has the lent line taken out, by the steward, after its end", func(wire.Work) bool { return !strings.Contains(lines(), "expiry-time=") })
	waitFor(t, "today to be rid of it", func() bool { return !strings.Contains(b.must(t, "today", "-what", "lent-key-stays"), "The cloud lent") })
	b.root(t, "cd ~debian/.ssh && mv authorized_keys real && sudo -u debian ln -s real authorized_keys")
	b.lose(t)
	b.key = b.fresh(t)
	b.must(t, "restore", b.name, "-route", "cloud-agent", "-new", b.key, "-dir", b.keys, "-yes") // no edit of ours goes through a link: the lost key is left, and told
	b.opens(t, b.key)
	if is := b.root(t, "readlink ~debian/.ssh/authorized_keys"); is != "real\n" {
		t.Errorf("the link is %q", is)
	}
	b.root(t, "cd ~debian/.ssh && rm authorized_keys && mv real authorized_keys")
	// A machine whose owner lets the guest agent run no programs: its own call puts another file in the place.
	b.root(t, "echo 'DAEMON_ARGS=\"-b guest-exec\"' >/etc/default/qemu-guest-agent; systemd-run --on-active=2 systemctl restart qemu-guest-agent")
	time.Sleep(5 * time.Second)
	b.rootUp(t)
	b.lostAndRestored(t, "cloud-agent")
	b.gone(t)
}

// TestVMGroup restores by the disk of a machine whose root and home folders lie in a volume group. The rescue machine's own disk was made from the
// same image: it has a group of the same name and of the same UUIDs, which is not to be taken for the other.
func TestVMGroup(t *testing.T) {
	b := startVMs(t, 163, "debian-12-lvm").launchBoard(t, "hold-board", "debian-12-lvm")
	b.rootUp(t)
	if out := b.root(t, "findmnt -n -o SOURCE /; findmnt -n -o SOURCE /home"); out != "/dev/mapper/deck--lines-root\n/dev/mapper/deck--lines-home\n" {
		t.Errorf("it has not the disk that this is about: %s", out)
	}
	ids := "pvs --noheadings -o pv_uuid,vg_uuid,vg_name; lvs --noheadings -o lv_uuid,lv_name"
	before := b.root(t, ids)
	k := &killed{board: b, t: t} // what is mapped must be known again by whoever takes the work over
	points := slices.DeleteFunc(effects("restore-disk"), func(p string) bool {
		return !slices.Contains([]string{"mount", "edit", "unmount"}, strings.Split(p, "/")[1])
	})
	k.lostAndRestored(t, "disk", "", points)
	if k.kills != 9 {
		t.Errorf("the service was killed %d times", k.kills)
	}
	b.rootUp(t)
	if after := b.root(t, ids); after != before {
		t.Errorf("its group was\n%s\nand is\n%s", before, after)
	}
	b.gone(t)
}
