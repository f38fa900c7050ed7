package ownhost

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// The system's libvirtd has networks and inbound rules, and needs root. A libvirtd of one's own that is to be one of those, beside whatever
// else is on the host, is started in namespaces of its own (namespaces(7)): its network is no other's, and the folders that are compiled
// into it lead to a folder of ours.

// apartMark is set in the environment of what runs in namespaces of its own.
const apartMark = "PLUMLATCH_APART"

// Apart runs this program once more in namespaces of its own for mounts and the network, with these arguments, and returns its end. In there it
// returns true at once. It needs root.
func Apart(args ...string) (inside bool, err error) {
	if os.Getenv(apartMark) != "" {
		return true, nil
	}
	self, err := os.Executable()
	if err != nil {
		return false, err
	}
	cmd := exec.Command(self, args...)
	cmd.Env = append(os.Environ(), apartMark+"=1")
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	runtime.LockOSThread() // the end of the thread that has started it counts as its parent's end (prctl(2), PR_SET_PDEATHSIG)
	defer runtime.UnlockOSThread()
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNS | syscall.CLONE_NEWNET, Pdeathsig: syscall.SIGKILL}
	return false, cmd.Run()
}

// apart tells whether this program has other namespaces than whoever has started it: the mark alone could stand in any environment.
func apart() bool {
	if os.Getenv(apartMark) == "" {
		return false
	}
	for _, kind := range []string{"mnt", "net"} {
		own, err := os.Readlink("/proc/self/ns/" + kind)
		parents, bad := os.Readlink(fmt.Sprintf("/proc/%d/ns/%s", os.Getppid(), kind))
		if err != nil || bad != nil || own == parents {
			return false
		}
	}
	return true
}

// compiledIn are the folders of the system's libvirtd, which no option moves.
var compiledIn = []string{"/etc/libvirt", "/var/lib/libvirt", "/var/log/libvirt", "/var/cache/libvirt", "/run/libvirt"}

// NewSystem lays the folder out for a libvirtd of the system's kind, as root, in namespaces that Apart has made. It starts nothing.
func NewSystem(dir string) (*Host, error) {
	if !apart() {
		return nil, errors.New("a libvirtd of the system's kind changes the network of whoever starts it: start it in namespaces of its own (Apart)")
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	h := &Host{Dir: dir, Socket: filepath.Join(dir, "run/libvirt-sock"), system: true, env: []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME=" + dir}}
	if len(h.Socket) > maxSocket {
		return nil, fmt.Errorf("%s is too long for libvirt's sockets below it: take a shorter path", dir)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if h.root, err = os.OpenRoot(dir); err != nil {
		return nil, err
	}
	for _, p := range []string{"run", "config/libvirt", "pool"} {
		if err := h.root.MkdirAll(p, 0o700); err != nil {
			return nil, err
		}
	}
	if err := syscall.Mount("", "/", "", syscall.MS_REC|syscall.MS_PRIVATE, ""); err != nil {
		return nil, fmt.Errorf("mounts of its own: %w", err)
	}
	for _, at := range compiledIn {
		ours := h.in(filepath.Join("system", at))
		if err := errors.Join(os.MkdirAll(ours, 0o755), os.MkdirAll(at, 0o755)); err != nil {
			return nil, err
		}
		if at == "/etc/libvirt" { // what the packages put there: the filters that others are made of
			if err := os.CopyFS(ours, readable{os.DirFS(at)}); err != nil {
				return nil, err
			}
		}
		if err := syscall.Mount(ours, at, "", syscall.MS_BIND, ""); err != nil {
			return nil, fmt.Errorf("%s: %w", at, err)
		}
	}
	for _, p := range []string{"/var/lib/libvirt/dnsmasq", "/etc/libvirt/qemu"} {
		if err := os.MkdirAll(p, 0o755); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(h.knows("/etc/passwd", "libvirt-qemu:x:64055:64055::/nonexistent:/usr/sbin/nologin"), h.knows("/etc/group", "libvirt-qemu:x:64055:")); err != nil {
		return nil, err
	}
	// The devices of the network are seen in the namespace that a mount was made in.
	if err := syscall.Mount("sysfs", "/sys", "sysfs", 0, ""); err != nil {
		return nil, fmt.Errorf("/sys: %w", err)
	}
	if err := up("lo"); err != nil {
		return nil, fmt.Errorf("the loopback device: %w", err)
	}
	for name, text := range map[string]string{
		"config/libvirt/libvirtd.conf": fmt.Sprintf("auth_unix_rw=\"none\"\nauth_unix_ro=\"none\"\nunix_sock_dir=\"%s/run\"\nlog_outputs=\"2:file:%s/libvirtd.log\"\n", dir, dir),
		"system/etc/libvirt/qemu.conf": "user=\"root\"\ngroup=\"root\"\nstdio_handler=\"file\"\nsecurity_driver=\"none\"\nnamespaces=[]\ncgroup_controllers=[]\nremember_owner=0\n",
	} {
		if err := h.root.WriteFile(name, []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	return h, nil
}

// readable leaves out of a folder what is no file and no folder: a copy of a link could lead anywhere.
type readable struct{ fs.FS }

// ReadDir is that of fs.ReadDirFS.
func (r readable) ReadDir(name string) (out []fs.DirEntry, err error) {
	all, err := fs.ReadDir(r.FS, name)
	for _, e := range all {
		if e.IsDir() || e.Type().IsRegular() {
			out = append(out, e)
		}
	}
	return out, err
}

// knows has a file of names have a line, in these namespaces alone: libvirtd refuses to start where it has no user for QEMU.
func (h *Host) knows(file, line string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	name, _, _ := strings.Cut(line, ":")
	for s := bufio.NewScanner(bytes.NewReader(text)); s.Scan(); {
		if is, _, _ := strings.Cut(s.Text(), ":"); is == name {
			return nil
		}
	}
	ours := filepath.Join("system", filepath.Base(file))
	if err := h.root.WriteFile(ours, []byte(strings.TrimRight(string(text), "\n")+"\n"+line+"\n"), 0o644); err != nil {
		return err
	}
	return syscall.Mount(h.in(ours), file, "", syscall.MS_BIND, "")
}

func init() {
	if os.Getenv(apartMark) != "" {
		_ = up("lo") // in a new namespace even the loopback addresses are down; NewSystem says so if this failed
	}
}

// up switches a network device on (netdevice(7)).
func up(device string) error {
	s, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(s)
	r, err := unix.NewIfreq(device)
	if err != nil {
		return err
	}
	if err := unix.IoctlIfreq(s, unix.SIOCGIFFLAGS, r); err != nil {
		return err
	}
	r.SetUint16(r.Uint16() | unix.IFF_UP)
	return unix.IoctlIfreq(s, unix.SIOCSIFFLAGS, r)
}
