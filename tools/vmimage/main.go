// Command vmimage makes the disks of the real machines that tests and the demo boot: Debian 12 from Debian's packages alone, as a
// partitioned disk with a boot loader, in the format qcow2. It needs root, no loop device, no mount and no machine to build in.
//
//	vmimage [-dir .vm] IMAGE ...
//
// An image is made once. It is called after what it is made of (IMAGE-KEY.qcow2), and IMAGE.qcow2 is a link to the newest.
package main

import (
	"context"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"log"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
)

// image is one kind of disk.
type image struct {
	name string
	fs   string // ext4 or xfs; lvm is ext4 in a volume group, and luks that in an encrypted partition (LUKS)
	asks bool   // of luks: it asks for its passphrase at each boot; else it opens itself by a key file
	// selinux: a policy is loaded at boot, and enforced; each file has its label.
	selinux bool
	uuid    string // of the root file system
	user    string // who logs in
	title   string
}

var images = []image{
	{name: "debian-12", fs: "ext4", uuid: "5c1f30a2-7a0e-4d0c-9d51-0c7a0e2b0001", user: "debian", title: "root on ext4"},
	{name: "debian-12-xfs", fs: "xfs", uuid: "5c1f30a2-7a0e-4d0c-9d51-0c7a0e2b0002", user: "debian", title: "root on XFS"},
	{name: "debian-12-deck", fs: "ext4", uuid: "5c1f30a2-7a0e-4d0c-9d51-0c7a0e2b0003", user: "deck", title: "root on ext4, and the login user is called deck"},
	{name: "debian-12-lvm", fs: "lvm", uuid: "5c1f30a2-7a0e-4d0c-9d51-0c7a0e2b0004", user: "debian", title: "root and home folders in a volume group (LVM)"},
	{name: "debian-12-luks", fs: "luks", uuid: "5c1f30a2-7a0e-4d0c-9d51-0c7a0e2b0005", user: "debian", title: "the same group in an encrypted partition (LUKS), which a key file opens"},
	{name: "debian-12-asks", fs: "luks", asks: true, uuid: "5c1f30a2-7a0e-4d0c-9d51-0c7a0e2b0006", user: "debian", title: "the same, and its passphrase is asked on the serial console at each boot"},
	{name: "debian-12-selinux", fs: "ext4", selinux: true, uuid: "5c1f30a2-7a0e-4d0c-9d51-0c7a0e2b0007", user: "debian", title: "root on ext4, with SELinux enforcing"},
}

// grouped tells whether its root lies in a volume group, and what boots it on a partition of its own.
func (i image) grouped() bool { return i.fs == "lvm" || i.fs == "luks" }

// diskMB is how large a disk is; a machine's root volume may be larger, and cloud-init lets the root file system grow.
const diskMB = 1536

// sources are this program: what it makes depends on nothing else but Debian's packages.
//
//go:embed *.go
var sources embed.FS

func main() {
	log.SetFlags(0)
	log.SetPrefix("vmimage: ")
	dir := flag.String("dir", ".vm", "where the images are kept")
	flag.Usage = func() {
		fmt.Fprintln(os.Stderr, "vmimage [-dir DIR] IMAGE ...")
		for _, i := range images {
			fmt.Fprintf(os.Stderr, "  %-16s %s\n", i.name, i.title)
		}
	}
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, *dir, flag.Args()); err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, dir string, names []string) error {
	if len(names) == 0 {
		for _, i := range images {
			names = append(names, i.name)
		}
	}
	if os.Geteuid() != 0 {
		return errors.New("only root can own the files of another system: run it with sudo")
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil { // somebody else makes the same ones: they are waited for
		return err
	}
	key, err := keyOf("*.go")
	if err != nil {
		return err
	}
	rootKey, err := keyOf("root.go") // the packages take longest
	if err != nil {
		return err
	}
	for _, name := range names {
		n := slices.IndexFunc(images, func(i image) bool { return i.name == name })
		if n < 0 {
			return fmt.Errorf("there is no image %q; vmimage -h lists them", name)
		}
		file := filepath.Join(dir, name+"-"+key+".qcow2")
		if _, err := os.Stat(file); err == nil {
			continue
		}
		began := time.Now()
		root, with := filepath.Join(dir, "root-"+rootKey+".tar"), packages
		if images[n].selinux {
			root, with = filepath.Join(dir, "root-selinux-"+rootKey+".tar"), slices.Concat(packages, selinuxPackages)
		}
		if _, err := os.Stat(root); err != nil {
			if err := makeRoot(ctx, root, with); err != nil {
				return err
			}
			fmt.Printf("the packages are laid out (%s)\n", time.Since(began).Round(time.Second))
			began = time.Now()
		}
		if err := makeDisk(ctx, images[n], root, file); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		link := filepath.Join(dir, name+".qcow2")
		_ = os.Remove(link)
		if err := os.Symlink(filepath.Base(file), link); err != nil {
			return err
		}
		fmt.Printf("%s is made (%s)\n", link, time.Since(began).Round(time.Second))
	}
	return nil
}

// keyOf names what something is made of: those of the sources that match a pattern.
func keyOf(pattern string) (string, error) {
	all, err := fs.Glob(sources, pattern)
	if err != nil {
		return "", err
	}
	sum := sha256.New()
	for _, name := range all {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		text, err := sources.ReadFile(name)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(sum, "%s %d\n", name, len(text))
		sum.Write(text)
	}
	return hex.EncodeToString(sum.Sum(nil))[:12], nil
}

// do runs a command; its error has what the command said.
func do(ctx context.Context, name string, args ...string) error {
	out, err := exec.CommandContext(ctx, name, args...).CombinedOutput()
	if err != nil {
		if len(out) > 4000 {
			out = out[len(out)-4000:]
		}
		return fmt.Errorf("%s: %w\n%s", name, err, out)
	}
	return nil
}

// whole makes a file under another name first: one that stands is whole.
func whole(file string, f func(part string) error) error {
	part := file + ".part"
	defer os.Remove(part)
	if err := f(part); err != nil {
		return err
	}
	return os.Rename(part, file)
}
