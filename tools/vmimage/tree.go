package main

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"strings"
)

// masked are units that a machine of the tests has no use for: an emulated processor takes a minute more with them.
var masked = []string{"apt-daily.timer", "apt-daily-upgrade.timer", "dpkg-db-backup.timer", "e2scrub_all.timer", "e2scrub_reap.service", "fstrim.timer",
	"man-db.timer", "logrotate.timer", "systemd-timesyncd.service", "systemd-pstore.service", "systemd-binfmt.service", "getty@tty1.service",
	"systemd-update-utmp-runlevel.service", "systemd-rfkill.socket", "systemd-rfkill.service", "cloud-init-hotplugd.socket", "cloud-init-hotplugd.service",
	"dev-hugepages.mount", "dev-mqueue.mount", "sys-kernel-debug.mount", "sys-kernel-tracing.mount", "sys-fs-fuse-connections.mount",
	"sys-kernel-config.mount", "proc-sys-fs-binfmt_misc.automount", "systemd-initctl.socket"}

// wanted are units that are started: unit, and what wants it.
var wanted = [][2]string{{"systemd-networkd.service", "multi-user.target"}, {"systemd-networkd.socket", "sockets.target"},
	{"systemd-networkd-wait-online.service", "network-online.target"}}

// files are what the image is beyond its packages.
func files(i image) map[string]string {
	options := map[string]string{"ext4": "rw,discard,errors=remount-ro", "xfs": "rw,discard"}[i.fs]
	fstab := fmt.Sprintf("UUID=%s / %s %s 0 1\n", i.uuid, i.fs, options)
	if i.grouped() {
		fstab = "/dev/mapper/deck--lines-root / ext4 rw,errors=remount-ro 0 1\n/dev/mapper/deck--lines-home /home ext4 rw 0 2\nLABEL=boot /boot ext4 rw 0 2\n"
	}
	all := map[string]string{
		"etc/fstab":       fstab,
		"etc/machine-id":  "", // empty, and not "uninitialized": the presets of a first boot take a quarter of a minute when emulated (machine-id(5))
		"etc/hostname":    "localhost\n",
		"etc/hosts":       "127.0.0.1 localhost\n",
		"etc/resolv.conf": "",
		"etc/systemd/network/10-all.network": "[Match]\nName=e*\n[Network]\nDHCP=ipv4\nLinkLocalAddressing=no\nIPv6AcceptRA=no\n" +
			"[DHCPv4]\nClientIdentifier=mac\n",
		"etc/systemd/journald.conf.d/10-kept.conf": "[Journal]\nStorage=persistent\n", // who logged in is still known after a boot
		"etc/cloud/cloud.cfg.d/90-image.cfg": "datasource_list: [ NoCloud, None ]\nnetwork: {config: disabled}\nmanage_etc_hosts: localhost\n" +
			"ssh_genkeytypes: [ed25519, ecdsa]\n" + // an RSA key takes an emulated machine half a minute
			"system_info: {default_user: {name: " + i.user + ", lock_passwd: true, shell: /bin/bash, sudo: [\"ALL=(ALL) NOPASSWD:ALL\"]}}\n",
		// What this product's user data needs, and what any Debian machine does: each module costs a second when emulated.
		"etc/cloud/cloud.cfg.d/91-short.cfg": "cloud_init_modules: [seed_random, bootcmd, write-files, growpart, resizefs, set_hostname, update_hostname, update_etc_hosts, users-groups, ssh]\n" +
			"cloud_config_modules: [set-passwords, runcmd]\n" +
			"cloud_final_modules: [scripts-user, ssh-authkey-fingerprints, keys-to-console, final-message]\n",
	}
	if i.fs == "luks" {
		maps.Copy(all, luksFiles(i))
	}
	if i.selinux {
		all["etc/selinux/config"] = "SELINUX=enforcing\nSELINUXTYPE=default\n"
	}
	return all
}

// furnish makes of packages that are laid out the tree of an image.
func furnish(root string, i image) error {
	for name, text := range files(i) {
		file := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) { // some are links
			return err
		}
		mode := fs.FileMode(0o644)
		if strings.HasPrefix(text, "#!") {
			mode = 0o755
		}
		if err := os.WriteFile(file, []byte(text), mode); err != nil {
			return err
		}
	}
	hostKeys, err := filepath.Glob(filepath.Join(root, "etc/ssh/ssh_host_*")) // each machine makes its own
	if err != nil {
		return err
	}
	for _, f := range append(hostKeys, filepath.Join(root, "var/lib/dbus/machine-id")) {
		if err := os.Remove(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	link := func(target, name string) error {
		name = filepath.Join(root, "etc/systemd/system", name)
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return os.Symlink(target, name)
	}
	for _, unit := range masked {
		if err := link("/dev/null", unit); err != nil {
			return err
		}
	}
	for _, w := range wanted {
		if err := link("/lib/systemd/system/"+w[0], w[1]+".wants/"+w[0]); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(filepath.Join(root, "var/log/journal"), 0o755); err != nil {
		return err
	}
	return link("/lib/systemd/system/multi-user.target", "default.target")
}
