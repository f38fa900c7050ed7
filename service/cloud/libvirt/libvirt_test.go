package libvirt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"plumlatch/core/inbound"
	"plumlatch/service/cloud"
	"plumlatch/service/cloud/drivertest"
	"plumlatch/service/cloud/libvirt/ownhost"
)

// daemon is a libvirtd of an ordinary user, all of whose state is in a folder of the test.
type daemon struct {
	*ownhost.Host
	t *testing.T
}

// bootSector is a program for a machine without a system: it writes "tide" to its first serial port, and halts.
func bootSector() []byte {
	program := []byte{
		0x31, 0xc0, // xor ax, ax
		0x8e, 0xd8, // mov ds, ax
		0xba, 0xf8, 0x03, // mov dx, 0x3f8
		0xbe, 0x16, 0x7c, // mov si, 0x7c16
		0xfc,       // cld
		0xac,       // lodsb
		0x84, 0xc0, // test al, al
		0x74, 0x03, // jz the end
		0xee,       // out dx, al
		0xeb, 0xf8, // jmp lodsb
		0xf4,       // the end: hlt
		0xeb, 0xfd, // jmp the end
	}
	out := make([]byte, 512)
	copy(out, append(program, "tide\r\n\x00"...))
	out[510], out[511] = 0x55, 0xaa
	return out
}

// startDaemon starts a libvirtd of an ordinary user.
func startDaemon(t *testing.T) *daemon {
	t.Helper()
	return daemonBy(t, func(dir string) (*ownhost.Host, error) {
		owner, err := ownhost.Ordinary()
		if err != nil {
			return nil, err
		}
		return ownhost.New(dir, owner)
	})
}

