package e2e

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/routes"
	"plumlatch/reach"

	"golang.org/x/crypto/ssh"
)

// shell runs commands of this machine, as root.
func shell(t *testing.T, script string, args ...string) string {
	t.Helper()
	out, err := exec.Command("sh", append([]string{"-ec", script, "sh"}, args...)...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s: %v\n%s", script, err, out)
	}
	return strings.TrimSpace(string(out))
}

// realDisk is a disk image of a machine, with partitions, behind a loop device.
type realDisk struct {
	image, device string
	account       routes.Account
	hostKeys      string // fingerprints, as ssh-keygen tells them
}

// newRealDisk makes a disk with an EFI, a boot and a system partition, the
// system's filesystem of the type; skipped where no loop device can be had.
func newRealDisk(t *testing.T, fsType string) *realDisk {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("loop devices need root")
	}
	d := &realDisk{image: filepath.Join(t.TempDir(), "disk"),
		account: routes.Account{UID: 61234, GID: 61235, Home: "/home/gauger", Shell: "/bin/sh"}}
	shell(t, `truncate -s 450M "$1"; printf 'label: gpt\nsize=16M\nsize=40M\nsize=360M\n' | sfdisk -q "$1"`, d.image)
	d.attach(t)
	system := d.device + "p3"
	shell(t, `mkfs.ext4 -q -F -L boot "$1p2"; mkfs.`+fsType+` -q "$1p3"`, d.device)
	root := t.TempDir()
	shell(t, `mount "$1" "$2"; cd "$2"; mkdir -p etc home/gauger/.ssh root/.ssh; chmod 700 home/gauger/.ssh
		printf 'root:x:0:0:root:/root:/bin/sh\ngauger:x:61234:61235::/home/gauger:/bin/sh\n' > etc/passwd
		printf '# by hand\nssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA lost' > home/gauger/.ssh/authorized_keys
		chmod 640 home/gauger/.ssh/authorized_keys; chown -R 61234:61235 home/gauger; cd /; umount "$2"`, system, root)
	// Its host keys: on ext4 where sshd has them by default, and one of them a link that leads out of the disk; on
	// XFS where an included file says, and others lie about at the usual place.
	d.hostKeys = shell(t, `mount "$1" "$2"; cd "$2"; mkdir -p etc/ssh/sshd_config.d etc/ssh/keys; ssh-keygen -q -A -f "$2" >/dev/null 2>&1
		printf 'Include /etc/ssh/sshd_config.d/*.conf\n' > etc/ssh/sshd_config
		if [ "$3" = ext4 ]; then
			ssh-keygen -q -t ed25519 -N "" -f "$4/stray"
			ln -sf "$4/stray.pub" etc/ssh/ssh_host_rsa_key.pub
			for f in ed25519 ecdsa; do ssh-keygen -lf etc/ssh/ssh_host_${f}_key.pub; done
		else
			ssh-keygen -q -t ed25519 -N "" -f etc/ssh/keys/quay
			printf 'HostKey /etc/ssh/keys/quay\nHostKey /etc/ssh/keys/gone\n' > etc/ssh/sshd_config.d/50-keys.conf
			printf 'HostKey /etc/ssh/ssh_host_rsa_key\n' > etc/ssh/sshd_config.d/50-keys.off
			ssh-keygen -lf etc/ssh/keys/quay.pub
		fi | cut -d " " -f 2; cd /; umount "$2"`, system, root, fsType, t.TempDir())
	return d
}

// attach has the disk come up on this machine, as a cloud's does in a guest.
func (d *realDisk) attach(t *testing.T) {
	t.Helper()
	out, err := exec.Command("losetup", "--find", "--show", d.image).CombinedOutput()
	if err != nil {
		t.Skipf("no loop device is to be had here: %s", out)
	}
	d.device = strings.TrimSpace(string(out))
	if out, err := exec.Command("partx", "--add", d.device).CombinedOutput(); err != nil {
		d.detach(t)
		t.Skipf("this kernel makes no partitions of loop devices: %s", out)
	}
	t.Cleanup(func() { d.detach(t) })
}

