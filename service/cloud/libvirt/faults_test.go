package libvirt

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"plumlatch/service/cloud"
)

// launchBare launches a machine without a system.
func launchBare(t *testing.T, v *Driver, token string) cloud.Instance {
	t.Helper()
	in, err := v.Launch(t.Context(), token, cloud.Launch{Name: "board-1", Region: "quay-host", Image: "bare", Size: "small", UserData: "#cloud-config\n"})
	if err != nil {
		t.Fatal(err)
	}
	return in
}

func (d *daemon) must(args ...string) string {
	d.t.Helper()
	out, err := d.virsh(args...)
	if err != nil {
		d.t.Fatalf("virsh %v: %v %s", args, err, out)
	}
	return out
}

// stopped stops a machine and waits until it is.
func stopped(t *testing.T, v *Driver, token, id string) {
	t.Helper()
	if _, err := v.Stop(t.Context(), token, id); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(100 * time.Millisecond) {
		in, err := v.Get(t.Context(), id)
		if err == nil && in.State == cloud.Stopped {
			return
		}
		if time.Now().After(deadline) {
			t.Fatal(in, err)
		}
	}
}

// TestSockets: a socket that is not there, or whose peer is not libvirt, is an answer that did not come: it ends with its context, and says where it was asked.
func TestSockets(t *testing.T) {
	dir := t.TempDir()
	serve := func(name string, f func(net.Conn)) string {
		file := filepath.Join(dir, name)
		l, err := net.Listen("unix", file)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { l.Close() })
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go func() {
					defer c.Close()
					f(c)
				}()
			}
		}()
		return file
	}
	noRights := serve("rights", func(net.Conn) {})
	if err := os.Chmod(noRights, 0); err != nil {
		t.Fatal(err)
	}
	for what, socket := range map[string]string{
		"not there": filepath.Join(dir, "none"),
		"a file":    writeText(t, "no socket"),
		"closes":    serve("closes", func(net.Conn) {}),
		"silent":    serve("silent", func(c net.Conn) { _, _ = io.Copy(io.Discard, c) }),
		"another protocol": serve("other", func(c net.Conn) {
			_, _ = c.Write([]byte("SSH-2.0-OpenSSH_9.2\r\n"))
			_, _ = io.Copy(io.Discard, c)
		}),
		"floods": serve("floods", func(c net.Conn) {
			for block := make([]byte, 1<<16); ; {
				if _, err := c.Write(block); err != nil {
					return
				}
			}
		}),
		"the longest packet": serve("long", func(c net.Conn) {
			_, _ = c.Write([]byte{0x7f, 0xff, 0xff, 0xff, 0x20, 0, 0x80, 0x86, 0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0})
			_, _ = io.Copy(io.Discard, c)
		}),
		"answers nothing that was asked": serve("events", func(c net.Conn) {
			_, _ = io.ReadFull(c, make([]byte, packetHead))
			_, _ = c.Write(packet(40, remoteProgram, 318, typeReply, 1, 0)) // an event
			_, _ = io.Copy(io.Discard, c)
		}),
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			c, err := Read([]byte("hosts:\n  - {region: quay-host, socket: " + socket + ", pool: machines, addresses: 127.61.9.0/24}\nimages:\n" +
				"  - {name: bare, volume: base.qcow2, login_user: debian, disk_gb: 1}\nsizes:\n  - {name: small, cpus: 1, memory_mb: 64, disk_gb: 2}\n"))
			if err != nil {
				t.Fatal(err)
			}
			ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
			defer cancel()
			began := time.Now()
			_, err = New(c).Get(ctx, "0b31f2f2-6a0e-4d0c-9d51-0c7a0e2b0001")
			if !errors.Is(err, cloud.ErrFailed) || errors.Is(err, cloud.ErrNotFound) {
				t.Errorf("it says %v", err)
			}
			if took := time.Since(began); took > 20*time.Second {
				t.Errorf("it took %s", took)
			}
			t.Log(err)
		})
	}
}

func writeText(t *testing.T, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "text")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