func daemonBy(t *testing.T, lay func(dir string) (*ownhost.Host, error)) *daemon {
	t.Helper()
	dir, err := os.MkdirTemp("", "plv")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	h, err := lay(filepath.Join(dir, "host"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	raw, image := filepath.Join(dir, "base.raw"), filepath.Join(dir, "base.qcow2")
	if err := os.WriteFile(raw, append(bootSector(), make([]byte, 1<<20-512)...), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("qemu-img", "convert", "-f", "raw", "-O", "qcow2", raw, image).CombinedOutput(); err != nil {
		t.Fatalf("qemu-img: %v %s", err, out)
	}
	if err := h.AddImage(t.Context(), "base.qcow2", image); err != nil {
		t.Fatal(err)
	}
	d := &daemon{h, t}
	d.start()
	t.Cleanup(func() {
		if err := h.EndMachines(context.Background()); err != nil {
			t.Error(err)
		}
		h.Stop(syscall.SIGTERM)
		if err := h.Close(); err != nil {
			t.Error(err)
		}
	})
	return d
}

func (d *daemon) start() {
	d.t.Helper()
	if err := d.Start(d.t.Context()); err != nil {
		d.t.Fatal(err)
	}
}

func (d *daemon) virsh(args ...string) (string, error) { return d.Virsh(d.t.Context(), args...) }

func (d *daemon) driver(t *testing.T, addresses string) *Driver {
	t.Helper()
	return d.driverBy(t, "addresses: "+addresses)
}

func (d *daemon) driverBy(t *testing.T, network string) *Driver {
	t.Helper()
	c, err := Read([]byte(fmt.Sprintf(`
hosts:
  - {region: quay-host, title: The quay, socket: %s, pool: machines, %s, processor: emulated}
images:
  - {name: bare, volume: base.qcow2, login_user: debian, disk_gb: 1}
sizes:
  - {name: small, cpus: 1, memory_mb: 64, disk_gb: 2}
power_off: 1s
`, d.Socket, network)))
	if err != nil {
		t.Fatal(err)
	}
	return New(c)
}

// TestDriver: what cloud.Driver promises, against a libvirtd that runs.
func TestDriver(t *testing.T) {
	d := startDaemon(t)
	d.suite(t, d.driver(t, "127.61.1.0/24"))
}

func (d *daemon) suite(t *testing.T, v *Driver) {
	t.Helper()
	drivertest.Run(t, v, drivertest.Options{Region: "quay-host", Image: "bare", Size: "small", Name: "board-", BadName: "Board_1", Patience: 60 * time.Second, NoSystem: true})
	// Nothing is left but what says that they are gone.
	out, err := d.virsh("list", "--all", "--name")
	if err != nil || strings.TrimSpace(out) != "" {
		t.Errorf("domains that are left: %s %v", out, err)
	}
	if out, err = d.virsh("vol-list", "machines"); err != nil {
		t.Fatal(out)
	}
	for line := range strings.Lines(out) {
		if name := strings.Fields(line)[0]; name != "base.qcow2" && !strings.HasSuffix(name, "-removed") {
			t.Errorf("a volume that is left: %s", name)
		}
	}
}

// TestNetworked: the same promises of a libvirtd of the system's kind, whose machines have a network and inbound rules. Of those it is also looked
// at what libvirt itself says, what somebody changes by hand, and what a network that is not ours leads to.
func TestNetworked(t *testing.T) {
	if os.Getenv("PLUMLATCH_VM") == "" {
		t.Skip("a libvirtd of the system's kind is started by make vm-test: it needs root, and two minutes")
	}
	if inside, err := ownhost.Apart("-test.run=^TestNetworked$", "-test.v"); !inside {
		if err != nil {
			t.Fatal(err)
		}
		return
	}
	d := daemonBy(t, ownhost.NewSystem)
	v := d.driverBy(t, "network: 192.168.150.0/24, admit: [192.0.2.0/24]")
	if out, err := d.virsh("nwfilter-list"); err != nil {
		t.Fatal(out)
	}
	d.suite(t, v)
	if out, err := d.virsh("nwfilter-list"); err != nil || strings.Count(out, "plumlatch-") != 1 {
		t.Errorf("filters that are left: %s", out)
	}

	in, err := v.Launch(t.Context(), "rules", cloud.Launch{Name: "ruled", Region: "quay-host", Image: "bare", Size: "small"})
	if err != nil || in.Address != "192.168.150.2" || in.Port != 22 || !in.Static {
		t.Fatalf("launched: %+v %v", in, err)
	}
	groups := func() []cloud.Group {
		t.Helper()
		all, err := v.Groups(t.Context(), in.ID)
		if err != nil {
			t.Fatal(err)
		}
		return all
	}
	if g := groups(); len(g) != 2 || len(g[0].Rules) != 1 || g[0].Rules[0].From.String() != "192.0.2.0/24" || len(g[1].Rules) != 0 {
		t.Errorf("as launched: %+v", g)
	}
	own := groups()[1].ID
	for n, from := range []string{"198.51.100.7/32", "0.0.0.0/0", "10.0.0.0/8"} {
		if _, err := v.Admit(t.Context(), fmt.Sprint("admit", n), own, netip.MustParsePrefix(from), inbound.Ports{}, "for "+from); err != nil {
			t.Fatal(err)
		}
	}
	if r := groups()[1].Rules; len(r) != 3 || r[0].From.String() != "198.51.100.7/32" || r[0].Note != "for 198.51.100.7/32" || r[1].From.Bits() != 0 {
		t.Errorf("rules: %+v", r)
	}
	if text, err := exec.Command("iptables", "-S").CombinedOutput(); err != nil || !strings.Contains(string(text), "-s 198.51.100.7/32") || !strings.Contains(string(text), "--dport 22") {
		t.Errorf("what the host enforces: %v %s", err, text)
	}
	for what, call := range map[string]func() error{
		"a rule of the shared group": func() error {
			_, err := v.Admit(t.Context(), "x1", groups()[0].ID, netip.MustParsePrefix("10.1.0.0/16"), inbound.Ports{}, "")
			return err
		},
		"an IPv6 range": func() error {
			_, err := v.Admit(t.Context(), "x2", own, netip.MustParsePrefix("2001:db8::/32"), inbound.Ports{}, "")
			return err
		},
	} {
		if err := call(); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("%s: %v", what, err)
		}
	}
	// The filter is what counts: what is changed there by hand is what is read.
	text, err := d.virsh("nwfilter-dumpxml", own)
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "filter.xml")
	byHand := func(from, to string) {
		t.Helper()
		if err := os.WriteFile(file, []byte(strings.Replace(text, from, to, 1)), 0o600); err != nil {
			t.Fatal(err)
		}
		if out, err := d.virsh("nwfilter-define", file); err != nil {
			t.Fatal(out)
		}
	}
	byHand("198.51.100.7", "198.51.100.9")
	if r := groups()[1].Rules; r[0].From.String() != "198.51.100.9/32" || r[0].Note != "" {
		t.Errorf("changed by hand: %+v", r)
	}
	byHand("priority='900'", "priority='950'")
	if g, err := v.Groups(t.Context(), in.ID); !errors.Is(err, cloud.ErrRefused) {
		t.Errorf("changed beyond what can be shown: %+v %v", g, err)
	}
	byHand("", "")
	if _, err := v.Remove(t.Context(), "gone", in.ID); err != nil {
		t.Error(err)
	}

	// A network of another range, and one of somebody else's.
	for what, c := range map[string]struct{ network, region string }{"another range": {"192.168.151.0/24", "quay-host"}, "somebody else's": {"192.168.152.0/24", "other"}} {
		if c.region == "other" {
			xml := "<network><name>plumlatch-other</name><forward mode='nat'/><ip address='192.168.152.1' netmask='255.255.255.0'/></network>"
			if err := os.WriteFile(file, []byte(xml), 0o600); err != nil {
				t.Fatal(err)
			}
			if out, err := d.virsh("net-define", file); err != nil {
				t.Fatal(out)
			}
		}
		other := d.driverBy(t, "network: "+c.network)
		other.c.Hosts[0].Region = c.region
		if in, err := other.Launch(t.Context(), what, cloud.Launch{Name: "x", Region: c.region, Image: "bare", Size: "small"}); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("%s: %+v %v", what, in, err)
		}
	}
}