func (d *realDisk) detach(t *testing.T) {
	t.Helper()
	if d.device == "" {
		return
	}
	_ = exec.Command("partx", "--delete", d.device).Run()
	if out, err := exec.Command("losetup", "--detach", d.device).CombinedOutput(); err != nil {
		t.Errorf("detach: %s", out)
	}
	d.device = ""
}

// look mounts the disk by hand and looks at it.
func (d *realDisk) look(t *testing.T, script string) string {
	t.Helper()
	root := t.TempDir()
	return shell(t, `mount -o ro,nouuid "$1p3" "$2" 2>/dev/null || mount -o ro "$1p3" "$2"; cd "$2"; { `+script+
		`; } 2>&1; cd /; umount "$2"`, d.device, root)
}

func (a *adoptee) signer(t *testing.T) ssh.Signer {
	t.Helper()
	private, err := os.ReadFile(a.identity)
	mustDo(t, err)
	signer, err := ssh.ParsePrivateKey(private)
	mustDo(t, err)
	return signer
}

// rescue enters the machine as a rescue instance.
func (a *adoptee) rescue(t *testing.T) (*reach.Rescue, reach.Files) {
	t.Helper()
	r, err := reach.EnterRescue(context.Background(), reach.Policy{AllowLoopback: true}, a.target(), a.signer(t))
	mustDo(t, err)
	t.Cleanup(func() { r.Close() })
	files, end, err := r.Files()
	mustDo(t, err)
	t.Cleanup(func() { end.Close() })
	return r, files
}

// TestRescueSSHD: the disk route's own commands and its edit, by an ordinary
// account with sudo on Debian's own sshd, on a real ext4 and a real XFS, of which
// another one with the same UUID is mounted meanwhile.
func TestRescueSSHD(t *testing.T) {
	t.Parallel()
	for _, fsType := range []string{"ext4", "xfs"} {
		t.Run(fsType, func(t *testing.T) { rescueReal(t, fsType) })
	}
}

