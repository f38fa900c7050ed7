package main

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// A sector has 512 bytes. The partition for GRUB's second stage (BIOS boot) comes first on the disk and has the number 14, the
// root partition the number 1, as in Debian's own images for clouds.
const (
	sector     = 512
	biosStart  = 2048
	biosLength = 6144
	rootStart  = 16384
	rootLength = diskMB*2048 - rootStart - 2048
)

// makeDisk makes a disk of packages that are laid out.
func makeDisk(ctx context.Context, i image, rootTar, file string) error {
	dir, err := os.MkdirTemp(filepath.Dir(file), "making-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	root, disk := filepath.Join(dir, "root"), filepath.Join(dir, "disk")
	if err := os.Mkdir(root, 0o755); err != nil {
		return err
	}
	if err := do(ctx, "tar", "-C", root, "-xf", rootTar, "--exclude=./dev/*"); err != nil {
		return err
	}
	if err := furnish(root, i); err != nil {
		return err
	}
	if err := initramfs(ctx, root, i); err != nil {
		return err
	}
	kernels, err := filepath.Glob(filepath.Join(root, "boot/vmlinuz-*"))
	if err != nil || len(kernels) != 1 {
		return fmt.Errorf("%d kernels instead of one: %w", len(kernels), errors.Join(err))
	}
	version := strings.TrimPrefix(filepath.Base(kernels[0]), "vmlinuz-")
	from, system := "/boot", "UUID="+i.uuid
	if i.grouped() { // the boot loader's partition is mounted at /boot
		from, system = "", "/dev/mapper/deck--lines-root"
	}
	more := ""
	if i.selinux {
		more = " security=selinux"
	}
	menu := fmt.Sprintf("serial --unit=0 --speed=115200\nterminal_output serial\nlinux %[3]s/vmlinuz-%[1]s root=%[2]s ro console=ttyS0 net.ifnames=0 quiet%[4]s\n"+
		"initrd %[3]s/initrd.img-%[1]s\nboot\n", version, system, from, more)
	if err := os.MkdirAll(filepath.Join(root, "boot/grub"), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(root, "boot/grub/grub.cfg"), []byte(menu), 0o644); err != nil {
		return err
	}
	if i.selinux {
		if err := label(ctx, root); err != nil {
			return err
		}
	}
	if err := partition(ctx, disk, i.grouped()); err != nil {
		return err
	}
	switch i.fs {
	case "lvm", "luks":
		boot := filepath.Join(dir, "boot")
		if err = os.Rename(filepath.Join(root, "boot"), boot); err == nil {
			err = os.Mkdir(filepath.Join(root, "boot"), 0o755)
		}
		if err == nil {
			err = do(ctx, "mke2fs", "-q", "-F", "-t", "ext4", "-L", "boot", "-E", fmt.Sprintf("offset=%d", rootStart*sector), "-d", boot, disk, fmt.Sprintf("%dK", bootLength/2))
		}
		if err == nil {
			err = putGroup(ctx, dir, root, disk, i)
		}
	case "ext4":
		err = do(ctx, "mke2fs", "-q", "-F", "-t", "ext4", "-U", i.uuid, "-L", "root", "-E", fmt.Sprintf("offset=%d", rootStart*sector),
			"-d", root, disk, fmt.Sprintf("%dK", rootLength/2))
	case "xfs":
		err = xfs(ctx, dir, root, disk, i.uuid)
	default:
		err = fmt.Errorf("no file system %q", i.fs)
	}
	if err != nil {
		return err
	}
	if err := bootLoader(ctx, dir, disk, i); err != nil {
		return err
	}
	return whole(file, func(part string) error {
		return do(ctx, "qemu-img", "convert", "-c", "-O", "qcow2", disk, part)
	})
}

// label gives each file its label, by the policy's own list (setfiles(8)): the first boot would do that for minutes. The program is the image's own; it
// wants /proc, so it is run beside the tree, and not in it.
func label(ctx context.Context, root string) error {
	// Debian's policy does not know cloud-init: its generator may not write below /run, nor may it mount the seed. What it runs in at boot is let through, and
	// written down; who logs in, and what sshd reads, is enforced. The first two rules are those that docs/safety.md gives for the steward.
	module := filepath.Join(root, "tmp", "vmimage.cil")
	text := "(allow sshd_t ssh_home_t (dir (write add_name remove_name)))\n(allow sshd_t ssh_home_t (file (create write append setattr rename unlink)))\n"
	for _, domain := range []string{"systemd_generator_t", "mount_t", "fsadm_t", "systemd_tmpfiles_t"} {
		text += "(typepermissive " + domain + ")\n"
	}
	if err := os.WriteFile(module, []byte(text), 0o600); err != nil {
		return err
	}
	if err := errors.Join(do(ctx, "chroot", root, "semodule", "-n", "-i", "/tmp/vmimage.cil"), os.Remove(module)); err != nil {
		return err
	}
	const machine = "x86_64-linux-gnu"
	libraries := filepath.Join(root, "lib", machine) + ":" + filepath.Join(root, "usr/lib", machine)
	return do(ctx, filepath.Join(root, "lib64/ld-linux-x86-64.so.2"), "--library-path", libraries, filepath.Join(root, "usr/sbin/setfiles"), "-F", "-r", root,
		filepath.Join(root, "etc/selinux/default/contexts/files/file_contexts"), root)
}

// initramfs makes the first file system with the few modules that such a machine needs: all of them take seconds to unpack.
func initramfs(ctx context.Context, root string, i image) error {
	modules := fmt.Sprintf("virtio_pci\nvirtio_blk\n%s\n", i.fs)
	if i.grouped() {
		modules = "virtio_pci\nvirtio_blk\next4\ndm_mod\n"
	}
	if i.fs == "luks" {
		modules += "dm_crypt\nxts\naes\nsha256\n"
	}
	if err := os.WriteFile(filepath.Join(root, "etc/initramfs-tools/modules"), []byte(modules), 0o644); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(root, "etc/initramfs-tools/conf.d"), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(root, "etc/initramfs-tools/conf.d/modules"), []byte("MODULES=list\n"), 0o644); err != nil {
		return err
	}
	return do(ctx, "chroot", root, "update-initramfs", "-u")
}