// TestTwoServices: two services that launch on one host at the same moment give no address out twice.
func TestTwoServices(t *testing.T) {
	d := startDaemon(t)
	const each = 3
	type end struct {
		in  cloud.Instance
		err error
	}
	ends := make(chan end, 2*each)
	for service := range 2 {
		v := d.driver(t, "127.61.4.0/24")
		for n := range each {
			go func() {
				var e end
				for range 20 { // what failed is asked for again, under its token
					token := fmt.Sprintf("twice-%d-%d", service, n)
					if e.in, e.err = v.Launch(t.Context(), token, cloud.Launch{Name: "twice", Region: "quay-host", Image: "bare", Size: "small"}); !errors.Is(e.err, cloud.ErrFailed) {
						break
					}
					time.Sleep(time.Duration(50*(service+1)) * time.Millisecond)
				}
				ends <- e
			}()
		}
	}
	taken := map[string]string{}
	for range 2 * each {
		e := <-ends
		if e.err != nil || e.in.Address == "" || taken[e.in.Address] != "" {
			t.Errorf("launched %+v %v; its address is that of %q", e.in, e.err, taken[e.in.Address])
		}
		taken[e.in.Address] = e.in.ID
	}
}

// TestOthers: what somebody else made is listed, and nothing of it is touched.
func TestOthers(t *testing.T) {
	d := startDaemon(t)
	v := d.driver(t, "127.61.2.0/24")
	file := filepath.Join(t.TempDir(), "other.xml")
	if err := os.WriteFile(file, []byte(`<domain type='qemu'><name>their-board</name><memory unit='MiB'>64</memory><vcpu>1</vcpu><os><type arch='x86_64' machine='pc'>hvm</type></os></domain>`),
		0o644); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"define", file}, {"start", "their-board"}} {
		if out, err := d.virsh(args...); err != nil {
			t.Fatalf("%v: %s", args, out)
		}
	}
	before, err := d.virsh("dumpxml", "their-board")
	if err != nil {
		t.Fatal(before)
	}
	all, err := v.List(t.Context(), "quay-host")
	if err != nil || len(all) != 1 || all[0].Name != "their-board" || all[0].State != cloud.Running || len(all[0].MissingRights) != 7 {
		t.Fatalf("listed: %+v %v", all, err)
	}
	id := all[0].ID
	for name, call := range map[string]func(context.Context, string, string) (cloud.Instance, error){"stop": v.Stop, "start": v.Start, "remove": v.Remove} {
		if _, err := call(t.Context(), "t-"+name, id); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := v.SetUserData(t.Context(), "t", id, "x"); !errors.Is(err, cloud.ErrRefused) {
		t.Errorf("user data: %v", err)
	}
	if after, err := d.virsh("dumpxml", "their-board"); err != nil || after != before {
		t.Errorf("it was\n%s\nand is\n%s", before, after)
	}
}