func rescueReal(t *testing.T, fsType string) {
	d := newRealDisk(t, fsType)
	a := startAdoptee(t, "")
	ctx := context.Background()
	if r, err := reach.EnterRescue(ctx, reach.Policy{AllowLoopback: true}, a.target(), a.signer(t)); err == nil {
		r.Close()
		t.Error("without sudo it is a rescue instance")
	} else {
		contains(t, "without sudo", err.Error(), "no sudo without a password")
	}
	a.grantSudo(t)
	r, root := a.rescue(t)

	// The disk is not there, and then it is.
	d.detach(t)
	before, err := r.Disks(ctx)
	mustDo(t, err)
	d.attach(t)
	all, err := r.Disks(ctx)
	mustDo(t, err)
	var disk routes.BlockDevice
	for _, x := range all { // other tests have loop devices, too
		if x.Path() == d.device {
			disk, err = routes.Attached(routes.Names(before), []routes.BlockDevice{x}, "hold-1")
			mustDo(t, err)
		}
	}
	disk, err = r.Identify(ctx, disk)
	mustDo(t, err)
	parts, _ := routes.Candidates(disk)
	if len(parts) != 2 || parts[1].FSType != fsType || parts[1].UUID == "" {
		t.Fatalf("%+v of %+v", parts, disk)
	}

	// A copy of the disk is mounted, as a rescue instance from the same image has it.
	twin := &realDisk{image: filepath.Join(t.TempDir(), "twin")}
	shell(t, `cp --sparse=always "$1" "$2"`, d.image, twin.image)
	twin.attach(t)
	at := t.TempDir()
	shell(t, `mount "$1p3" "$2"`, twin.device, at)
	t.Cleanup(func() { _ = exec.Command("umount", at).Run() })
	if fsType == "xfs" {
		if out, err := exec.Command("mount", parts[1].Path(), t.TempDir()).CombinedOutput(); err == nil {
			t.Errorf("two of one UUID are mounted without nouuid: %s", out)
		}
	}

	mount := "/run/plumlatch-test-" + fsType
	b := reach.Beneath{Files: root, Mount: mount}
	found := ""
	for _, p := range parts {
		mustDo(t, r.Mount(ctx, p.Path(), p.FSType, mount, true))
		if out, err := exec.Command("sh", "-c", "touch "+mount+"/x").CombinedOutput(); err == nil {
			t.Errorf("it can be written to: %s", out)
		}
		if text, err := b.Read("/etc/passwd"); err == nil {
			if acct, ok := routes.ReadAccount(text, "gauger"); ok && acct == d.account {
				found = p.Path()
			}
		}
		mustDo(t, r.Unmount(ctx, p.Path(), mount))
	}
	if found != d.device+"p3" {
		t.Fatalf("the system is on %q", found)
	}
	mustDo(t, r.Mount(ctx, found, fsType, mount, false))
	mustDo(t, r.Mount(ctx, found, fsType, mount, false)) // twice is harmless
	options := shell(t, "findmnt -n -o OPTIONS "+mount)
	for _, want := range []string{"nodev", "nosuid", "noexec"} {
		contains(t, "mounted", options, want)
	}

	// Its own host keys, as ssh-keygen told them when the disk was made.
	var prints []string
	for _, p := range b.HostKeys() {
		prints = append(prints, p.Fingerprint())
	}
	if got := strings.Join(prints, "\n"); got != d.hostKeys || got == "" {
		t.Errorf("its host keys are\n%s\nand were read as\n%s", d.hostKeys, got)
	}

	// One line, twice; the owner and the mode stay.
	line := newPublic(t)
	plan, err := b.Plan(d.account, ".ssh/authorized_keys", []string{line})
	mustDo(t, err)
	if plan.Made || plan.MadeDir || len(plan.Modes) != 0 {
		t.Errorf("%+v", plan)
	}
	for range 2 {
		mustDo(t, b.Add(ctx, r, d.account, plan, time.Now()))
	}
	// In use it is not unmounted, and so not detached.
	busy := exec.Command("sleep", "60")
	busy.Dir = mount
	mustDo(t, busy.Start())
	if err := r.Unmount(ctx, found, mount); err == nil || !strings.Contains(err.Error(), "still mounted") {
		t.Errorf("in use: %v", err)
	}
	_ = busy.Process.Kill()
	_ = busy.Wait()
	mustDo(t, r.Unmount(ctx, found, mount))
	mustDo(t, r.Unmount(ctx, found, mount))
	if _, err := os.Stat(mount); err == nil {
		t.Error("the folder is left")
	}
	got := d.look(t, "cat home/gauger/.ssh/authorized_keys; stat -c '%u:%g %a %n' home/gauger/.ssh "+
		"home/gauger/.ssh/*; ls -A home/gauger/.ssh")
	if strings.Count(got, line) != 1 {
		t.Errorf("the line stands there %d times:\n%s", strings.Count(got, line), got)
	}
	contains(t, "the file", got, "# by hand\n", " lost\n", "61234:61235 700 home/gauger/.ssh",
		"61234:61235 640 home/gauger/.ssh/authorized_keys")

	// Without the mount, what lies there is no file of the volume: nothing is written, and nothing is said of it.
	for what, err := range map[string]error{"adding": b.Add(ctx, r, d.account, plan, time.Now()),
		"taking back": b.TakeBack(ctx, r, d.account, plan, time.Now())} {
		if !errors.Is(err, reach.ErrNotMounted) {
			t.Errorf("%s without a mount: %v", what, err)
		}
	}
	if _, err := os.Stat(mount); err == nil {
		t.Error("the folder was made")
	}

	// Back again: as it was, but for the line break that an append had to add.
	mustDo(t, r.Mount(ctx, found, fsType, mount, false))
	mustDo(t, b.TakeBack(ctx, r, d.account, plan, time.Now()))
	mustDo(t, b.TakeBack(ctx, r, d.account, plan, time.Now()))

	// No folder yet, and too wide modes: made as sshd wants it, and taken back.
	shell(t, `rm -r "$1/home/gauger/.ssh"; chmod 777 "$1/home/gauger"`, mount)
	plan, err = b.Plan(d.account, ".ssh/authorized_keys", []string{line})
	mustDo(t, err)
	if !plan.Made || !plan.MadeDir || plan.Modes["/home/gauger"] != 0o777 {
		t.Errorf("%+v", plan)
	}
	mustDo(t, b.Add(ctx, r, d.account, plan, time.Now()))
	made := shell(t, `cd "$1/home/gauger"; stat -c '%u:%g %a %n' . .ssh .ssh/authorized_keys; cat .ssh/authorized_keys`, mount)
	contains(t, "made", made, "61234:61235 755 .", "61234:61235 700 .ssh", "61234:61235 600 .ssh/authorized_keys", line)
	mustDo(t, b.TakeBack(ctx, r, d.account, plan, time.Now()))
	if left := shell(t, `cd "$1/home/gauger"; stat -c '%a' .; ls -A`, mount); left != "777" {
		t.Errorf("left behind: %q", left)
	}

	// Links that a hostile user planted lead nowhere.
	victim, err := os.ReadFile("/etc/hostname")
	mustDo(t, err)
	for _, link := range []string{
		`ln -s /root/.ssh "$1/home/gauger/.ssh"`,
		`mkdir "$1/home/gauger/.ssh"; ln -s /etc/hostname "$1/home/gauger/.ssh/authorized_keys"`,
		`mv "$1/home/gauger" "$1/home/g2"; ln -s ../root "$1/home/gauger"`,
		`mv "$1/home" "$1/home2"; ln -s /home "$1/home"`,
	} {
		shell(t, link, mount)
		if p, err := b.Plan(d.account, ".ssh/authorized_keys", []string{line}); err == nil ||
			!strings.Contains(err.Error(), "symbolic link") {
			t.Errorf("%s: %+v %v", link, p, err)
		}
		shell(t, `cd "$1"; [ ! -e home2 ] || { rm home; mv home2 home; }; [ ! -e home/g2 ] || { rm home/gauger; mv home/g2 home/gauger; }; rm -rf home/gauger/.ssh`, mount)
	}
	shell(t, `cd "$1"; mv etc etc2; ln -s /etc etc`, mount)
	if text, err := b.Read("/etc/passwd"); err == nil {
		t.Errorf("the rescue instance's own passwd was read: %s", text)
	}
	if now, _ := os.ReadFile("/etc/hostname"); string(now) != string(victim) {
		t.Error("a file outside of the mount was written")
	}
	mustDo(t, r.Unmount(ctx, found, mount))
}