func partition(ctx context.Context, disk string, grouped bool) error {
	f, err := os.Create(disk)
	if err != nil {
		return err
	}
	if err := errors.Join(f.Truncate(diskMB<<20), f.Close()); err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, "sfdisk", "-q", disk)
	table := fmt.Sprintf("label: gpt\n14 : start=%d, size=%d, type=21686148-6449-6E6F-744E-656564454649\n", biosStart, biosLength) // BIOS boot
	if grouped {
		table += fmt.Sprintf("15 : start=%d, size=%d, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n"+ // Linux
			"1 : start=%d, size=%d, type=E6D6D379-F507-44C2-A23C-238F2A3DF928\n", rootStart, bootLength, groupStart, groupLength) // LVM; what is read is what lies in it
	} else {
		table += fmt.Sprintf("1 : start=%d, size=%d, type=4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709\n", rootStart, rootLength) // root, x86-64
	}
	cmd.Stdin = strings.NewReader(table)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("sfdisk: %w\n%s", err, out)
	}
	return nil
}

// xfs makes an XFS file system with a tree in it, by a prototype file (mkfs.xfs(8), -p), beside the disk, and copies it in: mkfs.xfs
// knows no offset.
func xfs(ctx context.Context, dir, root, disk, uuid string) error {
	proto, part := filepath.Join(dir, "proto"), filepath.Join(dir, "part")
	text, err := prototype(root)
	if err != nil {
		return err
	}
	if err := os.WriteFile(proto, text, 0o600); err != nil {
		return err
	}
	f, err := os.Create(part)
	if err != nil {
		return err
	}
	if err := errors.Join(f.Truncate(rootLength*sector), f.Close()); err != nil {
		return err
	}
	if err := do(ctx, "mkfs.xfs", "-q", "-f", "-m", "uuid="+uuid, "-L", "root", "-p", proto, part); err != nil {
		return err
	}
	return do(ctx, "dd", "if="+part, "of="+disk, "bs=1M", fmt.Sprintf("seek=%d", rootStart/2048), "conv=notrunc,sparse", "status=none")
}

// bootLoader writes GRUB for a BIOS onto the disk: what grub-install does by way of a loop device, which is not there in a container.
func bootLoader(ctx context.Context, dir, disk string, i image) error {
	early, core := filepath.Join(dir, "early.cfg"), filepath.Join(dir, "core.img")
	from := "(hd0,gpt1)/boot/grub"
	if i.grouped() {
		from = "(hd0,gpt15)/grub"
	}
	text := "set root=" + from[:strings.Index(from, "/")] + "\nset prefix=" + from + "\nconfigfile $prefix/grub.cfg\n"
	if err := os.WriteFile(early, []byte(text), 0o600); err != nil {
		return err
	}
	driver := map[string]string{"ext4": "ext2", "xfs": "xfs", "lvm": "ext2", "luks": "ext2"}[i.fs]
	const modules = "/usr/lib/grub/i386-pc"
	if err := do(ctx, "grub-mkimage", "-O", "i386-pc", "-d", modules, "-p", from, "-c", early, "-o", core,
		"biosdisk", "part_gpt", driver, "normal", "linux", "configfile", "serial", "terminal", "echo"); err != nil {
		return err
	}
	second, err := os.ReadFile(core)
	if err != nil {
		return err
	}
	first, err := os.ReadFile(filepath.Join(modules, "boot.img"))
	if err != nil {
		return err
	}
	d, err := os.OpenFile(disk, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer d.Close()
	table := make([]byte, sector)
	if _, err := d.ReadAt(table, 0); err != nil {
		return err
	}
	first, second, err = bootSectors(first, second, table, biosStart)
	if err != nil {
		return err
	}
	if _, err := d.WriteAt(first, 0); err != nil {
		return err
	}
	if _, err := d.WriteAt(second, biosStart*sector); err != nil {
		return err
	}
	return d.Close()
}

// bootSectors tells GRUB's first sector where the second stage begins, and the second stage's first sector how long it is (GRUB's
// boot.S and diskboot.S say where these numbers stand). The disk's table of partitions stays.
func bootSectors(first, second, table []byte, at uint64) (sector0, rest []byte, err error) {
	sectors := (len(second) + sector - 1) / sector
	switch {
	case len(first) < sector || len(table) != sector:
		return nil, nil, errors.New("a boot sector is too short")
	case sectors < 2 || sectors > biosLength:
		return nil, nil, fmt.Errorf("GRUB's second stage has %d sectors", sectors)
	}
	sector0 = append([]byte(nil), first[:sector]...)
	copy(sector0[0x1b8:], table[0x1b8:])
	binary.LittleEndian.PutUint64(sector0[0x5c:], at)
	copy(sector0[0x66:], []byte{0x90, 0x90}) // take the drive that the BIOS names
	rest = append([]byte(nil), second...)
	binary.LittleEndian.PutUint64(rest[0x1f4:], at+1)
	binary.LittleEndian.PutUint16(rest[0x1fc:], uint16(sectors-1))
	return sector0, rest, nil
}