// TestForwardedAgain: a machine that somebody stopped and started by hand is led to again, and its power is not cut.
func TestForwardedAgain(t *testing.T) {
	d := startDaemon(t)
	v := d.driver(t, "127.61.3.0/24")
	in, err := v.Launch(t.Context(), "hand", cloud.Launch{Name: "board-1", Region: "quay-host", Image: "bare", Size: "small", UserData: "#cloud-config\n"})
	if err != nil {
		t.Fatal(err)
	}
	listens := func() bool {
		c, err := net.Dial("tcp", net.JoinHostPort(in.Address, strconv.Itoa(in.Port)))
		if err == nil {
			c.Close()
		}
		return err == nil
	}
	if !listens() {
		t.Fatal("nothing leads to it")
	}
	name := "plumlatch-" + in.ID
	if _, err := v.Stop(t.Context(), "stop", in.ID); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(time.Minute); in.State != cloud.Stopped; time.Sleep(200 * time.Millisecond) {
		if in, err = v.Get(t.Context(), in.ID); err != nil || time.Now().After(deadline) {
			t.Fatal(in, err)
		}
	}
	if out, err := d.virsh("start", name); err != nil {
		t.Fatal(out)
	}
	time.Sleep(1500 * time.Millisecond) // longer than it may take to stop
	if in, err = v.Get(t.Context(), in.ID); err != nil || in.State != cloud.Running || !listens() {
		t.Errorf("started by hand: %+v %v, listens %t", in, err, listens())
	}
	// A libvirtd that was killed, or that hangs, is an answer that did not come; the machine goes on.
	d.Stop(syscall.SIGKILL)
	if _, err := v.Get(t.Context(), in.ID); !errors.Is(err, cloud.ErrFailed) {
		t.Errorf("without libvirtd: %v", err)
	}
	if !listens() {
		t.Error("the machine ended with libvirtd")
	}
	d.start()
	if err := d.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	if _, err := v.Get(ctx, in.ID); !errors.Is(err, cloud.ErrFailed) || !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("libvirtd hangs: %v", err)
	}
	if err := d.Signal(syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	if now, err := v.Get(t.Context(), in.ID); err != nil || now.State != cloud.Running {
		t.Errorf("with libvirtd again: %+v %v", now, err)
	}
	// An address that somebody wrote into the metadata opens nothing, and is no command for QEMU.
	about, err := d.virsh("metadata", name, namespace)
	if err != nil {
		t.Fatal(about)
	}
	about = regexp.MustCompile(` xmlns(:pl)?=["'][^"']*["']|\bpl:`).ReplaceAllString(about, "") // virsh sets the namespace by itself
	for _, bad := range []string{"0.0.0.0", "127.61.9.9", "127.61.3.1:1-:1\nquit"} {
		changed := strings.Replace(about, "<address>"+in.Address+"</address>", "<address>"+bad+"</address>", 1)
		if changed == about {
			t.Fatalf("no address in %s", about)
		}
		if out, err := d.virsh("metadata", name, namespace, "--config", "--key", "pl", "--set", changed); err != nil {
			t.Fatal(out)
		}
		if _, err := v.Get(t.Context(), in.ID); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("the address is %q: %v", bad, err)
		}
	}
	if out, err := d.virsh("metadata", name, namespace, "--config", "--key", "pl", "--set", about); err != nil {
		t.Fatal(out)
	}
	// It is found by its token, also by another service's driver, and is never made twice.
	if again, err := d.driver(t, "127.61.3.0/24").Launch(t.Context(), "hand", cloud.Launch{Name: "board-1", Region: "quay-host", Image: "bare", Size: "small"}); err != nil ||
		again.ID != in.ID {
		t.Errorf("launched again: %+v %v", again, err)
	}
}