// TestByHand: what somebody does to a machine of ours with virsh is followed, and nothing of it is taken for what it is not.
func TestByHand(t *testing.T) {
	d := startDaemon(t)
	v := d.driver(t, "127.61.5.0/24")
	in := launchBare(t, v, "by-hand")
	name := "plumlatch-" + in.ID
	state := func(want cloud.State) {
		t.Helper()
		if is, err := v.Get(t.Context(), in.ID); err != nil || is.State != want {
			t.Errorf("it is %+v %v, and not %s", is, err, want)
		}
	}
	// It stands paused, as after an internal error of QEMU's: it answers nothing, and counts as stopped; a start begins it anew.
	d.must("suspend", name)
	state(cloud.Stopped)
	if _, err := v.Start(t.Context(), "start-1", in.ID); err != nil {
		t.Fatal(err)
	}
	state(cloud.Running)
	if out := d.must("domstate", name); !strings.HasPrefix(out, "running") {
		t.Errorf("libvirt says %s", out)
	}
	// Another name: it is the same one.
	stopped(t, v, "stop-1", in.ID)
	d.must("domrename", name, "their-name")
	state(cloud.Stopped)
	if _, err := v.Start(t.Context(), "start-2", in.ID); err != nil {
		t.Fatal(err)
	}
	state(cloud.Running)
	// Its root volume is in use by another domain, which somebody made: it is not started beside that, and not moved.
	stopped(t, v, "stop-2", in.ID)
	file := strings.TrimSpace(d.must("vol-path", in.RootVolume, "--pool", "machines"))
	thief := writeText(t, `<domain type='qemu'><name>thief</name><memory unit='MiB'>64</memory><vcpu>1</vcpu><os><type arch='x86_64' machine='pc'>hvm</type></os>`+
		`<devices><disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='`+file+`'/><target dev='vda' bus='virtio'/></disk></devices></domain>`)
	if err := errors.Join(os.Chmod(filepath.Dir(thief), 0o755), os.Chmod(thief, 0o644)); err != nil {
		t.Fatal(err)
	}
	d.must("define", thief)
	d.must("start", "thief")
	if _, err := v.Start(t.Context(), "start-3", in.ID); err == nil || !strings.Contains(err.Error(), "lock") {
		t.Errorf("started with a volume that another one writes: %v", err)
	}
	state(cloud.Stopped)
	d.must("destroy", "thief")
	d.must("undefine", "thief")
	if _, err := v.Start(t.Context(), "start-4", in.ID); err != nil {
		t.Fatal(err)
	}
	// It is undefined while it runs: it goes on running, and is known until it ends.
	d.must("undefine", "their-name")
	state(cloud.Running)
	if _, err := v.Remove(t.Context(), "remove", in.ID); err != nil {
		t.Errorf("removed: %v", err)
	}
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(100 * time.Millisecond) {
		is, err := v.Get(t.Context(), in.ID)
		if errors.Is(err, cloud.ErrNotFound) || err == nil && is.State == cloud.Removed {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal(is, err)
		}
	}
	if out := d.must("vol-list", "machines"); strings.Contains(out, "-root.qcow2") || strings.Contains(out, "-seed.iso") {
		t.Errorf("left: %s", out)
	}
}

// TestAsks: a machine whose boot asks has a console to answer at, how is said, and what it writes is kept all the same.
func TestAsks(t *testing.T) {
	d := startDaemon(t)
	c, err := Read([]byte(fmt.Sprintf("hosts:\n  - {region: quay-host, socket: %s, pool: machines, addresses: 127.61.7.0/24, processor: emulated}\nimages:\n"+
		"  - {name: bare, volume: base.qcow2, login_user: debian, disk_gb: 1}\n  - {name: shut, title: One that is shut, volume: base.qcow2, login_user: debian, disk_gb: 1, asks: true}\n"+
		"sizes:\n  - {name: small, cpus: 1, memory_mb: 64, disk_gb: 2}\n", d.Socket)))
	if err != nil {
		t.Fatal(err)
	}
	v := New(c)
	if in := launchBare(t, v, "asks-nothing"); in.Asks != "" {
		t.Errorf("one that asks nothing: %q", in.Asks)
	}
	in, err := v.Launch(t.Context(), "asks", cloud.Launch{Name: "board-2", Region: "quay-host", Image: "shut", Size: "small"})
	if err != nil {
		t.Fatal(err)
	}
	if want := fmt.Sprintf("on its host: virsh --connect 'qemu:///session?socket=%s' console %s", d.Socket, in.ID); in.Asks != want {
		t.Errorf("it says %q, and not %q", in.Asks, want)
	}
	if out := d.must("ttyconsole", in.ID); !strings.HasPrefix(strings.TrimSpace(out), "/dev/pts/") {
		t.Errorf("its console is %s", out)
	}
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		text, err := v.BootOutput(t.Context(), in.ID)
		if err == nil && strings.Contains(text, "tide") {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("it has written %q %v", text, err)
		}
	}
	images, err := v.Images(t.Context(), "quay-host")
	if err != nil || len(images) != 2 || images[1].Title != "One that is shut; each boot asks at its console" {
		t.Errorf("the images: %+v %v", images, err)
	}
	for n, id := range []string{in.ID, launchBare(t, v, "asks-nothing").ID} {
		if _, err := v.Remove(t.Context(), fmt.Sprint("remove-", n), id); err != nil {
			t.Error(err)
		}
	}
}

