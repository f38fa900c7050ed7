package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// An encrypted partition (LUKS) is made by qemu-img(1), which encrypts without the kernel: no device mapper is there in a container. It writes
// version 1 of the format, which cryptsetup(8) opens as it opens version 2.

// Passphrase opens the partition. It is no secret: the images are for tests.
const (
	passphrase = "the tide leaves at noon"
	keyFile    = "a file of a test, which opens the partition at each boot"
)

// luksHead is how many sectors the format's head has before what is encrypted, with a key of 64 bytes (AES-256, XTS).
const luksHead = 4040

// mapping is what the opened partition is called on the machine.
const mapping = "deck-shut"

// luksFiles are what an encrypted image is besides. Debian's own scripts open the partition at boot (crypttab(5)); the tool that writes their list
// asks the device for it, which is not there while an image is made, so a hook of ours writes it.
func luksFiles(i image) map[string]string {
	key := "/cryptroot/keyfiles/" + mapping + ".key"
	if i.asks {
		key = "none"
	}
	hook := "#!/bin/sh\n[ \"$1\" = prereqs ] && exit 0\nset -e\nmkdir -p \"$DESTDIR/cryptroot/keyfiles\"\n" +
		"echo '" + mapping + " /dev/vda1 " + key + " luks,initramfs' >\"$DESTDIR/cryptroot/crypttab\"\n"
	if !i.asks {
		hook += "printf %s '" + keyFile + "' >\"$DESTDIR" + key + "\"\n"
	}
	return map[string]string{
		"etc/crypttab":                          mapping + " /dev/vda1 none luks,noauto\n",
		"etc/cryptsetup-initramfs/conf-hook":    "CRYPTSETUP=y\n",
		"etc/initramfs-tools/hooks/zz-crypttab": hook,
		"etc/initramfs-tools/conf.d/umask":      "UMASK=0077\n",
	}
}

// encrypt makes of a plain file an encrypted one, longer by the head.
func encrypt(ctx context.Context, dir, plain, shut string) error {
	first, second := filepath.Join(dir, "passphrase"), filepath.Join(dir, "key")
	if err := errors.Join(os.WriteFile(first, []byte(passphrase), 0o600), os.WriteFile(second, []byte(keyFile), 0o600)); err != nil {
		return err
	}
	secrets := []string{"--object", "secret,id=one,file=" + first, "--object", "secret,id=two,file=" + second}
	// A thousand rounds, as an emulated processor is slow, and nothing is guarded here.
	if err := do(ctx, "qemu-img", append(append([]string{"convert"}, secrets...), "-f", "raw", "-O", "luks", "-o", "key-secret=one,iter-time=1", plain, shut)...); err != nil {
		return err
	}
	// A second place for a key, as a machine has that opens itself and whose owner keeps a passphrase.
	if err := do(ctx, "qemu-img", append(append([]string{"amend"}, secrets...), "--image-opts", "-o", "state=active,new-secret=two,iter-time=1",
		"driver=luks,key-secret=one,file.filename="+shut)...); err != nil {
		return err
	}
	long, short, err := sizes(shut, plain)
	if err == nil && long-short != luksHead*sector {
		err = fmt.Errorf("the head of the encrypted partition has %d bytes", long-short)
	}
	return err
}

func sizes(a, b string) (int64, int64, error) {
	x, err := os.Stat(a)
	if err != nil {
		return 0, 0, err
	}
	y, err := os.Stat(b)
	if err != nil {
		return 0, 0, err
	}
	return x.Size(), y.Size(), nil
}

// emptyFile makes a file of a length, with nothing in it.
func emptyFile(name string, size int64) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	return errors.Join(f.Truncate(size), f.Close())
}