// TestSeed: the seed has what it should, as another program reads it.
func TestSeed(t *testing.T) {
	image, err := seedImage("an-id", "board-1", "#cloud-config\nusers: []\n")
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(image[32768+1:32768+6], []byte("CD001")) || string(bytes.TrimRight(image[32768+40:32768+72], " \x00")) != "cidata" {
		t.Errorf("no ISO 9660 with the label cidata: %q", image[32768:32768+80])
	}
	for _, want := range []string{"instance-id: an-id\nlocal-hostname: board-1\n", "#cloud-config\nusers: []\n", "user-data", "meta-data"} {
		if !bytes.Contains(image, []byte(want)) {
			t.Errorf("it lacks %q", want)
		}
	}
}

// TestConfig: what is wrong in a configuration is told, with its place.
func TestConfig(t *testing.T) {
	good := `
hosts:
  - {region: quay-host, socket: /run/libvirt/libvirt-sock, pool: machines, addresses: 127.50.0.0/24}
images:
  - {name: debian-12, volume: debian-12.qcow2, login_user: debian, disk_gb: 3}
sizes:
  - {name: small, cpus: 1, memory_mb: 512, disk_gb: 4}
`
	c, err := Read([]byte(good))
	if err != nil || c.Hosts[0].Port != 2222 || c.Hosts[0].URI != "qemu:///session" || c.Rescue.Image != "debian-12" || c.PowerOff != time.Minute ||
		c.Hosts[0].Addresses != netip.MustParsePrefix("127.50.0.0/24") {
		t.Fatalf("%+v %v", c, err)
	}
	for change, want := range map[[2]string]string{
		{"region: quay-host", "region: Quay"}:                                                    "hosts, number 1: region",
		{"socket: /run/libvirt/libvirt-sock", "socket: libvirt-sock"}:                            "socket: take the whole path",
		{"pool: machines", "pool: a/b"}:                                                          "pool: the name",
		{"127.50.0.0/24", "192.0.2.0/24"}:                                                        "addresses: take a range of loopback addresses",
		{"127.50.0.0/24", "127.50.0.0/31"}:                                                       "addresses: take a range",
		{"pool: machines", "pool: machines, port: 22"}:                                           "port: take 1024",
		{"pool: machines", "pool: machines, uri: 'qemu+ssh://x/system'"}:                         "uri: take",
		{"pool: machines", "pool: machines, processor: fast"}:                                    "processor: take",
		{"pool: machines", "pool: machines, colour: blue"}:                                       "colour",
		{"volume: debian-12.qcow2", "volume: ''"}:                                                "images, number 1: volume",
		{"login_user: debian", "login_user: ''"}:                                                 "login_user",
		{"disk_gb: 3}", "disk_gb: 3, size: large}"}:                                              "there is no size large",
		{"cpus: 1", "cpus: 0"}:                                                                   "sizes, number 1",
		{"sizes:\n", "rescue: {image: other, size: small}\nsizes:\n"}:                            `there is no image "other"`,
		{"disk_gb: 3}", "disk_gb: 3, asks: true}"}:                                               "would wait for somebody at its console",
		{"sizes:\n", "boot: 2h\nsizes:\n"}:                                                       "boot: take",
		{"sizes:\n", "power_off: 1h\nsizes:\n"}:                                                  "power_off",
		{"hosts:\n", "hosts:\n  - {region: a, socket: /s, pool: p, addresses: 127.50.0.0/16}\n"}: "another host has some of",
	} {
		if _, err := Read([]byte(strings.Replace(good, change[0], change[1], 1))); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", change[1], err)
		}
	}
	if _, err := Read(nil); err == nil || !strings.Contains(err.Error(), "docs/libvirt.md") {
		t.Errorf("an empty file: %v", err)
	}
}
