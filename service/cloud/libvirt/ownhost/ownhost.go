// Package ownhost starts a libvirtd of one's own: in libvirt's session mode, as an ordinary user, with all its state below one
// folder; or one of the system's kind, in namespaces of its own. The demo and the tests have real machines by it, beside whatever else runs on the host and without touching that.
package ownhost

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Pool is the name of the storage pool that a host has.
const Pool = "machines"

// maxSocket is how long the path of a Unix socket may be, in bytes (unix(7)). libvirt makes the longest below its folder for
// configuration: the guest agent's, of which longestSocket is one.
const (
	maxSocket     = 107
	longestSocket = "/libvirt/qemu/channel/target/domain-99999-plumlatch-00000000-0/org.qemu.guest_agent.0"
)

// comeUp is how long libvirtd may take until it answers.
const comeUp = 30 * time.Second

// Host is one libvirtd and its folder.
type Host struct {
	Dir    string
	Socket string   // for reading and writing
	short  string   // a folder with a link to config, where the path of that is too long; "" for none
	root   *os.Root // the folder: what is written there as root follows no link that its owner has laid
	owner  *syscall.Credential
	env    []string
	cmd    *exec.Cmd
	system bool // it is one of the system's kind
}

// Ordinary is the user whose machines they are: whoever runs this, as nil, and for root the user nobody.
func Ordinary() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	who, err := user.Lookup("nobody")
	if err != nil {
		return nil, err
	}
	uid, bad := strconv.ParseUint(who.Uid, 10, 32)
	gid, err := strconv.ParseUint(who.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, errors.Join(bad, err)
}

// New lays the folder out, but starts nothing. The owner is whose machines they are; nil is whoever runs this. libvirtd refuses a
// user whom the system does not know.
func New(dir string, owner *syscall.Credential) (*Host, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if owner == nil && os.Geteuid() == 0 {
		return nil, errors.New("libvirt's session mode is not root's: name an ordinary user")
	}
	h := &Host{Dir: dir, Socket: filepath.Join(dir, "run/libvirt/libvirt-sock"), owner: owner}
	if len(h.Socket) > maxSocket {
		return nil, fmt.Errorf("%s is too long for libvirt's sockets below it: take a path of at most %d bytes", dir, maxSocket-len(h.Socket)+len(dir))
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if h.root, err = os.OpenRoot(dir); err != nil {
		return nil, err
	}
	for _, p := range []string{".", "run", "config", "config/libvirt", "cache", "data", "pool"} {
		if err := errors.Join(h.root.MkdirAll(p, 0o700), h.give(p)); err != nil {
			return nil, err
		}
	}
	for name, text := range map[string]string{
		"config/libvirt/libvirtd.conf": fmt.Sprintf("auth_unix_rw=\"none\"\nlog_outputs=\"2:file:%s/libvirtd.log\"\n", dir),
		"config/libvirt/qemu.conf":     "stdio_handler=\"file\"\nsecurity_driver=\"none\"\nnamespaces=[]\ncgroup_controllers=[]\n",
	} {
		if err := errors.Join(h.root.WriteFile(name, []byte(text), 0o600), h.give(name)); err != nil {
			return nil, err
		}
	}
	config := h.in("config")
	if len(config)+len(longestSocket) > maxSocket {
		if h.short, err = os.MkdirTemp("", "plv"); err != nil {
			return nil, err
		}
		if err := errors.Join(os.Symlink(config, filepath.Join(h.short, "c")), os.Chmod(h.short, 0o711)); err != nil {
			return nil, err
		}
		config = filepath.Join(h.short, "c")
	}
	h.env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME=" + dir, "XDG_RUNTIME_DIR=" + h.in("run"), "XDG_CONFIG_HOME=" + config,
		"XDG_CACHE_HOME=" + h.in("cache"), "XDG_DATA_HOME=" + h.in("data")}
	return h, nil
}

// Close takes away what New has made outside the folder. The machines must have ended.
func (h *Host) Close() error {
	err := h.root.Close()
	if h.short != "" {
		err = errors.Join(err, os.RemoveAll(h.short))
	}
	return err
}

func (h *Host) in(name string) string { return filepath.Join(h.Dir, name) }

// give makes something below the folder the owner's.
func (h *Host) give(name string) error {
	if h.owner == nil {
		return nil
	}
	return h.root.Lchown(name, int(h.owner.Uid), int(h.owner.Gid))
}

// AddImage copies a disk into the pool's folder, under a name.
func (h *Host) AddImage(ctx context.Context, name, file string) error {
	from, err := os.Open(file)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := h.root.OpenFile(filepath.Join("pool", name), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { from.Close() })
	defer stop()
	_, err = io.Copy(to, from)
	return errors.Join(err, to.Close(), h.give(filepath.Join("pool", name)))
}