// TestRescueDirty: a disk that was pulled in the middle of its work. Looking at it
// writes nothing, not even its journal; adding the line has the kernel replay that,
// and what stood in it stays. Where it cannot be replayed, nothing is mounted.
func TestRescueDirty(t *testing.T) {
	t.Parallel()
	for _, fsType := range []string{"ext4", "xfs"} {
		t.Run(fsType, func(t *testing.T) {
			t.Parallel()
			d := newRealDisk(t, fsType)
			a := startAdoptee(t, "")
			a.grantSudo(t)
			ctx := context.Background()
			r, files := a.rescue(t)

			// As when a cloud takes the disk from a machine that runs: what was written
			// is in the journal, and not yet in its place.
			at := t.TempDir()
			pulled := &realDisk{image: filepath.Join(t.TempDir(), "pulled"), account: d.account}
			shell(t, `mount "$1p3" "$2"; echo ebb > "$2/home/gauger/log"; sync "$2/home/gauger/log" "$2/home/gauger"; cp --sparse=always "$3" "$4"; umount "$2"`, d.device, at, d.image, pulled.image)
			d.detach(t)
			pulled.attach(t)
			system := pulled.device + "p3"
			if fsType == "ext4" && !strings.Contains(shell(t, `dumpe2fs -h "$1" 2>/dev/null`, system),
				"needs_recovery") {
				t.Fatal("it is not dirty")
			}
			if fsType == "xfs" && exec.Command("xfs_repair", "-n", system).Run() == nil {
				t.Fatal("it is not dirty")
			}
			mount := fmt.Sprintf("/run/plumlatch-dirty-%s-%d", fsType, os.Getpid())
			b := reach.Beneath{Files: files, Mount: mount}
			before := shell(t, `sha256sum < "$1"`, system)
			mustDo(t, r.Mount(ctx, system, fsType, mount, true))
			if text, err := b.Read("/etc/passwd"); err != nil || !strings.Contains(text, "gauger") {
				t.Errorf("%q %v", text, err)
			}
			mustDo(t, r.Unmount(ctx, system, mount))
			if after := shell(t, `sha256sum < "$1"`, system); after != before {
				t.Error("looking at it has written to it")
			}
			mustDo(t, r.Mount(ctx, system, fsType, mount, false))
			line := newPublic(t)
			plan, err := b.Plan(d.account, ".ssh/authorized_keys", []string{line})
			mustDo(t, err)
			mustDo(t, b.Add(ctx, r, d.account, plan, time.Now()))
			mustDo(t, r.Unmount(ctx, system, mount))
			contains(t, "afterwards", pulled.look(t, "cat home/gauger/log home/gauger/.ssh/authorized_keys"), "ebb",
				"# by hand", line)

			// Beyond repair by the kernel: the line is not added, and it stays as it is.
			shell(t, `dd if=/dev/urandom of="$1" bs=4096 count=64 conv=notrunc status=none`, system)
			if err := r.Mount(ctx, system, fsType, mount, false); err == nil ||
				!strings.Contains(err.Error(), "mount") {
				t.Errorf("garbage is mounted: %v", err)
			}
			if out, err := exec.Command("findmnt", mount).CombinedOutput(); err == nil {
				t.Errorf("mounted: %s", out)
			}
		})
	}
}