// TestFullPool: a pool without space launches nothing, says so, and keeps nothing of it; with space again the same request makes the machine.
func TestFullPool(t *testing.T) {
	d := startDaemon(t)
	v := d.driver(t, "127.61.6.0/24")
	pool := filepath.Dir(strings.TrimSpace(d.must("vol-path", "base.qcow2", "--pool", "machines")))
	image, err := os.ReadFile(filepath.Join(pool, "base.qcow2"))
	if err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(pool)
	if err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount("none", pool, "tmpfs", 0, "size=4m"); err != nil {
		t.Skipf("no file system can be mounted here, so no pool is full: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(pool, syscall.MNT_DETACH) })
	owner := info.Sys().(*syscall.Stat_t)
	base, fill := filepath.Join(pool, "base.qcow2"), filepath.Join(pool, "fill")
	if err := errors.Join(os.Chown(pool, int(owner.Uid), int(owner.Gid)), os.WriteFile(base, image, 0o644), os.Chown(base, int(owner.Uid), int(owner.Gid)),
		os.WriteFile(fill, nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(fill, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	for block := make([]byte, 4096); ; {
		if _, err := f.Write(block); err != nil {
			break
		}
	}
	f.Close()
	d.must("pool-refresh", "machines")
	_, err = v.Launch(t.Context(), "full", cloud.Launch{Name: "board-1", Region: "quay-host", Image: "bare", Size: "small", UserData: "#cloud-config\n"})
	if err == nil || !strings.Contains(err.Error(), "space") {
		t.Errorf("in a full pool: %v", err)
	}
	t.Log(err)
	if out := d.must("list", "--all", "--name"); strings.Contains(out, "plumlatch") {
		t.Errorf("left: %s", out)
	}
	if err := os.Remove(fill); err != nil {
		t.Fatal(err)
	}
	in := launchBare(t, v, "full")
	if in.State != cloud.Running {
		t.Errorf("with space again: %+v", in)
	}
	if _, err := v.Remove(t.Context(), "remove", in.ID); err != nil {
		t.Error(err)
	}
}

// packet is the head of one, with three words of content.
func packet(length, program, procedure, kind, serial, status uint32) []byte {
	out := make([]byte, 40)
	for n, word := range []uint32{length, program, 1, procedure, kind, serial, status, 0xffffffff, 0xffffffff, 0xffffffff} {
		binary.BigEndian.PutUint32(out[4*n:], word)
	}
	return out
}

// TestFrames: of what a stranger writes only an answer to a call that was made is handed on, and one that is as long as it says.
func TestFrames(t *testing.T) {
	for _, c := range []struct {
		what string
		in   []byte
		ok   bool
	}{
		{"an answer", packet(40, remoteProgram, 10, typeReply, 7, 0), true},
		{"an error", packet(40, remoteProgram, 10, typeReply, 7, 1), true},
		{"too short", packet(27, remoteProgram, 10, typeReply, 7, 0), false},
		{"nothing", packet(0, remoteProgram, 10, typeReply, 7, 0), false},
		{"too long", packet(packetMost+1, remoteProgram, 10, typeReply, 7, 0), false},
		{"another serial", packet(40, remoteProgram, 10, typeReply, 8, 0), false},
		{"another procedure", packet(40, remoteProgram, 318, typeReply, 7, 0), false},
		{"another program", packet(40, qemuProgram, 10, typeReply, 7, 0), false},
		{"a call", packet(40, remoteProgram, 10, 0, 7, 0), false},
		{"a list of more than it has", packet(40, remoteProgram, 273, typeReply, 9, 0), false},
		{"figures of more than it has", packet(40, remoteProgram, 298, typeReply, 10, 0), false},
		{"a list's error", packet(40, remoteProgram, 273, typeReply, 9, 1), true},
	} {
		t.Run(c.what, func(t *testing.T) {
			ours, theirs := net.Pipe()
			defer ours.Close()
			f := &framed{Conn: ours}
			go func() {
				defer theirs.Close()
				_, _ = io.ReadFull(theirs, make([]byte, 3*40))
				_, _ = theirs.Write(c.in)
				_, _ = theirs.Write(c.in) // the same once more is no answer
			}()
			for n, call := range [][2]uint32{{10, 7}, {273, 9}, {298, 10}} {
				p := packet(40, remoteProgram, call[0], 0, call[1], 0)
				for _, piece := range [][]byte{p[:n+1], p[n+1:]} {
					if _, err := f.Write(piece); err != nil {
						t.Fatal(err)
					}
				}
			}
			got, err := io.ReadAll(f)
			if !errors.Is(err, errPacket) {
				t.Errorf("it ended with %v", err)
			}
			if want := map[bool][]byte{true: c.in}[c.ok]; !bytes.Equal(got, want) {
				t.Errorf("handed on: %x", got)
			}
		})
	}
}

// FuzzFrames: the package that reads libvirt's answers ends nothing, whatever comes.
func FuzzFrames(f *testing.F) {
	f.Add(packet(40, remoteProgram, 66, typeReply, 1, 0))
	f.Add(packet(40, remoteProgram, 66, typeReply, 1, 1))
	f.Add(append(packet(40, remoteProgram, 66, typeReply, 1, 0), packet(40, remoteProgram, 1, typeReply, 2, 1)...))
	f.Fuzz(func(t *testing.T, text []byte) {
		file := filepath.Join(t.TempDir(), "s")
		l, err := net.Listen("unix", file)
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		go func() {
			c, err := l.Accept()
			if err != nil {
				return
			}
			defer c.Close()
			_, _ = c.Read(make([]byte, 4096))
			_, _ = c.Write(text)
		}()
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		_ = with(ctx, Host{Socket: file, URI: "qemu:///session", Pool: "p"}, func(*link) error { return nil })
	})
}
