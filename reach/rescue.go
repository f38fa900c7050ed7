package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/plaintext"
	"plumlatch/core/routes"
)

// Rescue is a session on a rescue instance, of a user who is root or may become
// it by sudo without a password. Its commands are those that every Debian or Red
// Hat has: lsblk, blkid, mount, umount, findmnt, blockdev, sync, mkdir, rmdir.
type Rescue struct {
	client *Client
	sudo   string // before each command
	sftp   string // the SFTP server, as root
}

// rescueLimit is how long one command may take: a journal may have to be read.
var rescueLimit = 2 * time.Minute

const rescueScript = `echo "uid $(id -u)"
if command -v sudo >/dev/null 2>&1 && sudo -n true >/dev/null 2>&1; then echo "sudo free"; fi
for s in /usr/lib/openssh/sftp-server /usr/libexec/openssh/sftp-server /usr/libexec/sftp-server /usr/lib/ssh/sftp-server; do [ -x "$s" ] && echo "sftp-server $s" && break; done
echo plumlatch-end`

// Errors of a rescue instance.
var (
	ErrNoRoot = errors.New("the rescue instance's login user is not root, and has no sudo without a password")
	// ErrMounted: it is still mounted, so it must not be detached.
	ErrMounted = errors.New("it is still mounted")
	// ErrNotMounted: what lies there is the rescue instance's own.
	ErrNotMounted = errors.New("nothing is mounted there")
)

// EnterRescue opens the session. The context ends it.
func EnterRescue(ctx context.Context, p Policy, t Target, signer ssh.Signer) (*Rescue, error) {
	client, err := login(ctx, p.dial, t, []ssh.AuthMethod{ssh.PublicKeys(signer)}, enterTimeout, 0)
	if err != nil {
		return nil, err
	}
	r, err := RescueOver(ctx, client)
	if err != nil {
		client.Close()
	}
	return r, err
}

// RescueOver is a Rescue over a connection that is logged in. ErrNoRoot.
func RescueOver(ctx context.Context, client *Client) (*Rescue, error) {
	text, err := capture(ctx, client, rescueScript)
	if !strings.Contains(text, "plumlatch-end") {
		return nil, fmt.Errorf("the rescue instance runs no commands for us: %w",
			errors.Join(err, errors.New(plaintext.Line(plaintext.Cut(text, 120)))))
	}
	r := &Rescue{client: client}
	rooted := false
	for line := range strings.Lines(text) {
		switch word, rest, _ := strings.Cut(strings.TrimSpace(line), " "); {
		case word == "uid" && rest == "0":
			rooted = true
		case word == "sudo" && !rooted:
			rooted, r.sudo = true, "sudo -n "
		case word == "sftp-server" && safePath.MatchString(rest):
			r.sftp = rest
		}
	}
	if !rooted {
		return nil, ErrNoRoot
	}
	if r.sftp == "" {
		return nil, errors.New("the rescue instance has no SFTP server program where Debian and Red Hat have it")
	}
	r.sftp = r.sudo + r.sftp
	return r, nil
}

// Close ends the session.
func (r *Rescue) Close() error { return r.client.Close() }

// run runs a command as root. What it complains of is in the error.
func (r *Rescue) run(ctx context.Context, command string) (string, error) {
	out, said := &bounded{limit: maxCapture}, &bounded{limit: 4 << 10}
	err := r.client.run(ctx, r.sudo+command, rescueLimit, out, said)
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	word, _, _ := strings.Cut(command, " ")
	if exit, ok := errors.AsType[*ssh.ExitError](err); ok {
		text := plaintext.Line(plaintext.Cut(strings.TrimSpace(said.String()), 300))
		return out.String(), statusError{word, exit.ExitStatus(), text}
	}
	if err != nil {
		err = fmt.Errorf("%s: %w", word, err)
	}
	return out.String(), err
}

// statusError is a command that ran, and ended with a status of its own: what it
// says is known, unlike after a connection that broke.
type statusError struct {
	word   string
	status int
	said   string
}

func (e statusError) Error() string {
	if e.said == "" {
		return fmt.Sprintf("%s ended with %d", e.word, e.status)
	}
	return e.word + ": " + strings.TrimPrefix(e.said, e.word+": ")
}

var deviceFile = regexp.MustCompile(`^/dev/[A-Za-z0-9][A-Za-z0-9_./-]{0,80}$`)

// Disks lists the disks. What lsblk does not know of a filesystem (it asks udev),
// blkid reads from it.
func (r *Rescue) Disks(ctx context.Context) ([]routes.BlockDevice, error) {
	text, err := r.run(ctx, "lsblk --json --bytes --output "+routes.LsblkColumns)
	if err != nil {
		return nil, err
	}
	all, err := routes.ReadDisks([]byte(text))
	if err != nil {
		return nil, err
	}
	return all, nil
}