// TestRescueOddDisks: a disk that is full, one without the login user, and words
// that are no names of devices: each says so, and nothing is half done.
func TestRescueOddDisks(t *testing.T) {
	t.Parallel()
	d := newRealDisk(t, "ext4")
	a := startAdoptee(t, "")
	a.grantSudo(t)
	ctx := context.Background()
	mount := fmt.Sprintf("/run/plumlatch-odd-%d", os.Getpid())
	r, root := a.rescue(t)
	b := reach.Beneath{Files: root, Mount: mount}
	system := d.device + "p3"
	if err := r.Mount(ctx, system, "xfs", mount, true); err == nil {
		t.Error("an ext4 is mounted as xfs")
	}
	for _, bad := range [][2]string{{"/dev/../etc", "ext4"}, {"/dev/x;id", "ext4"}, {system, "ext4 -o exec"}} {
		if err := r.Mount(ctx, bad[0], bad[1], mount, true); err == nil {
			t.Errorf("%v is mounted", bad)
		}
	}
	mustDo(t, r.Mount(ctx, system, "ext4", mount, false))
	_ = exec.Command("sh", "-c", "head -c 600M /dev/zero > "+mount+"/fill; sync").Run()
	plan, err := b.Plan(d.account, ".ssh/authorized_keys", []string{newPublic(t)})
	mustDo(t, err)
	before := shell(t, "cat "+mount+"/home/gauger/.ssh/authorized_keys")
	if err := b.Add(ctx, r, d.account, plan, time.Now()); err == nil {
		t.Error("a full filesystem takes a line")
	}
	if now := shell(t, "cat "+mount+"/home/gauger/.ssh/authorized_keys"); now != before {
		t.Errorf("half a line: %q", now)
	}
	mustDo(t, r.Unmount(ctx, system, mount))
	if _, ok := routes.ReadAccount(d.look(t, "cat etc/passwd"), "debian"); ok {
		t.Error("a user who is not there is found")
	}
}