// endFormer ends a libvirtd of this folder that whoever started it has left behind: two would be at the same machines.
func (h *Host) endFormer() error {
	text, err := h.root.ReadFile("libvirtd.pid")
	if err != nil {
		return nil // none has begun, or it has ended as it should
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		return nil
	}
	ours := func() bool {
		dir := fmt.Sprintf("/proc/%d", pid)
		line, err := os.ReadFile(dir + "/cmdline")
		info, bad := os.Stat(dir) // the folder is the owner's, who may write what they like into the file
		if err != nil || bad != nil || h.owner != nil && info.Sys().(*syscall.Stat_t).Uid != h.owner.Uid {
			return false
		}
		return strings.Contains(string(line), h.in("libvirtd.pid"))
	}
	for n := range 100 {
		if !ours() {
			return nil
		}
		if n == 0 {
			if err := syscall.Kill(pid, syscall.SIGTERM); err != nil {
				return err
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	return fmt.Errorf("a libvirtd of an earlier start (process %d) does not end: kill -9 %d", pid, pid)
}

// Start starts libvirtd, waits until it answers, and has it know the pool and what is in it.
func (h *Host) Start(ctx context.Context) error {
	if err := h.endFormer(); err != nil {
		return err
	}
	h.cmd = exec.Command("/usr/sbin/libvirtd", "-f", h.in("config/libvirt/libvirtd.conf"), "-p", h.in("libvirtd.pid"))
	h.cmd.Env, h.cmd.Dir = h.env, h.Dir
	h.cmd.SysProcAttr = &syscall.SysProcAttr{Credential: h.owner, Setpgid: true}
	if err := h.cmd.Start(); err != nil {
		return fmt.Errorf("libvirtd: %w; Debian has it in the package libvirt-daemon", err)
	}
	ctx, cancel := context.WithTimeout(ctx, comeUp)
	defer cancel()
	for {
		c, err := (&net.Dialer{}).DialContext(ctx, "unix", h.Socket)
		if err == nil {
			c.Close()
			break
		}
		select {
		case <-ctx.Done():
			text, _ := os.ReadFile(h.in("libvirtd.log"))
			h.Stop(syscall.SIGKILL)
			return fmt.Errorf("libvirtd does not come up: %w\n%s", err, text)
		case <-time.After(50 * time.Millisecond):
		}
	}
	if _, err := h.Virsh(ctx, "pool-info", Pool); err != nil {
		if _, err := h.Virsh(ctx, "pool-define-as", Pool, "dir", "--target", h.in("pool")); err != nil {
			return err
		}
		if _, err := h.Virsh(ctx, "pool-autostart", Pool); err != nil {
			return err
		}
	}
	if info, err := h.Virsh(ctx, "pool-info", Pool); err != nil {
		return err
	} else if !strings.Contains(info, "running") {
		if _, err := h.Virsh(ctx, "pool-start", Pool); err != nil {
			return err
		}
	}
	_, err := h.Virsh(ctx, "pool-refresh", Pool)
	return err
}

// Virsh asks this libvirtd by virsh(1).
func (h *Host) Virsh(ctx context.Context, args ...string) (string, error) {
	kind := "session"
	if h.system {
		kind = "system"
	}
	cmd := exec.CommandContext(ctx, "virsh", append([]string{"-q", "-c", "qemu+unix:///" + kind + "?socket=" + h.Socket}, args...)...)
	cmd.Env = h.env
	out, err := cmd.CombinedOutput()
	if err != nil {
		return string(out), fmt.Errorf("virsh %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return string(out), nil
}

// StartMachines starts every machine that does not run.
func (h *Host) StartMachines(ctx context.Context) error {
	out, err := h.Virsh(ctx, "list", "--inactive", "--name")
	for name := range strings.FieldsSeq(out) {
		if err == nil {
			_, err = h.Virsh(ctx, "start", name)
		}
	}
	return err
}

// StopMachines asks every machine to stop, as its power button does, and cuts the power of those that run after the grace time.
func (h *Host) StopMachines(ctx context.Context, grace time.Duration) error {
	out, err := h.Virsh(ctx, "list", "--name")
	for name := range strings.FieldsSeq(out) {
		_, one := h.Virsh(ctx, "shutdown", name)
		err = errors.Join(err, one)
	}
	for deadline := time.Now().Add(grace); err == nil && time.Now().Before(deadline); {
		if out, err = h.Virsh(ctx, "list", "--name"); strings.TrimSpace(out) == "" {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
	return errors.Join(err, h.EndMachines(ctx))
}

// EndMachines cuts the power of every machine: they outlive libvirtd.
func (h *Host) EndMachines(ctx context.Context) error {
	out, err := h.Virsh(ctx, "list", "--name")
	for name := range strings.FieldsSeq(out) {
		if err == nil {
			_, err = h.Virsh(ctx, "destroy", name)
		}
	}
	return err
}

// Stop ends libvirtd, by a signal; the machines go on. One that does not end within ten seconds is killed.
func (h *Host) Stop(how syscall.Signal) {
	if h.cmd == nil || h.cmd.Process == nil {
		return
	}
	late := time.AfterFunc(10*time.Second, func() { _ = h.cmd.Process.Kill() })
	defer late.Stop()
	if err := h.cmd.Process.Signal(how); err == nil || errors.Is(err, os.ErrProcessDone) {
		_ = h.cmd.Wait()
	}
	h.cmd = nil
}

// Signal sends libvirtd a signal, as SIGSTOP and SIGCONT.
func (h *Host) Signal(how syscall.Signal) error { return h.cmd.Process.Signal(how) }
