package main

import (
	"context"
	"os"
	"strings"
)

// packages are what a machine has besides the essential ones: what Debian's own cloud images have, as far as this product meets it.
var packages = []string{"systemd-sysv", "udev", "dbus", "linux-image-cloud-amd64", "initramfs-tools", "openssh-server", "cloud-init", "qemu-guest-agent",
	"sudo", "iproute2", "e2fsprogs", "xfsprogs", "fdisk", "cloud-guest-utils", "procps", "python3-minimal", "lvm2", "cryptsetup-bin", "cryptsetup-initramfs", "cron"}

// selinuxPackages are what it has besides where a policy of SELinux is enforced.
var selinuxPackages = []string{"selinux-policy-default", "policycoreutils", "python3-selinux"}

// makeRoot lays the packages out (mmdebstrap(1)), from where this machine has its own.
func makeRoot(ctx context.Context, file string, with []string) error {
	return whole(file, func(part string) error {
		args := []string{"--mode=root", "--variant=minbase", "--format=tar", "--aptopt=Acquire::Languages \"none\"", "--aptopt=APT::Install-Recommends \"false\"",
			"--dpkgopt=path-exclude=/usr/share/doc/*", "--dpkgopt=path-exclude=/usr/share/man/*", "--dpkgopt=path-exclude=/usr/share/locale/*",
			"--include=" + strings.Join(with, ","), "bookworm", part}
		return do(ctx, "mmdebstrap", append(args, debianSources()...)...)
	})
}

// debianSources is the file in which this machine says where Debian 12's packages are; none if it has another release.
func debianSources() []string {
	for _, f := range []string{"/etc/apt/sources.list.d/debian.sources", "/etc/apt/sources.list"} {
		if text, err := os.ReadFile(f); err == nil && strings.Contains(string(text), "bookworm") {
			return []string{f}
		}
	}
	return nil
}