// Identify reads from a disk itself what filesystems its parts have.
func (r *Rescue) Identify(ctx context.Context, d routes.BlockDevice) (routes.BlockDevice, error) {
	parts := make([]*routes.BlockDevice, 0, len(d.Children)+1)
	for n := range d.Children {
		parts = append(parts, &d.Children[n])
	}
	if len(parts) == 0 {
		parts = append(parts, &d)
	}
	for _, p := range parts {
		if p.FSType != "" && p.UUID != "" {
			continue
		}
		if !deviceFile.MatchString(p.Path()) {
			return d, routes.ErrDisks
		}
		text, err := r.run(ctx, "blkid -p -o export "+p.Path())
		if ctx.Err() != nil {
			return d, ctx.Err()
		}
		if err != nil {
			continue // nothing that it knows
		}
		for line := range strings.Lines(text) {
			switch word, value, _ := strings.Cut(strings.TrimSpace(line), "="); word {
			case "TYPE":
				if plainWord.MatchString(value) {
					p.FSType = value
				}
			case "UUID":
				p.UUID = value
			case "LABEL":
				p.Label = value
			}
		}
	}
	return d, nil
}

var plainWord = regexp.MustCompile(`^[A-Za-z0-9_]{1,32}$`)

// Mount mounts a filesystem of somebody else's disk so that nothing on it runs,
// and sees that it is so. The folder is made.
func (r *Rescue) Mount(ctx context.Context, device, fsType, at string, readOnly bool) error {
	if !deviceFile.MatchString(device) || !plainWord.MatchString(fsType) || !safePath.MatchString(at) {
		return routes.ErrDisks
	}
	if source, _, err := r.mounted(ctx, at); err == nil && source == device {
		return nil
	}
	if _, err := r.run(ctx, "mkdir -p -m 700 "+at); err != nil {
		return err
	}
	if _, err := r.run(ctx, "mount -t "+fsType+" -o "+routes.MountOptions(fsType, readOnly)+" "+device+
		" "+at); err != nil {
		return err
	}
	source, options, err := r.mounted(ctx, at)
	if err != nil {
		return err
	}
	has := map[string]bool{}
	for o := range strings.SplitSeq(options, ",") {
		has[o] = true
	}
	if source != device || !has["nodev"] || !has["nosuid"] || !has["noexec"] || has["ro"] != readOnly {
		return errors.Join(fmt.Errorf("mount: %s stands at %s with %s, which is not what was asked for",
			plaintext.Line(source), at, plaintext.Line(options)), r.Unmount(ctx, device, at))
	}
	return nil
}

// mounted tells what is mounted at a folder, by findmnt(8). ErrNotMounted.
func (r *Rescue) mounted(ctx context.Context, at string) (source, options string, err error) {
	text, err := r.run(ctx, "findmnt -n -o SOURCE,OPTIONS "+at)
	if _, known := errors.AsType[statusError](err); known {
		return "", "", fmt.Errorf("%s: %w", at, ErrNotMounted)
	}
	if err != nil {
		return "", "", err // not seen is not unmounted
	}
	f := strings.Fields(text)
	if len(f) < 2 {
		return "", "", fmt.Errorf("findmnt: %s", plaintext.Line(plaintext.Cut(text, 100)))
	}
	source, _, _ = strings.Cut(f[0], "[") // a subvolume stands in brackets
	return source, f[1], nil
}

// Unmount writes everything out and unmounts, and is not done before nothing of
// the device is mounted any more: clouds let one pull a mounted disk. ErrMounted.
func (r *Rescue) Unmount(ctx context.Context, device, at string) error {
	if !deviceFile.MatchString(device) || !safePath.MatchString(at) {
		return routes.ErrDisks
	}
	var trouble error
	for n := range 5 {
		_, err := r.run(ctx, "findmnt -n -o TARGET --source "+device)
		if _, known := errors.AsType[statusError](err); err != nil && !known {
			return err // not seen is not unmounted
		}
		if err != nil {
			if _, err := r.run(ctx, "blockdev --flushbufs "+device); err != nil {
				return err
			}
			_, _ = r.run(ctx, "rmdir "+at)
			return nil
		}
		if n > 0 {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(time.Duration(n) * 300 * time.Millisecond):
			}
		}
		_, _ = r.run(ctx, "sync")
		_, trouble = r.run(ctx, "umount "+at)
	}
	return fmt.Errorf("%s: %w: %w", device, ErrMounted, trouble)
}

// Files is the way to every file there, as root.
func (r *Rescue) Files() (Files, io.Closer, error) { return OverCommand(r.client, r.sftp) }
